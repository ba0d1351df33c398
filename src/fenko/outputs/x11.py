"""Keys and pointer through the X server (XTEST extension).

The key for a symbol is looked up in the layout that is in force at that moment. A symbol that the layout does not have
is put on one of the key codes that the layout leaves free, so any text can be typed.

What is down is noted in a *ledger* of bytes before the server hears of it. If this process is killed, the guard (see
`fenko.live.guard`) reads the ledger and lifts it all.
"""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable
from typing import Any

from fenko.core.axes import Detents
from fenko.core.keys import key_code
from fenko.outputs.keys import KeyOutput, OutputError
from fenko.outputs.layout import CONTROL_CHARACTERS
from fenko.system import xkb
from fenko.system.xkb import X_KEYCODE_OFFSET
from fenko.system.xserver import Display, DisplayError, NoWindow, open_display

_KEY_PRESS, _KEY_RELEASE, _BUTTON_PRESS, _BUTTON_RELEASE, _MOTION = 2, 3, 4, 5, 6
_RELATIVE = 1
_BUTTONS = {"left": 1, "middle": 2, "right": 3, "side": 8, "extra": 9, "back": 8, "forward": 9, "task": 10}
_SCROLL_UP, _SCROLL_DOWN, _SCROLL_LEFT, _SCROLL_RIGHT = 4, 5, 6, 7
_LEVEL3 = 0xFE03  # ISO_Level3_Shift
_CAPS_LOCK_MASK = 2
_FREE_KEY_SETTLES = 0.150
"""Seconds that programs get to notice what was typed with a free key code before it is given another symbol."""

BUTTONS_AT = 256
"""Where the ledger's bytes for pointer buttons begin; those for key codes stand before."""
LENT_AT = 288
"""Where its bytes for key codes that were lent to other symbols begin."""
LEDGER_SIZE = LENT_AT + 256
Ledger = bytearray | memoryview


class _Keymap:
    """The server's keyboard mapping as it is now: which key codes make which character, per layout group."""

    def __init__(self, display: Display, lent: dict[str, int]) -> None:
        setup = display.connection.get_setup()
        self.first: int = setup.min_keycode
        count = setup.max_keycode - self.first + 1
        reply = display.ask(display.connection.core.GetKeyboardMapping, self.first, count)
        self.width: int = reply.keysyms_per_keycode
        symbols = list(reply.keysyms)
        self.rows = [symbols[at : at + self.width] for at in range(0, len(symbols), self.width)]
        # Somebody else may have set the whole mapping anew; what was lent then is lent no longer.
        for character, keycode in list(lent.items()):
            if self.rows[keycode - self.first][0] != xkb.keysym_of(character):
                del lent[character]
            else:
                self.rows[keycode - self.first] = []
        self.free = [self.first + number for number, row in enumerate(self.rows) if not any(row)]
        self.groups = self._groups()

    def _groups(self) -> list[dict[str, tuple[int, ...]]]:
        level3 = next(
            (self.first + number - X_KEYCODE_OFFSET for number, row in enumerate(self.rows) if _LEVEL3 in row), None
        )
        # The core protocol lists levels 1 and 2 of both groups, then levels 3 and 4 of both.
        groups = [self._group(columns, level3) for columns in ((0, 1, 4, 5), (2, 3, 6, 7))]
        return groups[:1] if groups[1] == groups[0] or not groups[1] else groups

    def _group(self, columns: tuple[int, ...], level3: int | None) -> dict[str, tuple[int, ...]]:
        table: dict[str, tuple[int, ...]] = {}
        for level, column in enumerate(columns):
            held = xkb.LEVELS[level]
            if column >= self.width or (level >= 2 and level3 is None):
                break
            held = tuple(level3 if code == xkb.RIGHT_ALT and level3 else code for code in held)
            for number, row in enumerate(self.rows):
                code = self.first + number - X_KEYCODE_OFFSET
                character = None if code in xkb.KEYPAD or not row else xkb.character_of(row[column])
                if character is not None:
                    table.setdefault(character, (*held, code))
        # A layout whose second level is left empty writes capitals on level 1 with Shift.
        for character, codes in list(table.items()):
            if len(codes) == 1 and character.upper() != character and len(character.upper()) == 1:
                table.setdefault(character.upper(), (xkb.LEFT_SHIFT, *codes))
        return table


