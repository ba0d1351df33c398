"""Typing texts."""

from __future__ import annotations

from fenko.core.reader import in_quotes
from fenko.core.registration import Act, Argument, Said, Verb
from fenko.core.steps import Send


class Type(Said, frozen=True):
    """Text that arrives as if typed, in any script."""

    text: str


TEXT = Argument(
    '"TEXT"', lambda reader, verb: reader.quoted(verb), in_quotes, ("Reel 2", "x", 'Größe "✓"\n', "東京\t\\")
)  # fmt: skip

VERBS = (
    Verb("type", Type, (TEXT,), lambda said: (Send("keys", "type", (said.text,)),), 'type "Reel 2"',
         "types a text, in any script, joined emoji included; `\\\"`, `\\\\`, `\\n` and `\\t` are what they look like"),
)  # fmt: skip
ACTS = (Act("keys", "type", ("text",), lambda text: f'types "{text}"', "what is typed"),)
HELD = ()
