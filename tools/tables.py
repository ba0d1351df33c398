"""Writes the tables in the docs that follow from the code: verbs and effects, from what `fenko.core.verbs` registers."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any, get_args, get_origin

from msgspec import Meta

from fenko.core.verbs import ACTS, OUTPUTS, VERBS
from fenko.desk.structure import fields
from fenko.integrations import load

load()
DOCS = Path(__file__).parent.parent / "docs"


def tables() -> dict[str, str]:
    """The rows of each table, by the name that its place in the docs has."""
    verbs = [f"| `{verb.example}` | {verb.help} |" for verb in VERBS.values()]
    effects = [
        f'| `{{"out": "{act.out}", "act": "{act.act}", …}}` | {", ".join(f"`{field}`" for field in act.fields)}: {act.about} |'
        for act in ACTS.values()
    ]
    outputs = [
        f"| {output.title} | {output.help} | {', '.join(f'`{verb.word}`' for verb in output.verbs)} | "
        f"{', '.join(f'`[{_heading(name, kind)}]`' for name, kind in output.tables.items())} |"
        for output in OUTPUTS.values()
    ]
    settings = [
        f"| `[{_heading(name, kind)}]` | `{setting}` | {_described(what)} |"
        for output in OUTPUTS.values()
        for name, kind in output.tables.items()
        for setting, what in fields(get_args(kind)[1] if get_origin(kind) is dict else kind).items()
        if setting != "note"
    ]
    return {
        "outputs": "\n".join(["| output | what it is | verbs | its tables |", "| --- | --- | --- | --- |", *outputs]),
        "output settings": "\n".join(["| table | setting | what it says |", "| --- | --- | --- |", *settings]),
        "verbs": "\n".join(["| phrase | what it does |", "| --- | --- |", *verbs]),
        "effects": "\n".join(["| effect | its values |", "| --- | --- |", *effects]),
    }


def _heading(name: str, kind: Any) -> str:
    return f"{name}.NAME" if get_origin(kind) is dict else name


def _described(kind: Any) -> str:
    """What a setting says, from wherever its type has it."""
    if isinstance(kind, Meta):
        return (kind.description or "").replace("|", "\\|")
    return next(filter(None, map(_described, get_args(kind))), "")


def filled(text: str) -> str:
    """A page with its tables as they have to be."""
    for name, rows in tables().items():
        text = re.sub(
            rf"(<!-- {name} -->\n).*?(<!-- end -->)", lambda m, rows=rows: f"{m[1]}\n{rows}\n\n{m[2]}", text, flags=re.S
        )
    return text


if __name__ == "__main__":
    for page in DOCS.glob("*.md"):
        page.write_text(filled(page.read_text()))
