"""Keys and pointer through KWin, where it lets Fenko send them (org_kde_kwin_fake_input).

The keys are those of the person's own keyboard, in the layout that is in force. A text with characters that this lacks is
pasted.
"""

from __future__ import annotations

import contextlib
import re
import time
from collections.abc import Callable, Iterable
from functools import partial
from math import inf

from fenko.core.keys import key_code
from fenko.core.words import shortened
from fenko.outputs.compositor import A_LINE, HORIZONTAL, VERTICAL, CompositorPort
from fenko.outputs.keys import BUTTONS, LOST, SHORTCUT, Typing
from fenko.outputs.layout import CONTROL_CHARACTERS, system_layout
from fenko.outputs.ledger import A_DAY, Ledger
from fenko.outputs.pasting import Clipboard
from fenko.outputs.port import Descriptor, Memory, PortError, PortLost
from fenko.outputs.xkeymap import position
from fenko.system.bus import Bus, BusError
from fenko.system.seat import told_keymap
from fenko.system.session import DisplayError
from fenko.system.wayland import Wayland
from fenko.system.xkb import KeyboardMap, NoKeymap

FAKE_INPUT = "org_kde_kwin_fake_input"
LOCKS = "org_kde_kwin_keystate"
CAPS_LOCK = 58
_CAPS_LOCK, _LOCKED = 0, 2
_QUIET = 2.0
"""Seconds after which a clipboard that was pasted from is given back."""
_LETS_READ = 1.0
"""Seconds that a program has at the end to take in what it has pasted."""
_LOOK_EVERY = 0.02
_LAYOUTS = ("org.kde.keyboard", "/Layouts", "org.kde.KeyboardLayouts")
_FIRST_BUTTON = 0x110
_CAPITALS_AT = 256 + 8
LEDGER_SIZE = _CAPITALS_AT + 1
"""A byte for each key code, one for each button, and one for a Caps Lock that is off for a text."""


