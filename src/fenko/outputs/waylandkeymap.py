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
_NAMED = re.compile(rb"<(\w+)>\s*=\s*(\d+);")
_MAXIMUM = re.compile(rb"maximum\s*=\s*(\d+);")
_OWN_NAME = b'xkb_keycodes "fenko"'


class OwnKeymap:
    """A person's keymap and what it lends. Raises NoKeymap when it cannot be read."""

    def __init__(self, base: KeyboardMap) -> None:
        self.base = base
        self._names = {int(code): name for name, code in _NAMED.findall(base.text)}
        found = _MAXIMUM.search(base.text)
        last = int(found[1]) if found else 255
        self._low = base.free
        self._high = [code - X_KEYCODE_OFFSET for code in range(max(last, 255) + 1, max(last, 255) + 1 + MOST_AT_ONCE)]
        self._lent: dict[str, int] = {}  # the one that was needed last stands last

    def codes(self, character: str) -> tuple[int, ...] | None:
        """The codes that make a character, modifiers first; None if it has to be lent a key."""
        for group, table in enumerate(self.base.groups):
            if character in table:
                return (GROUPS + group, *table[character]) if group else table[character]
        if character in self._lent:
            self._lent[character] = self._lent.pop(character)
            return (self._lent[character],)
        return None

    def lend(self, characters: Iterable[str], down: Collection[int]) -> bool:
        """Has a key for each of these, `MOST_AT_ONCE` at most; True if the keymap has changed by that. What is down keeps
        its key."""
        wanted = list(dict.fromkeys(characters))[:MOST_AT_ONCE]
        changed = False
        for character in wanted:
            if self.codes(character) is None:
                self._lent[character] = self._slot(set(wanted), down)
                changed = True
        return changed

    def _slot(self, wanted: set[str], down: Collection[int]) -> int:
        taken = set(self._lent.values())
        low = set(self._low)
        free = next((code for code in self._low if code not in taken and code not in down), None)
        if free is not None:
            return free
        spare = [one for one, code in self._lent.items() if one not in wanted and code not in down]
        for character in sorted(spare, key=lambda one: self._lent[one] not in low):
            if self._lent[character] in low:
                return self._lent.pop(character)
        free = next((code for code in self._high if code not in taken and code not in down), None)
        return free if free is not None else self._lent.pop(spare[0])

    @property
    def text(self) -> bytes:
        """The whole keymap in XKB's text format."""
        text = self.base.text
        names, keys = b"", b""
        for character, code in self._lent.items():
            number = code + X_KEYCODE_OFFSET
            name = self._names.get(number)
            if name is None:
                name = b"Q" + _digits(number)
                names += b"\t<%s> = %d;\n" % (name, number)
            keys += b'\tkey <%s> { type= "ONE_LEVEL", [ U%04X ] };\n' % (name, ord(character))
        last = max(
            [255, *(int(found) for found in _MAXIMUM.findall(text)), *(code + 8 for code in self._lent.values())]
        )
        text = _MAXIMUM.sub(b"maximum = %d;" % last, text, count=1)
        text = re.sub(rb'xkb_keycodes\s+"[^"]*"', _OWN_NAME, text, count=1)
        text = _at_end_of(text, b"xkb_keycodes", names)
        return _at_end_of(text, b"xkb_symbols", keys)


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
