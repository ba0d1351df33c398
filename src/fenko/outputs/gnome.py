"""Keys and pointer through GNOME's shell, by Fenko's small extension of it.

The keys are those of the person's own keyboard, in the layout that is in force. Who leaves the bus has let go of everything.
"""

from __future__ import annotations

import contextlib
import os
import select
import time
from collections.abc import Callable, Iterable
from math import inf
from typing import Any

import msgspec

from fenko.core.axes import Detents
from fenko.core.keys import key_code
from fenko.outputs.behind import Behind
from fenko.outputs.keys import LOST, SHORTCUT, KeyPort, Typing, of_halves
from fenko.outputs.layout import CONTROL_CHARACTERS, system_layout
from fenko.outputs.lentsymbols import LAYOUT, LentSymbols, forget
from fenko.outputs.port import Descriptor, PortError, PortLost
from fenko.outputs.reading import LAST_PATIENCE
from fenko.outputs.xkeymap import position
from fenko.system.bus import BusError, open_bus
from fenko.system.gnome import DESK, check
from fenko.system.session import DisplayError
from fenko.system.xkb import KeyboardMap, NoKeymap

_BUTTONS = {"left": 1, "middle": 2, "right": 3, "side": 8, "extra": 9, "forward": 10, "back": 11, "task": 12}
"""As the shell counts them: four numbers between belong to wheels."""
_QUIET = 2.0
"""Seconds without a lent character after which what was lent is given back."""
_LOOK_EVERY = 0.05
"""Seconds between two looks at a program that has not read its keys yet."""
_PATIENCE = 12.0
"""Seconds after which it is believed that it never will."""
_ARRIVES_WITHIN = 1.5
"""Seconds that the shell has at the end to say that it has handed on all keys; it takes one at most."""


