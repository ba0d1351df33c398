"""Every verb of the phrase language, one file each or a few that belong together; `FILES` is their list."""

from __future__ import annotations

from importlib import import_module
from types import ModuleType

from fenko.core.registration import Act, Held, Said, Verb
from fenko.core.steps import Item
from fenko.core.verbs import keys

FILES = (
    "keys",
    "waiting",
    "text",
    "desk",
    "pointer",
    "value",
)
_LOADED: tuple[ModuleType, ...] = tuple(import_module(f"fenko.core.verbs.{name}") for name in FILES)

VERBS: dict[str, Verb] = {verb.word: verb for file in _LOADED for verb in file.VERBS}
"""By their words, in the order in which help tells of them."""
ACTS: dict[tuple[str, str], Act] = {(act.out, act.act): act for file in _LOADED for act in file.ACTS}
"""Every sort of effect, by its out and act."""
HELD: dict[str, Held] = {held.out: held for file in _LOADED for held in file.HELD}
"""What can be held, by its out."""
VERB_OF: dict[type[Said], Verb] = {verb.said: verb for verb in (*VERBS.values(), *keys.FORMS)}
"""The verb of each thing that can be said."""


def spelled(item: Item) -> str:
    """How a phrase spells something that can be held: `ctrl`, `button left`."""
    return HELD[item[0]].spelled(item[1])
