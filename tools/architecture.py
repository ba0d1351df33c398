"""Draws docs/architecture.png: the rooms of Fenko, and who knows whom, from the imports of the code itself.

The thick arrows are the way of one press. A thin one says that something in the one box imports something in the other;
what every box imports (words, keys, plans) is left out.
"""

from __future__ import annotations

from itertools import pairwise
from pathlib import Path

import grimp
import matplotlib

matplotlib.use("Agg")
import matplotlib.pyplot as plt
from matplotlib.patches import FancyArrowPatch, FancyBboxPatch

ROOT = Path(__file__).parent.parent

# Each box: where it is (left, bottom, width, height in percent), and the modules that are its own, in the order of a press.
BOXES: dict[str, tuple[tuple[float, float, float, float], list[str]]] = {
    "command line, and what it shows": ((2, 86, 96, 9), ["cli", "showing", "drawing"]),
    "sources": (
        (2, 42, 18, 38), ["live.devices", "live.surfaces", "devices.node", "devices.events", "live.focus", "focus.x11", "focus.wayland",
                          "live.keyboard", "live.running", "live.playing", "live.linked", "integrations.midi.incoming", "integrations.board.lines", "integrations.lending.protocol"],
    ),
    "inbox": ((23.5, 58, 11.5, 16), ["live.inbox", "live.loop", "core.inputs"]),
    "engine: decides": (
        (38, 38, 28.5, 42),
        ["core.engine", "core.shortways", "core.contacts", "core.pending", "core.gestures", "core.runs", "core.motion",
         "core.strokes", "core.held", "core.choices", "core.situation", "core.stack", "core.agenda", "core.lights"],
    ),
    "router": ((69.5, 58, 9, 16), ["live.router"]),
    "ports": (
        (81.5, 42, 16.5, 38), ["outputs.ports", "outputs.port", "outputs.keys", "outputs.x11", "outputs.wayland", "outputs.kwin", "outputs.gnome", "outputs.kernel",
                           "outputs.listing", "outputs.workers_port", "live.guard"],
    ),
    "session": ((23.5, 35.5, 11.5, 19), ["live.session", "live.wiring", "live.display", "live.talk", "live.rereading", "live.far"]),
    "language: what is said": (
        (38, 5, 28.5, 28),
        ["core.phrase", "core.reader", "core.registration", "core.verbs", "core.steps", "core.actions", "core.effects"],
    ),
    "desk: files become a plan": (
        (2, 5, 33, 29), ["desk.load", "desk.sources", "desk.bindings", "desk.profiles", "desk.judging", "desk.explaining",
                         "desk.compiled", "core.plan"],
    ),
    "processes beside it": ((71, 3, 27, 31), ["services", "system.child_process", "live.notifying", "workers.host", "workers.lane", "integrations", "core.backlog", "core.flow"]),
}  # fmt: skip
SAYS = {
    "core.contacts": "bounce, thresholds, directions", "core.pending": "chords, bursts, taps in a row",
    "core.gestures": "press, hold, tap, double, turn", "core.runs": "actions, step by step", "core.motion": "pointer, scrolling, values", "core.held": "who holds what",
    "core.situation": "profile, layers, pause", "core.stack": "what a cell does now", "core.shortways": "the common cases",
    "core.agenda": "what is due, and when", "core.lights": "what lamps show", "core.strokes": "a stroke alone", "core.choices": "in turn, at random",
    "outputs.keys": "which keys", "outputs.x11": "key codes", "outputs.kwin": "pasted", "outputs.kernel": "key codes",
    "live.guard": "after a kill", "core.verbs": "one file a verb", "core.steps": "the closed set",
    "desk.judging": "check's findings", "showing": "legends, sheets, labels", "drawing": "plans, on paper and screens", "services": "what is read again, and what runs", "live.running": "programs", "live.notifying": "the desktop", "workers.host": "ends all with the desk", "workers.lane": "a queue and a thread", "integrations": "a folder each: MIDI, OSC, machines …", "core.backlog": "what waits, and how", "outputs.workers_port": "to workers", "system.child_process": "one for all", "outputs.ports": "all", "live.focus": "window in front", "live.keyboard": "modifiers", "live.playing": "takes", "live.linked": "MIDI, boards",
    "core.flow": "floods, summed up", "live.devices": "of the desk",
    "live.inbox": "one place", "core.actions": "phrase to steps",
}  # fmt: skip
PRESS = ["sources", "inbox", "engine: decides", "router", "ports"]


