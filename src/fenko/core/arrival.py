"""Compares what was sent with what arrived in a window."""

from __future__ import annotations

from collections.abc import Iterable
from math import inf

from fenko.core.changes import Effect
from fenko.core.keys import KEY_FOR_CODE, MODIFIERS, NAMED_KEYS, format_key, key_code
from fenko.core.phrase import Phrase
from fenko.core.seen import KeyView
from fenko.core.verbs.keys import BUTTON, Keys
from fenko.core.verbs.text import Type

PATIENCE = 0.5
"""Seconds in which a key arrives, if it does."""
_COLUMN = 28


class _Sent:
    """A key that is under way: what it is called, which modifiers go with it, and until when it has to arrive."""

    def __init__(self, key: str, modifiers: frozenset[str], words: str, due: float) -> None:
        self.key = key
        self.modifiers = modifiers
        self.words = words
        self.due = due


class Arrivals:
    """Everything that was sent, until it has arrived or is overdue. Mouse buttons are left out: they go to whatever is
    under the pointer."""

    def __init__(self) -> None:
        self._view = KeyView()
        self._under_way: list[_Sent] = []
        self.count = 0
        self.lost = 0

    @property
    def due(self) -> float:
        """When the next key is overdue; inf if none is under way."""
        return min((one.due for one in self._under_way), default=inf)

    def sent(self, effects: Iterable[Effect], now: float) -> None:
        """Takes note of what is being sent."""
        for step in self._view.see(effects):
            if isinstance(step, Type):
                for character in step.text:
                    self._expect(character, frozenset(), f'"{character}" of "{step.text}"', now)
            elif isinstance(step, Keys):
                modifiers = frozenset(_side(key) for key in step.keys if key in MODIFIERS)
                others = [key for key in step.keys if key not in MODIFIERS and not key.startswith(f"{BUTTON} ")]
                for key in others or step.keys[-1:]:
                    if not key.startswith(f"{BUTTON} "):
                        self._expect(key, modifiers - {_side(key)}, str(Phrase((step,))), now)

    def _expect(self, key: str, modifiers: frozenset[str], words: str, now: float) -> None:
        self.count += 1
        self._under_way.append(_Sent(key, modifiers, words, now + PATIENCE))

    def arrived(self, code: int, characters: Iterable[str | None], modifiers: Iterable[str]) -> list[str]:
        """A key came: its kernel code, the characters that it makes without Shift and with it, and the modifiers that
        were down. The lines that tell so."""
        named = KEY_FOR_CODE.get(code, f"key {code}")
        plain, shifted = [*characters, None, None][:2]
        held = [name for name in modifiers if name != _side(named)]
        is_modifier = named in MODIFIERS
        shown = "+".join([*held, format_key(named if named in NAMED_KEYS else plain or named)])
        for number, one in enumerate(self._under_way):
            of_shift = one.key == shifted and "shift" in held
            if key_code(one.key) != code and one.key not in (plain, named) and not of_shift:
                continue
            if not one.modifiers <= set(held):
                continue
            if len(one.key) == 1 and not one.key.isspace():  # by the character, for it may come from any key
                shown = "+".join([*(name for name in held if not (of_shift and name == "shift")), one.key])
            lines = [_line(other.words, "", "LOST") for other in self._under_way[:number]]
            self.lost += number
            del self._under_way[: number + 1]
            return [*lines, _line(one.words, shown, "")]
        return [] if is_modifier else [_line("", shown, "not sent by this desk just now")]

    def overdue(self, now: float) -> list[str]:
        """The lines for what should have arrived by now."""
        late = [one for one in self._under_way if one.due <= now]
        self._under_way = [one for one in self._under_way if one.due > now]
        self.lost += len(late)
        return [_line(one.words, "", "LOST") for one in late]


def _side(key: str) -> str:
    """A modifier, whichever side it is on."""
    return key.removeprefix("right")


def column_titles() -> str:
    """The titles above the lines."""
    return _line("sent", "arrived", "")


def _line(sent: str, arrived: str, remark: str) -> str:
    return f"{sent:<{_COLUMN}}{arrived or '-':<24}{remark}".rstrip()
