"""Whether this machine is ready: one fact after the other, each looked at now, with what helps where it fails."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path
from typing import Literal

from msgspec import Struct

from fenko.core.lazy import load_named
from fenko.core.registration import Output
from fenko.core.remedies import Remedy, input_denied
from fenko.core.verbs import OUTPUTS
from fenko.desk.compiled import compiled
from fenko.desk.load import Desk
from fenko.live.desktop_ready import Offered, has_xtest, offered
from fenko.outputs.kernel import UINPUT, why_not
from fenko.outputs.layout import kernel_layout
from fenko.system import xkb
from fenko.system.apart import Crashed, apart
from fenko.system.kernel import open_device
from fenko.system.openers import openers
from fenko.system.person import group_member, runtime_folder
from fenko.system.session import DisplayError, display_name, on_wayland, wayland_name
from fenko.system.things import DEVICE_FOLDER, SYSFS, Thing, list_things, looks_like_surface
from fenko.system.xserver import open_display

State = Literal["ready", "missing", "note"]


class Fact(Struct, frozen=True):
    """One thing that was looked at. A `note` is missing too, but Fenko works without it."""

    about: str
    state: State
    found: str
    remedy: Remedy = Remedy()


def facts(desk: Desk | None) -> Iterator[Fact]:
    """Every fact, in the order in which a person would look. With a desk, its surfaces; else what looks like one."""
    things = list_things()
    wanted = [thing for thing in things if _is_wanted(thing, desk)]
    display = _display()
    desktop = offered() if wayland_name() else None
    yield _kernel_input(things)
    yield from _devices(wanted)
    yield from _held(wanted)
    yield _session(display, desktop)
    yield from _outputs(display, desktop)
    yield _focus(display, desktop)
    if desk is not None and desk.plan.watches_keyboard:
        yield _modifiers(desk, display, things)
    yield _layout()
    used = compiled(desk).far if desk is not None else ()
    for out in dict.fromkeys(("midi", *used)):
        yield from _output(OUTPUTS[out], desk)
    if "audio" not in used:
        yield _audio()
    yield _user_session()


def _is_wanted(thing: Thing, desk: Desk | None) -> bool:
    if desk is not None:
        links = [link for entry in desk.links.values() for link in entry.links]
        return any(node.matches(link) for node in thing.nodes for link in links)
    return looks_like_surface(thing)


def _kernel_input(things: list[Thing]) -> Fact:
    about = "kernel input"
    if not SYSFS.is_dir():
        return Fact(about, "missing", f"this system has none ({SYSFS} is not there)", Remedy(hints=(
            "# run Fenko on the machine itself, not in a container that hides its devices",)))  # fmt: skip
    if not things:
        return Fact(about, "note", "no device is plugged in")
    if not DEVICE_FOLDER.is_dir():
        return Fact(about, "missing", f"{DEVICE_FOLDER} is not there, though {len(things)} devices are plugged in")
    readable = sum(thing.problem is None for thing in things)
    return Fact(about, "ready", f"{_devices_counted(len(things))} plugged in, {readable} may be read by you")


def _devices_counted(number: int) -> str:
    return "1 device is" if number == 1 else f"{number} devices are"


def _devices(wanted: list[Thing]) -> Iterator[Fact]:
    for thing in wanted:
        if thing.problem is None:
            yield Fact("device", "ready", f"{thing.name} ({thing.link}) may be read")
        else:
            remedy = input_denied([(thing.nodes[0].vendor, thing.nodes[0].product)], group_member())
            yield Fact("device", "missing", f"{thing.name} ({thing.link}): {thing.problem}", remedy)


def _held(wanted: list[Thing]) -> Iterator[Fact]:
    """Devices that another program has taken over: nobody else hears them."""
    for thing in wanted:
        taken = [node.path for node in thing.nodes if os.access(node.path, os.R_OK) and _is_taken(node.path)]
        if not taken:
            continue
        programs = openers(taken[0])
        fenko = next((one for one in programs if one.is_fenko), None)
        if fenko is not None:
            yield Fact("taken over", "ready", f"{thing.name}, by a running Fenko (process {fenko.pid})")
            continue
        who = " or ".join(f"{one.program} (process {one.pid})" for one in programs) or "a program of another user"
        hints = tuple(f"kill {one.pid}  # ends {one.program}; closing it does the same" for one in programs)
        hints = hints or (f"sudo fuser -v {taken[0]}  # says which program it is; close that",)
        yield Fact("taken over", "missing", f"{thing.name} is kept from everybody else by {who}", Remedy(hints=hints))


def _is_taken(path: str) -> bool:
    try:
        device = open_device(path)
    except OSError:
        return False
    try:
        device.grab()
        device.ungrab()
    except OSError:
        return True
    finally:
        device.close()
    return False


class _Shown(Struct, frozen=True):
    """What is known of the display: whether there is one, what is wrong with it, who manages its windows."""

    name: str
    problem: str | None = None
    manager: str | None = None
    can_send: bool = False


def _display() -> _Shown:
    name = display_name()
    if not name:
        return _Shown("")
    try:
        display = open_display()
    except DisplayError as why:
        return _Shown(name, str(why))
    try:
        return _Shown(name, None, display.window_manager(), has_xtest(display))
    except DisplayError as why:
        return _Shown(name, str(why))
    finally:
        display.close()


def _session(display: _Shown, desktop: Offered | None) -> Fact:
    if desktop is not None and desktop.problem:
        hint = "# is this the session's own terminal? WAYLAND_DISPLAY and XDG_RUNTIME_DIR say where its compositor is"
        return Fact("session", "missing", desktop.problem, Remedy(hints=(hint,)))
    if on_wayland():
        reached = f", with an X server at {display.name}" if display.name and not display.problem else ""
        known = f", display {desktop.name} of {desktop.compositor or 'its compositor'}" if desktop is not None else ""
        return Fact("session", "ready", f"Wayland{known}{reached}")
    if not display.name:
        hint = "# in a terminal on the desktop, DISPLAY is set; over ssh, name it: DISPLAY=:0 fenko run"
        return Fact("session", "note", "none: neither DISPLAY nor WAYLAND_DISPLAY is set", Remedy(hints=(hint,)))
    if display.problem:
        hint = f"# is the X server running, and yours? `xauth list {display.name}` shows whether you hold its key"
        return Fact("session", "missing", display.problem, Remedy(hints=(hint,)))
    return Fact("session", "ready", f"X11, display {display.name}")


def _outputs(display: _Shown, desktop: Offered | None) -> Iterator[Fact]:
    """How keys can be sent. One way is enough; without any, the kernel's is what to mend."""
    by_display = bool(display.name) and not display.problem and display.can_send and not on_wayland()
    if by_display:
        yield Fact("sending keys", "ready", f"through the X server {display.name}")
    by_desktop = desktop is not None and bool(desktop.keys)
    if desktop is not None and by_desktop:
        yield Fact("sending keys", "ready", f"through {desktop.keys}: {desktop.texts}")
    reason = why_not()
    if reason is None:
        yield Fact("sending keys", "ready", f"through the kernel: {UINPUT} may be written by you")
    elif by_display or by_desktop:
        yield Fact("sending keys", "note", f"not through the kernel, which is not needed here: {reason}", reason.remedy)
    else:
        yield Fact("sending keys", "missing", str(reason), reason.remedy)


