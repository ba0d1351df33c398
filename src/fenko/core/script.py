"""Scripts of hands: what somebody does with the surfaces, one readable step after the other, and what comes of it.

    front snipwell "Reel 2"
    hold pad.shoulder-right
    tap pad.hat.left
    turn dial.dial.right 3

A step is a word of `HAND_WORDS` and what it is done to. A script is played through an engine of its own, in no time: after
each step as much time passes as a careful hand would take, so that gestures do not run into one another.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from math import inf

from msgspec import Struct

from fenko.core.changes import FOCUS, KEYBOARD, PLUG, UNPLUG, Change, Effect
from fenko.core.controls import THRESHOLDS, Shape
from fenko.core.descriptions import burst_of
from fenko.core.engine import Engine
from fenko.core.keys import MODIFIERS
from fenko.core.plan import Focus, Plan, Report, Surface, Timing
from fenko.core.registration import Said
from fenko.core.seen import KeyView
from fenko.core.verbs import spelled
from fenko.core.words import nearest, parse_time

HAND_WORDS: dict[str, tuple[str, str]] = {
    "front": ('front APP ["TITLE"]', "a window comes in front"),
    "press": ("press CONTROL", "a control goes down and stays, but not yet long enough to be held"),
    "hold": ("hold CONTROL", "a control goes down and stays, for longer than `timing.hold`"),
    "release": ("release CONTROL", "a control that is down is let go"),
    "tap": ("tap CONTROL", "down and up"),
    "double": ("double CONTROL", "down and up, twice in a row"),
    "triple": ("triple CONTROL", "down and up, three times in a row"),
    "turn": ("turn CONTROL.DIRECTION [N] [fast]", "detents of a dial or wheel, one by one, or in quick succession"),
    "keyboard": ("keyboard shift+ctrl|none", "modifiers held on the ordinary keyboard from then on"),
    "wait": ("wait TIME", "nothing happens for a while"),
    "unplug": ("unplug SURFACE", "a surface goes away"),
    "plug": ("plug SURFACE", "and comes back"),
}
"""What hands can do, each with its form and what it means."""

FAR = 0.7
"""How far `.half` is pushed: past half the way, short of all of it."""
_BRIEF = 0.03  # s; how long a tap is, at least
_FAST = 0.003  # s; between the detents of a fast turn
_TOKEN = re.compile(r'\s*("(?:[^"\\]|\\.)*"|\S+)')
_MOST_TURNS = 999


class ScriptError(ValueError):
    """A step that nobody can do. `offset` and `length` mark the characters at fault (0-based)."""

    def __init__(self, message: str, offset: int, length: int, hint: str | None = None) -> None:
        super().__init__(message)
        self.offset = offset
        self.length = max(1, length)
        self.hint = hint


class HandStep(Struct, frozen=True):
    """One step of a script: the word, the cells that it is done to, and whatever else it says."""

    word: str
    cells: tuple[str, ...] = ()
    control: str = ""
    times: int = 1
    fast: bool = False
    seconds: float = 0.0
    focus: Focus = Focus()
    modifiers: tuple[str, ...] = ()


class Outcome(Struct, frozen=True):
    """What came of a script, up to the moment before everything is let go: what was sent as a program would see it, the
    keys that are down, the profile and layers in force, and every effect with its time."""

    sent: tuple[Said, ...]
    held: tuple[str, ...]
    profile: str
    layers: tuple[str, ...]
    effects: tuple[Effect, ...]


def parse_hand_step(text: str, surfaces: dict[str, Surface]) -> HandStep:
    """The step that `text` writes. Raises ScriptError, and nothing else."""
    tokens = [(found[1], found.start(1)) for found in _TOKEN.finditer(text)]
    if not tokens:
        raise ScriptError("an empty step", 0, len(text), "tap pad.south")
    (word, start), *rest = tokens
    if word not in HAND_WORDS:
        raise ScriptError(
            f"hands cannot `{word}`; they {', '.join(HAND_WORDS)}", start, len(word), nearest(word, HAND_WORDS)
        )
    most = 3 if word == "turn" else 2 if word == "front" else 1
    if not rest or len(rest) > most:
        at, length = (start, len(word)) if not rest else (rest[most][1], len(rest[most][0]))
        raise ScriptError(f"the form is `{HAND_WORDS[word][0]}`", at, length)
    (what, at), *more = rest
    if word == "front":
        return HandStep(word, focus=Focus(_bare(what), _bare(more[0][0]) if more else ""))
    if word == "wait":
        try:
            return HandStep(word, seconds=parse_time(what))
        except ValueError as why:
            raise ScriptError(str(why), at, len(what)) from None
    if word == "keyboard":
        names = () if what == "none" else tuple(what.split("+"))
        for name in names:
            if name not in MODIFIERS:
                raise ScriptError(f"`{name}` is no modifier", at, len(what), nearest(name, MODIFIERS))
        return HandStep(word, modifiers=names)
    if word in ("plug", "unplug"):
        if what not in surfaces:
            raise ScriptError(f"the desk has no surface `{what}`", at, len(what), nearest(what, surfaces))
        return HandStep(word, control=what)
    return _on_control(word, what, at, more, surfaces)


def _on_control(word: str, what: str, at: int, more: list[tuple[str, int]], surfaces: dict[str, Surface]) -> HandStep:
    found = cells_of(what, surfaces)
    if isinstance(found, str):
        known = [f"{surface.name}.{own}" for surface in surfaces.values() for own in surface.names]
        raise ScriptError(found, at, len(what), nearest(what, known))
    shape, address, cells = found
    if (word == "turn") != (shape.turns is not None):
        proper = "turn" if shape.turns else "tap"
        raise ScriptError(f"`{what}` cannot be used so; try `{proper} {what}`", at, len(what), f"{proper} {what}")
    times, fast = 1, False
    for text, place in more:
        if text == "fast":
            fast = True
        elif text.isascii() and text.isdigit() and 1 <= int(text) <= _MOST_TURNS:
            times = int(text)
        else:
            raise ScriptError(f"the form is `{HAND_WORDS[word][0]}`", place, len(text))
    return HandStep(word, cells, address, times, fast)


def _bare(token: str) -> str:
    return re.sub(r"\\(.)", r"\1", token[1:-1]) if len(token) > 1 and token[0] == token[-1] == '"' else token


def cells_of(what: str, surfaces: dict[str, Surface]) -> tuple[Shape, str, tuple[str, ...]] | str:
    """How `SURFACE.CONTROL[.DIRECTION]`, also of several controls joined by `+`, acts; its cell, and the cells of which
    it consists. A text says what is wrong with it."""
    name, _, rest = what.partition(".")
    surface = surfaces.get(name)
    if surface is None or not rest:
        return f"`{what}` is no SURFACE.CONTROL; the surfaces are {', '.join(surfaces)}"
    cells: list[str] = []
    shape: Shape | None = None
    for part in rest.split("+"):
        control, _, direction = part.partition(".")
        shape = surface.shape(control)
        if shape is None or not shape.bindable:
            return f"{name} has no control `{control}`"
        direction, _, far = direction.partition(".")
        if not shape.cells and shape.axes:
            direction, far = "", direction
        if (direction or None) not in (shape.cells or (None,)):
            parts = ", ".join(f"`{control}.{cell}`" for cell in shape.cells)
            return f"which way? {parts}" if parts else f"`{control}` has no part `{direction}`"
        if far and (not shape.axes or far not in THRESHOLDS or direction in shape.diagonals):
            return f"`{part}` has no `{far}`"
        own = surface.own_name(surface.kernel_name(control) or control)
        cells.append(".".join(word for word in (name, own, direction, far) if word))
    assert shape is not None
    if len(cells) == 1:
        return shape, cells[0], tuple(cells)
    if len(set(cells)) < len(cells):
        return "a control cannot be pressed together with itself"
    owns = sorted(cell.partition(".")[2].replace(".", "-") for cell in cells)
    return shape, f"{name}.{'+'.join(owns)}", tuple(cells)


class Performance:
    """Plays steps through an engine, and remembers everything that it says."""

    def __init__(self, plan: Plan, report: Report | None = None) -> None:
        self.engine = Engine(plan, report)
        self.effects: list[Effect] = []
        self.t = 0.0

    def do(self, step: HandStep) -> None:
        """Does one step and lets the time pass that it takes."""
        match step.word:
            case "front":
                self.feed(FOCUS, step.focus)
            case "keyboard":
                self.feed(KEYBOARD, step.modifiers)
            case "unplug" | "plug":
                self.feed(UNPLUG if step.word == "unplug" else PLUG, step.control)
            case "wait":
                self.pass_time(step.seconds)
            case "turn":
                self._turn(step)
            case "release":
                self._all(step, False)
            case "press":
                self._all(step, True)
                self.pass_time(self._brief(step))
                cell = self.engine.cell(step.control)
                if cell is not None and cell.waits:
                    # Not so long that it would be held.
                    self.settle(self.t + self._timing(step).hold - self._brief(step) - 0.001)
                else:
                    self.settle()
            case "hold":
                self._all(step, True)
                self.pass_time(self._timing(step).hold + self._brief(step))
            case _:
                for _ in range({"tap": 1, "double": 2, "triple": 3}[step.word]):
                    self._all(step, True)
                    self.pass_time(_BRIEF + self._bounce(step))
                    self._all(step, False)
                    self.pass_time(_BRIEF + self._bounce(step))
        if step.word not in ("press", "wait"):
            self.settle()

    def settle(self, until: float = inf) -> None:
        """Lets pass whatever time is needed until all that ends by itself has ended, or it is so late."""
        while self.engine.under_way and self.engine.deadline < until:
            self.t = self.engine.deadline
            self.effects += self.engine.advance(self.t)

    def pass_time(self, seconds: float) -> None:
        """Lets time pass."""
        self.t += seconds
        self.effects += self.engine.advance(self.t)

    def feed(self, address: str, value: object) -> None:
        """One change, now."""
        change: Change = (self.t, address, value)
        self.effects += self.engine.feed(change)

    def outcome(self) -> Outcome:
        """What has come of it so far."""
        engine = self.engine
        return Outcome(
            tuple(KeyView().see(self.effects)),
            tuple(map(spelled, engine.held)),
            engine.profile.name,
            engine.layers,
            tuple(self.effects),
        )

    # --- Hands ---

    def _timing(self, step: HandStep) -> Timing:
        cell = self.engine.cell(step.control)
        return cell.timing if cell is not None and cell.timing is not None else self.engine.plan.timing

    def _brief(self, step: HandStep) -> float:
        """Long enough for a press to be believed: not bounce, not several at once, not one of a burst."""
        timing = self._timing(step)
        return max(timing.chord, timing.burst if self._bursts(step) else 0.0, self._bounce(step)) + 0.001

    def _bursts(self, step: HandStep) -> bool:
        return any(burst_of(cell.partition(".")[2]) is not None for cell in step.cells)

    def _bounce(self, step: HandStep) -> float:
        surface = self.engine.plan.surfaces[step.control.partition(".")[0]]
        return surface.debounce * 2

    def _all(self, step: HandStep, on: bool) -> None:
        for cell in step.cells:
            self._move(cell, on)

    def _move(self, cell: str, on: bool) -> None:
        """A cell is pressed or let go, by the changes that its device would send."""
        name, _, rest = cell.partition(".")
        control, _, direction = rest.partition(".")
        surface = self.engine.plan.surfaces[name]
        burst = burst_of(surface.kernel_name(control) or control)
        if burst is not None:
            self._burst(f"{name}.{surface.own_name(burst[0])}", burst[1], on)
            return
        shape = surface.shape(control)
        assert shape is not None
        direction, _, far = direction.partition(".")
        if direction in THRESHOLDS:
            direction, far = "", direction
        if not shape.axes:
            self.feed(cell, int(on))
            return
        value = FAR if far == "half" else 1.0
        for part in shape.diagonals.get(direction, (direction,)):
            for axis, ends in shape.axes.items():
                if part in ends:
                    sign = -1.0 if ends[0] == part else 1.0
                    address = f"{name}.{control}.{axis}" if axis else f"{name}.{control}"
                    self.feed(address, sign * value if on else 0.0)

    def _burst(self, address: str, times: int, on: bool) -> None:
        if not on:
            self.feed(address, 0)
            return
        for number in range(times):
            apart = max(_FAST, self.engine.plan.surfaces[address.partition(".")[0]].debounce)
            if number:
                self.feed(address, 0)
                self.pass_time(apart)
            self.feed(address, 1)
            self.pass_time(apart)

    def _turn(self, step: HandStep) -> None:
        name, _, rest = step.control.partition(".")
        control, _, direction = rest.partition(".")
        shape = self.engine.plan.surfaces[name].shape(control)
        assert shape is not None
        assert shape.turns is not None
        value = -1 if shape.turns[0] == direction else 1
        for _ in range(step.times):
            self.feed(f"{name}.{control}", value)
            self.pass_time(_FAST if step.fast else self._timing(step).fast + 0.001)


def perform(plan: Plan, hand_steps: Iterable[HandStep], report: Report | None = None) -> Outcome:
    """What comes of a script."""
    performance = Performance(plan, report)
    for step in hand_steps:
        performance.do(step)
    return performance.outcome()
