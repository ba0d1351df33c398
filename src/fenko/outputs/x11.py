"""Keys and pointer through the X server (XTEST extension).

The key for a symbol is looked up in the layout that is in force at that moment. A symbol that the layout does not have
is put on one of the key codes that the layout leaves free, so any text can be typed.

What is down is noted in a *ledger* before the server hears of it. If this process is killed, or has to leave a server that hangs,
the guard (see `fenko.live.guard`) reads the ledger and lifts it all.
"""

from __future__ import annotations

import contextlib
import select
import time
from collections.abc import Callable, Generator, Iterable, Iterator
from math import inf
from typing import Any

from fenko.core.axes import Detents
from fenko.core.keys import MODIFIERS, key_code
from fenko.core.words import shortened
from fenko.outputs.keys import GAP, LAST_OF_16_BITS, LOST, SHORTCUT, KeyPort, Typing, in_halves, of_halves
from fenko.outputs.layout import CONTROL_CHARACTERS
from fenko.outputs.ledger import A_DAY, Ledger
from fenko.outputs.port import Descriptor, Memory, PortError, PortLost, Settings
from fenko.outputs.reading import LAST_PATIENCE, LOOK_EVERY, PATIENCE, Read, Reader
from fenko.outputs.xkeymap import Keymap, Lending, Slot
from fenko.outputs.xprogress import Progress
from fenko.system import xkb
from fenko.system.session import DisplayError, display_name
from fenko.system.xkb import X_KEYCODE_OFFSET
from fenko.system.xserver import Display, NoWindow, open_display
from fenko.system.xwindows import takes_halves

_KEY_PRESS, _KEY_RELEASE, _BUTTON_PRESS, _BUTTON_RELEASE, _MOTION = 2, 3, 4, 5, 6
_RELATIVE = 1
_SLAVE_KEYBOARD = 4
_STATE = 2  # of the kinds of events of the keyboard extension
_BUTTONS = {"left": 1, "middle": 2, "right": 3, "side": 8, "extra": 9, "back": 8, "forward": 9, "task": 10}
_SCROLL_UP, _SCROLL_DOWN, _SCROLL_LEFT, _SCROLL_RIGHT = 4, 5, 6, 7
_CAPS_LOCK_MASK = 2
_CORE_KEYBOARD = 0x100
_STATE_NOTIFY, _GROUP_CHANGED, _LOCK_CHANGED = 1 << 2, 1 << 4, 1 << 3
_DELAY = round(GAP * 1000)
_AT_ONCE = 50
"""Strokes of a text that are sent at once; the next ones when the server has dealt with them."""
_AHEAD = 500
"""Characters of a text for which keys are lent at once, as far as there are any."""
_SHIFTING = 0b11101101
"""Modifiers with which a character is another one, or a shortcut: all but Caps Lock and Num Lock,"""
_SHIFTING_ROWS = (0, 2, 3, 5, 6, 7)
"""and their rows in the modifier mapping."""
_HANDS_LET_GO = 3.0
"""Seconds in which a hand lets go of a modifier, before a text."""
_QUIET = 2.0
"""Seconds without a lent character after which what was lent is given back."""
_LETTING_GO = 0.150
"""Seconds that programs get at the end to notice what was typed with a lent key code before it is taken back."""
_MODIFIER_CODES = frozenset(code for key in MODIFIERS if (code := key_code(key)) is not None)

BUTTONS_AT = 256
"""Where the ledger's bytes for pointer buttons begin; those for key codes stand before."""
LENT_AT = 288
"""Where its bytes for key codes that were lent to other symbols begin."""
CAPITALS_AT = LENT_AT + 256
"""Where it says whether Caps Lock is off for a text."""
LEDGER_SIZE = CAPITALS_AT + 1


