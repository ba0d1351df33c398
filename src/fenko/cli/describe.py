"""Which thing is it, and what is on it: asking for presses, and writing a description from them."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Sequence
from pathlib import Path

import msgspec
from msgspec import Struct

from fenko.cli.lines import Lines, note_trouble, prompt
from fenko.cli.shared import bold, fail, note, say
from fenko.core.changes import PLUG, UNPLUG, Change
from fenko.core.describing import QUIET, Describer
from fenko.core.descriptions import DescribedControl, Description, default_form, default_size
from fenko.core.links import LinkedDevice, linked_devices
from fenko.core.plan import Surface
from fenko.core.words import reason, slug_of
from fenko.desk.descriptions import FOLDER, Catalogue, kind_description, user_folder
from fenko.desk.writing import description_text, quoted, write_new
from fenko.live.far_surfaces import FarSurfaces, if_heard, of_things
from fenko.live.loop import Loop
from fenko.live.registry import EveryThing, OneThing
from fenko.live.surfaces import Surfaces
from fenko.system.things import Node, Thing, list_things

_FAR = 0.7  # how far an axis has to be pushed to count as meant
_SURFACE = "thing"


class Pressed(Struct, frozen=True):
    """What somebody pressed, by the kernel's name, and where it came from."""

    thing: Thing
    node: Node
    control: str


class FarPressed(Struct, frozen=True):
    """The same of what is no kernel device; `sort` is how the control acts, where its name does not say so."""

    thing: LinkedDevice
    control: str
    sort: str = ""


def known_as(thing: Thing, catalogue: Catalogue) -> tuple[str, Description] | None:
    """The description of a thing, with its name; None if nobody has described it."""
    return catalogue.matching(lambda link: any(node.matches(link) for node in thing.nodes))


def links_of(thing: Thing, described: Description | None) -> tuple[str, ...]:
    """Every link by which a thing can turn up: how it is here now, and what its description adds. Where a second thing
    of the same sort is plugged in, only what tells them apart."""
    if described is None or thing.link not in described.links:
        return (thing.link,)
    return tuple(dict.fromkeys((thing.link, *described.links)))


def wait_for_press(only: LinkedDevice | None = None) -> Pressed | FarPressed:
    """Waits for one press, turn or push on anything, keyboards too, or on `only` this one. Ends the program if there is none."""
    told: list[Pressed | FarPressed | tuple[Node, str]] = []
    with Loop() as loop:
        started = False

        def feed(changes: Sequence[Change]) -> None:
            for _, address, value in changes:
                meant = started and "." in address and ".motion" not in address and abs(value) >= _FAR
                source = surfaces.source(address) if meant else None
                if source and not told:
                    told.append((source.node, address.partition(".")[2]))
                    loop.stop()

        def feed_far(changes: Sequence[Change]) -> None:
            for change in changes if far is not None and not told else ():
                name, _, control = change[1].partition(".")
                if not control or far is None or abs(far.inputs.conditioned(change)[2]) < _LEAST:
                    continue
                settled = not _may_turn(control) or _settled(name, control)
                if settled:
                    shape = far.surfaces[name].shapes.get(control.partition(".")[0])
                    told.append(
                        FarPressed(
                            others[name],
                            control,
                            shape.name if shape is not None and others[name].kind == "midi" else "",
                        )
                    )
                    loop.stop()

        heard: dict[str, int] = {}

        def _settled(name: str, control: str) -> bool:
            """Whether a controller of seven bits has said enough of what it is."""
            heard[control] = heard.get(control, 0) + 1
            return heard[control] > _MESSAGES or control in (far.surfaces[name].shapes if far is not None else ())

        others = {thing.slug: thing for thing in ([only] if only is not None else linked_devices(unasked=True))}
        far = _heard_far(loop, list(others.values()), feed_far)
        surfaces = Surfaces(EveryThing(keyboards=True), loop, feed, lambda raw: None, lambda line: None)
        if only is None:
            surfaces.start()
        started = True
        if only is None:
            _say_what_cannot_be_heard()
        note("Press something on the thing that you mean (Ctrl-C ends).")
        loop.run()
        surfaces.close()
        if far is not None:
            far.close()
    if not told:
        fail("nothing was pressed")
    if isinstance(told[0], Pressed | FarPressed):
        return told[0]
    node, control = told[0]
    thing = next((one for one in list_things() if any(other.path == node.path for other in one.nodes)), None)
    if thing is None:
        fail(f"{node.name} is gone again")
    return Pressed(thing, node, control)


_LEAST = 1 / 127
_MESSAGES = 5  # of a controller, after which it is what it seems


def _may_turn(control: str) -> bool:
    return "cc-" in control


def _heard_far(
    loop: Loop, things: Sequence[LinkedDevice], feed: Callable[[Sequence[Change]], None]
) -> FarSurfaces | None:
    return if_heard(lambda: of_things(loop, things, feed, note_trouble), note_trouble)


