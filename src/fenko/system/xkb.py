"""The few functions of libxkbcommon that Fenko needs, by ctypes: what a keyboard layout prints on which key.

The library is part of every Linux desktop; where it is missing, callers fall back to the plain US layout.
"""

from __future__ import annotations

import ctypes
from functools import cache
from typing import Any

from fenko.core.keys import KERNEL_KEYS

# Levels of a key in the layouts of xkeyboard-config, by the kernel codes of what has to be held for them.
LEFT_SHIFT, RIGHT_ALT = KERNEL_KEYS["leftshift"], KERNEL_KEYS["rightalt"]
LEVELS: tuple[tuple[int, ...], ...] = ((), (LEFT_SHIFT,), (RIGHT_ALT,), (LEFT_SHIFT, RIGHT_ALT))
X_KEYCODE_OFFSET = 8
"""An X key code is the kernel's plus this."""
KEYPAD = frozenset({55, *range(71, 84), 96, 98, 117, 121, 179, 180})
"""Kernel codes of the number pad, whose symbols depend on Num Lock; they are never the key for a symbol."""


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
    pointers = ("xkb_context_new", "xkb_keymap_new_from_names")
    for name in pointers:
        getattr(library, name).restype = ctypes.c_void_p
    library.xkb_keymap_new_from_names.argtypes = (ctypes.c_void_p, ctypes.POINTER(_RuleNames), ctypes.c_int)
    library.xkb_context_unref.argtypes = (ctypes.c_void_p,)
    library.xkb_context_set_log_level.argtypes = (ctypes.c_void_p, ctypes.c_int)
    library.xkb_keymap_unref.argtypes = (ctypes.c_void_p,)
    for name in ("xkb_keymap_min_keycode", "xkb_keymap_max_keycode"):
        getattr(library, name).argtypes = (ctypes.c_void_p,)
    library.xkb_keymap_num_levels_for_key.argtypes = (ctypes.c_void_p, ctypes.c_uint32, ctypes.c_uint32)
    library.xkb_keymap_key_get_syms_by_level.argtypes = (
        ctypes.c_void_p,
        ctypes.c_uint32,
        ctypes.c_uint32,
        ctypes.c_uint32,
        ctypes.POINTER(ctypes.POINTER(ctypes.c_uint32)),
    )
    library.xkb_keysym_to_utf32.argtypes = (ctypes.c_uint32,)
    library.xkb_keysym_to_utf32.restype = ctypes.c_uint32
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
    library = _library()
    if library is None:
        return None
    context = library.xkb_context_new(0)
    if not context:
        return None
    library.xkb_context_set_log_level(context, 0)
    names = _RuleNames(b"evdev", b"pc105", layout.encode(), variant.encode(), b"")
    keymap = library.xkb_keymap_new_from_names(context, ctypes.byref(names), 0)
    if not keymap:
        library.xkb_context_unref(context)
        return None
    table: dict[str, tuple[int, ...]] = {}
    symbols = ctypes.POINTER(ctypes.c_uint32)()
    first, last = library.xkb_keymap_min_keycode(keymap), library.xkb_keymap_max_keycode(keymap)
    for level, held in enumerate(LEVELS):
        for keycode in range(max(first, X_KEYCODE_OFFSET + 1), min(last, 255) + 1):
            code = keycode - X_KEYCODE_OFFSET
            if code in KEYPAD or library.xkb_keymap_num_levels_for_key(keymap, keycode, 0) <= level:
                continue
            found = library.xkb_keymap_key_get_syms_by_level(keymap, keycode, 0, level, ctypes.byref(symbols))
            character = character_of(symbols[0]) if found == 1 else None
            if character is not None:
                table.setdefault(character, (*held, code))
    library.xkb_keymap_unref(keymap)
    library.xkb_context_unref(context)
    return table
