"""The X server's keyboard mapping: which key codes make which character, and which are free to be lent to others."""

from __future__ import annotations

from typing import Any

from fenko.core.keys import KERNEL_KEYS
from fenko.system import xkb
from fenko.system.xkb import X_KEYCODE_OFFSET
from fenko.system.xserver import Display, NoWindow

LEVEL3_SHIFT = 0xFE03  # ISO_Level3_Shift
_CORE_KEYBOARD = 0x100
_KEY_SYMS = 1 << 1
_TYPE_NAMES = 1 << 6
_LOCK = 2
_UNUSED_MODIFIER = 0x20  # Mod3, of which usual layouts make no use
_FOUR_LEVEL = "FOUR_LEVEL"

Slot = tuple[int, int]
"""A key code and a level of it (0: plain, 1: with Shift, 2: with the third-level key, 3: with both)."""

# Positions of symbols by the kernel's names of their keys, plain and with Shift, as on a US keyboard.
_POSITIONS = {
    "minus": "-_", "equal": "=+", "leftbrace": "[{", "rightbrace": "]}", "semicolon": ";:", "apostrophe": "'\"",
    "grave": "`~", "backslash": "\\|", "comma": ",<", "dot": ".>", "slash": "/?",
}  # fmt: skip


class Keymap:
    """The mapping as it is now. `groups` has a table per layout group: each character, and the kernel codes that make it,
    modifiers first. `free` are the slots of key codes that the layout does not use. `put` are the symbols that key codes
    have been given since; what somebody else has set anew is taken out of it."""

    def __init__(self, display: Display, put: dict[int, list[int]]) -> None:
        setup = display.connection.get_setup()
        self.first: int = setup.min_keycode
        count = setup.max_keycode - self.first + 1
        reply = display.ask(display.connection.core.GetKeyboardMapping, self.first, count)
        self.width: int = reply.keysyms_per_keycode
        symbols = list(reply.keysyms)
        self.rows = [symbols[at : at + self.width] for at in range(0, len(symbols), self.width)]
        for code, given in list(put.items()):
            if set(given) & set(self.rows[code - self.first]) - {0}:
                self.rows[code - self.first] = []
            else:
                del put[code]
        self.level3 = next((self.first + number for number, row in enumerate(self.rows) if LEVEL3_SHIFT in row), None)
        codes = [self.first + number for number, row in enumerate(self.rows) if not any(row)]
        # Neighbours in a text get different keys, so that none has to go down twice in a row.
        self.free: list[Slot] = [(code, level) for level in range(4) for code in codes]
        self.groups = self._groups()

    def _groups(self) -> list[dict[str, tuple[int, ...]]]:
        # The core protocol lists levels 1 and 2 of both groups, then levels 3 and 4 of both.
        groups = [self._group(columns) for columns in ((0, 1, 4, 5), (2, 3, 6, 7))]
        return groups[:1] if groups[1] == groups[0] or not groups[1] else groups

    def _group(self, columns: tuple[int, ...]) -> dict[str, tuple[int, ...]]:
        level3 = None if self.level3 is None else self.level3 - X_KEYCODE_OFFSET
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

    def codes_of(self, slot: Slot) -> tuple[int, ...]:
        """The kernel codes that make what stands in a slot."""
        code, level = slot
        held = [xkb.LEFT_SHIFT] if level & 1 else []
        if level & 2 and self.level3 is not None:
            held.append(self.level3 - X_KEYCODE_OFFSET)
        return (*held, code - X_KEYCODE_OFFSET)

    def shortcut(self, group: int, character: str) -> tuple[int, ...] | None:
        """The codes of a shortcut's letter that the group in force lacks: of the key that has it in another group, else of
        its position on a US keyboard, as programs look for it."""
        for number, table in enumerate(self.groups):
            if number != group and character in table:
                return table[character]
        return position(character)


def position(character: str) -> tuple[int, ...] | None:
    """The codes of a character's position on a US keyboard; None for one that has none."""
    code = KERNEL_KEYS.get(character)
    if code is not None:
        return (code,)
    for name, both in _POSITIONS.items():
        if character in both:
            return (KERNEL_KEYS[name],) if character == both[0] else (xkb.LEFT_SHIFT, KERNEL_KEYS[name])
    return None


class Lending:
    """Puts characters on key codes, up to four on each, and keeps what programs know of the keyboard's state right.

    Raises DisplayError when the server is gone."""

    def __init__(self, display: Display) -> None:
        self._display = display
        self._xkb: Any = None
        self._four_levels: int | None = None
        try:
            self._xkb = display.extension("xkb")
            display.ask(self._xkb.UseExtension, 1, 0)
            self._four_levels = self._type_index(_FOUR_LEVEL)
        except NoWindow:
            self._xkb = None

    @property
    def levels(self) -> int:
        """How many levels of a key code can be used."""
        return 4 if self._four_levels is not None else 2

    def _type_index(self, name: str) -> int | None:
        """The place of a type of keys among those that the server has."""
        names = list(self._display.ask(self._xkb.GetNames, _CORE_KEYBOARD, _TYPE_NAMES).typeNames)
        wanted = self._display.atom(name)
        return names.index(wanted) if wanted in names else None

    def put(self, code: int, symbols: list[int]) -> None:
        """Gives a key code these symbols, one a level; none of them takes all away."""
        display = self._display
        if not any(symbols):
            display.tell(display.connection.core.ChangeKeyboardMapping, 1, code, 1, [0])
        elif self._four_levels is None:
            display.tell(display.connection.core.ChangeKeyboardMapping, 1, code, 2, symbols[:2])
        else:
            import xcffib.xkb

            kinds = [self._four_levels, 0, 0, 0]
            one_group = xcffib.xkb.KeySymMap.synthetic(kinds, 1, len(symbols), len(symbols), symbols)
            nothing = [code, 0, 0] * 5
            display.tell(
                self._xkb.SetMap, _CORE_KEYBOARD, _KEY_SYMS, 0, code, code, 0, 0, code, 1, len(symbols), *nothing,
                0, [[one_group]],
            )  # fmt: skip

    def remind(self) -> None:
        """Tells programs the keyboard's state again: some (Qt 5) forget the layout group, and Caps Lock, whenever the
        mapping changes, and learn them from the next change of state. So a modifier that is on no key is locked for no
        time at all."""
        if self._xkb is not None:
            self._lock(_UNUSED_MODIFIER, True)
            self._lock(_UNUSED_MODIFIER, False)

    def caps_lock(self, on: bool) -> None:
        """Switches Caps Lock, without a key."""
        if self._xkb is not None:
            self._lock(_LOCK, on)

    def _lock(self, modifier: int, on: bool) -> None:
        self._display.tell(
            self._xkb.LatchLockState, _CORE_KEYBOARD, modifier, modifier if on else 0, False, 0, 0, False, 0
        )
