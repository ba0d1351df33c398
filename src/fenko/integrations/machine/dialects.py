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
    nothing), and, as far as it says so, in which state it is, where (mm, by axis; of the machine, or `of_work`), how far from the
    machine's origin the work's is, and how fast it goes (mm a minute)."""

    sort: str = ""
    text: str = ""
    state: str = ""
    position: Way = {}
    offset: Way = {}
    of_work: bool = False
    speed: float | None = None


class Dialect(Struct, frozen=True):
    """One way. `ask`, `cancel`, `hold`, `resume` and `reset` are bytes that go out at once, whatever else is under way. Where
    `cancel` is empty, what has been asked for cannot be taken back, and so much less of it is asked for at a time (`waiting`: how
    many lines may be unanswered)."""

    name: str
    ask: bytes
    cancel: bytes
    hold: bytes
    resume: bytes
    reset: bytes
    stop: str
    """The line that stops at once, where no byte does."""
    unlock: str
    begins: tuple[str, ...]
    """The lines before the first jog, where a mode has to be set for it."""
    jog: Callable[[Way, float], str]
    """The line for a straight way (mm) at a speed along it (mm a minute)."""
    home: Callable[[str], tuple[str, ...]]
    """The lines by which axes (all, if none is named) find where they are."""
    zero: Callable[[str], tuple[str, ...]]
    """The lines by which the place where it is becomes the origin of axes; none where the machine would then tell its places from
    there, so that nobody knew any more where they are: there Fenko keeps the origin itself."""
    settled: str
    """A line that is answered once nothing moves any more; empty where the state tells."""
    read: Callable[[str], Answer]
    waiting: int

    @property
    def real_time(self) -> bool:
        """Whether single characters are heard at once, whatever else is under way."""
        return bool(self.cancel)


_GRBL_STATE = re.compile(r"<(\w+)(?::\d)?\|(?:[^<>|]*\|)*?([MW])Pos:([-+0-9.,]+)([^<>]*)>")
_OFFSET = re.compile(r"WCO:([-+0-9.,]+)")
_SPEED = re.compile(r"\|FS?:(\d{1,7}(?:\.\d+)?)")
_PLAIN_PLACE = re.compile(r"([A-Z]):([-+]?\d+(?:\.\d+)?)")
_MOST = 1e6  # mm; what says more is no place


def _places(text: str) -> Way:
    """Places in the order in which such controllers tell all axes that they have, whether a machine uses them or not."""
    try:
        found = dict(zip("xyzabc", map(float, text.split(",")), strict=False))
    except ValueError:
        return {}
    return found if all(abs(one) < _MOST for one in found.values()) else {}


def _read_grbl(line: str) -> Answer:
    if line == "ok":
        return Answer("ok")
    if line.startswith("error:"):
        return Answer("error", line[:80])
    if line.startswith("ALARM:"):
        return Answer("alarm", line[:80], "Alarm")
    if line.startswith("Grbl"):
        return Answer("greeting", line[:80])
    found = _GRBL_STATE.fullmatch(line)
    if found is None:
        return Answer()
    more = _OFFSET.search(line)
    speed = _SPEED.search(line)
    return Answer(
        "state", "", found[1], _places(found[3]), _places(more[1]) if more is not None else {}, found[2] == "W",
        float(speed[1]) if speed is not None else None,
    )  # fmt: skip


def _read_plain(line: str) -> Answer:
    if line.startswith("ok"):
        return Answer("ok")
    if line.startswith("start"):
        return Answer("greeting", line[:80])
    if line.lower().startswith("error"):
        halted = "halted" in line.lower()
        return Answer("alarm" if halted else "error", line[:80], "Alarm" if halted else "")
    if " Count " in line:
        told = _PLAIN_PLACE.findall(line.partition(" Count ")[0])
        found = {letter.lower(): float(number) for letter, number in told if letter in "XYZABC"}
        return Answer("state", "", "", found if all(abs(one) < _MOST for one in found.values()) else {})
    return Answer()


def _axes(axes: str, number: str = "") -> str:
    return "".join(f" {axis.upper()}{number}" for axis in axes)


GRBL = Dialect(
    "grbl", ask=b"?", cancel=b"\x85", hold=b"!", resume=b"~", reset=b"\x18", stop="", unlock="$X",
    begins=(),
    jog=lambda way, speed: f"$J=G91 G21 {_words(way)} F{_number(speed)}",
    home=lambda axes: tuple(f"$H{axis.upper()}" for axis in axes) or ("$H",),
    zero=lambda axes: (f"G10 L20 P0{_axes(axes, '0')}",),
    settled="",
    read=_read_grbl,
    waiting=5,
)  # fmt: skip
# One command a line: many controllers of this sort read no more of it.
LINES = Dialect(
    "lines", ask=b"M114\n", cancel=b"", hold=b"", resume=b"", reset=b"", stop="M410", unlock="M999",
    begins=("G21", "G91"),
    jog=lambda way, speed: f"G1 {_words(way)} F{_number(speed)}",
    home=lambda axes: (f"G28{_axes(axes)}",),
    zero=lambda axes: (),
    settled="M400",
    read=_read_plain,
    waiting=4,
)  # fmt: skip
DIALECTS = {dialect.name: dialect for dialect in (GRBL, LINES)}
