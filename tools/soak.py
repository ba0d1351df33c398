"""Runs the soak of `tests/test_soak.py` for so many minutes, and draws what was seen as docs/soak.png; says its figures.

usage: python tools/soak.py MINUTES        runs it (with PATH as a second argument: writes there what was seen)
       python tools/soak.py PATH           draws what an earlier one has written
"""

from __future__ import annotations

import json
import os
import statistics
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any

from matplotlib.figure import Figure

ROOT = Path(__file__).parent.parent
OUT = ROOT / "docs/soak.png"
_BLUE, _ORANGE = "#0072b2", "#d55e00"


def run(minutes: float, log: Path) -> None:
    """Runs it; what is seen is written to `log` pause by pause."""
    log.unlink(missing_ok=True)
    environment = os.environ | {"FENKO_SOAK": str(minutes * 60), "FENKO_SOAK_LOG": str(log)}
    command = [sys.executable, "-m", "pytest", "-q", "-s", "-p", "no:cacheprovider", str(ROOT / "tests/test_soak.py")]
    subprocess.run(command, env=environment, check=True)


def draw(seen: list[dict[str, Any]]) -> None:
    """Memory, descriptors and how soon a key came, one beneath the other over the same time."""
    seen = [one for one in seen if one["presses"]]
    minutes = [one["t"] / 60 for one in seen]
    figure = Figure(figsize=(12.8, 7.2), dpi=100, layout="constrained", facecolor="white")
    memory, descriptors, times = figure.subplots(3, 1, sharex=True, height_ratios=[2, 1, 2])
    memory.plot(minutes, [one["kB"] / 1024 for one in seen], color=_BLUE, marker=".")
    memory.set_ylabel("memory of its own (MiB)")
    descriptors.plot(minutes, [one["descriptors"] for one in seen], color=_BLUE, marker=".")
    descriptors.set_ylabel("descriptors")
    for axes in (memory, descriptors):
        axes.set_ylim(0, axes.get_ylim()[1] * 1.15)
    for share, colour, name in ((0.5, _BLUE, "the middle one"), (1.0, _ORANGE, "the latest of some eighty")):
        times.plot(minutes, [1000 * _at(one["presses"], share) for one in seen], color=colour, marker=".", label=name)
    times.set_yscale("log")
    times.set_ylabel("a press → its key (ms)")
    times.legend(frameon=False, loc="upper left", ncols=2)
    times.set_xlabel("minutes")
    for axes in (memory, descriptors, times):
        axes.grid(color="#e4e4e0")
        for side in ("top", "right"):
            axes.spines[side].set_visible(False)
    figure.savefig(OUT)


def say(seen: list[dict[str, Any]]) -> None:
    """The figures, as docs/reliability.md has them."""
    first, last = seen[0], seen[-1]
    presses = [one for some in seen for one in some["presses"]]
    middles = [1000 * statistics.median(one["presses"]) for one in seen if one["presses"]]
    print(f"minutes {last['t'] / 60:.0f}, seed {last['seed']}, {last['done']}")
    print(
        f"pauses {len(seen)}; descriptors {min(o['descriptors'] for o in seen)} to {max(o['descriptors'] for o in seen)}"
    )
    print(f"kB {first['kB']} at the first, {last['kB']} at the last, {max(o['kB'] for o in seen)} at most")
    print(f"presses {len(presses)}, {last['lost']} did not come within a second")
    print(
        f"ms {1000 * statistics.median(presses):.2f}, 99 % {1000 * _at(presses, 0.99):.1f}, at most {1000 * max(presses):.0f}"
    )
    print(f"middles of pauses {min(middles):.2f} to {max(middles):.2f}")


def _at(values: list[float], share: float) -> float:
    return sorted(values)[min(len(values) - 1, int(share * len(values)))]


def main() -> None:
    """Runs and draws, or only draws."""
    if not sys.argv[1:]:
        sys.exit(__doc__)
    with tempfile.TemporaryDirectory() as folder:
        try:
            minutes = float(sys.argv[1])
        except ValueError:
            log = Path(sys.argv[1])
        else:
            log = Path(sys.argv[2]) if len(sys.argv) > 2 else Path(folder) / "seen.jsonl"
            run(minutes, log)
        seen = [json.loads(line) for line in log.read_text().splitlines()]
    say(seen)
    draw(seen)


if __name__ == "__main__":
    main()
