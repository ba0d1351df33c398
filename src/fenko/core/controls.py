"""What surfaces are made of: the controls, how each shape of control acts, and the kernel codes that stand for them.

A control is addressed as ``surface.control``. What a gesture happens to is a *cell*: a plain button is its own cell
(``pad.south``), a stick has one in each direction (``pad.stick-left.up``), a dial one in each sense of turning.
Changes arrive at cells (a button went down) or at axes (``pad.stick-left.x`` is at -0.7), which press the cells at
their two ends.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Mapping
from functools import lru_cache

from msgspec import Struct

from fenko.core.keys import KERNEL_KEYS, MOUSE_BUTTONS, position_key


class Shape(Struct, frozen=True):
    """How a sort of control acts.

    `axes` maps an axis to the cells at its negative and positive end (None: there is no such end); the empty names
    are the control itself. `turns` are the cells of negative and positive detents. `diagonals` are directions between
    two others. Each end of an axis has two more cells, for pushing it half and all the way (`THRESHOLDS`).
    """

    name: str
    directions: tuple[str, ...] = ()
    axes: dict[str, tuple[str | None, str]] = {}
    turns: tuple[str, str] | None = None
    diagonals: dict[str, tuple[str, str]] = {}

    @property
    def cells(self) -> tuple[str, ...]:
        """Every direction, diagonals too, by which it can be bound; none for what has no directions."""
        return (*self.directions, *self.diagonals)

    def direction(self, axis: str, at: float) -> str:
        """Which way an axis is pushed; empty at rest, and for what goes one way only."""
        return "" if round(at, 2) == 0 or axis not in self.axes else self.axes[axis][at > 0] or ""


TOWARDS = {"left": (-1.0, 0.0), "right": (1.0, 0.0), "up": (0.0, -1.0), "down": (0.0, 1.0)}
"""Directions, across and down, as effects count them."""
_ACROSS_AND_DOWN = {"x": ("left", "right"), "y": ("up", "down")}
_DIAGONALS = {f"{down}-{across}": (across, down) for down in ("up", "down") for across in ("left", "right")}

THRESHOLDS = ("half", "full")
"""What a person can bind of an axis besides pushing it at all: half the way, and all the way."""


SORTS: dict[str, Shape] = {}
"""Every sort of control, by its name. Which control is of which sort says its name where the kernel has one for it
(`SHAPED`), and else the description of the thing."""


def _sort(shape: Shape) -> Shape:
    SORTS[shape.name] = shape
    return shape


BUTTON = _sort(Shape("button"))
TRIGGER = _sort(Shape("trigger", axes={"": (None, "")}))
STICK = _sort(
    Shape("stick", directions=("left", "right", "up", "down"), axes={**_ACROSS_AND_DOWN}, diagonals=_DIAGONALS)
)
HAT = _sort(Shape("hat", directions=("left", "right", "up", "down"), axes={**_ACROSS_AND_DOWN}, diagonals=_DIAGONALS))
RING = _sort(Shape("ring", directions=("left", "right"), axes={"": ("left", "right")}))
DIAL = _sort(Shape("dial", directions=("left", "right"), turns=("left", "right")))
TILT = _sort(Shape("tilt wheel", directions=("left", "right"), turns=("left", "right")))
WHEEL = _sort(Shape("wheel", directions=("up", "down"), turns=("down", "up")))
FADER = _sort(Shape("fader", axes={"": (None, "")}))
PAD = _sort(Shape("pad", axes={"": (None, "")}))
BEND = _sort(Shape("bend", directions=("down", "up"), axes={"": ("down", "up")}))
LEANING = _sort(
    Shape("tilt", directions=("left", "right", "up", "down"), axes={**_ACROSS_AND_DOWN}, diagonals=_DIAGONALS)
)
TOUCH_AREA = _sort(Shape("touch area", axes={"x": (None, ""), "y": (None, "")}))
SENSOR = _sort(Shape("sensor", axes=dict.fromkeys("xyz", ("less", "more"))))
MOTION = _sort(Shape("motion", axes={"x": (None, ""), "y": (None, "")}))

PLAIN_SORTS = {name: shape for name, shape in SORTS.items() if shape not in (TOUCH_AREA, SENSOR, MOTION)}
"""The sorts that are known wherever a control is: the others only the kernel tells of."""


def turning(sorts: Mapping[str, str]) -> frozenset[str]:
    """Of controls with their sorts, those that say how far they were turned, and not how they stand."""
    return frozenset(control for control, sort in sorts.items() if SORTS[sort].turns)


SHAPED: dict[str, Shape] = {
    "trigger-left": TRIGGER, "trigger-right": TRIGGER, "stick-left": STICK, "stick-right": STICK, "hat": HAT,
    "ring": RING, "dial": DIAL, "wheel": WHEEL, "tilt-wheel": TILT, "motion": MOTION,
    "tilt": LEANING, "sensor": SENSOR, "touch": TOUCH_AREA,
}  # fmt: skip
"""Controls that are more than a button."""

_GAMEPAD_BUTTONS = {
    0x130: "south", 0x131: "east", 0x132: "c", 0x133: "north", 0x134: "west", 0x135: "z", 0x136: "shoulder-left",
    0x137: "shoulder-right", 0x138: "trigger-left", 0x139: "trigger-right", 0x13A: "select", 0x13B: "start",
    0x13C: "mode", 0x13D: "stick-left-press", 0x13E: "stick-right-press",
    0x220: "hat.up", 0x221: "hat.down", 0x222: "hat.left", 0x223: "hat.right",
}  # fmt: skip
_MOUSE_BUTTONS = {
    0x110: "left", 0x111: "right", 0x112: "middle", 0x113: "side", 0x114: "extra", 0x115: "forward", 0x116: "back",
    0x117: "task",
}  # fmt: skip
_STICK_BUTTONS = {
    0x120: "trigger", 0x121: "thumb", 0x122: "thumb2", 0x123: "top", 0x124: "top2", 0x125: "pinkie", 0x126: "base",
    0x127: "base2", 0x128: "base3", 0x129: "base4", 0x12A: "base5", 0x12B: "base6", 0x12F: "dead",
}  # fmt: skip
# Buttons that the kernel only numbers: BTN_0 … BTN_9, then BTN_TRIGGER_HAPPY1 … 40.
_NUMBERED_BUTTONS = {0x100 + n: f"button-{n + 1}" for n in range(10)} | {
    0x2C0 + n: f"button-{n + 11}" for n in range(40)
}

BUTTON_CODES: dict[int, str] = {
    **{code: name for name, code in KERNEL_KEYS.items()},
    **_GAMEPAD_BUTTONS,
    **_MOUSE_BUTTONS,
    **_STICK_BUTTONS,
    **_NUMBERED_BUTTONS,
}
"""EV_KEY code to the cell it moves."""

# EV_ABS code to the axis it moves (kernel gamepad documentation; ABS_WHEEL and ABS_THROTTLE are rings of jog devices).
AXIS_CODES: dict[int, str] = {
    0x00: "stick-left.x", 0x01: "stick-left.y", 0x03: "stick-right.x", 0x04: "stick-right.y", 0x02: "trigger-left",
    0x05: "trigger-right", 0x08: "ring", 0x06: "ring", 0x10: "hat.x", 0x11: "hat.y", 0x14: "trigger-right",
    0x15: "trigger-left", 0x0A: "trigger-left", 0x09: "trigger-right",
}  # fmt: skip

# Volume and profile, which are states of a keyboard, and the fingers on a touch area.
_NO_CONTROLS = {0x20, 0x21, *range(0x2F, 0x40)}


def axis_name(code: int) -> str | None:
    """The control, with its part, that the axis of that EV_ABS code moves; None for what is no control. Those without a
    name of their own are numbered, and only a description can say what they are."""
    return AXIS_CODES.get(code) or (None if code in _NO_CONTROLS else f"axis-{code}")


# EV_REL code to the control it turns; the two high-resolution codes count 120 to the detent.
TURN_CODES: dict[int, str] = {0x06: "tilt-wheel", 0x07: "dial", 0x08: "wheel"}
FINE_TURN_CODES: dict[int, str] = {0x0B: "wheel", 0x0C: "tilt-wheel"}
MOTION_CODES: dict[int, str] = {0x00: "motion.x", 0x01: "motion.y"}

HELD_BY_HAND = frozenset({"tilt", "sensor", "shake", "face-down", "tip-left", "tip-right", "tip-up", "tip-down"})
"""Controls of things that feel how they are held."""
SENSOR_CODES: dict[int, str] = {0x00: "sensor.x", 0x01: "sensor.y", 0x02: "sensor.z"}
"""EV_ABS code of a node that tells of acceleration to the axis of the sensor."""

TOUCH_CODES: dict[tuple[int, int], str] = {
    (3, 0x00): "touch.x", (3, 0x01): "touch.y", (1, 0x14A): "touch", (1, 0x110): "touch-press",
}  # fmt: skip
"""Type and code of a node that is a touch area to what they tell of it."""

_PAD_CONTROLS = HELD_BY_HAND | {"touch", "touch-press"} | frozenset(
    name.partition(".")[0] for name in _GAMEPAD_BUTTONS.values()
) | {"stick-left", "stick-right", "trigger-left", "trigger-right", "hat"}  # fmt: skip
_POINTING = frozenset(_MOUSE_BUTTONS.values()) | {"wheel", "tilt-wheel", "motion"}
_NUMBERED = frozenset(_NUMBERED_BUTTONS.values())
_KEYS = frozenset(KERNEL_KEYS)
_STICKS = frozenset(_STICK_BUTTONS.values())
_TURNING = frozenset({"dial", "wheel", "tilt-wheel", "ring"})

_SEVEN_BITS = r"(?:\d|[1-9]\d|1[01]\d|12[0-7])"
_MIDI_CONTROL = re.compile(
    r"(?:ch(?:[2-9]|1[0-6])-)?(?:"
    rf"(?P<note>note-{_SEVEN_BITS})|(?P<amount>cc-{_SEVEN_BITS}|nrpn-(?:\d{{1,4}}|1[0-5]\d{{3}}|16[0-2]\d\d|163[0-7]\d|1638[0-3]))"
    rf"|(?P<pressure>note-{_SEVEN_BITS}-pressure|pressure)"
    r"|(?P<bend>bend)|(?P<button>program-(?:[1-9]|[1-9]\d|1[01]\d|12[0-8])))"
    r"|(?P<transport>play|stop|continue)"
)
_MIDI_SHAPES = {"note": PAD, "amount": FADER, "pressure": TRIGGER, "bend": BEND, "button": BUTTON, "transport": BUTTON}
_MIDI_CONTROLS = frozenset(
    {f"{name}-{number}" for name in ("note", "cc") for number in range(128)}
    | {f"note-{number}-pressure" for number in range(128)}
    | {f"program-{number}" for number in range(1, 129)}
    | {"pressure", "bend", "play", "stop", "continue"}
)
"""What a MIDI controller can have on its first channel."""

KINDS: dict[str, frozenset[str]] = {
    "gamepad": _PAD_CONTROLS | _STICKS | _NUMBERED,
    "keypad": _KEYS | _NUMBERED | {"dial", "wheel"},
    "keyboard": _KEYS | _NUMBERED | {"dial", "wheel"},
    "mouse": _POINTING | _KEYS | _NUMBERED,
    "dial": _TURNING | _KEYS | _NUMBERED,
    "ring-and-dial": _TURNING | _KEYS | _NUMBERED,
    "macro-pad": _TURNING | _KEYS | _NUMBERED | _PAD_CONTROLS | _STICKS,
    "midi": _MIDI_CONTROLS,
    "board": frozenset(),
    "other": _PAD_CONTROLS | _POINTING | _KEYS | _NUMBERED | _STICKS | _TURNING,
}
"""Kind of surface to the controls that such a thing can have. A MIDI controller has those of the other channels too
(`has_control`); those of a board are what the desk or a description says."""


def has_control(kind: str, control: str) -> bool:
    """Whether a thing of that kind can have such a control."""
    return control in KINDS[kind] or (kind == "midi" and _MIDI_CONTROL.fullmatch(control) is not None)


@lru_cache(maxsize=4096)
def shape_of(control: str) -> Shape:
    """How the control of that name acts."""
    shape = SHAPED.get(control)
    if shape is None and (midi := _MIDI_CONTROL.fullmatch(control)) is not None:
        shape = _MIDI_SHAPES[next(name for name in _MIDI_SHAPES if midi[name] is not None)]
    return shape or BUTTON


def names_another(kind: str, name: str) -> bool:
    """Whether a person would take a control called `name` for another control of that kind. Keys may lend their
    names: `stop` or `record` say what a key is for, whatever else the kernel knows by that name."""
    return name in KINDS[kind] and name in KINDS["gamepad"] | KINDS["mouse"] - KINDS["keyboard"]


def inputs_of(control: str, shape: Shape) -> Iterator[str]:
    """Every address part at which changes of `control`, which acts like that, can arrive: its axes, its cells, or
    itself."""
    for axis in shape.axes:
        yield f"{control}.{axis}" if axis else control
    if shape.turns:
        yield control
    else:
        for cell in shape.directions or ("",):
            yield f"{control}.{cell}" if cell else control


_NUMBERED_NAME = re.compile(r"button-\d+")


def with_direction(word: str, known: Collection[str]) -> str | None:
    """What a direction alone is probably meant to be, of these controls: `hat.left`, `dial.left`."""
    having = ("hat", "dial", "ring", "wheel", "tilt-wheel", "stick-left")
    return next((f"{one}.{word}" for one in having if one in known and word in SHAPED[one].cells), None)


def passed_on(kind: str, control: str) -> str | None:
    """The key or mouse button that an unbound control of a surface of this kind stands for in its ordinary life; None
    where there is nothing that could be sent on."""
    if kind == "mouse" and control in MOUSE_BUTTONS:
        return f"button {control}"
    if control in KERNEL_KEYS and kind not in ("gamepad", "midi", "board"):
        return position_key(control)
    return None
