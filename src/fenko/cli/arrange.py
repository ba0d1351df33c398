"""`fenko arrange`: where the bindings of a profile would sit better."""

from __future__ import annotations

from collections.abc import Sequence
from math import isnan
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from msgspec import structs

from fenko.cli.shared import (
    agreed,
    bold,
    check_ending,
    desk_option,
    dim,
    fail,
    fail_unknown,
    format_option,
    note,
    open_desk,
    say,
    show_json,
    show_problems,
    show_table,
)
from fenko.cli.usage import counted_of, example_desk
from fenko.core.controls import BUTTON
from fenko.core.words import reason
from fenko.desk.arranged import Movable, belong_together, failures, movable, rearranged
from fenko.desk.editing import EditError, NotWritten, alone, write
from fenko.desk.load import Desk, load_desk
from fenko.desk.problems import DeskError
from fenko.drawing import FORMATS
from fenko.system.journal import journal_file

if TYPE_CHECKING:
    from fenko.studies.effort import Site
    from fenko.studies.proposing import Proposal, Uses

_WORTH = 0.005
"""The share of effort below which nothing is proposed."""


class _Surface:
    """What is known of one surface, and what is proposed for it."""

    def __init__(self, name: str, may: Movable, places: list[Site], uses: Uses, proposal: Proposal) -> None:
        self.name = name
        self.may = may
        self.places = places
        self.uses = uses
        self.proposal = proposal

    @property
    def better(self) -> bool:
        """Whether it is worth proposing, and sure to gain."""
        return bool(self.proposal.moves) and self.proposal.gain >= _WORTH and self.proposal.between[0] > 0


@click.command()
@click.argument("profile")
@desk_option
@format_option("table", "json")
@click.option(
    "--surface", "surfaces", metavar="NAME", multiple=True, help="Only this surface; may be given several times."
)
@click.option("--keep", "kept", metavar="CONTROL", multiple=True, help="What stays where it is, such as pad.south; may be given several times.")  # fmt: skip
@click.option("--pair", "pairs", metavar="ONE,OTHER", multiple=True, help="Two neighbours that stay together, such as keypad.kp7,keypad.kp9.")  # fmt: skip
@click.option("--hand", type=click.Choice(["right", "left"]), default="right", show_default=True, help="Which hand has keypads and the like.")  # fmt: skip
@click.option("--out", metavar="FILE", type=click.Path(path_type=Path), help="Draw what sits where, now and then: .svg, .png or .pdf.")  # fmt: skip
@click.option("--write", "wanted", is_flag=True, help="Write it into the desk, without asking.")
@click.option("--example", is_flag=True, help="Show it with a made-up year at the demo desk.")
def command(
    profile: str,
    desk_folder: Path | None,
    form: str,
    surfaces: tuple[str, ...],
    kept: tuple[str, ...],
    pairs: tuple[str, ...],
    hand: str,
    out: Path | None,
    wanted: bool,
    example: bool,
) -> None:
    """Compute on which buttons the bindings of PROFILE would sit better, by what the journal says of their use.

    Effort is the time that fingers take (Fitts's law), from rest or from what they pressed before, and what your own hand has shown.
    Only buttons change, within one surface; what is held while others are pressed, overrides another profile, or belongs to several at
    once stays. Neighbours that are opposites (previous and next) stay neighbours, the same way round. Nothing is written without your
    consent; comments stay with their bindings, and expectations press what has moved where it is then.
    """
    check_ending(out, FORMATS)
    if example and (wanted or desk_folder is not None):
        raise click.UsageError("--example has a desk of its own, which is not written")
    desk = example_desk() if example else open_desk(desk_folder)
    if profile not in desk.plan.profiles:
        fail_unknown(f"the desk has no profile `{profile}`", profile, desk.plan.profiles)
    for name in surfaces:
        if name not in desk.plan.surfaces:
            fail_unknown(f"the desk has no surface `{name}`", name, desk.plan.surfaces)
    together = _pairs(desk, pairs)
    addresses = {f"{name}.{control}" for name in desk.plan.surfaces for control in _buttons(desk, name)}
    for control in (*kept, *(one for pair in together for one in pair)):
        if control not in addresses:
            fail_unknown(f"the desk has no button `{control}`", control, addresses)
    found = _proposed(desk, profile, surfaces or tuple(desk.plan.surfaces), kept, together, hand, example)
    if not found:
        fail(f"nothing that `{profile}` binds itself could sit elsewhere", 1)
    if form == "json":
        show_json([_data(one) for one in found])
    else:
        for one in found:
            _show(one)
    better = [one for one in found if one.better]
    if out is not None:
        _draw(desk, profile, better or found, out)
    if example or not better:
        return
    if wanted or (form == "table" and agreed(f"Write this into {desk.name}?")):
        _write(desk, profile, better)


