"""How controllers are talked to: a table for each way, of what is said and how the answers read."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping

from msgspec import Struct

Way = Mapping[str, float]


def _number(value: float) -> str:
    return f"{value:.4f}".rstrip("0").rstrip(".") or "0"


def _words(way: Way) -> str:
    return " ".join(f"{axis.upper()}{_number(far)}" for axis, far in way.items() if far)


class Answer(Struct, frozen=True):
    """One line that a controller has said: what sort it is (`ok`, `error`, `alarm`, `greeting`, `state`, or empty for what means
    nothing), in which state it is and where, as far as it says so."""

    sort: str = ""
    text: str = ""
    state: str = ""
    position: tuple[float, ...] = ()


class Dialect(Struct, frozen=True):
    """One way. `ask` and `cancel` are bytes that go out at once; where `cancel` is empty, what has been
    asked for cannot be taken back, and so much less of it is asked for at a time (`waiting`: how many lines may be unanswered)."""

    name: str
    ask: bytes
    cancel: bytes
    unlock: str
    jog: Callable[[Way, float], tuple[str, ...]]
    """The lines for a straight way (mm) at a speed along it (mm a minute)."""
    read: Callable[[str], Answer]
    waiting: int

    @property
    def real_time(self) -> bool:
        """Whether single characters are heard at once, whatever else is under way."""
        return bool(self.cancel)


_GRBL_STATE = re.compile(r"<(\w+)(?::\d)?\|(?:[^<>|]*\|)*?([MW])Pos:([-+0-9.,]+)([^<>]*)>")
_OFFSET = re.compile(r"WCO:([-+0-9.,]+)")
_PLAIN_PLACE = re.compile(r"([A-Z]):([-+]?\d+(?:\.\d+)?)")
_MOST = 1e6  # mm; what says more is no place


def _places(text: str) -> tuple[float, ...]:
    try:
        found = tuple(float(one) for one in text.split(","))
    except ValueError:
        return ()
    return found if all(abs(one) < _MOST for one in found) else ()


def _read_grbl(line: str) -> Answer:
    if line == "ok":
        return Answer("ok")
    if line.startswith("error:"):
        return Answer("error", line[:80])
    if line.startswith("ALARM:"):
        return Answer("alarm", line[:80], "Alarm")
    if line.startswith("Grbl "):
        return Answer("greeting", line[:80])
    found = _GRBL_STATE.fullmatch(line)
    if found is None:
        return Answer()
    places = _places(found[3])
    if found[2] == "W":
        offset = _OFFSET.search(line)
        if offset is None:
            return Answer("state", "", found[1])
        offsets = _places(offset[1])
        places = tuple(a + b for a, b in zip(places, offsets, strict=True)) if len(offsets) == len(places) else ()
    return Answer("state", "", found[1], places)


def _read_plain(line: str) -> Answer:
    if line.startswith("ok"):
        return Answer("ok")
    if line.startswith("start"):
        return Answer("greeting", line[:80])
    if line.lower().startswith("error"):
        halted = "halted" in line.lower()
        return Answer("alarm" if halted else "error", line[:80], "Alarm" if halted else "")
    if " Count " in line:
        places = [(letter, float(number)) for letter, number in _PLAIN_PLACE.findall(line.partition(" Count ")[0])]
        found = tuple(number for letter, number in places if letter != "E")
        return Answer("state", "", "", found if all(abs(one) < _MOST for one in found) else ())
    return Answer()


GRBL = Dialect(
    "grbl", b"?", b"\x85", "$X",
    jog=lambda way, speed: (f"$J=G91 G21 {_words(way)} F{_number(speed)}",),
    read=_read_grbl,
    waiting=5,
)  # fmt: skip
LINES = Dialect(
    "lines", b"M114\n", b"", "M999",
    jog=lambda way, speed: (f"G91 G21 G1 {_words(way)} F{_number(speed)}",),
    read=_read_plain,
    waiting=4,
)  # fmt: skip
DIALECTS = {dialect.name: dialect for dialect in (GRBL, LINES)}