def _imports() -> dict[tuple[str, str], int]:
    """How many imports lead from one box to another."""
    graph = grimp.build_graph("fenko")
    box_of = {
        module: box
        for box, (_, owners) in BOXES.items()
        for owner in owners
        for module in graph.modules
        if module == f"fenko.{owner}" or module.startswith(f"fenko.{owner}.")
    }
    found: dict[tuple[str, str], int] = {}
    for module, box in box_of.items():
        for other in graph.find_modules_directly_imported_by(module):
            target = box_of.get(other)
            if target is not None and target != box and other != "fenko.core.plan":
                found[box, target] = found.get((box, target), 0) + 1
    missing = {owner for _, owners in BOXES.values() for owner in owners} - {
        module.removeprefix("fenko.") for module in graph.modules
    }
    if missing:
        raise SystemExit(f"architecture.py names modules that are gone: {', '.join(sorted(missing))}")
    return found


def _edge(box: str, towards: str) -> tuple[float, float]:
    """The point on a box's rim that lies towards another box."""
    (left, bottom, wide, high), _ = BOXES[box]
    (left2, bottom2, wide2, high2), _ = BOXES[towards]
    x, y = left + wide / 2, bottom + high / 2
    dx, dy = left2 + wide2 / 2 - x, bottom2 + high2 / 2 - y
    scale = min(wide / 2 / abs(dx) if dx else 1e9, high / 2 / abs(dy) if dy else 1e9)
    return x + dx * scale, y + dy * scale


def main() -> None:
    """Draws it."""
    figure, axes = plt.subplots(figsize=(12.8, 8), dpi=100)
    axes.set(xlim=(0, 100), ylim=(0, 100))
    axes.axis("off")
    axes.text(2, 98.4, "The rooms of Fenko, and the way of one press", fontsize=15, weight="bold", va="center")
    axes.text(
        98, 98.4, "thin arrows: imports, counted in the code", fontsize=9, color="#607080", ha="right", va="center"
    )
    for (box, other), number in sorted(_imports().items()):
        if box == "command line, and what it shows" or (box in PRESS and other in PRESS):
            continue
        axes.add_patch(
            FancyArrowPatch(
                _edge(box, other), _edge(other, box), arrowstyle="-|>", mutation_scale=9, color="#9fb0c0",
                linewidth=0.6 + min(number, 20) / 12, connectionstyle="arc3,rad=0.06", zorder=1,
            )
        )  # fmt: skip
    for box, ((left, bottom, wide, high), owners) in BOXES.items():
        shade = "#e8f1fb" if box in PRESS else "#f5f3ee"
        axes.add_patch(
            FancyBboxPatch(
                (left, bottom), wide, high, boxstyle="round,pad=0.2,rounding_size=1", facecolor=shade,
                edgecolor="#44607c" if box in PRESS else "#a09880", linewidth=1.4, zorder=2,
            )
        )  # fmt: skip
        axes.text(left + 1, bottom + high - 2.2, box, fontsize=10.5, weight="bold", va="center", zorder=3)
        step = min(2.9, (high - 4.6) / max(1, len(owners)))
        for number, owner in enumerate(owners if box != "command line, and what it shows" else ()):
            says = f"  {SAYS[owner]}" if owner in SAYS and wide > 12 else ""
            y = bottom + high - 5.2 - number * step
            axes.text(left + 1.4, y, owner, fontsize=8, family="monospace", va="center", zorder=3)
            if says:
                axes.text(left + 1.4 + 0.68 * len(owner), y, says, fontsize=7.5, color="#506070", va="center", zorder=3)
        if box == "command line, and what it shows":
            text = "run, try: a session   ·   rehearse, explain, check: the engine alone   ·   learn, watch, describe: sources alone   ·   legend, sheet: showing, drawing"
            axes.text(left + 1.4, bottom + high - 5.8, text, fontsize=8.5, color="#506070", va="center", zorder=3)
    for one, other in pairwise(PRESS):
        (left, _, wide, _), _ = BOXES[one]
        (left2, _, _, _), _ = BOXES[other]
        axes.add_patch(
            FancyArrowPatch(
                (left + wide + 0.3, 66), (left2 - 0.3, 66), arrowstyle="simple", mutation_scale=17, color="#c0392b", zorder=4
            )
        )  # fmt: skip
    figure.savefig(ROOT / "docs/architecture.png", bbox_inches="tight", pad_inches=0.1)


if __name__ == "__main__":
    main()