class GnomePort(KeyPort):
    """The shell's own keyboard and pointer, as if somebody moved them."""

    name = "GNOME"
    returns = True

    def __init__(self, warn: Callable[[str], None]) -> None:
        super().__init__(warn)
        self._scrolled = (Detents(), Detents())
        self._capitals = True  # the shell knows
        self._acts: list[list[Any]] = []
        self._layout = ("", "")
        self._lent: LentSymbols | None = None
        self._quiet_at = inf
        self._unasked = False
        self._arriving = ""
        self._behind = Behind()
        try:
            self._bus = open_bus()
        except DisplayError as why:
            raise PortError(str(why)) from why
        try:
            self._desk = check(self._bus)
            self._bus.match(f"type='signal',member='NameOwnerChanged',arg0='{DESK[0]}'")
            for member in ("LayoutChanged", "Arrived"):
                self._bus.match(f"type='signal',interface='{DESK[2]}',member='{member}'")
            self._use(str(self._bus.call(DESK, "Layout")[0]))
        except (DisplayError, NoKeymap) as why:
            self._bus.close()
            raise PortError(str(why)) from why

    def _use(self, layout: str) -> None:
        name, _, variant = layout.partition("+") if layout else (system_layout()[0], "", system_layout()[1])
        if (name, variant) != self._layout:
            self._keymap = KeyboardMap.named(name, variant)
            self._layout = (name, variant)
            self._give_back()

    def _give_back(self) -> None:
        """What was lent is no longer; the shell's own layout is in force again when all keys so far have arrived."""
        if self._lent is not None:
            self._lent, self._quiet_at, self._unasked, self._arriving = None, inf, False, ""
            self._acts.append(["layout", "", ""])
            self._flush()
            forget()

    # --- What is heard ---

    def descriptors(self) -> Iterable[Descriptor]:
        """The bus."""
        return (Descriptor(self._bus.fd, self._heard),)

    def _heard(self) -> None:
        try:
            for sender, member, body in self._bus.read():
                if member == "NameOwnerChanged" and body[:1] == (DESK[0],):
                    raise PortLost("GNOME, or Fenko's extension of it, is gone")
                if sender != self._desk or not body or not isinstance(body[0], str):
                    continue
                if member == "LayoutChanged":
                    with contextlib.suppress(NoKeymap):
                        self._use(body[0])
                elif member == "Arrived" and body[0] == self._arriving:
                    self._arriving = ""
                    self._behind.typed()
        except BusError as why:
            raise PortLost(str(why)) from why

    # --- Keys and pointer ---

    def _codes(self, key: str) -> tuple[int, ...] | None:
        if len(key) > 1:
            code = key_code(key)
            return None if code is None else (code,)
        codes = self._keymap.groups[0].get(key)
        if codes is None and not SHORTCUT.isdisjoint(self._made):
            codes = position(key)  # programs look for a shortcut where its letter is
        if codes is None:
            self._lend([key])
            codes = self._code_of(key)
        return codes

    def _ignore_capitals(self, begins: bool) -> None:
        self._acts.append(["text", begins])

    def _press(self, code: int) -> None:
        self._acts.append(["key", code, True])

    def _release(self, code: int) -> None:
        self._acts.append(["key", code, False])
        if code not in self._keymap.modifiers:
            self._released[code] = time.monotonic()

    def _lend(self, characters: Iterable[str]) -> None:
        """Has keys for characters that the layout lacks."""
        if self._lent is None:
            self._lent = LentSymbols(*self._layout, self._keymap)
        if self._lent.lend(characters):
            try:
                self._lent.write()
            except OSError as why:
                self._warn_once(
                    "layout", f"{why.filename} cannot be written, so only characters of the layout come: {why.strerror}"
                )
                self._lent = None
                return
            self._acts.append(["layout", LAYOUT, ""])
        self._unasked = True
        self._quiet_at = time.monotonic() + _QUIET
        self.wake(self._quiet_at)

    def _code_of(self, character: str) -> tuple[int, ...] | None:
        found = CONTROL_CHARACTERS.get(character) or self._keymap.groups[0].get(character)
        if found is None and self._lent is not None:
            return self._lent.codes(character)
        return found

    def _type(self, text: str) -> Typing:
        text = yield from self._behind.as_taken(text)
        own = self._keymap.groups[0]
        lacking = [one for one in text if one not in own and one not in CONTROL_CHARACTERS]
        if lacking:
            self._lend(lacking)
        self._acts.append(["text", True])
        try:
            for character in text:
                codes = self._code_of(character)
                if codes is not None:
                    yield codes
                else:
                    shown = of_halves(character)
                    self._warn_once(character, f"`{shown}` cannot be typed by {self.name} with the layout in force")
        finally:
            self._acts.append(["text", False])
        if lacking:
            self._ask_arrival()
            self._quiet_at = time.monotonic() + _QUIET
            self.wake(self._quiet_at)

    def _ask_arrival(self) -> None:
        """Has the shell say when all keys so far have gone to their window."""
        self._unasked = False
        self._arriving = f"{os.getpid()}-{time.monotonic_ns()}"
        self._acts.append(["arrived", self._arriving])

    def go_on(self, now: float) -> None:
        """Goes on with what waits, and gives the person's layout back when nothing has been typed for a while."""
        super().go_on(now)
        if self.busy or self._quiet_at == inf:
            return  # it has said when it goes on, or there is nothing to give back
        if now < self._quiet_at:
            self.wake(self._quiet_at)
            return
        if self._unasked:
            self._ask_arrival()
            self._flush()
        if (self._arriving or self._behind.reading) and now < self._quiet_at + _PATIENCE:
            self.wake(now + _LOOK_EVERY)
        else:
            self._give_back()

    def _move(self, dx: int, dy: int) -> None:
        self._acts.append(["move", dx, dy])

    def _scroll(self, dx: float, dy: float) -> None:
        across, down = (counter.turn(lines) for counter, lines in zip(self._scrolled, (dx, dy), strict=True))
        if across or down:
            self._acts.append(["scroll", across, down])

    def _button(self, button: str, on: bool) -> None:
        self._acts.append(["button", _BUTTONS[button], on])

    def _flush(self) -> None:
        if self._acts:
            acts, self._acts = self._acts, []
            self._bus.tell(DESK, "Send", "s", msgspec.json.encode(acts).decode())

    def _let_read(self) -> None:
        """What was lent goes with Fenko; whoever has just been typed into has a moment to read it."""
        begun = time.monotonic()
        if self._unasked:
            self._ask_arrival()
            self._flush()
        while self._arriving and time.monotonic() < begun + _ARRIVES_WITHIN:
            select.select([self._bus.fd], [], [], _LOOK_EVERY)
            self._heard()
        self._behind.wait(begun + LAST_PATIENCE - time.monotonic())

    def close(self) -> None:
        """Leaves the bus, by which everything goes up."""
        with contextlib.suppress(*LOST):
            self._flush()
            if self._lent is not None:
                self._let_read()
            self._bus.call(DESK, "LetGo")
        self._bus.close()
        forget()


def open_port(warn: Callable[[str], None]) -> GnomePort:
    """The port to the shell of this session. Raises PortError."""
    port = GnomePort(warn)
    port.why = "Fenko's extension of the shell"
    return port
