"""Shortcut lists: the commands of a program and the keys that they have there, as CSV (command, keys, group, note)."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Iterator
from pathlib import Path

from msgspec import Struct

from fenko.core.phrase import Phrase, parse_phrase
from fenko.core.reader import PhraseError
from fenko.core.registration import Said
from fenko.core.verbs.keys import Command, Keys
from fenko.core.verbs.text import Type
from fenko.core.verbs.waiting import Wait
from fenko.core.words import nearest, reason
from fenko.desk.problems import Problem
from fenko.system.files import read_file

COLUMNS = ("command", "keys", "group", "note")
LARGEST = 4_000_000
"""Bytes of a list."""


class Shortcut(Struct, frozen=True):
    """One command. `phrase` is None where the program gives it no keys."""

    command: str
    phrase: Phrase | None = None
    group: str = ""
    note: str = ""
    line: int = 0

    @property
    def keys(self) -> str:
        """The keys in words; empty where there are none."""
        return str(self.phrase) if self.phrase is not None else ""


class ShortcutList(Struct, frozen=True):
    """All commands of one program, by the name that a desk gives it. `broken`: something in its file is wrong, so it may
    lack commands."""

    app: str
    path: Path
    shortcuts: tuple[Shortcut, ...]
    by_name: dict[str, Shortcut]
    broken: bool = False

    def find(self, command: str) -> Shortcut | None:
        """The command of that name; case does not matter."""
        return self.by_name.get(folded(command))

    def search(self, words: Iterable[str]) -> list[Shortcut]:
        """The commands in which every word is found: in the name, the keys, the group or the note. Those whose name
        begins with the words come first."""
        wanted = [word.casefold() for word in words]
        text = " ".join(wanted)
        found = [one for one in self.shortcuts if all(word in _all_of(one) for word in wanted)]
        return sorted(
            found, key=lambda one: (not folded(one.command).startswith(text), text not in folded(one.command))
        )

    def doing(self, phrase: Phrase) -> Shortcut | None:
        """The command that has just these keys."""
        wanted = _same(phrase)
        return next((one for one in self.shortcuts if one.phrase is not None and _same(one.phrase) == wanted), None)

    def text(self) -> str:
        """The list as its file says it."""
        return list_text(self.shortcuts)


def list_text(shortcuts: Iterable[Shortcut]) -> str:
    """Shortcuts as a CSV file."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(COLUMNS)
    for one in shortcuts:
        writer.writerow((one.command, one.keys, one.group, one.note))
    return out.getvalue()


def _all_of(one: Shortcut) -> str:
    return f"{one.command} {one.keys} {one.group} {one.note}".casefold()


def folded(command: str) -> str:
    """A command's name without what does not matter."""
    return " ".join(command.split()).casefold()


def _same(phrase: Phrase) -> tuple[object, ...]:
    """What two phrases that press the same keys have in common."""
    return tuple((frozenset(step.keys), step.times) if isinstance(step, Keys) else step for step in phrase.steps)


