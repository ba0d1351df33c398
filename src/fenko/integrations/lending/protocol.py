"""A surface that is used on another computer: what its changes look like on the way, and how they arrive whole, in the order of the
hand, at the times of the hand, whatever the line does.

The lender numbers every change and tells all that it does not know to have arrived, again and again; so a packet that is lost, late
or out of order costs time and nothing else. Each packet says until when nothing else has happened. The clocks of two computers
have nothing to do with one another: how far they are apart is taken from the fastest packet of late.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Collection, Mapping
from math import inf, isfinite
from typing import Any

from msgspec import Struct

from fenko.core.axes import Detents
from fenko.core.controls import FADER, PLAIN_SORTS, SORTS, inputs_of, turning
from fenko.core.flow import LIVELY, Sent, off_rest
from fenko.core.inputs import Raw
from fenko.core.reader import NAME

VERSION = 1
MOST_IN_PACKET = 64
"""Changes; of what is more only how it stands is told."""
AGAIN_FIRST, AGAIN_LAST = 0.03, 0.25
"""Seconds after which what has not arrived is told again: at first, and, doubled each time, at last."""
BEAT, SLOW_BEAT = 0.02, 0.25
"""Seconds between two packets while a hand is at it: shortly after a change, and later, as long as anything is held."""
GRACE = 1.0
"""Seconds from the first packet in which nothing is too late."""
GONE = 1.0
"""Seconds without a packet after which a surface with anything held on it is taken for gone."""
_REMEMBERED = 60.0  # s, of how fast packets were
_MOST_NUMBER = 1 << 33
_MOST_CONTROLS = 400


class Lending:
    """The lender's end, of one surface: what is to be told, and when."""

    def __init__(self, session: str) -> None:
        self.session = session
        self._first = 0
        self._untold: deque[tuple[float, str, Any]] = deque()
        self._stands: dict[str, Any] = {}
        self._before: dict[str, Any] = {}
        self._changed = -inf
        self._again = AGAIN_FIRST
        self.due = inf
        """When to send a packet."""

    def put(self, now: float, changes: list[Sent], turning: frozenset[str] = frozenset()) -> None:
        """These have happened; `turning` are the controls that say how far they were turned."""
        for t, control, value in changes:
            self._untold.append((t, control, value))
            if control not in turning:
                self._note(self._stands, control, value)
            if len(self._untold) > MOST_IN_PACKET:
                _, gone, was = self._untold.popleft()
                self._first += 1
                if gone not in turning:
                    self._note(self._before, gone, was)
        if changes:
            self._changed = now
            self._again = AGAIN_FIRST
            self.due = now

    @staticmethod
    def _note(stands: dict[str, Any], control: str, value: Any) -> None:
        if off_rest(value):
            stands[control] = value
        else:
            stands.pop(control, None)

    def arrived(self, upto: int) -> None:
        """The changes before that number have."""
        while self._untold and self._first < upto:
            _, control, value = self._untold.popleft()
            self._first += 1
            self._note(self._before, control, value)
        if not self._untold:
            self._again = AGAIN_FIRST

    @property
    def waits(self) -> bool:
        """Whether something has not arrived, as far as is known, or hands are at it."""
        return bool(self._untold or self._stands)

    def packet(self, now: float) -> dict[str, Any]:
        """What is told now."""
        if self._untold:
            self.due = now + min(self._again, BEAT if now < self._changed + LIVELY else inf)
            self._again = min(AGAIN_LAST, self._again * 2)
        elif now < self._changed + LIVELY:
            self.due = now + BEAT
        else:
            self.due = now + SLOW_BEAT if self._stands else inf
        return {
            "session": self.session, "at": round(now, 6), "first": self._first,
            "changes": [[round(t, 6), control, *_plain(value)] for t, control, value in self._untold],
            "before": {control: _plain(value) for control, value in self._before.items()},
        }  # fmt: skip

    def release_all(self, now: float) -> list[Sent]:
        """Whatever is off its rest comes to rest: the surface is gone here."""
        found = [(now, control, _rest(value)) for control, value in self._stands.items()]
        self.put(now, found)
        return found


