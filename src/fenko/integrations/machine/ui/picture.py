"""What a machine did: its path from above, and its speed over time."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from itertools import groupby
from pathlib import Path
from typing import Any

import matplotlib
from matplotlib.figure import Figure

from fenko.integrations.machine.planner import AxisLimits
from fenko.integrations.machine.simulated import Point
from fenko.tuning.picture import save

_COLOURS = {
    "Run": "#0072b2",
    "Jog": "#009e73",
    "Home": "#8c8c88",
    "Hold": "#e69f00",
    "Alarm": "#d55e00",
    "Idle": "#8c8c88",
}
"""Of each state, after Okabe and Ito."""
_APART = 0.05  # seconds; points further apart are two moves


def draw(path: Path, title: str, trace: Sequence[Point], axes: Mapping[str, AxisLimits]) -> None:
    """Draws it into `path`, whose ending (svg, png, pdf) decides the format. Raises OSError."""
    names = list(axes)
    with matplotlib.rc_context({"svg.fonttype": "none", "svg.hashsalt": "fenko", "font.size": 10}):
        figure = Figure(figsize=(12.8, 6.4), dpi=100, layout="constrained")
        figure.suptitle(title, fontweight="bold", ha="left", x=0.01)
        places, speeds = figure.subplots(1, 2, width_ratios=(1, 1.5))
        _places(places, trace, names, axes)
        _speeds(speeds, trace)
        shown = [state for state in _COLOURS if any(point.state == state and point.speed for point in trace)]
        for state in shown:
            speeds.plot([], [], color=_COLOURS[state], linewidth=2, label=state.lower())
        if shown:
            speeds.legend(frameon=False, ncols=len(shown), loc="lower right", bbox_to_anchor=(1, 1.0))
        save(figure, path)


def _places(plot: Any, trace: Sequence[Point], names: list[str], axes: Mapping[str, AxisLimits]) -> None:
    first, second = names[0], names[1] if len(names) > 1 else None
    plot.set_title("path", loc="left")
    plot.set_xlabel(f"{first}, mm")
    left, right = axes[first].least, axes[first].most
    plot.set_xlim(left - 0.03 * (right - left), right + 0.03 * (right - left))
    for points in _pieces(trace):
        across = [point.position[first] for point in points]
        down = [point.position[second] for point in points] if second else [point.at for point in points]
        plot.plot(across, down, color=_COLOURS[points[len(points) // 2].state], linewidth=1.6, solid_capstyle="round")
    if second:
        low, high = axes[second].least, axes[second].most
        plot.set_ylim(low - 0.03 * (high - low), high + 0.03 * (high - low))
        plot.set_ylabel(f"{second}, mm")
        plot.set_aspect("equal")
        plot.add_patch(
            matplotlib.patches.Rectangle(
                (left, low), right - left, high - low, fill=False, edgecolor="#555555", linestyle=":"
            )
        )
    else:
        plot.set_ylabel("s")
    if trace:
        plot.plot(
            trace[-1].position[first],
            trace[-1].position[second] if second else trace[-1].at,
            "o",
            color="#111111",
            markersize=5,
        )


def _speeds(plot: Any, trace: Sequence[Point]) -> None:
    plot.set_title("speed, mm/s", loc="left")
    plot.set_xlabel("s")
    for points in _pieces(trace):
        plot.plot(
            [point.at for point in points],
            [point.speed for point in points],
            color=_COLOURS[points[len(points) // 2].state],
            linewidth=1.4,
        )
    plot.set_ylim(bottom=0)
    plot.spines[["top", "right"]].set_visible(False)


def _pieces(trace: Sequence[Point]) -> list[list[Point]]:
    """Stretches in one state without a break; each begins where the one before ended."""
    found: list[list[Point]] = []
    for state, group in groupby(trace, key=lambda point: point.state if point.speed else "rest"):
        for point in group:
            if (
                not found
                or (found[-1][-1].state != point.state and state != "rest")
                or point.at - found[-1][-1].at > _APART
            ):
                found.append([point])
            else:
                found[-1].append(point)
    return [points for points in found if len(points) > 1]
