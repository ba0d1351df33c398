"""Chooses the ports of a desk: what it names, or what works here, and says why."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable

from fenko.core.remedies import together
from fenko.core.words import reason
from fenko.desk.compiled import ALWAYS, Compiled
from fenko.desk.trust import Agreement
from fenko.live.far import SURFACES
from fenko.outputs.port import Memory, Port, PortError, Settings
from fenko.outputs.ports import open_port, parts_of, ports_for
from fenko.outputs.workers_port import WorkersPort
from fenko.system.session import display_name, on_wayland


class Chosen(dict[str, str]):
    """Which port was taken for an out, by its name. While it is away (the screen is locked, the compositor starts again) no other
    one takes its place: keys would go where nobody means them to."""


def open_ports(
    desk: Compiled,
    warn: Callable[[str], None],
    page: Memory | None,
    open_now: Collection[str] = (),
    far: bool = True,
    chosen: Chosen | None = None,
) -> list[Port]:
    """A port for every out of the desk that leaves Fenko, but for those that have one `open_now`; with `far` also those of
    workers, and without it only what hears surfaces. Raises PortError with every reason and every remedy."""
    chosen = Chosen() if chosen is None else chosen
    parts = parts_of(page) if page is not None else {}
    ports: list[Port] = []
    try:
        for out, names in ports_for(desk.outs).items():
            if names and out not in open_now and not any(out in port.outs for port in ports):
                order = ([chosen[out]], "") if out in chosen else _in_order(desk, out, names)
                name, port = _first_that_opens(out, order, desk.tables, warn, parts)
                chosen.update(dict.fromkeys(port.outs, name))
                ports.append(port)
    except PortError:
        for port in ports:
            port.close()
        raise
    if not far and not open_now:
        ports += ears(desk, warn)
    for process, outs in desk.processes.items() if far else ():
        missing = [out for out in outs if out not in open_now]
        settings = Settings(desk.tables, warn, None, desk.folder, Agreement(desk.folder).holds)
        try:
            if missing:
                ports.append(WorkersPort(missing, settings, process))
        except OSError as why:
            warn(f"no second process can be started, so nothing but keys is sent: {reason(why)}")
    return ports


def ears(desk: Compiled, warn: Callable[[str], None]) -> list[Port]:
    """What hears the desk's surfaces that are no kernel devices, and has them told nothing."""
    outs = desk.processes.get(SURFACES, ())
    if not outs or not _listens(desk):
        return []
    try:
        return [WorkersPort(outs, Settings(desk.tables, warn, None, desk.folder), SURFACES, receive_only=True)]
    except OSError as why:
        warn(f"MIDI controllers and boards cannot be heard: {reason(why)}")
        return []


def _listens(desk: Compiled) -> bool:
    return any(entry.far for entry in desk.links.values())


def _in_order(desk: Compiled, out: str, names: list[str]) -> tuple[list[str], str]:
    """Which ports to try, the best one first, and why that is the best."""
    if out not in ALWAYS:
        return names, ""
    if desk.keys != "auto":
        return [desk.keys], ""
    order, reason = _preferred()
    return [name for name in order if name in names], reason


def _first_that_opens(
    out: str,
    order: tuple[list[str], str],
    tables: dict[str, object],
    warn: Callable[[str], None],
    parts: dict[str, Memory],
) -> tuple[str, Port]:
    names, reason = order
    failures: list[PortError] = []
    for name in names:
        try:
            port = open_port(name, Settings(tables, warn, parts.get(name)))
        except PortError as why:
            failures.append(why)
            continue
        port.why = "; ".join(_given((port.why, f"because {failures[0]}" if failures else reason)))
        return name, port
    if len(failures) == 1:
        raise failures[0]
    raise PortError(
        f"no way to send {out}: " + "; ".join(str(failure) for failure in failures),
        together(failure.remedy for failure in failures),
    )


def _given(words: Iterable[str]) -> list[str]:
    return [word for word in words if word]


def _preferred() -> tuple[tuple[str, ...], str]:
    """Which ports of keys are tried in this session, and why the first one comes first."""
    if on_wayland():
        # Not the X server behind it, which reaches only some programs; whoever wants that says so.
        return ("wayland", "kernel"), "a Wayland session, whose compositor is asked first"
    if display_name():
        return ("x11", "kernel"), "an X11 session, whose layout in force decides which key is which"
    return ("kernel",), "no display is set"
