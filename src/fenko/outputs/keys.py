"""What every port of keys and pointer shares: it counts key codes, so that a Shift that two keys need stays down; keeps a
key up for a moment before it goes down again; and types texts piece by piece without ever waiting."""

from __future__ import annotations

import contextlib
import time
from abc import abstractmethod
from collections import deque
from collections.abc import Callable, Generator, Sequence
from math import trunc

from fenko.core.changes import Effect
from fenko.core.controls import BUTTON_CODES
from fenko.core.keys import format_key
from fenko.outputs.port import Port, PortLost
from fenko.system.kernel import EVENT, REL
from fenko.system.session import DisplayError

GAP = 0.002
"""Seconds from a key's release to its next press, at least. Programs that are told of both in the same millisecond take it
for the keyboard's own repeating (X11's time stamps are whole milliseconds)."""

SHORTCUT = frozenset({"ctrl", "alt", "super", "rightctrl", "rightsuper"})
"""Modifiers with which a letter is a shortcut, and no text."""

BUTTONS = {name: code for code, name in BUTTON_CODES.items() if 0x110 <= code <= 0x117}
"""The kernel's codes of pointer buttons, by what a phrase calls them."""

LAST_OF_16_BITS = "\uffff"
"""Characters beyond this one are always typed as a text, for some programs take them in halves (see `in_halves`)."""

_MOST = 1000
"""Effects that wait for an end that is stuck."""

Typing = Generator[tuple[int, ...] | float, None, None]
"""A text on its way: the codes of one stroke after the other, modifiers first, or seconds to wait before the next. It may be closed
before its end."""


