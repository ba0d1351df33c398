"""Draws docs/tuning.png: what `fenko tune` proposes for made-up devices, against what is known of them.

usage: python tools/truth.py [SEEDS]
"""

from __future__ import annotations

import sys
from math import log, sqrt
from pathlib import Path
from typing import Any

import numpy as np
from matplotlib.figure import Figure

ROOT = Path(__file__).parent.parent
sys.path.insert(0, str(ROOT / "tests"))

from fenko.core.plan import Surface, Timing
from fenko.tuning.proposals import measure
from fenko.tuning.tracks import tracks_of
from worn import RATE, Hand, WornStick, button_take, rest_positions, stick_take

OUT = ROOT / "docs/tuning.png"
PAD = Surface("pad", "gamepad")
_SEEN, _TRUE = "#005a8f", "#b85c00"


def _stick(seed: int) -> tuple[float, float, float, float, float]:
    """The true centre and the one found, the dead zone needed and the one proposed, and the false moves that it leaves in an
    hour."""
    random = np.random.default_rng(seed)
    x, y = random.uniform(-0.06, 0.06, 2)
    stick = WornStick((x, y), random.uniform(0.001, 0.01), random.uniform(0.005, 0.02))
    found = measure(PAD, Timing(), tracks_of(PAD, stick_take(stick, seed)), 1.0)
    rest = found.rests["stick-left"]
    zone = float({one.setting: one.value for one in found.proposals}.get("control.stick-left.dead-zone", "0.1")) * min(
        stick.ends
    )
    places = rest_positions(stick, seed + 10_000, 2000, 10) - rest.centre
    strays = float((np.hypot(*places.T) > zone).mean()) * RATE * 3600
    return x, rest.centre[0], np.hypot(stick.noise, stick.spread) * sqrt(2 * log(RATE * 2 * 3600)), zone, strays


def _hold(seed: int) -> float:
    """The share of the same hand's next presses that the proposed hold misjudges."""
    random = np.random.default_rng(seed)
    hand = Hand(tap=random.uniform(0.06, 0.12), hold=random.uniform(0.45, 0.9))
    found = measure(PAD, Timing(), tracks_of(PAD, button_take(hand, 0.003, 0.2, seed)), 1.0)
    taps, holds = (middle * np.exp(random.normal(0, hand.varies, 5000)) for middle in (hand.tap, hand.hold))
    return float(((taps >= found.hold).mean() + (holds < found.hold).mean()) / 2)


def main() -> None:
    """Measures so many made-up devices, and draws how close it came."""
    seeds = int(sys.argv[1]) if len(sys.argv) > 1 else 200
    sticks = np.array([_stick(seed) for seed in range(seeds)])
    holds = np.array([_hold(seed) for seed in range(seeds)])
    figure = Figure(figsize=(12.8, 4.4), dpi=100, layout="constrained", facecolor="white")
    axes: Any = figure.subplots(1, 4)
    for one, title in zip(
        axes,
        ("centre, across", "dead zone", "false moves in an hour at rest", "presses misjudged by the hold"),
        strict=True,
    ):
        one.set_title(title, fontsize=11, loc="left")
        one.tick_params(labelsize=8)
        for side in ("top", "right"):
            one.spines[side].set_visible(False)
    for one, true, found, most in (
        (axes[0], sticks[:, 0], sticks[:, 1], 0.08),
        (axes[1], sticks[:, 2], sticks[:, 3], 0.2),
    ):
        low = -most if true.min() < 0 else 0
        one.plot([low, most], [low, most], color=_TRUE, linewidth=1)
        one.plot(true, found, ".", color=_SEEN, markersize=4)
        one.set_xticks(np.linspace(low, most, 5))
        one.set_xlabel("true" if low else "needed", fontsize=8)
        one.set_ylabel("found" if low else "proposed", fontsize=8)
    axes[2].hist(np.minimum(sticks[:, 4], 50), bins=25, range=(0, 50), color=_SEEN)
    axes[2].axvline(1, color=_TRUE, linewidth=1, label="chosen: 1")
    axes[2].legend(fontsize=7)
    axes[2].set_xlabel("50 and more in the last", fontsize=8)
    axes[3].hist(holds * 100, bins=25, color=_SEEN)
    axes[3].set_xlabel("%", fontsize=8)
    figure.suptitle(
        f"What is proposed for {seeds} made-up devices and hands, against what is known of them",
        fontsize=12,
        x=0.01,
        ha="left",
    )
    figure.savefig(OUT)
    print(OUT)


main()