class X11Output(KeyOutput):
    """The X server's own keyboard and pointer, moved by XTEST. Raises DisplayError when the server is gone."""

    name = "the X server"

    def __init__(self, warn: Callable[[str], None], ledger: Ledger | None = None) -> None:
        super().__init__(warn)
        self._ledger: Ledger = bytearray(LEDGER_SIZE) if ledger is None else ledger
        self._display, self._xtest = _connect()
        self._keymap: _Keymap | None = None
        self._lent: dict[str, int] = {}
        self._scrolled = (Detents(), Detents())

    @property
    def fd(self) -> int:
        """Becomes readable when the server has something to say; then call `listen`."""
        return self._display.fd

    def listen(self) -> None:
        """Takes note of a changed layout. Raises DisplayError when the server is gone."""
        for event in self._display.events():
            if isinstance(event, self._display.x.MappingNotifyEvent):
                self._keymap = None

    def _fake(self, kind: int, detail: int, x: int = 0, y: int = 0) -> None:
        self._display.tell(self._xtest.FakeInput, kind, detail, 0, 0, x, y, 0)

    def _press(self, code: int) -> None:
        keycode = code + X_KEYCODE_OFFSET
        self._ledger[keycode] = 1
        self._fake(_KEY_PRESS, keycode)

    def _release(self, code: int) -> None:
        keycode = code + X_KEYCODE_OFFSET
        self._fake(_KEY_RELEASE, keycode)
        self._ledger[keycode] = 0

    def _codes(self, key: str) -> tuple[int, ...] | None:
        if len(key) > 1:
            code = key_code(key)
            return (code,) if code is not None and code + X_KEYCODE_OFFSET <= 255 else None
        return self._character(key) or self._lend([key]).get(key)

    def _mapping(self) -> _Keymap:
        self.listen()  # events that came while the server was asked are announced by nothing else
        if self._keymap is None:
            self._keymap = _Keymap(self._display, self._lent)
        return self._keymap

    def _character(self, character: str) -> tuple[int, ...] | None:
        """The codes that make a character in the layout and group in force."""
        groups = self._mapping().groups
        group = (self._state() >> 13) & 3 if len(groups) > 1 else 0
        return groups[min(group, len(groups) - 1)].get(character)

    def _state(self) -> int:
        """The modifiers and the layout group in force, as the core protocol packs them."""
        mask: int = self._display.ask(self._display.connection.core.QueryPointer, self._display.root).mask
        return mask

    def _lend(self, characters: list[str]) -> dict[str, tuple[int, ...]]:
        """Puts characters that the layout lacks on free key codes; says which codes make them now."""
        wanted = [character for character in dict.fromkeys(characters) if character not in self._lent]
        free = [keycode for keycode in self._mapping().free if keycode not in self._lent.values()]
        if len(wanted) > len(free):
            # Programs may not have read yet what was typed with key codes that now change hands.
            self._flush()
            time.sleep(_FREE_KEY_SETTLES)
            held = {code + X_KEYCODE_OFFSET for code in self._down}
            for character, keycode in list(self._lent.items()):
                if character not in characters and keycode not in held:
                    free.append(self._lent.pop(character))
        for character, keycode in zip(wanted, free, strict=False):
            self._lent[character] = keycode
            self._ledger[LENT_AT + keycode] = 1
            symbol = xkb.keysym_of(character)
            self._display.tell(self._display.connection.core.ChangeKeyboardMapping, 1, keycode, 2, [symbol, symbol])
        if wanted:
            self._state()  # a round trip: programs hear of the new mapping before they hear of the key
        codes = {
            character: self._lent[character] - X_KEYCODE_OFFSET for character in characters if character in self._lent
        }
        return {character: (code,) for character, code in codes.items()}

    def _type(self, text: str) -> None:
        capitals = bool(self._state() & _CAPS_LOCK_MASK)
        pending: list[tuple[str, tuple[int, ...] | None]] = []
        for character in text:
            codes = CONTROL_CHARACTERS.get(character) or self._character(character)
            if codes and capitals and character.isalpha():
                shifted = codes[0] == xkb.LEFT_SHIFT
                codes = codes[1:] if shifted else (xkb.LEFT_SHIFT, *codes)
            pending.append((character, codes))
        room = max(1, len(self._mapping().free))
        while pending:
            lent: dict[str, None] = {}
            end = 0
            while end < len(pending) and (pending[end][1] or pending[end][0] in lent or len(lent) < room):
                if not pending[end][1]:
                    lent[pending[end][0]] = None
                end += 1
            made = self._lend(list(lent)) if lent else {}
            for character, codes in pending[:end]:
                self._stroke(character, codes or made.get(character))
            pending = pending[end:]

    def _stroke(self, character: str, codes: tuple[int, ...] | None) -> None:
        if codes is None:
            self._warn_once(character, f"`{character}` cannot be typed: {self.name} has no free key left")
            return
        for code in codes:
            self._press(code)
        for code in reversed(codes):
            self._release(code)

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
            self._ledger[BUTTONS_AT + number] = 1
        self._fake(_BUTTON_PRESS if on else _BUTTON_RELEASE, number)
        if not on:
            self._ledger[BUTTONS_AT + number] = 0

    def _flush(self) -> None:
        self._display.flush()

    def close(self) -> None:
        with contextlib.suppress(DisplayError):  # with the server gone nothing is down any more
            lift(self._display, self._ledger)
        self._display.close()


def _connect() -> tuple[Display, Any]:
    """The display and its XTEST extension. Raises OutputError."""
    try:
        display = open_display()
    except DisplayError as why:
        raise OutputError(str(why)) from why
    try:
        return display, xtest_of(display)
    except OutputError:
        display.close()
        raise


def xtest_of(display: Display) -> Any:
    """The extension by which keys can be sent. Raises OutputError where the server has none."""
    try:
        xtest = display.extension("xtest")
        display.ask(xtest.GetVersion, 2, 2)
    except (NoWindow, DisplayError) as why:
        raise OutputError(f"display {display.name} has no XTEST extension") from why
    return xtest


def lift(display: Display, ledger: Ledger) -> None:
    """Lifts every key and button that the ledger says is down, and takes lent key codes back. Raises DisplayError."""
    fake, core = display.extension("xtest").FakeInput, display.connection.core
    for keycode in range(BUTTONS_AT):
        if ledger[keycode]:
            display.tell(fake, _KEY_RELEASE, keycode, 0, 0, 0, 0, 0)
    for button in range(LENT_AT - BUTTONS_AT):
        if ledger[BUTTONS_AT + button]:
            display.tell(fake, _BUTTON_RELEASE, button, 0, 0, 0, 0, 0)
    lent = [keycode for keycode in range(256) if ledger[LENT_AT + keycode]]
    if lent:
        display.ask(core.QueryPointer, display.root)
        time.sleep(_FREE_KEY_SETTLES)
        for keycode in lent:
            display.tell(core.ChangeKeyboardMapping, 1, keycode, 1, [0])
    # A round trip: everything has arrived before the connection closes.
    display.ask(core.QueryPointer, display.root)
    for at in range(LEDGER_SIZE):
        ledger[at] = 0