class X11Port(KeyPort):
    """The X server's own keyboard and pointer, moved by XTEST."""

    name = "the X server"
    returns = True

    def __init__(self, warn: Callable[[str], None], ledger: Memory | None = None) -> None:
        super().__init__(warn)
        self._ledger = Ledger(bytearray(LEDGER_SIZE) if ledger is None else ledger)
        self._display, self._xtest = _connect()
        self._keymap: Keymap | None = None
        self._group_now: int | None = None
        self._watch_group()
        self._capitals = bool(self._state() & _CAPS_LOCK_MASK)
        self._switched_in = 0  # the batch in which Caps Lock was switched by Fenko last
        self._lending: Lending | None = None
        self._lent: dict[str, Slot] = {}
        self._put: dict[int, list[int]] = {}
        # The windows that were sent what stands in lent slots, and may not have read it yet.
        self._given_to: dict[int, None] = {}
        self._readers: list[Reader] = []
        self._quiet_at = inf
        self._about_to_give_back = False
        self._scrolled = (Detents(), Detents())
        self._progress = Progress(self._display)
        self._released_in: dict[int, int] = {}

    def descriptors(self) -> Iterable[Descriptor]:
        """The connection, on which the server says what it has to say."""
        return (Descriptor(self._display.fd, self._heard),)

    def _heard(self) -> None:
        try:
            self.listen()
        except LOST as why:
            raise PortLost(str(why)) from why
        if (self.busy or self._about_to_give_back) and self._progress.caught_up:
            self.go_on(time.monotonic())

    def listen(self) -> None:
        """Takes note of a changed layout, and of what the server has done. Raises DisplayError when the server is gone."""
        x = self._display.x
        for event in self._display.events():
            if isinstance(event, x.MappingNotifyEvent):
                self._keymap = self._group_now = None
            elif isinstance(event, x.PropertyNotifyEvent):
                self._progress.heard(event)
                self._ledger.done(self._progress.done)
                self._stuck = self._progress.far_behind
            else:
                if getattr(event, "xkbType", None) == _STATE:
                    self._state_told(event)
                for reader in self._readers:
                    reader.heard(event)

    def _state_told(self, event: Any) -> None:
        """The layout group, or Caps Lock, has changed. The library takes all of the extension's events for its first one, where
        the modifiers that are locked are called otherwise. A switch of Fenko's own is no news."""
        self._group_now = None
        if not self._plain and self._progress.done >= self._switched_in:
            self._capitals = bool(event.oldMinKeyCode & _CAPS_LOCK_MASK)

    def _ignore_capitals(self, begins: bool) -> None:
        if begins:
            self._ledger.begin(CAPITALS_AT)
        xkb_requests = self._display.extension("xkb")
        self._display.tell(
            xkb_requests.LatchLockState,
            _CORE_KEYBOARD,
            _CAPS_LOCK_MASK,
            0 if begins else _CAPS_LOCK_MASK,
            False,
            0,
            0,
            False,
            0,
        )
        if not begins:
            self._lifted(CAPITALS_AT)
        self._switched_in = self._progress.batch

    def _fake(self, kind: int, detail: int, x: int = 0, y: int = 0, delay: int = 0) -> None:
        self._progress.requests += 1
        self._display.tell(self._xtest.FakeInput, kind, detail, delay, 0, x, y, 0)

    def _press(self, code: int) -> None:
        keycode = code + X_KEYCODE_OFFSET
        self._ledger.begin(keycode)
        self._fake(_KEY_PRESS, keycode, delay=self._delay(code))

    def _release(self, code: int) -> None:
        keycode = code + X_KEYCODE_OFFSET
        self._fake(_KEY_RELEASE, keycode)
        self._lifted(keycode)
        self._released_in[code] = self._progress.batch

    def _lifted(self, at: int) -> None:
        """What stands there in the ledger is about to end."""
        self._ledger.end(at, self._progress.batch)
        self._progress.wanted = True

    def _delay(self, code: int) -> int:
        """The milliseconds that the server has to let pass before it presses a key: none, but for one of which it is not
        known that it has been up for long enough. The server waits, and we do not: however late it is itself, the two
        never come in one millisecond."""
        batch = self._released_in.pop(code, 0)
        if not batch or code in _MODIFIER_CODES:
            return 0
        if batch <= self._progress.done and time.monotonic() - self._progress.done_at >= GAP:
            return 0
        return _DELAY

    def _codes(self, key: str) -> tuple[int, ...] | None:
        if len(key) > 1:
            code = key_code(key)
            return (code,) if code is not None and code + X_KEYCODE_OFFSET <= 255 else None
        keymap = self._mapping()
        group = self._group()
        codes = keymap.groups[group].get(key)
        if codes is None and not SHORTCUT.isdisjoint(self._made):
            # Programs look for a shortcut where its letter is, not for a key that has nothing but the letter.
            codes = keymap.shortcut(group, key)
        return codes or self._lend([key]).get(key)

    def _mapping(self) -> Keymap:
        self.listen()  # events that came while the server was asked are announced by nothing else
        if self._keymap is None:
            self._keymap = Keymap(self._display, self._put)
            self._lent = {character: slot for character, slot in self._lent.items() if slot[0] in self._put}
        return self._keymap

    def _watch_group(self) -> None:
        """Has the server say when the layout group changes, so that it need not be asked before each key."""
        xkb_requests = self._display.extension("xkb")
        self._display.ask(xkb_requests.UseExtension, 1, 0)
        details = [_GROUP_CHANGED | _LOCK_CHANGED] * 2
        self._display.tell(xkb_requests.SelectEvents, _CORE_KEYBOARD, _STATE_NOTIFY, 0, 0, 0, 0, details)

    def _group(self) -> int:
        """The layout group in force, of those that the layout has."""
        last = len(self._mapping().groups) - 1
        if not last:
            return 0
        if self._group_now is None:
            self._group_now = (self._state() >> 13) & 3
        return min(self._group_now, last)

    def _state(self) -> int:
        """The modifiers and the layout group in force, as the core protocol packs them."""
        mask: int = self._display.ask(self._display.connection.core.QueryPointer, self._display.root).mask
        return mask

    # --- Characters that the layout lacks ---

    def _lender(self) -> Lending:
        """What lends key codes; the server is asked for what it needs when that is first wanted."""
        if self._lending is None:
            self._lending = Lending(self._display)
        return self._lending

    def _lend(self, characters: list[str]) -> dict[str, tuple[int, ...]]:
        """Puts characters that the layout lacks into free slots, as far as there are any of which nobody can have anything
        left to read; says which codes make them now."""
        keymap, lending = self._mapping(), self._lender()
        wanted = [character for character in dict.fromkeys(characters) if character not in self._lent]
        taken = set(self._lent.values())
        levels = lending.levels if keymap.level3 is not None else 2
        free = [slot for slot in keymap.free if slot not in taken and slot[1] < levels]
        for character, (keycode, level) in zip(wanted, free, strict=False):
            self._lent[character] = keycode, level
            known = {at for _, at in (slot for slot in self._lent.values() if slot[0] == keycode)}
            before = self._put.get(keycode, [0, 0, 0, 0])
            self._put[keycode] = [symbol if at in known else 0 for at, symbol in enumerate(before)]
            self._put[keycode][level] = xkb.keysym_of(character)
        changed = {self._lent[character][0] for character in wanted if character in self._lent}
        for keycode in sorted(changed):
            self._ledger.begin(LENT_AT + keycode)
            lending.put(keycode, self._put[keycode])
        if changed:
            lending.remind()
        self._given_to[self._front()] = None
        self._quiet_at = time.monotonic() + _QUIET
        self.wake(self._quiet_at)
        return {
            character: keymap.codes_of(self._lent[character]) for character in characters if character in self._lent
        }

    def _type(self, text: str) -> Typing:
        yield from self._caught_up()
        lifted = yield from self._lift_modifiers(text)
        if lifted is None:
            return
        by_hand = bool(lifted) and self._held_by_hand()
        try:
            yield from self._write(text)
        finally:
            # A hand that has let go meanwhile would not let go of them once more.
            for keycode in lifted if not by_hand or self._held_by_hand() else ():
                self._fake(_KEY_PRESS, keycode)

    def _held_by_hand(self) -> bool:
        """Whether a modifier is held on a keyboard of its own, and not by a program."""
        display = self._display
        keyboards = display.ask(display.extension("xinput").XIQueryDevice, 0).infos
        by_hand = [
            one.deviceid for one in keyboards if one.type == _SLAVE_KEYBOARD and b"XTEST" not in bytes(one.name.buf())
        ]
        states = display.extension("xkb")
        return any(display.ask(states.GetState, device).baseMods & _SHIFTING for device in by_hand)

    def _lift_modifiers(self, text: str) -> Generator[float, None, list[int] | None]:
        """What others hold with which characters would be shortcuts: what can be lifted is, and is held again afterwards; the
        rest, which hands hold on a keyboard, is waited for. None where it stays."""
        if not self._state() & _SHIFTING:
            return []
        display = self._display
        mapping = display.ask(display.connection.core.GetModifierMapping)
        each = mapping.keycodes_per_modifier
        codes = [code for row in _SHIFTING_ROWS for code in mapping.keycodes[row * each : (row + 1) * each] if code]
        bits = display.ask(display.connection.core.QueryKeymap).keys
        lifted = [code for code in dict.fromkeys(codes) if bits[code // 8] >> code % 8 & 1]
        for code in lifted:
            self._fake(_KEY_RELEASE, code)
        yield from self._caught_up()
        if not self._state() & _SHIFTING:
            return lifted
        end = time.monotonic() + _HANDS_LET_GO
        while self._state() & _SHIFTING:
            if time.monotonic() > end:
                self._warn(f"not typed, for a modifier is held on the keyboard: {_shown(text)}")
                return None
            yield LOOK_EVERY
        return []

    def _write(self, text: str) -> Typing:
        window = self._front()
        if max(text, default="") > LAST_OF_16_BITS and takes_halves(self._display, window):
            text = in_halves(text)
        while text:
            # Anew for each piece, for the layout in force may change meanwhile.
            table = self._mapping().groups[self._group()]
            ahead = text[:_AHEAD]
            made = [CONTROL_CHARACTERS.get(character) or table.get(character) for character in ahead]
            missing = dict.fromkeys(one for one, codes in zip(ahead, made, strict=True) if codes is None)
            lent = self._lend(list(missing)) if missing else {}
            piece: list[tuple[int, ...]] = []
            for character, own in zip(ahead[:_AT_ONCE], made, strict=False):
                codes = own or lent.get(character)
                if codes is None:
                    break
                piece.append(codes)
            if piece:
                yield from self._stretch(piece)
                text = text[len(piece) :]
                yield from self._caught_up()
                continue
            # Every slot has something that a program may still have to read; the rest waits until it has.
            if not (yield from self._until_read(text)):
                return
            yield from self._caught_up()
            if self._front() != window:
                self._warn(f"not typed, for another window came in front: {_shown(text)}")
                return

    def _stretch(self, strokes: list[tuple[int, ...]]) -> Typing:
        """Types keys as they are, whatever Caps Lock would make of them. All of it leaves at once."""
        capitals = bool(self._state() & _CAPS_LOCK_MASK)
        if capitals:
            self._ignore_capitals(True)
        yield from strokes
        if capitals:
            self._ignore_capitals(False)

    def _until_read(self, rest: str) -> Generator[float, None, bool]:
        """Waits until every window has read what it was sent, and takes back what was lent; False if one never did."""
        yield from self._caught_up()
        self._ask_readers()
        end = time.monotonic() + PATIENCE
        while (read := self._all_read()) is Read.NO and time.monotonic() < end:
            yield LOOK_EVERY
        if read is Read.NO:
            self._warn(f"not typed, for the program does not read its keys: {_shown(rest)}")
            return False
        if read is Read.PERHAPS:
            self._warn(
                f"the program runs elsewhere, so nobody knows whether it was quick enough for all of this: {_shown(rest)}"
            )
        self._forget_lent()
        return True

    def _ask_readers(self) -> None:
        """Begins to ask every window whether it has read everything so far."""
        self._flush()
        self._display.select(self._display.root, self._display.x.EventMask.SubstructureNotify)
        self._readers = [Reader(self._display, window) for window in self._given_to if window]

    def _all_read(self) -> Read:
        """What is known of all windows together."""
        self.listen()
        found = {reader.look() for reader in self._readers}
        return next((read for read in (Read.NO, Read.PERHAPS) if read in found), Read.YES)

    def _forget_lent(self) -> None:
        """What was lent has been read; its slots can have other characters. What is held down keeps its own."""
        self._readers = []
        self._given_to.clear()
        self._display.select(self._display.root, 0)
        held = {code + X_KEYCODE_OFFSET for code in self._down}
        self._lent = {character: slot for character, slot in self._lent.items() if slot[0] in held}

    def _front(self) -> int:
        """The window that has the keyboard; 0 if none has."""
        window: int = self._display.ask(self._display.connection.core.GetInputFocus).focus
        return window if window > 1 else 0

    def go_on(self, now: float) -> None:
        """Goes on with what waits, and with giving back what was lent."""
        super().go_on(now)
        try:
            self._look_after_lent(now)
        except LOST as why:
            raise PortLost(str(why)) from why

    def _look_after_lent(self, now: float) -> None:
        if not self.busy and self._put and now >= self._quiet_at:
            # That asks the server things, and one that hangs would be waited for; so it has to show first that it does not.
            if not self._about_to_give_back:
                self._about_to_give_back = self._progress.wanted = True
                self._flush()
            if self._progress.caught_up:
                self._about_to_give_back = False
                self._give_back()
        elif self._quiet_at < inf and not self.busy:
            self._about_to_give_back = False  # something was lent since, so the server has to answer anew
            self.wake(self._quiet_at)

    def _give_back(self) -> None:
        """Takes lent characters back when nothing has been typed for a while, and all of it has been read."""
        if not self._readers:
            self._ask_readers()
        if self._all_read() is Read.NO:
            self.wake(time.monotonic() + _QUIET)
            return
        self._quiet_at = inf
        self._forget_lent()
        lending = self._lender()
        kept = {keycode for keycode, _ in self._lent.values()}
        for keycode in [keycode for keycode in self._put if keycode not in kept]:
            del self._put[keycode]
            lending.put(keycode, [])
            self._lifted(LENT_AT + keycode)
        lending.remind()
        self._flush()

    def _move(self, dx: int, dy: int) -> None:
        self._fake(_MOTION, _RELATIVE, *(max(-32768, min(32767, pixels)) for pixels in (dx, dy)))

    def _scroll(self, dx: float, dy: float) -> None:
        pairs = ((dx, _SCROLL_LEFT, _SCROLL_RIGHT), (dy, _SCROLL_UP, _SCROLL_DOWN))
        for counter, (lines, back, on) in zip(self._scrolled, pairs, strict=True):
            whole = counter.turn(lines)
            for _ in range(abs(whole)):
                button = on if whole > 0 else back
                self._fake(_BUTTON_PRESS, button)
                self._fake(_BUTTON_RELEASE, button)

    def _button(self, button: str, on: bool) -> None:
        number = _BUTTONS[button]
        if on:
            self._ledger.begin(BUTTONS_AT + number)
        self._fake(_BUTTON_PRESS if on else _BUTTON_RELEASE, number)
        if not on:
            self._lifted(BUTTONS_AT + number)

    def _flush(self) -> None:
        self._progress.sending()
        self._display.flush()
        self._stuck = self._progress.far_behind

    def _caught_up(self) -> Iterator[float]:
        """Waits until the server has dealt with everything so far. What it is asked just then is answered at once."""
        self._progress.wanted = True
        while not self._progress.caught_up:
            yield inf

    def close(self) -> None:
        """Lifts everything, and takes back what was lent as soon as it has been read."""
        with contextlib.suppress(*LOST):  # with the server gone nothing is down any more
            end = time.monotonic() + LAST_PATIENCE
            if self._answers(end):
                if self._put:
                    self._ask_readers()
                    while self._all_read() is Read.NO and time.monotonic() < end:
                        time.sleep(LOOK_EVERY)
                lift(self._display, self._ledger.memory)
            elif any(self._ledger.memory):
                self._warn("the X server does not answer; what is held there is lifted as soon as it does")
        self._display.close()

    def _answers(self, end: float) -> bool:
        """Whether the server comes to the end of what it was sent before `end`. What it does not come to is the guard's."""
        self._progress.wanted = True
        self._flush()
        while not self._progress.caught_up and (left := end - time.monotonic()) > 0:
            select.select([self._display.fd], [], [], left)
            self.listen()
        return self._progress.caught_up


def open_port(settings: Settings) -> X11Port:
    """The port to the display of this session. Raises PortError."""
    port = X11Port(settings.warn, settings.memory)
    port.why = f"display {display_name()}"
    return port


def end(memory: Memory) -> None:
    """Lifts what a killed process left down, and takes back what it had lent."""
    display = open_display(patience=A_DAY)
    lift(display, memory)
    display.close()


def _shown(text: str) -> str:
    """A text in a message, if it is long only its beginning."""
    return f'"{shortened(of_halves(text), 40)}"'


def _connect() -> tuple[Display, Any]:
    """The display and its XTEST extension. Raises PortError."""
    try:
        display = open_display()
    except DisplayError as why:
        raise PortError(str(why)) from why
    try:
        return display, xtest_of(display)
    except PortError:
        display.close()
        raise


def xtest_of(display: Display) -> Any:
    """The extension by which keys can be sent. Raises PortError where the server has none."""
    try:
        xtest = display.extension("xtest")
        display.ask(xtest.GetVersion, 2, 2)
    except (NoWindow, DisplayError) as why:
        raise PortError(f"display {display.name} has no XTEST extension") from why
    return xtest


def lift(display: Display, ledger: Memory) -> None:
    """Lifts every key and button that the ledger says is down, and takes lent key codes back. Raises DisplayError."""
    fake, core = display.extension("xtest").FakeInput, display.connection.core
    for keycode in range(BUTTONS_AT):
        if ledger[keycode]:
            display.tell(fake, _KEY_RELEASE, keycode, 0, 0, 0, 0, 0)
    for button in range(LENT_AT - BUTTONS_AT):
        if ledger[BUTTONS_AT + button]:
            display.tell(fake, _BUTTON_RELEASE, button, 0, 0, 0, 0, 0)
    if ledger[CAPITALS_AT]:
        Lending(display).caps_lock(True)
    lent = [keycode for keycode in range(256) if ledger[LENT_AT + keycode]]
    if lent:
        display.ask(core.QueryPointer, display.root)
        time.sleep(_LETTING_GO)
        for keycode in lent:
            display.tell(core.ChangeKeyboardMapping, 1, keycode, 1, [0])
        Lending(display).remind()
    # A round trip: everything has arrived before the connection closes.
    display.ask(core.QueryPointer, display.root)
    for at in range(LEDGER_SIZE):
        ledger[at] = 0
