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

from msgspec import Struct

from fenko.core.circumstances import Focus
from fenko.core.controls import MOTION, SENSOR, THRESHOLDS, TOUCH_AREA, Shape
from fenko.core.keys import MODIFIERS
from fenko.core.plan import Surface
from fenko.core.words import nearest, parse_time

HAND_WORDS: dict[str, tuple[str, str]] = {
    "front": (
        'front APP ["TITLE"] [of APP ["TITLE"]]',
        "a window comes in front, or, with `of`, a dialog of another window",
    ),
    "press": ("press CONTROL", "a control goes down and stays, but not yet long enough to be held"),
    "hold": ("hold CONTROL", "a control goes down and stays, for longer than `timing.hold`"),
    "release": ("release CONTROL", "a control that is down is let go"),
    "tap": ("tap CONTROL", "down and up"),
    "double": ("double CONTROL", "down and up, twice in a row"),
    "triple": ("triple CONTROL", "down and up, three times in a row"),
    "turn": ("turn CONTROL.DIRECTION [N] [fast]", "detents of a dial or wheel, one by one, or in quick succession"),
    "push": (
        "push CONTROL ACROSS [DOWN] [for TIME]",
        "a stick, trigger, ring or hat is moved there (-1 to 1, 0 is rest), and stays, or comes back after the time",
    ),
    "keyboard": ("keyboard shift+ctrl|none", "modifiers held on the ordinary keyboard from then on"),
    "wait": ("wait TIME", "nothing happens for a while"),
    "start": ("start PROGRAM", "a program starts to run, whatever is in front"),
    "quit": ("quit PROGRAM", "and ends"),
    "machine": ("machine NAME STATE", "a machine comes to that state: idle, jogging, alarm, away …"),
    "unplug": ("unplug SURFACE", "a surface goes away"),
    "plug": ("plug SURFACE", "and comes back"),
}
"""What hands can do, each with its form and what it means."""

_TOKEN = re.compile(r'\s*("(?:[^"\\]|\\.)*"|\S+)')
_NUMBER = re.compile(r"-?\d+(\.\d+)?")
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
    at: tuple[float, ...] = ()
    focus: Focus = Focus()
    modifiers: tuple[str, ...] = ()


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
    most = {"turn": 3, "front": 5, "push": 5, "machine": 2}.get(word, 1)
    if not rest or len(rest) > most:
        at, length = (start, len(word)) if not rest else (rest[most][1], len(rest[most][0]))
        raise ScriptError(f"the form is `{HAND_WORDS[word][0]}`", at, length)
    (what, at), *more = rest
    if word == "front":
        return HandStep(word, focus=_window([what, *(token for token, _ in more)], at))
    if word in ("start", "quit"):
        return HandStep(word, control=_bare(what))
    if word == "machine":
        if not more:
            raise ScriptError(f"the form is `{HAND_WORDS[word][0]}`", at, len(what))
        return HandStep(word, control=f"{what} {more[0][0]}")
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
    if word == "push":
        return _push(what, at, more, surfaces)
    return _on_control(word, what, at, more, surfaces)


def _window(tokens: list[str], at: int) -> Focus:
    """A window, and the one that it belongs to, of APP ["TITLE"] [of APP ["TITLE"]]."""
    whole = tokens.index("of") if "of" in tokens else len(tokens)
    own, owner = tokens[:whole], tokens[whole + 1 :]
    if not 1 <= len(own) <= 2 or len(owner) > 2 or (whole < len(tokens) and not owner):
        raise ScriptError(f"the form is `{HAND_WORDS['front'][0]}`", at, len(own[0]) if own else 1)
    app, title = (*map(_bare, own), "")[:2]
    return Focus(app, title, owner=_window(owner, at) if owner else None)


def _push(what: str, at: int, more: list[tuple[str, int]], surfaces: dict[str, Surface]) -> HandStep:
    form = f"the form is `{HAND_WORDS['push'][0]}`"
    name, _, control = what.partition(".")
    shape = surfaces[name].shape(control) if name in surfaces else None
    if shape is None or not shape.axes or shape in (MOTION, SENSOR, TOUCH_AREA):
        raise ScriptError(f"`{what}` is no stick, trigger, ring, hat or fader", at, len(what))
    seconds = 0.0
    if len(more) >= 2 and more[-2][0] == "for":
        text, place = more[-1]
        try:
            seconds = parse_time(text)
        except ValueError as why:
            raise ScriptError(str(why), place, len(text)) from None
        more = more[:-2]
    if not 1 <= len(more) <= len(shape.axes):
        raise ScriptError(form, at, len(what))
    least = 0.0 if "" in shape.axes and shape.axes[""][0] is None else -1.0
    numbers = []
    for text, place in more:
        if _NUMBER.fullmatch(text) is None or not least <= float(text) <= 1:
            raise ScriptError(f"`{text}` is no place on its way: {least:g} to 1", place, len(text))
        numbers.append(float(text))
    own = surfaces[name].own_name(surfaces[name].kernel_name(control) or control)
    return HandStep("push", control=f"{name}.{own}", seconds=seconds, at=tuple(numbers))


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
        if shape is None or shape in (MOTION, SENSOR):
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
