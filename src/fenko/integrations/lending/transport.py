"""A surface of another computer, taken through a broker: what hands do there arrives here, what it is told goes back."""

from __future__ import annotations

import contextlib
import secrets
import time
from collections import deque
from collections.abc import Callable, Mapping
from math import inf
from typing import Any

import msgspec

from fenko.core.flow import Sent
from fenko.integrations.lending.protocol import Offer, Taking, lent_at, read_offer
from fenko.integrations.mqtt.line import MqttLine
from fenko.workers.transport import Way
from fenko.workers.worker import Away

ASKED_EVERY = 2.0
"""Seconds from one time that a surface which is offered is asked for to the next, until it comes."""
_MOST_WAITING = 4000
_MOST_AT_ONCE = 256  # messages, before what came of them is told
_SAYS_LATE_EVERY = 10.0  # s


class LentWay(Way):
    """`mqtt TOPIC`, at the first broker of the desk, or `mqtt TOPIC at NAME`."""

    def __init__(
        self, link: str, entry: Mapping[str, Any], wake: Callable[[], None], note: Callable[[str], None]
    ) -> None:
        super().__init__(link, entry, wake, note)
        brokers: Mapping[str, Any] = entry["mqtt brokers"]
        self._topic, self._broker = lent_at(link.partition(" ")[2], brokers)
        self._at: Mapping[str, Any] = brokers.get(self._broker) or {}
        self.me = str(self._at.get("user") or "anyone")
        self._latest = float(entry["latest"])
        self._line: MqttLine | None = None
        self._came: deque[tuple[float, str, bytes]] = deque(maxlen=_MOST_WAITING)
        self._offer: Offer | None = None
        self._taking: Taking | None = None
        self._ask_at = inf
        self._late = 0
        self._says_late_at = 0.0

    def open(self) -> None:
        """Reaches the broker, and listens to what is offered."""
        if not self._at:
            raise Away(f"{self.link}: the desk has no broker `{self._broker}`")
        will = (f"{self._topic}/by/{self.me}", msgspec.json.encode({"leave": True}), False)
        self._line = MqttLine(self._broker, self._at, self.entry["folder"], self.wake, will, self._hear)
        self._line.subscribe(f"{self._topic}/offer", f"{self._topic}/for/{self.me}")

    def _hear(self, topic: str, payload: bytes) -> None:
        self._came.append((time.monotonic(), topic, payload))

    def hear(self, now: float) -> list[Sent]:
        """What has arrived. Raises Away when the broker is gone."""
        line = self._line
        if line is None or line.gone:
            raise Away(f"`{self._broker}` is gone")
        found: list[Sent] = []
        for _ in range(min(len(self._came), _MOST_AT_ONCE)):
            t, topic, payload = self._came[0]
            try:
                data = msgspec.json.decode(payload) if payload else None
            except (msgspec.DecodeError, UnicodeDecodeError, RecursionError):
                data = None
            if topic.endswith("/offer"):
                if self._offered(now, read_offer(data)):
                    self._came.popleft()
                    break
            elif self._taking is not None:
                changes = self._taking.feed(t, data)
                if changes is None:
                    self._answered(data)
                elif self.what is None:
                    self._is_here()
                    break  # and this packet again, when that has been told
                else:
                    found += changes
                    self._say({"ack": self._taking.next, "late": self._taking.too_late})
            self._came.popleft()
        self._look_after(now)
        taking = self._taking
        self.until = taking.until if taking is not None and self.what is not None else None
        self.due = min(self._ask_at, taking.due if taking is not None else inf, now if self._came else inf)
        return found

    def _offered(self, now: float, offer: Offer | None) -> bool:
        """Somebody offers it, or not any more; True if it was here and is not any more."""
        was_here = self.what is not None
        if offer is not None and self._offer == offer and was_here:
            return False
        self._offer, self.what, self._taking = offer, None, None
        self._ask_at = now if offer is not None else inf
        return was_here

    def _is_here(self) -> None:
        assert self._taking is not None
        offer = self._taking.offer
        sorts = {name: {"sort": sort} for name, sort in offer.sorts.items()}
        self.turning = self._taking.turning
        self.what = {"title": offer.title, "kind": offer.kind, "controls": sorts}
        self._ask_at = inf
        self._taking.begin_again()

    def _answered(self, data: Any) -> None:
        if isinstance(data, dict) and self._taking is not None and data.get("session") == self._taking.session:
            refused = data.get("refused")
            if isinstance(refused, str):
                self.note(f"{self.link}: {''.join(one for one in refused[:100] if one.isprintable())}")

    def _look_after(self, now: float) -> None:
        """Asks for it; and takes it for gone when it says nothing any more though something is held."""
        taking = self._taking
        if taking is not None and self.what is not None and now >= taking.due:
            self.note(f"{self.link}: it says nothing any more")
            self.what, self._taking = None, None
            self._ask_at = now
        if self._offer is not None and now >= self._ask_at:
            self._taking = Taking(self._offer, secrets.token_hex(8), self._latest)
            self._say({"take": True})
            self._ask_at = now + ASKED_EVERY
        late = taking.too_late if taking is not None else 0
        if late > self._late:
            self.left_out += late - self._late
            if now >= self._says_late_at:
                self._says_late_at = now + _SAYS_LATE_EVERY
                self.note(
                    f"{self.link}: presses arrive later than `network.latest` allows; {self.left_out} left out so far"
                )
        self._late = late

    def _say(self, what: dict[str, Any], sure: bool = False) -> None:
        if self._line is not None and self._taking is not None:
            data = msgspec.json.encode({"session": self._taking.session} | what)
            self._line.publish(f"{self._topic}/by/{self.me}", data, sure=sure or "take" in what)

    def do(self, act: str, values: tuple[Any, ...]) -> None:
        """Tells it there."""
        self._say({"do": [act, *values]}, sure=True)

    def dark(self) -> None:
        """Everything ends there."""
        if self.what is not None:
            with contextlib.suppress(Away):
                self._say({"do": ["rest"]}, sure=True)

    def close(self) -> None:
        """Gives it back."""
        self.dark()
        line, self._line = self._line, None
        if line is not None:
            with contextlib.suppress(Away):
                if self._taking is not None:
                    line.publish(f"{self._topic}/by/{self.me}", msgspec.json.encode({"leave": True}), sure=True)
            line.close()
        self._offer = self._taking = self.what = self.until = None
        self._came.clear()
        self.due = self._ask_at = inf
