"""The keyboard layout that the system applies to the kernel's virtual keyboard: which key makes which character."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from functools import cache
from pathlib import Path

from msgspec import Struct

from fenko.core.keys import KERNEL_KEYS, key_code
from fenko.core.phrase import Phrase
from fenko.core.verbs.keys import BUTTON, Keys, Tap, Toggle
from fenko.core.verbs.text import Type
from fenko.system import xkb
from fenko.system.session import wayland_name

_US_ROWS = (
    (2, "1234567890-=", "!@#$%^&*()_+"),
    (16, "qwertyuiop[]", "QWERTYUIOP{}"),
    (30, "asdfghjkl;'`", 'ASDFGHJKL:"~'),
    (43, "\\zxcvbnm,./", "|ZXCVBNM<>?"),
)
CONTROL_CHARACTERS = {"\n": (KERNEL_KEYS["enter"],), "\t": (KERNEL_KEYS["tab"],), " ": (KERNEL_KEYS["space"],)}


class Layout(Struct, frozen=True):
    """A named layout: each character and the kernel codes that make it, modifiers first."""

    name: str
    table: dict[str, tuple[int, ...]]
    source: str

    def codes(self, key: str) -> tuple[int, ...] | None:
        """The kernel codes of a canonical key; None if this layout cannot make it."""
        if len(key) == 1:
            return self.table.get(key)
        code = key_code(key)
        return None if code is None else (code,)

    def typed(self, character: str) -> tuple[int, ...] | None:
        """The kernel codes that type a character; None if this layout cannot."""
        return self.table.get(character) or CONTROL_CHARACTERS.get(character)


def us_layout(source: str) -> Layout:
    """The plain US layout, which needs no library."""
    table: dict[str, tuple[int, ...]] = {}
    for first, plain, shifted in _US_ROWS:
        for offset, character in enumerate(plain):
            table[character] = (first + offset,)
        for offset, character in enumerate(shifted):
            table[character] = (xkb.LEFT_SHIFT, first + offset)
    return Layout("us", table, source)


@cache
def kernel_layout(wanted: str | None) -> Layout:
    """The layout that the desk names (`de`, `fr(oss)`), else the one in force on a Wayland display, else the
    system's: XKB_DEFAULT_LAYOUT, the X server's, /etc/default/keyboard, or us."""
    if not wanted and wayland_name():
        from fenko.system.seat import keymap_in_force

        keymap = keymap_in_force()
        if keymap is not None:
            return Layout(keymap.name or "unnamed", keymap.groups[0], f"Wayland display {wayland_name()}")
    name, variant, source = _named(wanted) if wanted else system_layout()
    table = xkb.layout_table(name, variant)
    if table is not None:
        return Layout(f"{name}({variant})" if variant else name, table, source)
    missing = f"layout {name} is not known here" if xkb.available() else "libxkbcommon is not on this machine"
    return us_layout(f"{source}; {missing}, so us is taken")


def is_known(wanted: str) -> bool:
    """Whether this machine knows a layout, as far as it can be asked."""
    name, variant, _ = _named(wanted)
    return not xkb.available() or xkb.layout_table(name, variant) is not None


def _named(wanted: str) -> tuple[str, str, str]:
    name, _, rest = wanted.partition("(")
    return name, rest.rstrip(")"), "the desk"


def system_layout() -> tuple[str, str, str]:
    name = os.environ.get("XKB_DEFAULT_LAYOUT", "")
    if name:
        return _first(name), _first(os.environ.get("XKB_DEFAULT_VARIANT", "")), "XKB_DEFAULT_LAYOUT"
    names = _x_server_layout()
    if names is not None:
        return (*names, f"the X server {os.environ['DISPLAY']}")
    try:
        text = Path("/etc/default/keyboard").read_text(encoding="utf-8", errors="replace")
    except OSError:
        text = ""
    found = dict(re.findall(r'^(XKB\w+)="?([^"\n]*)"?', text, re.MULTILINE))
    if found.get("XKBLAYOUT"):
        return _first(found["XKBLAYOUT"]), _first(found.get("XKBVARIANT", "")), "/etc/default/keyboard"
    return "us", "", "the default"


def _first(text: str) -> str:
    return text.split(",")[0].strip()


def _x_server_layout() -> tuple[str, str] | None:
    """Layout and variant from the X server's own note of its keyboard rules."""
    if not os.environ.get("DISPLAY"):
        return None
    from fenko.system.session import DisplayError
    from fenko.system.xserver import open_display

    try:
        display = open_display()
    except DisplayError:
        return None
    try:
        raw = display.text_property(display.root, "_XKB_RULES_NAMES")
    finally:
        display.close()
    parts = raw.split("\0")
    return (_first(parts[2]), _first(parts[3])) if len(parts) > 3 and parts[2] else None


def missing_in(layout: Layout, phrase: Phrase) -> Iterator[str]:
    """What of a phrase this layout cannot make, in words."""
    for step in phrase.steps:
        if isinstance(step, Keys | Tap | Toggle):
            for key in step.keys:
                if not key.startswith(f"{BUTTON} ") and layout.codes(key) is None:
                    yield f"the key `{key}` cannot be pressed"
        elif isinstance(step, Type):
            lost = dict.fromkeys(character for character in step.text if layout.typed(character) is None)
            if lost:
                yield f"`{''.join(lost)}` cannot be typed"
