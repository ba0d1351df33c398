"""The keymap of Fenko's own keyboard on a Wayland compositor: that of the person, with keys for the characters that it lacks.

A compositor tells programs of a changed keymap and of keys in one order, so a character may be lent a key at any time. Only
programs of the X server behind the compositor see no key codes above 255, and read a keymap when they come to it; so the
codes that they see are lent first, and the one that has not been needed for the longest is lent anew.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable

from fenko.system.xkb import X_KEYCODE_OFFSET, KeyboardMap

GROUPS = 1 << 16
"""The code of a layout group other than the first is this plus its number: what is struck with it is struck in that group."""
MOST_AT_ONCE = 400
"""Different characters that can be lent at the same time."""
Slot = tuple[int, int]
"""A kernel code, and a layout group in which it makes something."""
_GROUPS_OF_A_KEY = 4
_MAXIMUM = re.compile(rb"maximum\s*=\s*(\d+);")
_OWN_NAME = b'xkb_keycodes "fenko"'


class OwnKeymap:
    """A person's keymap and what it lends. Raises NoKeymap when it cannot be read."""

    def __init__(self, base: KeyboardMap) -> None:
        self.base = base
        found = _MAXIMUM.search(base.text)
        last = int(found[1]) if found else 255
        self._low = [(code, group) for group in range(_GROUPS_OF_A_KEY) for code in base.free]
        above = max(last, 255) + 1 - X_KEYCODE_OFFSET
        self._high = [(code, 0) for code in range(above, above + MOST_AT_ONCE)]
        self._lent: dict[str, Slot] = {}  # the one that was needed last stands last

    @property
    def lends(self) -> bool:
        """Whether it has keys that the person's own has not."""
        return bool(self._lent)

    def codes(self, character: str) -> tuple[int, ...] | None:
        """The codes that make a character, modifiers first; None if it has to be lent a key."""
        for group, table in enumerate(self.base.groups):
            if character in table:
                return _in_group(group, table[character])
        if character in self._lent:
            code, group = self._lent[character] = self._lent.pop(character)
            return _in_group(group, (code,))
        return None

    def lend(self, characters: Iterable[str], down: Collection[int]) -> bool:
        """Has a key for each of these, `MOST_AT_ONCE` at most; True if the keymap has changed by that. What is down keeps
        its key."""
        wanted = list(dict.fromkeys(characters))[:MOST_AT_ONCE]
        lacking = [character for character in wanted if self.codes(character) is None]
        if not lacking:
            return False
        taken = set(self._lent.values())
        free = [slot for slot in (*self._low, *self._high) if slot not in taken and slot[0] not in down]
        # Those that have not been needed for the longest give way, first where programs of the X server can see it.
        spare = [one for one, slot in self._lent.items() if one not in wanted and slot[0] not in down]
        low = set(self._low)
        seen = [slot for slot in free if slot in low]
        for character in [one for one in spare if self._lent[one] in low][: max(0, len(lacking) - len(seen))]:
            free.insert(len(seen), self._lent.pop(character))
        for character in spare:
            if len(free) >= len(lacking):
                break
            if character in self._lent:
                free.append(self._lent.pop(character))
        self._lent.update(zip(lacking, free, strict=False))
        return True

    @property
    def text(self) -> bytes:
        """The whole keymap in XKB's text format."""
        text = self.base.text
        names, keys = b"", b""
        lent: dict[int, dict[int, str]] = {}
        for character, (code, group) in self._lent.items():
            lent.setdefault(code + X_KEYCODE_OFFSET, {})[group] = character
        for number, made in lent.items():
            name = self.base.key_names.get(number, "").encode()
            if not name:
                name = b"Q" + _digits(number)
                names += b"\t<%s> = %d;\n" % (name, number)
            groups = ", ".join(
                f'type[Group{group + 1}]="ONE_LEVEL", symbols[Group{group + 1}]=[{_symbol(made.get(group))}]'
                for group in range(max(made) + 1)
            )
            keys += b"\tkey <%s> { %s };\n" % (name, groups.encode())
        last = max([255, *map(int, _MAXIMUM.findall(text)), *lent])
        text = _MAXIMUM.sub(b"maximum = %d;" % last, text, count=1)
        text = re.sub(rb'xkb_keycodes\s+"[^"]*"', _OWN_NAME, text, count=1)
        text = _at_end_of(text, b"xkb_keycodes", names)
        return _at_end_of(text, b"xkb_symbols", keys)


def _in_group(group: int, codes: tuple[int, ...]) -> tuple[int, ...]:
    return (GROUPS + group, *codes) if group else codes


def _symbol(character: str | None) -> str:
    return "NoSymbol" if character is None else f"U{ord(character):04X}"


def is_own(text: bytes) -> bool:
    """Whether a keymap is one that Fenko has made."""
    return _OWN_NAME in text[:200]


def _digits(number: int) -> bytes:
    """A number in three characters, for names of keys have four at most."""
    figures = "0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZ"
    return "".join(figures[number // 36**place % 36] for place in (2, 1, 0)).encode()


def _at_end_of(text: bytes, section: bytes, more: bytes) -> bytes:
    """The text with some more at the end of a section."""
    if not more:
        return text
    end = text.index(b"\n};", text.index(section)) + 1
    return text[:end] + more + text[end:]
