"""What is plugged in, read from sysfs: no permission is needed to see that a thing is there and what it can do.

A physical thing often turns up as several event nodes (a mouse whose side keys are a keyboard). Nodes belong to one
thing when they share bus, ids, serial and the port that they hang on.
"""

from __future__ import annotations

import os
import re
from collections.abc import Iterable
from pathlib import Path

from msgspec import Struct

from fenko.core.controls import AXIS_CODES, BUTTON_CODES, FINE_TURN_CODES, MOTION_CODES, TURN_CODES, axis_name
from fenko.system.kernel import OWN_PHYS

SYSFS = Path("/sys/class/input")
DEVICE_FOLDER = Path("/dev/input")

_BUSES = {0x03: "usb", 0x05: "bluetooth", 0x06: "virtual"}
_BTN_TOUCH = 0x14A
_ACCELERATES = 6  # INPUT_PROP_ACCELEROMETER
_REL_X, _BTN_LEFT = 0, 0x110
_GAMEPAD_BUTTONS = range(0x120, 0x140)
_LETTERS = frozenset({*range(16, 26), *range(30, 39), *range(44, 51)})
_MANY_BUTTONS = 8  # of a mouse that is more than a mouse
_FEW_KEYS = 3  # as many as a case has: power, sleep, lid
_NUMBER_PAD = frozenset({*range(71, 84), 96, 98, 55, 69})


class Node(Struct, frozen=True):
    """One event node: what the kernel says of it."""

    path: str
    name: str
    bus: int
    vendor: int
    product: int
    port: str
    serial: str
    keys: frozenset[int]
    turns: frozenset[int]
    axes: frozenset[int]
    feels: bool = False
    """Whether it tells of acceleration, and its axes are no sticks."""

    @property
    def thing(self) -> tuple[int, int, int, str, str]:
        """What all nodes of one physical thing have in common."""
        return (self.bus, self.vendor, self.product, self.serial, self.port)

    @property
    def link(self) -> str:
        """The link as a desk writes it, without what tells two equal things apart."""
        return f"{_BUSES.get(self.bus, 'other')} {self.vendor:04x}:{self.product:04x}"

    def matches(self, link: str) -> bool:
        """Whether a desk's link means this node."""
        base, _, rest = link.partition(" serial ")
        if rest:
            return base == self.link and rest == self.serial.replace(" ", "_")
        base, _, rest = link.partition(" port ")
        return base == self.link and (not rest or rest == self.port.replace(" ", "_"))

    @property
    def touched(self) -> bool:
        """Whether it tells where a finger is, and its axes are no sticks."""
        return _BTN_TOUCH in self.keys and {0, 1} <= self.axes

    @property
    def controls(self) -> list[str]:
        """The controls that this node can move, by the kernel's names."""
        if self.touched:
            return ["touch", *(["touch-press"] if _BTN_LEFT in self.keys else [])]
        if self.feels:
            return ["sensor"]
        found = [BUTTON_CODES[code] for code in sorted(self.keys) if code in BUTTON_CODES]
        found += [name for code in sorted(self.axes) if (name := axis_name(code)) is not None]
        found += [TURN_CODES[code] for code in sorted(self.turns) if code in TURN_CODES]
        found += [FINE_TURN_CODES[code] for code in sorted(self.turns) if code in FINE_TURN_CODES]
        found += [MOTION_CODES[code] for code in sorted(self.turns) if code in MOTION_CODES]
        return list(dict.fromkeys(name.partition(".")[0] for name in found))


class Thing(Struct, frozen=True):
    """One physical thing and all its nodes. `problem` says why it cannot be read."""

    name: str
    link: str
    kind: str
    nodes: tuple[Node, ...]
    problem: str | None = None

    @property
    def controls(self) -> list[str]:
        """The controls of all its nodes."""
        return list(dict.fromkeys(control for node in self.nodes for control in node.controls))


def read_node(name: str) -> Node | None:
    """What sysfs says of the event node of that name; None if there is none (any more), or it is Fenko's own."""
    folder = SYSFS / name / "device"
    try:
        phys = _line(folder / "phys")
        if phys.startswith(OWN_PHYS):
            return None
        return Node(
            path=str(DEVICE_FOLDER / name),
            name=_line(folder / "name"),
            bus=int(_line(folder / "id/bustype"), 16),
            vendor=int(_line(folder / "id/vendor"), 16),
            product=int(_line(folder / "id/product"), 16),
            port=re.sub(r"/input\d+$", "", phys),
            serial=_line(folder / "uniq"),
            keys=_bits(folder / "capabilities/key"),
            turns=_bits(folder / "capabilities/rel"),
            axes=_bits(folder / "capabilities/abs"),
            feels=_ACCELERATES in _bits(folder / "properties"),
        )
    except (OSError, ValueError):
        return None


