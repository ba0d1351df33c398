"""`fenko values`: what the running desk's values are, and where its controls stand."""

from __future__ import annotations

import contextlib
from typing import Any

import click

from fenko.cli.shared import dim, fail, format_option, say, say_json, show_json, show_table
from fenko.core.registration import fact_words
from fenko.core.verbs import OUTPUTS
from fenko.integrations import load
from fenko.system.talking import NobodyThere, Refused, Talk


@click.command()
@format_option("table", "json")
@click.option("--follow", is_flag=True, help="Print each change as it comes, until Ctrl-C; with json a line each.")
def command(form: str, follow: bool) -> None:
    """Print the values of the running desk, and where each of its controls is: pressed, in percent, and in the range
    that the desk shows it in.

    A control is known from its first move on. With --follow a line for everything that changes.
    """
    try:
        talk = Talk()
        with contextlib.closing(talk):
            if follow:
                _follow(talk, form)
                return
            (state,) = talk.ask("values")
    except (NobodyThere, Refused) as why:
        fail(str(why))
    if form == "json":
        show_json(state)
        return
    rows = [(name, f"{one['value']:g}{one['unit']}", _range(one)) for name, one in state["values"].items()]
    if rows:
        show_table(("value", "is", "of"), rows)
    controls = state["controls"]
    if controls:
        if rows:
            say("")
        places = [(name, _where(one), _shows(one), one.get("raw", "")) for name, one in controls.items()]
        show_table(("control", "is", "shows", "raw"), places)
    ends = [
        (f"{out} {name}", _in_words(out, fact))
        for out, facts in state["outputs"].items()
        for name, fact in facts.items()
    ]
    if ends:
        if rows or controls:
            say("")
        show_table(("other end", "is"), ends)
    if not rows and not controls and not ends:
        say(dim("the desk has no values, and no control has moved yet"))


def _in_words(out: str, fact: dict[str, Any]) -> str:
    """How something stands at another end; the running desk may have outputs that are unknown here."""
    load()
    return OUTPUTS[out].in_words(fact) if out in OUTPUTS else fact_words()(fact)


def _range(one: dict[str, Any]) -> str:
    return f"{one['range'][0]:g} to {one['range'][1]:g}"


def _where(one: dict[str, Any]) -> str:
    return "pressed" if one.get("pressed") else f"{one['at'] * 100:.0f}%"


def _shows(one: dict[str, Any]) -> str:
    return "" if "shows" not in one or one["shows"] == one["at"] * 100 else f"{one['shows']:g}"


def _follow(talk: Talk, form: str) -> None:
    before: dict[str, dict[str, Any]] = {"values": {}, "controls": {}}
    seen: dict[tuple[str, str], dict[str, Any]] = {}
    try:
        for state in talk.ask("values", follow=True):
            if form == "json":
                say_json(state)
                continue
            for name, one in state["values"].items():
                if one != before["values"].get(name):
                    say(f"{name} = {one['value']:g}{one['unit']}")
            for name, one in state["controls"].items():
                if one != before["controls"].get(name):
                    say(f"{name} {_where(one)} {_shows(one)}".rstrip())
            for out, facts in state["outputs"].items():
                for name, fact in facts.items():
                    told = {key: value for key, value in fact.items() if key != "position"}
                    if told != seen.get((out, name)):
                        seen[out, name] = told
                        say(f"{out} {name} {_in_words(out, fact)}")
            for name in before["controls"].keys() - state["controls"].keys():
                say(f"{name} let go")
            before = state
    except KeyboardInterrupt:
        return
