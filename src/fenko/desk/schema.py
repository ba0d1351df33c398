"""A JSON Schema of the desk file, from the definitions that loading uses, so that editors complete and check it."""

from __future__ import annotations

from typing import Any

import msgspec

from fenko.core.controls import SHAPED
from fenko.core.phrase import VERBS
from fenko.core.plan import GESTURES
from fenko.desk.model import BindingFile, DeskFile


def desk_schema() -> dict[str, Any]:
    """The schema (JSON Schema 2020-12) of `desk.toml` and of the files that it includes."""
    (top, binding), definitions = msgspec.json.schema_components([DeskFile, BindingFile], ref_template="#/$defs/{name}")
    verbs = "; ".join(f"`{verb.example}` {verb.help}" for verb in VERBS.values())
    definitions["Phrase"] = {
        "type": "string",
        "description": f"What a binding does. Keys such as `ctrl+shift+z` or `space x3`; {verbs}. `then` joins steps.",
    }
    definitions["BindingFile"]["properties"]["do"] = {"$ref": "#/$defs/Phrase"}
    one = {"anyOf": [{"$ref": "#/$defs/Phrase"}, binding]}
    gestures = {
        "type": "object",
        "properties": dict.fromkeys(GESTURES, one),
        "additionalProperties": False,
        "minProperties": 1,
    }
    cell = {"anyOf": [{"$ref": "#/$defs/Phrase"}, binding, gestures]}
    directions = sorted({direction for shape in SHAPED.values() for direction in shape.directions})
    definitions["Control"] = {
        "description": "A phrase, a binding, gestures, or the directions of a stick, hat, dial, ring or wheel.",
        "anyOf": [
            *cell["anyOf"],
            {
                "type": "object",
                "properties": dict.fromkeys(directions, cell),
                "additionalProperties": False,
                "minProperties": 1,
            },
        ],
    }
    definitions["ProfileFile"]["properties"]["on"]["additionalProperties"] = {
        "type": "object",
        "additionalProperties": {"$ref": "#/$defs/Control"},
    }
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Fenko desk",
        **top,
        "$defs": definitions,
    }