def _focus(display: _Shown, desktop: Offered | None) -> Fact:
    about = "window in front"
    if desktop is not None and desktop.front:
        return Fact(about, "ready", f"told by {desktop.front}, as it happens")
    if on_wayland():
        why = f": {desktop.no_front}" if desktop is not None and desktop.no_front else ""
        hints = ("fenko ready --extension on  # then log out and in once",) if "extension" in why else ()
        return Fact(about, "note", f"not told{why}; profiles change by hand (`profile next`)", Remedy(hints=hints))
    if not display.name or display.problem:
        return Fact(about, "note", "not told without a display; profiles change by hand (`profile next`)")
    if display.manager is None:
        hint = "openbox &  # or any other window manager that tells which window is active"
        return Fact(about, "missing", "no window manager tells which window is in front", Remedy(hints=(hint,)))
    return Fact(about, "ready", f"told by {display.manager or 'the window manager'}, as it happens")


def _modifiers(desk: Desk, display: _Shown, things: list[Thing]) -> Fact:
    """Who tells which modifiers are held on the ordinary keyboard, where layers of the desk want to know."""
    about = "keyboard modifiers"
    if display.name and not display.problem and not on_wayland():
        return Fact(about, "ready", f"told by the X server {display.name}, without what is typed")
    boards = [thing for thing in things if thing.kind == "keyboard" and not _is_wanted(thing, desk)]
    if any(board.problem is None for board in boards):
        return Fact(about, "ready", "told by the kernel, which is asked for these keys alone")
    if not boards:
        return Fact(about, "note", "no ordinary keyboard is plugged in; layers with `while` on a modifier stay off")
    remedy = input_denied([(board.nodes[0].vendor, board.nodes[0].product) for board in boards], group_member())
    found = f"{boards[0].name} may not be read, so layers with `while` on a modifier stay off"
    return Fact(about, "note", f"{found} (whoever may read it, reads all that is typed)", remedy)


def _layout() -> Fact:
    layout = kernel_layout(None)
    if not xkb.available():
        hint = "sudo apt-get install libxkbcommon0  # or your system's package of libxkbcommon"
        return Fact("keyboard layout", "note", f"{layout.name}: {layout.source}", Remedy(hints=(hint,)))
    return Fact("keyboard layout", "ready", f"{layout.name}, from {layout.source}")


def _output(output: Output, desk: Desk | None) -> Iterator[Fact]:
    """How things stand at an output's other ends; Fenko works without any of them."""
    if not output.ready:
        return
    tables, folder = ({}, Path()) if desk is None else (desk.sources.data, desk.folder)

    def looked() -> list[tuple[bool, str, str | Remedy]]:
        return list(load_named(output.ready)(tables, folder))

    try:
        found = apart(looked)
    except Crashed as why:
        found = [(False, str(why), "")]
    except Exception as why:  # a library that is not there, or somebody else's code
        found = [(False, f"{type(why).__name__}: {why}", "")]
    for good, what, helps in found:
        remedy = helps if isinstance(helps, Remedy) else Remedy(hints=(f"# {helps}",) if helps else ())
        yield Fact(output.title, "ready" if good else "note", what, remedy)


def _audio() -> Fact:
    folder = runtime_folder()
    sockets = {"PipeWire": "pipewire-0", "PulseAudio": "pulse/native"}
    there = [name for name, socket in sockets.items() if folder is not None and os.path.exists(folder / socket)]
    if not there:
        return Fact("audio", "note", "neither PipeWire nor PulseAudio runs in this session")
    return Fact("audio", "ready", " and ".join(there))


def _user_session() -> Fact:
    folder = runtime_folder()
    if folder is not None and os.path.exists(folder / "systemd/private"):
        return Fact("user session", "ready", "systemd runs one: `fenko service on` starts Fenko with every session")
    return Fact("user session", "note", "no systemd user session: Fenko is started by hand, or by the desktop")
