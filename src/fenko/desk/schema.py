"""A JSON Schema of the desk file, from the definitions that loading uses, so that editors complete and check it."""

from __future__ import annotations

from typing import Any

import msgspec

from fenko.core.controls import SHAPED, THRESHOLDS
from fenko.core.plan import GESTURES, TURN_GESTURES
from fenko.core.verbs import VERBS
from fenko.desk.model import BindingFile, desk_file


def desk_schema() -> dict[str, Any]:
    """The schema (JSON Schema 2020-12) of `desk.toml` and of the files that it includes."""
    (top, binding), definitions = msgspec.json.schema_components(
        [desk_file(), BindingFile], ref_template="#/$defs/{name}"
    )
    verbs = "; ".join(f"`{verb.example}` {verb.help}" for verb in VERBS.values())
    definitions["Phrase"] = {
        "type": "string",
        "description": f"What a binding does. Keys such as `ctrl+shift+z` or `space x3`; {verbs}. `then` joins steps.",
    }
    phrase = {"$ref": "#/$defs/Phrase"}
    properties = definitions["BindingFile"]["properties"]
    properties["do"] = phrase
    for several in ("in-turn", "at-random"):
        properties[several]["items"] = phrase
    definitions["BindingFile"]["oneOf"] = [{"required": [way]} for way in ("do", "in-turn", "at-random")]
    one = {"anyOf": [phrase, binding]}
    times = {"timing": {"$ref": "#/$defs/TimingFile"}}
    held = {"anyOf": [phrase, binding, _table({**dict.fromkeys(GESTURES, one), **times})]}
    cell = {
        "anyOf": [
            phrase,
            binding,
            _table({**dict.fromkeys([*GESTURES, *TURN_GESTURES], one), **dict.fromkeys(THRESHOLDS, held), **times}),
        ]
    }
    directions = sorted({direction for shape in SHAPED.values() for direction in shape.cells})
    cell["anyOf"][2]["properties"]["move"] = one
    axes = sorted({axis for shape in SHAPED.values() for axis in shape.axes if axis})
    definitions["Control"] = {
        "description": "A phrase, a binding, gestures, or the directions and axes of a stick, hat, dial, ring or wheel.",
        "anyOf": [*cell["anyOf"], _table({**dict.fromkeys(directions, cell), **dict.fromkeys(axes, one)})],
    }
    for owner in ("ProfileFile", "LayerFile"):
        definitions[owner]["properties"]["on"]["additionalProperties"] = {
            "type": "object",
            "additionalProperties": {"$ref": "#/$defs/Control"},
        }
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Fenko desk",
        **top,
        "$defs": definitions,
    }


def _table(properties: dict[str, Any]) -> dict[str, Any]:
    """A table of some of these settings, and no others."""
    return {"type": "object", "properties": properties, "additionalProperties": False, "minProperties": 1}