def _pairs(desk: Desk, pairs: Sequence[str]) -> set[frozenset[str]]:
    found = set()
    for text in pairs:
        both = frozenset(one.strip() for one in text.split(","))
        if len(both) != 2:
            raise click.UsageError(f"--pair takes two controls, such as keypad.kp7,keypad.kp9, and not {text}")
        found.add(both)
    return found


def _buttons(desk: Desk, surface: str) -> list[str]:
    """The controls of a surface that have a place of their own and send something."""
    from fenko.showing.shown import Surfaces

    known = desk.plan.surfaces[surface]
    spots = Surfaces(desk).described(known).spots
    names = [known.own_name(spot.control) for spot in spots if spot.at is not None and spot.sends is None]
    return [name for name in names if known.shape(name) is BUTTON]


def _proposed(
    desk: Desk,
    profile: str,
    surfaces: Sequence[str],
    kept: Sequence[str],
    together: set[frozenset[str]],
    hand: str,
    example: bool,
) -> list[_Surface]:
    from fenko.showing.shown import Surfaces
    from fenko.studies.effort import sites
    from fenko.studies.proposing import nothing_known, propose, uses_of

    level = desk.plan.profiles[profile].levels[-1].name
    counted = None
    if example or journal_file(desk.folder).exists():
        counted, bindings, _ = counted_of(desk, example)
    else:
        note("No journal is kept, so every binding counts alike; `fenko journal on` has one kept.")
    found = []
    shown = Surfaces(desk)
    for name in surfaces:
        surface = desk.plan.surfaces[name]
        mine = [one.partition(".")[2] for one in kept if one.partition(".")[0] == name]
        may = movable(desk, profile, name, _buttons(desk, name), mine)
        if not may.things or len(may.things) + len(may.free) < 2:
            continue
        spots = [spot for spot in shown.described(surface).spots if spot.sends is None]
        places = sites(surface.kind, spots, {spot.control: surface.own_name(spot.control) for spot in spots}, hand)
        uses = (
            uses_of(counted, bindings, name, may.things, may.deeds, level)
            if counted is not None
            else nothing_known(may.things)
        )
        if not any(uses.counts.get(thing) for thing in may.things):
            note(f"{name}: the journal has no uses of what could move there, so nothing is proposed")
            continue

        def belong(one: str, other: str, name: str = name, may: Movable = may) -> bool:
            asked = frozenset((f"{name}.{one}", f"{name}.{other}")) in together
            return asked or belong_together(may.things[one], may.things[other])

        _look_at_pairs(name, may, places, together)
        found.append(_Surface(name, may, places, uses, propose(places, [*may.things], may.free, uses, belong)))
    return found