class KWinPort(CompositorPort):
    """The compositor's own keyboard and pointer, as if somebody moved them."""

    name = "KWin"

    def __init__(self, warn: Callable[[str], None], line: Wayland, ledger: Memory | None = None) -> None:
        super().__init__(warn, line)
        self._ledger = Ledger(bytearray(LEDGER_SIZE) if ledger is None else ledger)
        self._batch = 1
        self._lifts = False  # there are releases in this batch
        self._bus: Bus | None = None
        self._clipboard: Clipboard | None = None
        self._group = 0
        self._capitals = False
        self._switching = 0  # texts that have it off, or of which KWin has not told yet that it is on again
        self._quiet_at = inf
        try:
            self._keymap = KeyboardMap.named(*system_layout()[:2])  # until the seat says which one is in force
            self._begin()
        except (DisplayError, NoKeymap) as why:
            self._line.close()
            raise PortError(str(why)) from why

    def _begin(self) -> None:
        seat, fake = self._line.bind("wl_seat", 5), self._line.bind(FAKE_INPUT, 4)
        if seat is None or fake is None or fake.version < 4:
            raise DisplayError(f"the compositor of {self._line.name} lets Fenko send no keys ({FAKE_INPUT} is missing)")
        self._fake = fake
        fake.tell("authenticate", "Fenko", "to press keys for surfaces")
        self._line.settle()
        seat.tell("get_keyboard").hears = {"keymap": self._mapped}
        states = self._line.bind(LOCKS, 1)
        if states is not None:
            states.hears = {"stateChanged": self._locked}
            states.tell("fetchStates")
        with contextlib.suppress(DisplayError):
            self._clipboard = Clipboard(self._line, seat)
        self._line.settle()
        try:
            self._bus = Bus()
            self._bus.match(f"type='signal',interface='{_LAYOUTS[2]}'")
            self._group = int(self._bus.call(_LAYOUTS, "getLayout")[0])
        except BusError:
            self._leave_bus()

    def _leave_bus(self) -> None:
        if self._bus is not None:
            self._bus.close()
            self._bus = None

    # --- What is heard ---

    def descriptors(self) -> Iterable[Descriptor]:
        """The compositor's, and the bus that says which layout is in force."""
        bus = [] if self._bus is None else [Descriptor(self._bus.fd, self._bus_heard)]
        return [*super().descriptors(), *bus]

    def _locked(self, key: int, state: int) -> None:
        if key == _CAPS_LOCK and not self._switching:
            self._capitals = bool(state & _LOCKED)

    def _bus_heard(self) -> None:
        if self._bus is None:
            return
        try:
            for _, member, body in self._bus.read():
                if member == "layoutChanged" and body and isinstance(body[0], int):
                    self._group = body[0]
        except BusError as why:
            raise PortLost(str(why)) from why

    def _mapped(self, form: int, fd: int, size: int) -> None:
        self._keymap = told_keymap(form, fd, size) or self._keymap

    # --- Keys ---

    def _table(self) -> dict[str, tuple[int, ...]]:
        groups = self._keymap.groups
        return groups[min(self._group, len(groups) - 1)]

    def _codes(self, key: str) -> tuple[int, ...] | None:
        if len(key) > 1:
            code = key_code(key)
            return None if code is None or code > 255 else (code,)
        codes = self._table().get(key)
        if codes is None and not SHORTCUT.isdisjoint(self._made):
            # Programs look for a shortcut where its letter is, in whichever layout that is.
            codes = next((table[key] for table in self._keymap.groups if key in table), None) or position(key)
        return codes

    def go_on(self, now: float) -> None:
        """Goes on with what waits, and gives the clipboard back when nothing has been pasted for a while."""
        super().go_on(now)
        if self._clipboard is None:
            return
        self._clipboard.go_on()
        if self.busy:
            return  # it has said when it goes on
        if self._clipboard.busy:
            self.wake(now + _LOOK_EVERY)
        elif now >= self._quiet_at:
            self._quiet_at = inf
            self._clipboard.give_back()
        elif self._quiet_at < inf:
            self.wake(self._quiet_at)

    def _heard(self) -> None:
        super()._heard()
        if self._clipboard is not None and self._clipboard.busy and not self.busy:
            self.wake(time.monotonic() + _LOOK_EVERY)

    def _writes(self, key: str) -> bool:
        pasted = len(key) == 1 and self._clipboard is not None and SHORTCUT.isdisjoint(self._made)
        return pasted or super()._writes(key)

    def _ignore_capitals(self, begins: bool) -> None:
        if begins:
            self._ledger.begin(_CAPITALS_AT)
            self._switching += 1
        for down in (1, 0):
            self._fake.tell("keyboard_key", CAPS_LOCK, down)
        if not begins:
            self._switched_back()

    def _press(self, code: int) -> None:
        self._ledger.begin(code)
        self._fake.tell("keyboard_key", code, 1)

    def _release(self, code: int) -> None:
        self._fake.tell("keyboard_key", code, 0)
        self._lifted(code)
        if code not in self._keymap.modifiers:
            self._released[code] = time.monotonic()

    def _type(self, text: str) -> Typing:
        """Types keys as they are, whatever Caps Lock would make of them."""
        capitals, switched = self._capitals, False  # nothing is held while a text is typed, so it is on
        try:
            if capitals:
                yield (CAPS_LOCK,)
                self._ledger.begin(_CAPITALS_AT)
                switched = True
                self._switching += 1
            yield from self._strokes(text)
            if capitals:
                yield (CAPS_LOCK,)
                self._switched_back()
                switched = False
        finally:
            if switched:  # it was cut off
                self._press(CAPS_LOCK)
                self._release(CAPS_LOCK)
                self._switched_back()

    def _switched_back(self) -> None:
        self._lifted(_CAPITALS_AT)
        self._line.when_done(self._heard_of_it)

    def _heard_of_it(self) -> None:
        """KWin has told of both switches; from now on what it tells is the person's."""
        self._switching -= 1

    def _strokes(self, text: str) -> Typing:
        for piece in re.findall(r"[\n\t]|[^\n\t]+", text):
            table = self._table()
            codes = [table.get(character) or CONTROL_CHARACTERS.get(character) for character in piece]
            lacking = "".join(dict.fromkeys(one for one, made in zip(piece, codes, strict=True) if made is None))
            if lacking and self._clipboard is not None:
                wrong = yield from self._clipboard.paste(piece)
                self._quiet_at = time.monotonic() + _QUIET
                self.wake(self._quiet_at)
                if wrong:
                    self._warn(
                        f'"{shortened(piece, 40)}" was to be pasted, for the layout lacks {shortened(lacking)}: {wrong}'
                    )
                continue
            if lacking:
                self._warn_once(
                    lacking, f"`{shortened(lacking)}` cannot be typed by {self.name} with the layout in force"
                )
            for made in codes:
                if made is not None:
                    yield made

    # --- Pointer ---

    def _move(self, dx: int, dy: int) -> None:
        self._fake.tell("pointer_motion", dx, dy)

    def _scroll(self, dx: float, dy: float) -> None:
        for counter, lines, axis in zip(self._scrolled, (dx, dy), (HORIZONTAL, VERTICAL), strict=True):
            whole = counter.turn(lines)
            for _ in range(abs(whole)):
                self._fake.tell("axis", axis, A_LINE if whole > 0 else -A_LINE)

    def _button(self, button: str, on: bool) -> None:
        code = BUTTONS[button]
        at = 256 + code - _FIRST_BUTTON
        if on:
            self._ledger.begin(at)
        self._fake.tell("button", code, int(on))
        if not on:
            self._lifted(at)

    def _lifted(self, at: int) -> None:
        self._ledger.end(at, self._batch)
        self._lifts = True

    def _flush(self) -> None:
        if self._lifts:
            self._lifts = False
            self._line.when_done(partial(self._ledger.done, self._batch))
            self._batch += 1
        super()._flush()

    def _let_read(self) -> None:
        """The clipboard goes with Fenko; whoever has just pasted has a moment to take it in."""
        while self._clipboard is not None and time.monotonic() < self._clipboard.pasted + _LETS_READ:
            self._clipboard.go_on()
            time.sleep(_LOOK_EVERY)

    def close(self) -> None:
        """Lifts everything."""
        with contextlib.suppress(*LOST):  # with the compositor gone nothing is down any more
            self._let_read()
            self._flush()
            self._line.settle()  # what is being lifted is up now
            lift(self._line, self._ledger.memory, self._fake.tell)
        self._leave_bus()
        self._line.close()


def lift(line: Wayland, ledger: Memory, tell: Callable[..., object]) -> None:
    """Lifts every key and button that the ledger says is down. Raises DisplayError."""
    if ledger[_CAPITALS_AT]:
        for down in (1, 0):
            tell("keyboard_key", CAPS_LOCK, down)
    for at in range(_CAPITALS_AT):
        if ledger[at] and at < 256:
            tell("keyboard_key", at, 0)
        elif ledger[at]:
            tell("button", _FIRST_BUTTON + at - 256, 0)
    line.settle()
    for at in range(LEDGER_SIZE):
        ledger[at] = 0


def end(memory: Memory) -> None:
    """Lifts what a killed process left down."""
    line = Wayland(patience=A_DAY)
    fake = line.bind(FAKE_INPUT, 4)
    if fake is not None:
        fake.tell("authenticate", "Fenko", "to lift the keys that it left down")
        lift(line, memory, fake.tell)
    line.close()
