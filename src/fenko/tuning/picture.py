"""What was measured, as a picture: the places of sticks, the way of triggers, bounces, presses, and what is proposed."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from matplotlib.figure import Figure
from matplotlib.patches import Circle, Rectangle

from fenko.core.conditioning import Conditioning, Shaping
from fenko.core.plan import Surface
from fenko.system.files import whole_file
from fenko.tuning.measures import REST_AT_LEAST
from fenko.tuning.proposals import Measured
from fenko.tuning.tracks import Track, Tracks

_SIZE = (12.8, 8.0)  # inches
_SEEN, _REST, _NEW, _FAINT = "#9aa7b1", "#005a8f", "#b85c00", "#d8d8d4"
_MOST_PANELS = 8
# Without dates, so that the same take is the same file.
_DATES: dict[str, dict[str, Any]] = {"svg": {"Date": None}, "pdf": {"CreationDate": None}}

Panel = Callable[[Any], None]


def draw(path: Path, title: str, tuned: Surface, tracks: Tracks, found: Measured) -> None:
    """Draws what was measured; `tuned` is the surface with all that is proposed. Raises OSError."""
    panels: list[Panel] = []
    for name, track in tracks.positions.items():
        if track.shape.name == "stick":
            panels.append(partial(_stick, name=name, track=track, tuned=tuned))
        elif track.shape.name in ("trigger", "ring"):
            panels.append(partial(_along, name=name, track=track, tuned=tuned))
    curved = [name for name, track in tracks.positions.items() if track.shape.name in ("stick", "trigger", "ring")]
    if curved:
        panels.append(partial(_curve, names=curved, tuned=tuned))
    if any(bounce.changes for bounce in found.bounces.values()):
        panels.append(partial(_bounces, tuned=tuned, found=found))
    if len(found.durations):
        panels.append(partial(_presses, found=found))
    panels = panels[:_MOST_PANELS]
    columns = min(3, max(1, len(panels))) if len(panels) <= 6 else 4
    rows = -(-max(1, len(panels)) // columns)
    figure = Figure(figsize=_SIZE, dpi=100, layout="constrained", facecolor="white")
    figure.suptitle(title, fontsize=14, fontweight="bold", x=0.01, ha="left")
    grid = figure.subplots(rows, columns, squeeze=False).flatten()
    for axes in grid:
        axes.axis("off")
    for axes, panel in zip(grid, panels, strict=False):
        axes.axis("on")
        axes.tick_params(labelsize=8)
        for side in ("top", "right"):
            axes.spines[side].set_visible(False)
        panel(axes)
    save(figure, path)


def save(figure: Figure, path: Path) -> None:
    """Writes a figure as what the file's ending says (svg, png, pdf). Raises OSError."""
    form = path.suffix[1:].lower()
    with whole_file(path, 0o644) as file:
        figure.savefig(file, format=form, metadata=_DATES.get(form))


def _stick(axes: Any, name: str, track: Track, tuned: Surface) -> None:
    by = tuned.conditioning_of(name)
    axes.set_title(name, fontsize=11, loc="left")
    axes.set_aspect("equal")
    axes.set_xlim(-1.1, 1.1)
    axes.set_ylim(1.1, -1.1)
    axes.plot(track.x, track.y, ".", color=_SEEN, markersize=2.5, label="where it was", rasterized=len(track.x) > 5000)
    (left, right), (up, down) = by.extent
    axes.add_patch(Rectangle((left, up), right - left, down - up, fill=False, color=_FAINT, linewidth=1.2))
    centre = by.centre
    # Within the dead zone the way of each side counts for itself; drawn by the shortest.
    way = min(right - centre[0], centre[0] - left, down - centre[1], centre[1] - up)
    axes.add_patch(
        Circle(
            centre, by.outer * way, fill=False, color=_NEW, linewidth=1.2, linestyle=(0, (5, 3)), label="all the way"
        )
    )
    axes.add_patch(Circle(centre, by.dead_zone * way, color=_NEW, alpha=0.25, label=f"dead zone {by.dead_zone:g}"))
    axes.plot(*centre, "+", color=_REST, markersize=12, label="where it rests")
    axes.legend(fontsize=7, loc="upper left", bbox_to_anchor=(1.0, 1.0), frameon=False)