def _plain(value: Any) -> list[Any]:
    return list(value) if isinstance(value, Raw) else [value]


def _rest(value: Any) -> Any:
    return Raw(min(max(0, value.least), value.most), value.least, value.most) if isinstance(value, Raw) else 0


class Offer(Struct, frozen=True):
    """A surface that somebody lends: which run of theirs, what it is, and its controls with their sorts."""

    session: str
    title: str
    kind: str
    sorts: dict[str, str]

    def as_data(self) -> dict[str, Any]:
        """The same as plain data."""
        return {
            "fenko": VERSION,
            "session": self.session,
            "title": self.title,
            "kind": self.kind,
            "controls": self.sorts,
        }


def read_offer(data: Any) -> Offer | None:
    """What somebody offers; None where that is nothing that can be taken."""
    if not isinstance(data, dict) or not isinstance(data.get("fenko"), int) or data["fenko"] < 1:
        return None
    texts = [data.get(key) for key in ("session", "title", "kind")]
    sorts = data.get("controls")
    if not all(isinstance(text, str) and len(text) <= 100 for text in texts) or not isinstance(sorts, dict):
        return None
    good = {
        name: sort for name, sort in sorts.items()
        if isinstance(name, str) and NAME.fullmatch(name) and isinstance(sort, str) and sort in SORTS
    }  # fmt: skip
    if len(good) > _MOST_CONTROLS:
        return None
    session, title, kind = map(str, texts)
    return Offer(session, "".join(one for one in title if one.isprintable()), kind, good)


