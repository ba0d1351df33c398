"""Characters that a layout lacks on keys that make nothing else, for desktops that read layouts from files: a layout of Fenko's
own that includes the person's, in the person's folder of XKB, for as long as it is needed."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterable
from pathlib import Path

from fenko.system.xkb import LEFT_SHIFT, X_KEYCODE_OFFSET, KeyboardMap

LAYOUT = "fenko"
_BEYOND = range(0x160, 0x220)
"""Kernel codes of keys above those that the X protocol knows; between and behind them are buttons."""


class LentSymbols:
    """What is lent on top of one layout, on keys that make nothing in any: those that programs of an X server see first, plain and with
    Shift, then those beyond."""

    def __init__(self, layout: str, variant: str, base: KeyboardMap) -> None:
        self._include = f"{layout}({variant})" if variant else layout
        named = {number - X_KEYCODE_OFFSET: name for number, name in base.key_names.items()}
        parts = [[code for code in codes if code in named] for codes in (base.free, base.free_of(_BEYOND))]
        self._names = {code: named[code] for codes in parts for code in codes}
        self._free = [(code, level) for codes in parts for level in range(2) for code in codes]
        self._lent: dict[str, tuple[int, int]] = {}

    def lend(self, characters: Iterable[str]) -> bool:
        """Has a key for each of these, as long as there are any; True if the layout is another by that."""
        wanted = [one for one in dict.fromkeys(characters) if one not in self._lent][: len(self._free)]
        for character in wanted:
            self._lent[character] = self._free.pop(0)
        return bool(wanted)

    def codes(self, character: str) -> tuple[int, ...] | None:
        """The kernel codes that make a lent character, modifiers first."""
        if character not in self._lent:
            return None
        code, level = self._lent[character]
        return (LEFT_SHIFT, code) if level else (code,)

    def write(self) -> None:
        """Writes the layout's file. Raises OSError."""
        made: dict[int, list[str]] = {}
        for character, (code, level) in self._lent.items():
            made.setdefault(code, ["NoSymbol", "NoSymbol"])[level] = f"U{ord(character):04X}"
        keys = "\n".join(
            f'    key <{self._names[code]}> {{ type[Group1]="TWO_LEVEL", symbols[Group1]=[{", ".join(symbols)}] }};'
            for code, symbols in made.items()
        )
        text = (
            f'default xkb_symbols "basic" {{\n    include "{self._include}"\n    name[Group1]="Fenko";\n{keys}\n}};\n'
        )
        place = symbols_file()
        place.parent.mkdir(parents=True, exist_ok=True)
        whole = place.with_name(f".{LAYOUT}-{os.getpid()}")
        whole.write_text(text, encoding="utf-8")
        whole.replace(place)


def symbols_file() -> Path:
    """Where a person's own layout of that name is looked for."""
    return Path(os.environ.get("XDG_CONFIG_HOME") or Path.home() / ".config") / "xkb/symbols" / LAYOUT


def forget() -> None:
    """Takes the layout's file away."""
    with contextlib.suppress(OSError):
        symbols_file().unlink(missing_ok=True)
