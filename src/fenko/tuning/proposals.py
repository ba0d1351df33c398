"""From measures to settings of the desk: what would be written, in place of what, and why."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import pairwise
from math import ceil

import numpy as np
from msgspec import Struct

from fenko.core.plan import Surface, Timing
from fenko.core.words import format_time
from fenko.tuning.measures import (
    Bounce,
    Reach,
    Rest,
    between_taps_and_holds,
    bounce_of,
    longest_of,
    outer_of,
    reach_of,
    rest_of,
    settled,
    turning_rates,
)
from fenko.tuning.tracks import Numbers, Track, Tracks

_MOST_DEAD = 0.5
_FEWEST_RESTS = 2


class Proposal(Struct, frozen=True):
    """One setting of a surface: its path below the surface, the value as TOML, what holds now, and the evidence."""

    path: tuple[str, ...]
    value: str
    now: str
    evidence: str

    @property
    def setting(self) -> str:
        """The path in words."""
        return ".".join(self.path)


class Skipped(Struct, frozen=True):
    """Something of which nothing can be said, and why, or what to do."""

    what: str
    why: str


class Measured(Struct):
    """All that was found: proposals, what could not be told, and the measures themselves, for the picture."""

    proposals: list[Proposal]
    skipped: list[Skipped]
    rests: dict[str, Rest] = {}
    reaches: dict[str, dict[str, Reach]] = {}
    bounces: dict[str, Bounce] = {}
    durations: Numbers = np.array([])
    hold: float = 0.0


def measure(surface: Surface, timing: Timing, tracks: Tracks, false_moves: float) -> Measured:
    """What the device and the hand on it suggest. A control at rest may stray `false_moves` times an hour beyond its dead
    zone."""
    found = Measured([], [])
    for track in tracks.positions.values():
        if track.shape.name in ("stick", "trigger", "ring"):
            _position(found, surface, track, false_moves)
    _bounces(found, surface, tracks)
    _hand(found, timing, tracks)
    for turns in tracks.turning.values():
        rates = turning_rates(turns)
        if rates is None:
            found.skipped.append(Skipped(turns.control, "was hardly turned; turn it slowly and fast"))
        elif rates[1] > 2.5 * rates[0]:
            now = surface.conditioning_of(turns.control).spin
            found.proposals.append(
                Proposal(
                    ("control", turns.control, "spin"), f"[[{rates[0]:.0f}, 1], [{rates[1]:.0f}, 4]]",
                    str([list(point) for point in now]) if now else "none",
                    f"this hand turns it at {rates[0]:.0f} detents a second, and at {rates[1]:.0f} in a hurry ({len(turns.t)} detents)",
                )
            )  # fmt: skip
    return found


# --- Positions ---


def _position(found: Measured, surface: Surface, track: Track, false_moves: float) -> None:
    control, by = track.control, surface.conditioning_of(track.control)
    one_sided = "" in track.shape.axes and track.shape.axes[""][0] is None
    two = len(track.shape.axes) == 2
    at = ("control", control)
    rest = rest_of(track)
    if rest is None:
        found.skipped.append(Skipped(control, "was never left alone for a while; take the hand off it now and then"))
        return
    found.rests[control] = rest
    seen = f"{rest.rests} rests, {rest.seconds:.0f} s in all"
    centre = rest.centre
    if two or not one_sided:
        known = by.centre if two else by.centre[:1]
        shown = [round(place, 3) + 0.0 for place in (centre if two else centre[:1])]
        if max(abs(place - now) for place, now in zip(shown, known, strict=True)) >= max(track.grain, 0.002):
            value = f"[{shown[0]:g}, {shown[1]:g}]" if two else f"{shown[0]:g}"
            was = f"[{by.centre[0]:g}, {by.centre[1]:g}]" if two else f"{by.centre[0]:g}"
            found.proposals.append(Proposal((*at, "centre"), value, was, f"where it came to rest ({seen})"))
    reaches = _reaches(track, centre)
    found.reaches[control] = reaches
    wanted = {f"{axis}{side}" for axis in track.shape.axes for side in ("+",) + (() if one_sided else ("-",))}
    missing = wanted - reaches.keys()
    ends = dict.fromkeys(wanted, 1.0) | {name: min(1.0, reach.way) for name, reach in reaches.items()}
    if missing:
        found.skipped.append(
            Skipped(f"{control}, range", "was not pushed all the way everywhere; move it round its edge")
        )
    else:
        value, was, changes = _range(track, one_sided, centre, ends, by.extent)
        if changes:
            pushes = sum(reach.pushes for reach in reaches.values())
            found.proposals.append(
                Proposal((*at, "range"), value, was, f"what nearly every full push reaches ({pushes} pushes)")
            )
    way = min(ends.values()) - (centre[0] if one_sided else 0.0)
    _dead_zone(found, track, rest, by.dead_zone, way, false_moves)
    if two and not missing:
        x, y = _calibrated(track, centre, ends)
        least = outer_of(x, y)
        if least is None:
            found.skipped.append(
                Skipped(f"{control}, outer", "was not pushed in every direction; move it round its edge")
            )
        elif abs((outer := _outer(least[0])) - by.outer) >= 0.01:
            found.proposals.append(
                Proposal((*at, "outer"), f"{outer:g}", f"{by.outer:g}",
                         f"in the direction in which it goes least it reaches {least[0]:.0%} ({least[1]} of 16 directions seen)")
            )  # fmt: skip


def _outer(reached: float) -> float:
    """What counts as all the way where a stick reaches that much in its shortest direction."""
    outer = round(reached * 0.98, 2)
    return outer if outer < 0.97 else 1.0


def _reaches(track: Track, centre: tuple[float, float]) -> dict[str, Reach]:
    found = {}
    for axis in track.shape.axes:
        along = track.y if axis == "y" else track.x
        for side, sign in (("+", 1), ("-", -1)):
            reach = reach_of(sign * along)
            if reach is not None:
                found[f"{axis}{side}"] = reach
    return found


def _range(
    track: Track,
    one_sided: bool,
    centre: tuple[float, float],
    ends: dict[str, float],
    now: tuple[tuple[float, float], ...],
) -> tuple[str, str, bool]:
    """The range as TOML, what it is now, and whether that is worth a change."""
    if one_sided:
        pairs = [(max(0.0, round(centre[0], 3)), round(ends["+"] - track.grain / 2, 3))]
        known = [(max(0.0, now[0][0]), now[0][1])]
    else:
        pairs = [(-round(ends[f"{axis}-"], 3), round(ends[f"{axis}+"], 3)) for axis in track.shape.axes]
        known = list(now[: len(pairs)])
    written = [f"[{least:g}, {most:g}]" for least, most in pairs]
    was = [f"[{least:g}, {most:g}]" for least, most in known]
    changes = any(abs(a - b) >= max(0.01, track.grain) for one, other in zip(pairs, known, strict=True) for a, b in zip(one, other, strict=True))  # fmt: skip
    both = len(pairs) == 2
    return (
        f"[{', '.join(written)}]" if both else written[0],
        f"[{', '.join(was)}]" if both else was[0],
        changes,
    )


def _calibrated(track: Track, centre: tuple[float, float], ends: dict[str, float]) -> tuple[Numbers, Numbers]:
    made = []
    for axis, along, middle in (("x", track.x, centre[0]), ("y", track.y, centre[1])):
        off = along - middle
        up, down = ends[f"{axis}+"] - middle, ends[f"{axis}-"] + middle
        made.append(np.clip(np.where(off > 0, off / up, off / down), -1, 1))
    return made[0], made[1]


def _dead_zone(found: Measured, track: Track, rest: Rest, now: float, way: float, false_moves: float) -> None:
    control = track.control
    if rest.rests < _FEWEST_RESTS:
        found.skipped.append(Skipped(f"{control}, dead zone", "came to rest only once; let go of it a few times"))
        return
    axes = len(track.shape.axes)
    # What it said at rest counts too, however rare it was meant to be; and never less than two steps of the device.
    least = max(rest.dead_zone(false_moves, axes), rest.furthest * 1.1, 2 * track.grain)
    zone = ceil(least / max(way, 0.1) * 200) / 200
    if zone > _MOST_DEAD:
        found.skipped.append(
            Skipped(
                f"{control}, dead zone",
                f"would take {zone:.0%} of the way; the control is worn out, or was not at rest",
            )
        )
        return
    if abs(zone - now) >= 0.005:
        found.proposals.append(
            Proposal(("control", control, "dead-zone"), f"{zone:g}", f"{now:g}",
                     f"noise {rest.noise:.4f}, resting places {rest.spread:.4f} apart ({rest.rests} rests, {rest.seconds:.0f} s): at most {false_moves:g} false moves an hour")
        )  # fmt: skip


# --- Buttons and hands ---


def _bounces(found: Measured, surface: Surface, tracks: Tracks) -> None:
    found.bounces = {name: bounce_of(presses) for name, presses in tracks.buttons.items()}
    changes = sum(bounce.changes for bounce in found.bounces.values())
    times = tuple(time for bounce in found.bounces.values() for time in bounce.times)
    if changes < 20:
        found.skipped.append(
            Skipped("debounce", f"only {changes} changes of buttons; press some of them quickly, ten times each")
        )
        return
    wanted = ceil(Bounce(times, changes).debounce * 1000 + 0.5) / 1000 if times else 0.0
    if abs(wanted - surface.debounce) < 0.001 or (not times and not surface.debounce):
        return
    worst = max(found.bounces, key=lambda name: found.bounces[name].debounce) if times else ""
    evidence = (
        f"{len(times)} of {changes} changes bounced, {max(times) * 1000:.1f} ms at most ({worst})" if times
        else f"none of {changes} changes bounced"
    )  # fmt: skip
    found.proposals.append(Proposal(("debounce",), f'"{format_time(wanted)}"', format_time(surface.debounce), evidence))


def _hand(found: Measured, timing: Timing, tracks: Tracks) -> None:
    presses = {name: settled(one) for name, one in tracks.buttons.items()}
    durations = np.array([until - since for one in presses.values() for since, until in one])
    found.durations = durations
    hold = between_taps_and_holds(durations) if len(durations) else None
    if hold is None:
        found.skipped.append(
            Skipped("timing.hold", f"{len(durations)} presses; quick and slow ones cannot be told apart yet")
        )
    else:
        found.hold = hold.seconds
        _time(found, "hold", hold.seconds, timing.hold, f"{hold.fast} quick presses and {hold.slow} slow ones; it would misjudge {hold.misjudged:.1%}")  # fmt: skip
    gaps = np.array([after[0] - one[1] for one_button in presses.values() for one, after in pairwise(one_button) if after[0] - one[1] < 0.4])  # fmt: skip
    double = longest_of(gaps)
    if double is None:
        found.skipped.append(
            Skipped(
                "timing.double",
                f"{len(gaps)} presses came right after another; press one button twice in a row, some times",
            )
        )
    else:
        _time(found, "double", max(double.seconds, 0.05), timing.double, f"{double.fast} times twice in a row, {np.median(gaps) * 1000:.0f} ms apart in the middle")  # fmt: skip
    apart = np.array(list(_together(presses)))
    chord = longest_of(apart)
    if chord is not None:
        _time(found, "chord", max(chord.seconds, 0.01), timing.chord, f"{chord.fast} times two at once, {np.median(apart) * 1000:.0f} ms apart in the middle")  # fmt: skip


class Choice(Struct, frozen=True):
    """Another time than the one in force (seconds), and the share of what hands did that it would have judged otherwise."""

    setting: str
    seconds: float
    otherwise: float
    times: int


_CHOICES = {
    "hold": (0.12, 0.16, 0.2, 0.25, 0.3, 0.4, 0.5),
    "double": (0.12, 0.16, 0.2, 0.25, 0.3, 0.4),
    "chord": (0.02, 0.03, 0.04, 0.06, 0.08, 0.12),
}
_MOST_TIMES = 2000
"""Of more, so many are looked at, evenly spread over them."""


def choices(times: dict[str, Numbers], timing: Timing) -> list[Choice]:
    """What other times would have made of the times (seconds) of a hand, by which of the desk's times judges them."""
    found = []
    for name, measured in times.items():
        now = getattr(timing, name)
        for seconds in sorted({*_CHOICES[name], now}):
            found.append(Choice(f"timing.{name}", seconds, _otherwise(measured, seconds, now), len(measured)))
    return found