def _along(axes: Any, name: str, track: Track, tuned: Surface) -> None:
    by = tuned.conditioning_of(name)
    axes.set_title(name, fontsize=11, loc="left")
    least = 0.0 if track.shape.axes[""][0] is None else -1.0
    # A control that nobody touched for an hour would hide all else.
    axes.hist(
        track.x,
        bins=60,
        range=(least, 1),
        weights=np.minimum(track.lasted, REST_AT_LEAST),
        color=_SEEN,
        label="how long it was there (s)",
    )
    low, high = (max(least, by.extent[0][0]), by.extent[0][1])
    middle = low if least == 0 else by.centre[0]
    zone = by.dead_zone * (high - middle)
    axes.axvspan(
        middle - (zone if least else 0), middle + zone, color=_NEW, alpha=0.25, label=f"dead zone {by.dead_zone:g}"
    )
    for end in (low, high):
        axes.axvline(end, color=_NEW, linewidth=1.2, linestyle=(0, (5, 3)))
    axes.set_yscale("log")
    axes.set_xlabel("share of its way", fontsize=8)
    axes.legend(fontsize=7, loc="upper center")


def _curve(axes: Any, names: list[str], tuned: Surface) -> None:
    axes.set_title("what a position comes to", fontsize=11, loc="left")
    places = np.linspace(0, 1, 201)
    drawn: dict[Conditioning, str] = {}
    for name in names:
        by = tuned.conditioning_of(name)
        kept = Conditioning(dead_zone=by.dead_zone, dead_axes=by.dead_axes, outer=by.outer, curve=by.curve)
        drawn[kept] = f"{drawn[kept]}, {name}" if kept in drawn else name
    axes.plot(places, places, color=_FAINT, linewidth=1)
    for number, (by, label) in enumerate(drawn.items()):
        shaping = Shaping(by)
        style = ("-", "--", "-.", ":")[number % 4]
        axes.plot(places, [shaping.one(place) for place in places], style, color=(_REST, _NEW)[number % 2], label=label)
    axes.set_xlabel("position, calibrated", fontsize=8)
    axes.legend(fontsize=7, loc="upper left")


def _bounces(axes: Any, tuned: Surface, found: Measured) -> None:
    axes.set_title("bounces", fontsize=11, loc="left")
    times = [time * 1000 for bounce in found.bounces.values() for time in bounce.times]
    changes = sum(bounce.changes for bounce in found.bounces.values())
    axes.set_xlim(0, 25)
    if times:
        axes.hist(times, bins=50, range=(0, 25), color=_SEEN, label=f"{len(times)} of {changes} changes")
    else:
        axes.text(12.5, 0.5, f"none of {changes} changes bounced", ha="center", fontsize=9)
        axes.set_yticks([])
    if tuned.debounce:
        axes.axvline(tuned.debounce * 1000, color=_NEW, linewidth=1.4, label=f"debounce {tuned.debounce * 1000:g} ms")
    axes.set_xlabel("ms from the first change to the last", fontsize=8)
    if times or tuned.debounce:
        axes.legend(fontsize=7)


def _presses(axes: Any, found: Measured) -> None:
    axes.set_title("how long buttons were down", fontsize=11, loc="left")
    durations = found.durations * 1000
    low, high = max(10.0, float(durations.min()) * 0.8), max(500.0, float(durations.max()) * 1.2)
    axes.hist(durations, bins=np.geomspace(low, high, 40), color=_SEEN, label=f"{len(durations)} presses")
    axes.set_xscale("log")
    if found.hold:
        axes.axvline(found.hold * 1000, color=_NEW, linewidth=1.4, label=f"hold {found.hold * 1000:.0f} ms")
    ticks = [tick for tick in (20, 50, 100, 200, 500, 1000, 2000, 5000) if low <= tick <= high]
    axes.set_xticks(ticks, [f"{tick:g}" for tick in ticks])
    axes.minorticks_off()
    axes.set_xlabel("ms", fontsize=8)
    axes.legend(fontsize=7)