def _look_at_pairs(name: str, may: Movable, places: list[Site], together: set[frozenset[str]]) -> None:
    """Ends where a pair was asked for that is none."""
    from fenko.studies.proposing import nearness

    by_name = {f"{name}.{site.control}": site for site in places}
    for pair in together:
        if not any(one in by_name for one in pair):
            continue
        one, other = sorted(pair)
        stay = [
            control for control in (one, other) if control.partition(".")[2] not in may.things or control not in by_name
        ]
        if stay:
            fail(f"{' and '.join(stay)} may not move, so {one} and {other} cannot do so together", 2)
        if isnan(nearness([by_name[one], by_name[other]])[0, 1, 2]):
            fail(f"{one} and {other} are not in one row or column, so nothing can be kept of how they lie", 2)


def _data(one: _Surface) -> dict[str, Any]:
    return {
        "surface": one.name,
        **structs.asdict(one.proposal),
        "does": one.may.things,
        "free": one.may.free,
        "stay": one.may.stay,
        "uses": {thing: one.uses.counts.get(thing, 0) for thing in one.may.things},
    }


def _show(one: _Surface) -> None:
    from fenko.studies.effort import hand_of, reaches

    proposal = one.proposal
    rest, _ = reaches(one.places, hand_of(one.places, one.uses.own).model)
    reach = {site.control: (time, site.finger) for site, time in zip(one.places, rest, strict=True)}
    say(bold(f"{one.name}"))
    if not one.better:
        say(
            f"What may move sits well: {proposal.now:.1f} s for a thousand uses, and nothing is sure to gain {_WORTH:.1%}.\n"
        )
    else:
        low, high = proposal.between
        say(
            f"{proposal.now:.1f} s for a thousand uses now, {proposal.then:.1f} s then: {proposal.gain:.1%} less "
            f"(95 %: {low:.1%} to {high:.1%}). {_how_good(proposal)}"
        )
        rows = []
        for thing, does in sorted(one.may.things.items(), key=lambda item: -one.uses.counts.get(item[0], 0)):
            to = proposal.moves.get(thing, "")
            before, after = reach[thing], reach[to or thing]
            rows.append(
                (does, f"{one.uses.counts.get(thing, 0):,.0f}", thing, to or dim("stays"), f"{before[0] * 1000:.0f} ms",
                 f"{after[0] * 1000:.0f} ms" if to else "", after[1])
            )  # fmt: skip
        show_table(("does", "uses", "now on", "then on", "reach", "then", "finger"), rows)
        say("")
    if one.may.stay:
        say(dim("stay: " + "; ".join(f"{control}, {why}" for control, why in one.may.stay.items()) + "\n"))


def _how_good(proposal: Proposal) -> str:
    if proposal.exact:
        return "All others were tried."
    return f"No other can be more than {proposal.short_of:.1%} better still."


def _write(desk: Desk, profile: str, found: Sequence[_Surface]) -> None:
    written: list[str] = []
    try:
        with alone(desk.folder):
            for one in found:
                now = load_desk(desk.folder)
                edits = rearranged(now, profile, one.name, one.proposal.moves)
                vain = failures(now, edits)
                if vain:
                    for line in vain:
                        note(line)
                    fail(f"{one.name}: the desk would expect this in vain, so it was not written")
                for edit in edits:
                    write(edit)
                written += [str(edit.path) for edit in edits]
    except DeskError as error:
        show_problems(error.problems, err=True)
        fail("the desk would have faults with this, so it was not written", 2)
    except EditError as why:
        fail(str(why), 1 if isinstance(why, NotWritten) else 2)
    note(
        f"written: {', '.join(dict.fromkeys(written))}; `fenko history` has what was there, `fenko sheet {profile}` prints what is"
    )


def _draw(desk: Desk, profile: str, found: Sequence[_Surface], out: Path) -> None:
    from fenko.showing.sheets import write as write_pages
    from fenko.showing.usage_pictures import before_and_after

    pages = [
        before_and_after(desk, profile, one.name, one.uses.counts, one.proposal.moves, one.proposal.gain)
        for one in found
    ]
    try:
        written = write_pages(out, pages, f"{profile}: now and then")
    except OSError as why:
        fail(f"{out} cannot be written: {reason(why)}")
    note(f"{', '.join(map(str, written))}: now and then")