class KeyPort(Port):
    """Sends keys and pointer moves somewhere. `warn` is told, once each, of keys that cannot be made there.

    What cannot be sent yet waits in a queue, and everything behind it with it."""

    name = "none"
    outs = frozenset(("keys", "pointer"))

    def __init__(self, warn: Callable[[str], None]) -> None:
        self._warn = warn
        self._warned: set[str] = set()
        self._down: dict[int, int] = {}
        self._made: dict[str, tuple[int, ...]] = {}
        self._rest = [0.0, 0.0]  # parts of pixels that have not been moved yet
        self._known: dict[str, tuple[int, ...]] = {}  # what `_codes` will say again, where that is certain
        self._released: dict[int, float] = {}
        self._queue: deque[Effect] = deque()
        self._typing: Typing | None = None
        self._stuck = False  # the other end takes nothing more for now
        self._forgotten: set[tuple[str, str]] = set()
        self._stroke: tuple[int, ...] | None = None
        self._capitals = False  # Caps Lock is on, or may be
        self._plain: set[int] = set()  # codes of letters that are down, of which it makes nothing else

    @property
    def busy(self) -> bool:
        """Whether something waits to be sent."""
        return bool(self._queue) or self._typing is not None

    def send(self, effects: Sequence[Effect]) -> None:
        """Sends effects in order; those of other outs are left alone."""
        try:
            if self._queue or self._typing is not None or self._stuck:
                self._keep(effects)
                return
            # This is on the way of every event, so keys are counted here and not in functions of their own.
            down, made = self._down, self._made
            for number, effect in enumerate(effects):
                out, act = effect[1], effect[2]
                if out != "keys":
                    if out == "pointer":
                        self._point(effect)
                elif act == "down":
                    key = effect[3]
                    codes = self._known.get(key) or (None if key > LAST_OF_16_BITS else self._codes(key))
                    if codes is None and self._writes(key):
                        self._typing = self._typed(key)
                        self._queue.extend(effects[number + 1 :])
                        self._go_on()
                        return
                    if codes is None:
                        self._warn_once(key, f"the key `{format_key(key)}` cannot be made by {self.name}")
                        continue
                    if codes[-1] in self._released and not down.get(codes[-1]) and (wait := self._early(codes[-1])):
                        self._queue.extend(effects[number:])
                        self._flush()
                        self.wake(time.monotonic() + wait)
                        return
                    made[key] = codes
                    if self._capitals and is_letter(key) and not down.get(codes[-1]):
                        self._make_plain(codes[-1])
                    for code in codes:
                        count = down.get(code, 0)
                        down[code] = count + 1
                        if not count:
                            self._press(code)
                elif act == "up":
                    # What comes up is what went down, even if the layout has changed in between.
                    for code in reversed(made.pop(effect[3], ())):
                        count = down.pop(code)
                        if count > 1:
                            down[code] = count - 1
                        else:
                            self._release(code)
                            if code in self._plain:
                                self._end_plain(code)
                else:
                    self._typing = self._typed(effect[3])
                    self._queue.extend(effects[number + 1 :])
                    self._go_on()
                    return
            self._flush()
        except LOST as why:
            raise PortLost(_gone(why)) from why

    def _keep(self, effects: Sequence[Effect]) -> None:
        """Has effects wait. Of what an end that is stuck does not take, moves add up, and presses are forgotten in the end."""
        for effect in effects:
            if self._queue and _moves(effect) and _moves(last := self._queue[-1]):
                self._queue[-1] = (*effect[:3], last[3] + effect[3], last[4] + effect[4])
            elif effect[2] == "up" and (effect[1], effect[3]) in self._forgotten:
                self._forgotten.remove((effect[1], effect[3]))
            elif self._stuck and len(self._queue) >= _MOST and effect[2] != "up":
                if effect[2] == "down":
                    self._forgotten.add((effect[1], effect[3]))
                self._warn_once("", f"{self.name} takes no more keys; what is pressed is lost until it does")
            else:
                self._queue.append(effect)

    def go_on(self, now: float) -> None:
        """Goes on with what waits."""
        try:
            self._go_on()
        except LOST as why:
            raise PortLost(_gone(why)) from why

    def _go_on(self) -> None:
        wait = self._type_on()
        if wait is not None:
            self._flush()
            self.wake(time.monotonic() + wait)
            return
        waiting, self._queue = tuple(self._queue), deque()
        self.send(waiting)

    def _type_on(self) -> float | None:
        """Types as far as that goes now; returns how long to wait before more, None at the end."""
        while self._typing is not None:
            if self._stroke is None:
                what = next(self._typing, None)
                if what is None:
                    self._typing = None
                    break
                if isinstance(what, float):
                    return what
                self._stroke = what
            if self._stroke[-1] in self._released and (wait := self._early(self._stroke[-1])):
                return wait
            codes, self._stroke = self._stroke, None
            for code in codes:
                self._press(code)
            for code in reversed(codes):
                self._release(code)
        return None

    def _typed(self, text: str) -> Typing:
        """Types a text as if nothing were held; what Fenko holds is held again afterwards."""
        held, plain = list(self._down), frozenset(self._plain)
        for code in reversed(held):
            self._release(code)
            if code in self._plain:
                self._end_plain(code)
        yield from self._type(text)
        for code in held:
            if code in self._released and (wait := self._early(code)):
                yield wait
            if code in plain:
                self._make_plain(code)
            self._press(code)

    # --- Caps Lock ---

    def _make_plain(self, code: int) -> None:
        """A letter is about to go down: it means the same whatever Caps Lock says, as long as it is held."""
        if not self._plain:
            self._ignore_capitals(True)
        self._plain.add(code)

    def _end_plain(self, code: int) -> None:
        self._plain.discard(code)
        if not self._plain:
            self._ignore_capitals(False)

    def _ignore_capitals(self, begins: bool) -> None:
        """From now on, until it is called with False, Caps Lock makes no difference to what is sent."""

    def _early(self, code: int) -> float:
        """How long this key has to stay up before it may go down again, in seconds."""
        wait = self._released[code] + GAP - time.monotonic()
        if wait > 0:
            return wait
        del self._released[code]
        return 0.0

    def give_up(self) -> str | None:
        """Forgets what waits to be sent, and lets go of nothing; says what is lost, if a text is cut off."""
        typing, self._typing, self._stroke = self._typing, None, None
        self._queue.clear()
        if typing is None:
            return None
        with contextlib.suppress(*LOST):
            typing.close()  # which puts right what was changed for the text
            self._flush()
        return "a text was cut off before its end"

    def _point(self, effect: Effect) -> None:
        match effect[2]:
            case "move":
                for axis, pixels in enumerate(effect[3:5]):
                    self._rest[axis] += pixels
                across, down = map(trunc, self._rest)
                self._rest = [self._rest[0] - across, self._rest[1] - down]
                if across or down:
                    self._move(across, down)
            case "scroll":
                self._scroll(effect[3], effect[4])
            case act:
                self._button(effect[3], act == "down")

    def _warn_once(self, what: str, message: str) -> None:
        if what not in self._warned:
            self._warned.add(what)
            self._warn(message)

    def pass_motion(self, raw: bytes) -> None:
        """Hands on a mouse's moves: raw kernel events, moves and ends of reports and nothing else."""
        try:
            self._pass_motion(raw)
        except LOST as why:
            raise PortLost(_gone(why)) from why

    def _pass_motion(self, raw: bytes) -> None:
        moved = [0, 0]
        for _, _, kind, code, value in EVENT.iter_unpack(raw):
            if kind == REL:
                moved[code] += value
        if self._stuck:
            self._keep([(0.0, "pointer", "move", *moved)])
            return
        self._move(*moved)
        self._flush()

    @abstractmethod
    def _codes(self, key: str) -> tuple[int, ...] | None:
        """The codes that make a key, modifiers first; None if it cannot be made."""

    def _writes(self, key: str) -> bool:
        """Whether a key that cannot be made is a character that is typed as a text instead."""
        return key > LAST_OF_16_BITS

    @abstractmethod
    def _press(self, code: int) -> None: ...

    @abstractmethod
    def _release(self, code: int) -> None:
        """Lifts a key; one that may be pressed too early afterwards is noted in `_released`."""

    @abstractmethod
    def _type(self, text: str) -> Typing:
        """Types a text."""

    @abstractmethod
    def _move(self, dx: int, dy: int) -> None: ...

    @abstractmethod
    def _scroll(self, dx: float, dy: float) -> None: ...

    @abstractmethod
    def _button(self, button: str, on: bool) -> None: ...

    @abstractmethod
    def _flush(self) -> None:
        """Everything said so far leaves now."""


def is_letter(key: str) -> bool:
    """Whether Caps Lock makes another key of this one: a letter, or the key where one is."""
    character = key[1:] if key[:1] == "@" else key
    return len(character) == 1 and character.lower() != character.upper()


def in_halves(text: str) -> str:
    """The text with two halves, as UTF-16 has them, for each character beyond 16 bits."""
    raw = text.encode("utf-16-be")
    return "".join(chr(raw[at] << 8 | raw[at + 1]) for at in range(0, len(raw), 2))


def of_halves(text: str) -> str:
    """A text that may have halves in it, as it can be printed."""
    return text.encode("utf-16-be", "surrogatepass").decode("utf-16-be", "replace")


def _moves(effect: Effect) -> bool:
    return effect[1:3] == ("pointer", "move")


LOST = (OSError, DisplayError)
"""What it looks like when the kernel's device, or the display, is gone."""


def _gone(why: Exception) -> str:
    return str(why.strerror or why) if isinstance(why, OSError) else str(why)
