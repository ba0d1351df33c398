"""Writes the tables in the docs that follow from the code: verbs and effects, from what `fenko.core.verbs` registers."""

from __future__ import annotations

import re
from pathlib import Path

from fenko.core.verbs import ACTS, VERBS

DOCS = Path(__file__).parent.parent / "docs"


def tables() -> dict[str, str]:
    """The rows of each table, by the name that its place in the docs has."""
    verbs = [f"| `{verb.example}` | {verb.help} |" for verb in VERBS.values()]
    effects = [
        f'| `{{"out": "{act.out}", "act": "{act.act}", …}}` | {", ".join(f"`{field}`" for field in act.fields)}: {act.about} |'
        for act in ACTS.values()
    ]
    return {
        "verbs": "\n".join(["| phrase | what it does |", "| --- | --- |", *verbs]),
        "effects": "\n".join(["| effect | its values |", "| --- | --- |", *effects]),
    }


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