def _say_what_cannot_be_heard() -> None:
    """Pressing a thing that may not be read does nothing; a person would press for a long time."""
    things = list_things()
    if not things:
        note("Nothing is plugged in yet.")
    deaf = [thing.name for thing in things if thing.problem is not None]
    if deaf:
        note(f"You may not read {', '.join(deaf)}, so presses there are not heard (`fenko ready` helps).")


def describe_thing(out: Path | None, only: LinkedDevice | None = None) -> None:
    """Asks for a thing, walks along its controls with the person, and writes what came of it. A board says itself what it has."""
    pressed = wait_for_press(only) if only is None or only.kind != "board" else FarPressed(only, "")
    path = out or user_folder() / FOLDER / f"{slug_of(pressed.thing.name)}.toml"
    if os.path.lexists(path):
        fail(f"{path} is already there; name another file with --out, or move it away", 2)
    if isinstance(pressed, FarPressed):
        describe_far(pressed.thing, path, out is None)
        return
    thing = pressed.thing
    others = [other for other in list_things() if other.kind == "keyboard" and other.nodes != thing.nodes]
    if thing.kind == "keyboard" and not any(other.problem is None for other in others):
        fail(
            f"{thing.name} is the only keyboard here. While it is described it types nothing, so that nobody could "
            "answer or stop. Plug a second one in, and describe it with that"
        )
    usual = kind_description(thing.kind)
    note(_INTRODUCTION.format(name=bold(thing.name, True), kind=thing.kind))
    with Loop() as loop:
        guide = _Guide(loop, Describer(usual), thing)
        guide.start()
        loop.run()
        guide.close()
    _write(guide.describer.description(thing.name, (thing.link,)), path, out is None)


def describe_far(thing: LinkedDevice, path: Path, usual_place: bool) -> None:
    """The same of a MIDI controller, by its controls; a board is asked."""
    if thing.kind == "board":
        _write(_asked(thing), path, usual_place)
        return
    note(_INTRODUCTION.format(name=bold(thing.name, True), kind="MIDI controller").replace(_KEPT, ""))
    with Loop() as loop:
        guide = _FarGuide(loop, Describer(kind_description("midi")), thing)
        guide.start()
        loop.run()
        guide.close()
    _write(guide.finished(guide.describer.description(thing.name, (thing.link,))), path, usual_place)


_ANSWERS_WITHIN = 8.0  # s


def _asked(thing: LinkedDevice) -> Description:
    """What a board says of itself. Ends the program if it says nothing."""
    with Loop() as loop:
        far = of_things(loop, [thing], lambda changes: None, note_trouble)
        assert far is not None
        far.linked.came = lambda name: loop.stop()
        loop.timer(lambda now: loop.stop()).set_in(_ANSWERS_WITHIN)
        loop.run()
        said = far.linked.said(thing.slug)
        far.close()
    if not said:
        fail(f"{thing.link}: no board answers there (docs/boards.md)")
    sorts = {name: str(one["sort"]) for name, one in said[0]["controls"].items()}
    spots = tuple(
        DescribedControl(
            name,
            None,
            default_size(name, sort),
            default_form(name, sort),
            sort=sort,
            shows_value=name in said[0]["shown"],
        )
        for name, sort in sorts.items()
    )
    return Description(str(said[0]["title"]), "board", (thing.link,), spots).laid_out()


def _write(description: Description, path: Path, usual_place: bool) -> None:
    if not description.spots:
        fail("no control was described; nothing was written")
    try:
        write_new(path, description_text(description))
    except OSError as why:
        # What a person has pressed together in ten minutes is not thrown away.
        say(description_text(description))
        fail(f"{path} cannot be written: {reason(why)}. Above is what would be in it")
    _sum_up(description, path, usual_place)


_KEPT = "The thing is kept from other programs meanwhile. "
_INTRODUCTION = """
{name}, a {kind}. Go along its controls row by row, from the left upper corner.
Press one and let it go, then type its name and Enter. Enter alone keeps the usual name, as does pressing the next one.
The thing is kept from other programs meanwhile. Instead of pressing you can say:
    row       the next control begins a new row (so does Enter alone)
    skip      leave a place empty
    nothing   you pressed a control and nothing came
    back      take the last step back
    again     forget what was pressed just now
    stop      that is all: keep what is there (so does Ctrl-C)
After a press these words take a slash, /again, for they could be names."""

_WORDS = ("row", "skip", "nothing", "back", "again", "stop")


