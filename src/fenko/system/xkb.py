"""The few functions of libxkbcommon that Fenko needs, by ctypes: what a keyboard layout prints on which key.

The library is part of every Linux desktop; where it is missing, callers fall back to the plain US layout.
"""

from __future__ import annotations

import ctypes
import re
from collections.abc import Callable, Iterable
from functools import cache, cached_property
from typing import Any

from fenko.core.keys import KERNEL_KEYS

# Levels of a key in the layouts of xkeyboard-config, by the kernel codes of what has to be held for them.
LEFT_SHIFT, RIGHT_ALT = KERNEL_KEYS["leftshift"], KERNEL_KEYS["rightalt"]
LEVELS: tuple[tuple[int, ...], ...] = ((), (LEFT_SHIFT,), (RIGHT_ALT,), (LEFT_SHIFT, RIGHT_ALT))
X_KEYCODE_OFFSET = 8
"""An X key code is the kernel's plus this."""
KEYPAD = frozenset({55, *range(71, 84), 96, 98, 117, 121, 179, 180})
"""Kernel codes of the number pad, whose symbols depend on Num Lock; they are never the key for a symbol."""


_TEXT = 1
_NAMED = re.compile(rb"<(\w+)>\s*=\s*(\d+);")
_GROUP_IN_FORCE = 1 << 7
_MODIFYING = ((0xFFE1, 0xFFEE), (0xFE01, 0xFE13), (0xFF7E, 0xFF7F))
"""Ranges of keysyms of Shift and its like, of the locks and of what chooses levels and groups."""


class _RuleNames(ctypes.Structure):
    _fields_ = (
        ("rules", ctypes.c_char_p),
        ("model", ctypes.c_char_p),
        ("layout", ctypes.c_char_p),
        ("variant", ctypes.c_char_p),
        ("options", ctypes.c_char_p),
    )


@cache
def _library() -> Any:
    try:
        library = ctypes.CDLL("libxkbcommon.so.0")
    except OSError:
        return None
    number, pointer = ctypes.c_uint32, ctypes.c_void_p
    symbols = ctypes.POINTER(ctypes.POINTER(number))
    known: dict[str, tuple[Any, tuple[Any, ...]]] = {
        "xkb_context_new": (pointer, (ctypes.c_int,)),
        "xkb_context_unref": (None, (pointer,)),
        "xkb_context_set_log_level": (None, (pointer, ctypes.c_int)),
        "xkb_keymap_new_from_names": (pointer, (pointer, ctypes.POINTER(_RuleNames), ctypes.c_int)),
        "xkb_keymap_new_from_buffer": (
            pointer,
            (pointer, ctypes.c_char_p, ctypes.c_size_t, ctypes.c_int, ctypes.c_int),
        ),
        "xkb_keymap_get_as_string": (pointer, (pointer, ctypes.c_int)),
        "xkb_keymap_unref": (None, (pointer,)),
        "xkb_keymap_min_keycode": (number, (pointer,)),
        "xkb_keymap_max_keycode": (number, (pointer,)),
        "xkb_keymap_num_layouts": (number, (pointer,)),
        "xkb_keymap_layout_get_name": (ctypes.c_char_p, (pointer, number)),
        "xkb_keymap_num_levels_for_key": (number, (pointer, number, number)),
        "xkb_keymap_key_get_syms_by_level": (ctypes.c_int, (pointer, number, number, number, symbols)),
        "xkb_state_new": (pointer, (pointer,)),
        "xkb_state_unref": (None, (pointer,)),
        "xkb_state_update_key": (ctypes.c_int, (pointer, number, ctypes.c_int)),
        "xkb_state_serialize_mods": (number, (pointer, ctypes.c_int)),
        "xkb_state_serialize_layout": (number, (pointer, ctypes.c_int)),
        "xkb_keysym_to_utf32": (number, (number,)),
        "free": (None, (pointer,)),
    }
    for name, (result, arguments) in known.items():
        function = getattr(library, name)
        function.restype, function.argtypes = result, arguments
    return library


def available() -> bool:
    """Whether the library is on this machine."""
    return _library() is not None


def character_of(keysym: int) -> str | None:
    """The printable character that an X keysym stands for."""
    if 0x20 <= keysym <= 0x7E or 0xA0 <= keysym <= 0xFF:
        return chr(keysym)
    if 0x01000100 <= keysym <= 0x0110FFFF:
        return chr(keysym - 0x01000000)
    library = _library()
    if library is None or not keysym or keysym >= 0xFD00:
        return None
    code: int = library.xkb_keysym_to_utf32(keysym)
    return chr(code) if code >= 0x20 and code != 0x7F else None


def keysym_of(character: str) -> int:
    """The X keysym of a character (ISO 8859-1 code, else Unicode keysym)."""
    code = ord(character)
    return code if 0x20 <= code <= 0x7E or 0xA0 <= code <= 0xFF else 0x01000000 + code


def layout_table(layout: str, variant: str) -> dict[str, tuple[int, ...]] | None:
    """Character to the kernel codes that make it: modifiers first, the key last. None if there is no such layout,
    or no library."""
    try:
        return KeyboardMap.named(layout, variant).groups[0]
    except NoKeymap:
        return None


class NoKeymap(Exception):
    """There is no such keymap, or no library that could read it."""