def _line(path: Path) -> str:
    return path.read_text(encoding="utf-8", errors="replace").strip()


def _bits(path: Path) -> frozenset[int]:
    """The numbers of the bits that are set in the kernel's words (most significant first, native word size)."""
    words = _line(path).split()
    size = 64 if os.uname().machine.endswith("64") else 32
    found = set()
    for number, word in enumerate(reversed(words)):
        value = int(word, 16)
        found |= {number * size + bit for bit in range(value.bit_length()) if value >> bit & 1}
    return frozenset(found)


def list_nodes() -> list[Node]:
    """All event nodes that could be somebody's surface, in the kernel's order."""
    names = [entry.name for entry in SYSFS.glob("event*")] if SYSFS.is_dir() else []
    nodes = (read_node(name) for name in sorted(names, key=lambda name: int(name[5:]) if name[5:].isdigit() else 0))
    return [node for node in nodes if node is not None]


def list_things() -> list[Thing]:
    """All physical things with their nodes, and what keeps this user from reading them."""
    return gather(list_nodes())


def gather(nodes: Iterable[Node]) -> list[Thing]:
    """Nodes put together to things; equal things get links that tell them apart."""
    groups: dict[tuple[int, int, int, str, str], list[Node]] = {}
    for node in nodes:
        if node.keys or node.axes or node.turns:
            groups.setdefault(node.thing, []).append(node)
    links = [group[0].link for group in groups.values()]
    things = []
    for group in groups.values():
        first = group[0]
        link = first.link
        if links.count(link) > 1:
            link += _telling_part(first, [other[0] for other in groups.values() if other[0].link == first.link])
        things.append(Thing(common_name(group), link, guess_kind(group), tuple(group), _problem(group)))
    return things


def _telling_part(node: Node, equal: list[Node]) -> str:
    """What tells one of several equal things apart: the serial if it has one of its own, else the port."""
    if node.serial and sum(other.serial == node.serial for other in equal) == 1:
        return f" serial {node.serial.replace(' ', '_')}"
    return f" port {node.port.replace(' ', '_')}" if node.port else ""


def common_name(nodes: list[Node]) -> str:
    """What a thing is called: the shortest name of its nodes."""
    shortest = min((node.name for node in nodes), key=len)
    return shortest or "a thing without a name"


def _problem(nodes: list[Node]) -> str | None:
    for node in nodes:
        if not os.path.exists(node.path):
            return f"{node.path} is missing"
        if not os.access(node.path, os.R_OK):
            return f"{node.path} may not be read by this user"
    return None


def guess_kind(nodes: list[Node]) -> str:
    """The kind of surface that a thing most likely is, by what its nodes can do."""
    keys = frozenset().union(*(node.keys for node in nodes))
    turns = frozenset().union(*(node.turns for node in nodes))
    axes = frozenset().union(*(node.axes for node in nodes))
    if keys & set(_GAMEPAD_BUTTONS):
        return "gamepad"
    first = nodes[0]
    if _REL_X in turns and _BTN_LEFT in keys and not first.keys >= _LETTERS:
        return "mouse"
    if keys >= _LETTERS:
        return "keyboard"
    if turns & TURN_CODES.keys() or axes & {code for code, axis in AXIS_CODES.items() if axis == "ring"}:
        ring = any(AXIS_CODES.get(axis) == "ring" for axis in axes)
        return "ring-and-dial" if ring else "dial" if len(keys) < 8 else "macro-pad"
    ordinary = {code for code in keys if code < 0x100}
    if ordinary and len(ordinary & _NUMBER_PAD) * 2 >= len(ordinary):
        return "keypad"
    return "macro-pad" if keys else "other"


def looks_like_surface(thing: Thing) -> bool:
    """Whether a person probably means this thing when they talk of their surfaces: no ordinary keyboard or mouse, no
    power button, no lid."""
    keys = frozenset().union(*(node.keys for node in thing.nodes))
    if thing.kind == "mouse":
        return len(keys) >= _MANY_BUTTONS
    moves = any(node.turns or node.axes for node in thing.nodes)
    return thing.kind not in ("keyboard", "other") and (moves or len(keys) > _FEW_KEYS)