def _otherwise(times: Numbers, one: float, other: float) -> float:
    """The share of times that two thresholds judge differently."""
    return float(((times >= min(one, other)) & (times < max(one, other))).mean()) if len(times) else 0.0


def measure_times(times: dict[str, Numbers], timing: Timing) -> Measured:
    """What the times of a hand at its work (seconds) suggest, by which of the desk's times judges them."""
    found = Measured([], [])
    few = {name: np.sort(one)[:: -(-len(one) // _MOST_TIMES) or 1] for name, one in times.items()}
    hold = between_taps_and_holds(few["hold"]) if "hold" in few else None
    if hold is not None:
        share = _otherwise(times["hold"], hold.seconds, timing.hold)
        _time(found, "hold", hold.seconds, timing.hold, f"{len(times['hold'])} presses; it would misjudge {hold.misjudged:.1%}, and judge {share:.1%} otherwise than now")  # fmt: skip
    else:
        found.skipped.append(
            Skipped("timing.hold", f"{len(times.get('hold', ()))} presses; quick and slow ones cannot be told apart")
        )
    for name, most, least in (("double", 0.4, 0.05), ("chord", 0.12, 0.01)):
        close = few[name][few[name] < most] if name in few else np.array([])
        longest = longest_of(close)
        if longest is None:
            found.skipped.append(Skipped(f"timing.{name}", f"only {len(close)} of them so far"))
            continue
        whole = times[name]
        wanted = max(longest.seconds, least)
        otherwise = _otherwise(whole, wanted, getattr(timing, name))
        _time(found, name, wanted, getattr(timing, name), f"{len(whole)} times, {np.median(close) * 1000:.0f} ms in the middle; it would judge {otherwise:.1%} otherwise than now")  # fmt: skip
    return found


def _time(found: Measured, name: str, seconds: float, now: float, evidence: str) -> None:
    wanted = ceil(seconds * 200) / 200
    if abs(wanted - now) >= 0.01:
        found.proposals.append(Proposal(("timing", name), f'"{format_time(wanted)}"', format_time(now), evidence))


def _together(presses: dict[str, list[tuple[float, float]]]) -> Iterator[float]:
    """How far apart two buttons went down that were held together."""
    every = sorted((since, until, name) for name, one in presses.items() for since, until in one)
    for (since, until, name), (after, _, other) in pairwise(every):
        if other != name and after < until and after - since < 0.12:
            yield max(after - since, 0.0005)
