"""What to do where the system does not let Fenko in: exactly what has to be written and run, in one place.

Who sits at the machine gets access by `uaccess`, which the system gives and takes with the session. Where nobody sits at
a seat (over ssh, without a login manager), access goes to a group.
"""

from __future__ import annotations

import shlex
from collections.abc import Iterable

from msgspec import Struct

RULE_FILE = "/etc/udev/rules.d/60-fenko.rules"
MODULE_FILE = "/etc/modules-load.d/fenko.conf"
GROUP = "fenko"


class Remedy(Struct, frozen=True):
    """What helps. `rules` are lines for `RULE_FILE` and `refresh` tells which devices they are for, `modules` lines for
    `MODULE_FILE`, `member` is who has to be in `GROUP`; `hints` are for the person, in words or commands."""

    rules: tuple[str, ...] = ()
    refresh: tuple[str, ...] = ()
    modules: tuple[str, ...] = ()
    member: str | None = None
    hints: tuple[str, ...] = ()

    @property
    def writes(self) -> bool:
        """Whether an administrator has to change the system."""
        return bool(self.rules or self.modules or self.member)

    def files(self) -> dict[str, tuple[str, ...]]:
        """The files of the system and the lines that they have to hold."""
        return {path: lines for path, lines in ((MODULE_FILE, self.modules), (RULE_FILE, self.rules)) if lines}

    def before(self) -> list[list[str]]:
        """The commands that an administrator runs first: a rule that names a group which is not there yet is read
        without it, and may stay so."""
        if self.member is None:
            return []
        return [["groupadd", "--system", "--force", GROUP], ["usermod", "--append", "--groups", GROUP, self.member]]

    def after(self) -> list[list[str]]:
        """The commands that an administrator runs once the files are written."""
        found = [["modprobe", module] for module in self.modules]
        if self.rules:
            found.append(["udevadm", "control", "--reload"])
            found += [["udevadm", "trigger", "--settle", refresh] for refresh in self.refresh]
        return found

    def commands(self) -> list[str]:
        """All of it as a person can type it, the hints last."""
        written = [
            f"echo {shlex.quote(line)} | sudo tee -a {path}" for path, lines in self.files().items() for line in lines
        ]
        before, after = ([f"sudo {shlex.join(action)}" for action in part] for part in (self.before(), self.after()))
        once = [f"# then log out and in once, so that {self.member} is in the group"] if self.member else []
        return [*before, *written, *after, *once, *self.hints]


def together(remedies: Iterable[Remedy]) -> Remedy:
    """All of them at once, nothing twice."""
    all_of_them = list(remedies)

    def merged(name: str) -> tuple[str, ...]:
        return tuple(dict.fromkeys(line for remedy in all_of_them for line in getattr(remedy, name)))

    member = next((remedy.member for remedy in all_of_them if remedy.member), None)
    return Remedy(merged("rules"), merged("refresh"), merged("modules"), member, merged("hints"))


def _rule(match: str, member: str | None) -> str:
    """Gives a device to whoever sits here, or to the group."""
    return f'{match}, TAG+="uaccess"' if member is None else f'{match}, GROUP="{GROUP}", MODE="0660"'


def uinput_denied(member: str | None) -> Remedy:
    """Lets a person write to /dev/uinput, for good: who sits at this machine, or the member of the group."""
    rule = _rule('KERNEL=="uinput", SUBSYSTEM=="misc", OPTIONS+="static_node=uinput"', member)
    return Remedy((rule,), ("--sysname-match=uinput",), member=member)


def uinput_missing(member: str | None) -> Remedy:
    """Loads the kernel's uinput module, now and at every start, and lets a person write to it."""
    return together([Remedy(modules=("uinput",)), uinput_denied(member)])


def input_denied(devices: Iterable[tuple[int, int]], member: str | None) -> Remedy:
    """Lets a person read these devices (vendor, product), for good.

    Only these: a rule for all of them would let every program read what is typed."""
    match = 'SUBSYSTEM=="input", KERNEL=="event*", ATTRS{{id/vendor}}=="{:04x}", ATTRS{{id/product}}=="{:04x}"'
    rules = tuple(_rule(match.format(*device), member) for device in dict.fromkeys(devices))
    return Remedy(rules, ("--subsystem-match=input",), member=member)


def midi_missing() -> Remedy:
    """Loads the kernel's MIDI sequencer, now and at every start."""
    return Remedy(modules=("snd-seq",))


def midi_denied(member: str | None) -> Remedy:
    """Lets a person use the kernel's MIDI sequencer, for good."""
    return Remedy((_rule('KERNEL=="seq", SUBSYSTEM=="sound"', member),), ("--subsystem-match=sound",), member=member)