class Taking:
    """The taker's end, of one `session`. `latest` is how old a press may be when it arrives (seconds)."""

    def __init__(self, offer: Offer, session: str, latest: float) -> None:
        self.offer = offer
        self.session = session
        self.next = 0
        """The number of the next change; all before have arrived."""
        self.until = -inf
        """Until when all that happened is known, by the clock here."""
        self.too_late = 0
        """Changes that were too old when they arrived."""
        self._latest = latest
        self._began = inf
        self._heard = -inf
        self._fastest: deque[tuple[float, float]] = deque()
        self._stands: dict[str, Any] = {}
        self._skipped: set[str] = set()
        self._last = -inf
        self._shapes = {control: SORTS[sort] for control, sort in offer.sorts.items()}
        self._inputs = {one: shape for control, shape in self._shapes.items() for one in inputs_of(control, shape)}

    @property
    def turning(self) -> frozenset[str]:
        """The controls that say how far they were turned."""
        return turning(self.offer.sorts)

    def begin_again(self) -> None:
        """What has arrived so far was told to nobody, and is told when the same packet comes again."""
        self.next = 0
        self._stands.clear()
        self._skipped.clear()

    @property
    def due(self) -> float:
        """When it is gone, if nothing comes; inf while nothing is held."""
        held = any(self._inputs[control] is not FADER for control in self._stands)
        return self._heard + GONE if held else inf

    def feed(self, now: float, packet: Any) -> list[Sent] | None:
        """The changes that a packet brings, at times of this clock; None if it is no packet of this surface."""
        read = self._read(packet)
        if read is None:
            return None
        at, first, changes, before = read
        self._heard = now
        self._began = min(self._began, now)
        offset = self._offset(now, now - at)
        found: list[Sent] = []
        if first > self.next:
            # Something is lost for good: what was let go meanwhile is let go.
            for control in [control for control in self._stands if control not in before]:
                found.append(self._told(at + offset, control, _rest(self._stands[control])))
            for control, value in before.items():
                if control in self._stands or self._inputs[control] is FADER:
                    found.append(self._told(at + offset, control, value))
                else:
                    self._skipped.add(control)
            self.next = first
        for t, control, value in changes[self.next - first :]:
            here = min(at, t) + offset
            if (sent := self._accepted(now, here, control, value)) is not None:
                found.append(sent)
        self.next = max(self.next, first + len(changes))
        self.until = max(self.until, at + offset)
        return found

    def _accepted(self, now: float, t: float, control: str, value: Any) -> Sent | None:
        """A change, unless it begins something that is too old by now."""
        shape = self._inputs[control]
        begins = bool(shape.turns) or (off_rest(value) and control not in self._stands and shape is not FADER)
        if not off_rest(value):
            self._skipped.discard(control)
        # In its first moments a connection is slow, and how far the clocks are apart is not known well yet.
        late = now - t > self._latest and now > self._began + GRACE
        if begins and (late or control in self._skipped):
            self.too_late += 1
            if not shape.turns:
                self._skipped.add(control)
            return None
        if shape.turns:
            return self._told(t, control, value, stands=False)
        if not off_rest(value) and control not in self._stands and shape is not FADER:
            return None
        return self._told(t, control, value)

    def _told(self, t: float, control: str, value: Any, stands: bool = True) -> Sent:
        self._last = t = max(t, self._last)
        if stands:
            Lending._note(self._stands, control, value)
        return (t, control, value)

    def _offset(self, now: float, offset: float) -> float:
        """How far this clock is before the other one, by the fastest packet of late."""
        fastest = self._fastest
        while fastest and fastest[-1][1] >= offset:
            fastest.pop()
        fastest.append((now, offset))
        while fastest[0][0] < now - _REMEMBERED:
            fastest.popleft()
        return fastest[0][1]

    def _read(self, packet: Any) -> tuple[float, int, list[Sent], dict[str, Any]] | None:
        if not isinstance(packet, dict) or packet.get("session") != self.session:
            return None
        at: Any = packet.get("at")
        first: Any = packet.get("first")
        changes, before = packet.get("changes"), packet.get("before")
        if not _is_time(at) or not _is_time(first) or not isinstance(first, int) or not 0 <= first < _MOST_NUMBER:
            return None
        if not isinstance(changes, list) or not isinstance(before, dict) or len(changes) > MOST_IN_PACKET:
            return None
        read: list[Sent] = []
        for change in changes:
            if (
                not isinstance(change, list)
                or len(change) < 3
                or not _is_time(change[0])
                or not isinstance(change[1], str)
            ):
                return None
            value = self._value(change[1], change[2:])
            if value is None:
                return None
            read.append((float(change[0]), change[1], value))
        stood = {control: self._value(control, value) for control, value in before.items() if isinstance(value, list)}
        if len(stood) < len(before) or None in stood.values():
            return None
        return float(at), first, read, stood

    def _value(self, control: str, numbers: list[Any]) -> Any:
        """What a control says; None where it can say no such thing."""
        shape = self._inputs.get(control)
        if shape is None or not all(_is_time(one) and abs(one) < _MOST_NUMBER for one in numbers):
            return None
        if shape.turns:
            return numbers[0] if len(numbers) == 1 and abs(numbers[0]) <= Detents.MOST_AT_ONCE else None
        if len(numbers) == 3 and all(isinstance(one, int) for one in numbers) and shape.axes:
            return Raw(*numbers) if numbers[1] <= numbers[0] <= numbers[2] and numbers[1] < numbers[2] else None
        return numbers[0] if numbers in ([0], [1]) else None


def _is_time(value: Any) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool) and isfinite(value) and abs(value) < 1e12


def lent_at(rest: str, brokers: Collection[str]) -> tuple[str, str]:
    """The topic of `TOPIC [at NAME]`, and its broker: the first one where none is named, empty where there is none."""
    topic, _, broker = rest.partition(" at ")
    return topic, broker or next(iter(brokers), "")


def sorts_of(controls: Mapping[str, str]) -> dict[str, str]:
    """Only those controls that can be lent."""
    return {name: sort for name, sort in controls.items() if sort in PLAIN_SORTS}