def read_list(app: str, path: Path) -> tuple[ShortcutList, list[Problem]]:
    """The list in a CSV file, with everything that is wrong with it."""
    problems: list[Problem] = []
    empty = ShortcutList(app, path, (), {}, broken=True)
    try:
        if path.stat().st_size > LARGEST:
            return empty, [Problem(str(path), 0, 0, f"this list is longer than {LARGEST // 1_000_000} MB")]
        text = read_file(path).decode("utf-8-sig")
    except OSError as why:
        return empty, [Problem(str(path), 0, 0, f"cannot be read: {reason(why)}")]
    except UnicodeDecodeError:
        return empty, [Problem(str(path), 0, 0, "this is not UTF-8 text", expected="a file saved as UTF-8")]
    lines = text.splitlines()
    reader = csv.reader(io.StringIO(text, newline=""), strict=True)
    rows: list[tuple[int, list[str]]] = []
    try:
        before = 0
        for row in reader:
            rows.append((before + 1, row))
            before = reader.line_num
    except csv.Error as why:
        return empty, [Problem(str(path), max(1, reader.line_num), 1, f"this is not CSV: {why}")]
    rows = [(number, [cell.strip() for cell in row]) for number, row in rows if any(map(str.strip, row))]
    head = [cell.casefold() for cell in rows[0][1]] if rows else []
    if "command" not in head or "keys" not in head:
        missing = "command" if "command" not in head else "keys"
        message = f"the first line names the columns, and `{missing}` is missing"
        return empty, [
            Problem(str(path), 1, 1, message, expected=",".join(COLUMNS), source=lines[0] if lines else None)
        ]

    def fault(line: int, cell: str, message: str, offset: int = 0, length: int = 0, hint: str | None = None) -> None:
        source = lines[line - 1] if line <= len(lines) else ""
        column = max(0, source.find(cell)) + offset + 1
        problems.append(Problem(str(path), line, column, message, max(1, length or len(cell)), None, hint, source))

    found: list[Shortcut] = []
    by_name: dict[str, Shortcut] = {}
    for line, row in rows[1:]:
        cells = dict(zip(head, row, strict=False))
        command, keys = " ".join(cells.get("command", "").split()), cells.get("keys", "")
        if not command:
            fault(line, ",", "this line names no command")
            continue
        if folded(command) in by_name:
            fault(line, cells["command"], f"`{command}` stands in line {by_name[folded(command)].line} already")
            continue
        phrase: Phrase | None = None
        try:
            phrase = parse_phrase(keys) if keys else None
        except PhraseError as why:
            fault(line, keys, str(why), why.offset, why.length, why.hint)
            continue
        if phrase is not None and not all(isinstance(step, Keys | Type | Wait) for step in phrase.steps):
            fault(line, keys, "a shortcut consists of keys")
            continue
        one = Shortcut(command, phrase, cells.get("group", ""), cells.get("note", ""), line)
        found.append(one)
        by_name[folded(command)] = one
    return ShortcutList(app, path, tuple(found), by_name, bool(problems)), problems


class UnknownCommand(ValueError):
    """A command that no list knows. `word` is what is wrong, `hint` the nearest name."""

    def __init__(self, message: str, word: str, hint: str | None, app: str) -> None:
        super().__init__(message)
        self.app = app
        self.word = word
        self.hint = hint


def resolved(phrase: Phrase, lists: dict[str, ShortcutList]) -> Phrase:
    """The phrase with each command's keys in its place. Raises UnknownCommand."""
    for step in phrase.steps:
        if isinstance(step, Command):
            return Phrase(tuple(_resolved(phrase, lists)))
    return phrase


def _resolved(phrase: Phrase, lists: dict[str, ShortcutList]) -> Iterator[Said]:
    for step in phrase.steps:
        if not isinstance(step, Command):
            yield step
            continue
        found = lists.get(step.app)
        if found is None:
            known = ", ".join(lists) or "a [app.NAME] with `shortcuts`"
            raise UnknownCommand(
                f"the desk has no shortcut list `{step.app}`; expected {known}",
                step.app,
                nearest(step.app, lists),
                step.app,
            )
        command = found.find(step.command)
        if command is None:
            hint = nearest(folded(step.command), found.by_name)
            name = found.by_name[hint].command if hint else None
            raise UnknownCommand(f"{found.path.name} has no command `{step.command}`", step.command, name, step.app)
        if command.phrase is None:
            raise UnknownCommand(f"`{command.command}` has no keys in {found.path.name}", step.command, None, step.app)
        keys = command.phrase.steps[0]
        if len(command.phrase.steps) == 1 and isinstance(keys, Keys):
            yield Keys(keys.keys, keys.times * step.times, step.every if step.every is not None else keys.every)
        elif step.every is not None:
            raise UnknownCommand(
                f"`{command.command}` is more than one shortcut ({command.keys}), so it cannot go on every so often",
                step.command, None, step.app,
            )  # fmt: skip
        else:
            for _ in range(step.times):
                yield from command.phrase.steps