class _Guide:
    """Leads through the walk: hears the thing, reads the person's lines, asks."""

    def __init__(self, loop: Loop, describer: Describer, thing: Thing | None) -> None:
        self.describer = describer
        self._loop = loop
        self._ended = False
        self._naming_nothing = False
        self._settle = loop.timer(self._settled)
        self._surfaces: Surfaces | None = None
        if thing is not None:
            registry = OneThing(thing.nodes[0], Surface(_SURFACE, thing.kind))
            self._surfaces = Surfaces(registry, loop, self._feed, lambda raw: None, note_trouble)

    def start(self) -> None:
        """Takes the thing over and asks for the first control."""
        if self._surfaces is not None:
            self._surfaces.start()
        Lines(self._loop, self._answer)
        self._ask()

    def close(self) -> None:
        """Gives the thing back."""
        if self._surfaces is not None:
            self._surfaces.close()

    def _feed(self, changes: Sequence[Change]) -> None:
        for change in changes:
            if change[1] == UNPLUG:
                note("\nIt is gone; plug it in again and go on, or say stop.")
            elif change[1] != PLUG:
                self.describer.feed(change)
        self._settle.set(time.monotonic() + QUIET)

    def _settled(self, now: float) -> None:
        before = self.describer.pending
        if not self.describer.settle():
            return
        if before is not None:
            self._keep_said(self.describer.spots[-1])
        self._naming_nothing = False
        self._ask()

    def _ask(self) -> None:
        heard = self.describer.pending
        if self._naming_nothing:
            prompt("  what stands on it: ")
        elif heard is None:
            prompt(f"{len(self.describer.spots) + 1}: press it, or say a word: ")
        else:
            same = self.describer.same_as()
            what = bold(" and ".join(heard.controls), True) + (
                f", {heard.times} times at once" if heard.times > 1 else ""
            )
            if same is not None:
                what += f", just as {same.name or same.printed or same.control}: they cannot be told apart"
            prompt(f"\n  it sent {what}; its name [{heard.name}]: ")

    def _answer(self, line: str) -> None:
        plain = self.describer.pending is None and not self._naming_nothing
        word = line[1:] if line.startswith("/") and line[1:] in _WORDS else line if plain else ""
        try:
            if word in _WORDS:
                self._naming_nothing = False
                self._do(word)
            elif self._naming_nothing:
                self._naming_nothing = False
                self._keep_said(self.describer.nothing(line))
            elif not plain:
                self._keep_said(self.describer.take(line))
            elif not line:
                self._do("row")
            else:
                note(f"  nothing has been pressed; `{line}` is none of {', '.join(_WORDS)}")
        except ValueError as why:
            note(f"  {why}; try another")
        if not self._ended:
            self._ask()

    def _do(self, word: str) -> None:
        if word == "stop":
            self._ended = True
            self._loop.stop()
        elif word == "row":
            if self.describer.pending is not None:
                self._keep_said(self.describer.take(""))
            self.describer.row()
            note("  a new row")
        elif word == "skip":
            self.describer.skip()
            note("  an empty place")
        elif word == "nothing":
            self.describer.again()
            self._naming_nothing = True
        elif word == "again":
            self.describer.again()
        elif not self.describer.back():
            note("  there is nothing to take back")
        else:
            note("  taken back")

    @staticmethod
    def _keep_said(spot: DescribedControl) -> None:
        shown = spot.name or spot.control
        note(f"  {shown}" + (f" ({spot.printed})" if spot.printed and spot.printed != shown else ""))


class _FarGuide(_Guide):
    """The same on a MIDI controller, whose controls that turn without end are recognised by what they send."""

    def __init__(self, loop: Loop, describer: Describer, thing: LinkedDevice) -> None:
        super().__init__(loop, describer, None)
        self._name = thing.slug
        far = of_things(loop, [thing], self._hear, note_trouble)
        assert far is not None
        self._far = far
        self._halves: set[str] = set()
        self._last = ""

    def _hear(self, changes: Sequence[Change]) -> None:
        told: list[Change] = []
        for t, address, value in map(self._far.inputs.conditioned, changes):
            control = address.partition(".")[2]
            if control.startswith("cc-") and self._last == f"cc-{int(control[3:]) - 32}":
                self._halves.add(self._last)  # the lower half of a finer number, and no control of its own
                continue
            self._last = control
            told.append((t, f"{_SURFACE}.{control}" if control else address, value))
        if told:
            self._feed(told)

    def finished(self, description: Description) -> Description:
        """With what was recognised."""
        spots = []
        for spot in description.spots:
            shape = self._far.surfaces[self._name].shapes.get(spot.control)
            coding = self._far.codings.get(f"{self._name}.{spot.control}")
            spots.append(
                msgspec.structs.replace(
                    spot, sort=shape.name if shape is not None else None, coding=coding,
                    bits=14 if spot.control in self._halves else None,
                )
            )  # fmt: skip
        return msgspec.structs.replace(description, spots=tuple(spots))

    def close(self) -> None:
        """Lets go of it."""
        super().close()
        self._far.close()


def _sum_up(description: Description, path: Path, usual_place: bool) -> None:
    odd = [spot for spot in description.spots if spot.trouble]
    note("")
    say(f"{len(description.spots)} controls of {description.name} are in {path}")
    for spot in odd:
        say(f"  {spot.name or spot.printed or spot.control}: {spot.trouble}")
    where = "" if usual_place else f" (the file has to be in the desk's folder {FOLDER}, or in yours)"
    say(f"\nFor the desk{where}:\n\n    [surface.{slug_of(description.name)}]")
    say(f"    description = {quoted(path.stem)}\n    links = [{', '.join(map(quoted, description.links))}]")
