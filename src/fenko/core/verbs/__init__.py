"""Every verb of the phrase language, one file each or a few that belong together; `FILES` is their list. Outputs bring
verbs of their own (`register`)."""

from __future__ import annotations

from importlib import import_module
from types import ModuleType

from fenko.core.keys import NAMED_KEYS
from fenko.core.registration import Act, Held, Output, Said, Target, Verb
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
TARGETS: dict[str, Target] = {target.out: target for file in _LOADED for target in getattr(file, "TARGETS", ())}
"""Numbers that controls can drive, by their out."""
VERB_OF: dict[type[Said], Verb] = {verb.said: verb for verb in (*VERBS.values(), *keys.FORMS)}
"""The verb of each thing that can be said."""
OUTPUTS: dict[str, Output] = {}
"""Every output that has been registered, by its name."""
OUTPUT_OF: dict[type[Said], Output] = {}
"""The output of each thing that can be said which belongs to one."""


class AlreadyTaken(ValueError):
    """An output brings a word, or an out, that another one has."""


def register(output: Output) -> None:
    """Makes an output known; before the first phrase is read. Raises AlreadyTaken, and nothing is changed."""
    taken = [verb.word for verb in output.verbs if verb.word in VERBS or verb.word in NAMED_KEYS]
    taken += [act.out for act in output.acts if (act.out, act.act) in ACTS]
    if output.name in OUTPUTS or taken:
        raise AlreadyTaken(f"the output `{output.name}` cannot have {', '.join(taken) or 'its name'}: it is taken")
    OUTPUTS[output.name] = output
    for verb in output.verbs:
        VERBS[verb.word] = verb
        VERB_OF[verb.said] = verb
        OUTPUT_OF[verb.said] = output
    ACTS.update({(act.out, act.act): act for act in output.acts})
    HELD.update({held.out: held for held in output.held})
    TARGETS.update({target.out: target for target in output.targets})


def spelled(item: Item) -> str:
    """How a phrase spells something that can be held, or a number: `ctrl`, `button left`, `volume`."""
    out, name = item
    return HELD[out].spelled(name) if out in HELD else TARGETS[out].spelled(name)