class KeyboardMap:
    """A compiled keymap: which codes make which character in each of its layouts, and what its modifiers do."""

    def __init__(self, make: Callable[[Any, Any], Any]) -> None:
        library = _library()
        if library is None:
            raise NoKeymap("libxkbcommon is not on this machine")
        self._library = library
        self._context = library.xkb_context_new(0)
        self._keymap = self._state = None
        if self._context:
            library.xkb_context_set_log_level(self._context, 0)
            self._keymap = make(library, self._context)
        if not self._keymap:
            raise NoKeymap("there is no such keymap")

    @classmethod
    def named(cls, layout: str, variant: str) -> KeyboardMap:
        """The keymap of a layout. Raises NoKeymap."""
        names = _RuleNames(b"evdev", b"pc105", layout.encode(), variant.encode(), b"")
        return cls(lambda library, context: library.xkb_keymap_new_from_names(context, ctypes.byref(names), 0))

    @classmethod
    def written(cls, text: bytes) -> KeyboardMap:
        """A keymap in XKB's text format. Raises NoKeymap."""
        # The text ends with the first zero byte; a program that passes it on may have it or not.
        raw = text.partition(b"\0")[0]
        return cls(lambda library, context: library.xkb_keymap_new_from_buffer(context, raw, len(raw), _TEXT, 0))

    def __del__(self) -> None:
        if self._state:
            self._library.xkb_state_unref(self._state)
        if self._keymap:
            self._library.xkb_keymap_unref(self._keymap)
        if self._context:
            self._library.xkb_context_unref(self._context)

    @cached_property
    def text(self) -> bytes:
        """It in XKB's text format."""
        found = self._library.xkb_keymap_get_as_string(self._keymap, _TEXT)
        if not found:
            raise NoKeymap("the keymap cannot be written")
        text = ctypes.string_at(found)
        self._library.free(found)
        return text

    @cached_property
    def key_names(self) -> dict[int, str]:
        """What it calls each key (`AE01`), by its key code as X counts them."""
        return {int(number): name.decode() for name, number in _NAMED.findall(self.text)}

    def _codes(self) -> range:
        first, last = (
            self._library.xkb_keymap_min_keycode(self._keymap),
            self._library.xkb_keymap_max_keycode(self._keymap),
        )
        return range(max(first - X_KEYCODE_OFFSET, 1), min(last, 255) - X_KEYCODE_OFFSET + 1)

    def _symbols(self, code: int, group: int, level: int) -> list[int]:
        found = ctypes.POINTER(ctypes.c_uint32)()
        arguments = (self._keymap, code + X_KEYCODE_OFFSET, group, level, ctypes.byref(found))
        count = self._library.xkb_keymap_key_get_syms_by_level(*arguments)
        return [found[at] for at in range(count)]

    def _levels(self, code: int, group: int) -> int:
        levels: int = self._library.xkb_keymap_num_levels_for_key(self._keymap, code + X_KEYCODE_OFFSET, group)
        return levels

    @property
    def name(self) -> str:
        """What its first layout calls itself, such as `German`; empty if it has no name."""
        raw: bytes | None = self._library.xkb_keymap_layout_get_name(self._keymap, 0)
        return (raw or b"").decode("utf-8", "replace")

    @cached_property
    def groups(self) -> list[dict[str, tuple[int, ...]]]:
        """Of each of its layouts each character, and the kernel codes that make it, modifiers first."""
        return [self._table(group) for group in range(max(1, self._library.xkb_keymap_num_layouts(self._keymap)))]

    def _table(self, group: int) -> dict[str, tuple[int, ...]]:
        table: dict[str, tuple[int, ...]] = {}
        for level, held in enumerate(LEVELS):
            for code in self._codes():
                if code in KEYPAD or self._levels(code, group) <= level:
                    continue
                found = self._symbols(code, group, level)
                character = character_of(found[0]) if len(found) == 1 else None
                if character is not None:
                    table.setdefault(character, (*held, code))
        return table

    @cached_property
    def free(self) -> list[int]:
        """Kernel codes of keys that make nothing in any layout, up to the last one that the X protocol knows."""
        return self.free_of(self._codes())

    def free_of(self, codes: Iterable[int]) -> list[int]:
        """Those of these kernel codes whose keys make nothing in any layout."""
        groups = range(len(self.groups))
        return [
            code for code in codes
            if not any(self._symbols(code, group, level) for group in groups for level in range(self._levels(code, group)))
        ]  # fmt: skip

    @cached_property
    def modifiers(self) -> frozenset[int]:
        """Kernel codes of keys that change what others make."""
        return frozenset(
            code for code in self._codes()
            if any(first <= symbol <= last for symbol in self._symbols(code, 0, 0) for first, last in _MODIFYING)
        )  # fmt: skip

    def moved(self, code: int, down: bool) -> tuple[int, int, int, int]:
        """What is in force after a key went down or up: modifiers that are depressed, latched and locked, and the group."""
        if not self._state:
            self._state = self._library.xkb_state_new(self._keymap)
        self._library.xkb_state_update_key(self._state, code + X_KEYCODE_OFFSET, int(down))
        mods = self._library.xkb_state_serialize_mods
        depressed, latched, locked = (mods(self._state, 1 << bit) for bit in range(3))
        group = self._library.xkb_state_serialize_layout(self._state, _GROUP_IN_FORCE)
        return depressed, latched, locked, group
