"""Reads lists of shortcuts as programs export or print them (CSV, TSV, JSON), and guesses what each column is."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

import msgspec
from msgspec import Struct, structs

from fenko.core.keys import MODIFIERS, UnknownKey, canonical_key, other_words
from fenko.core.phrase import Phrase, parse_phrase
from fenko.core.reader import PhraseError
from fenko.core.verbs.keys import Keys
from fenko.core.words import reason
from fenko.desk.shortcuts import COLUMNS, Shortcut, folded
from fenko.system.files import read_file

_HEADINGS: dict[str, tuple[str, ...]] = {
    "command": ("command", "action", "name", "function", "title", "description of command", "operation", "what"),
    "keys": ("current", "current shortcut", "current keys", "keys", "key", "shortcut", "shortcuts", "hotkey", "hotkeys", "accelerator", "key sequence", "binding",
             "keybinding", "keystroke", "default shortcut", "default"),
    "group": ("group", "category", "context", "section", "menu", "area", "scope", "component"),
    "note": ("note", "notes", "comment", "comments", "description", "help", "remark"),
}  # fmt: skip
"""What exporting programs call each column, in lower case; the first that fits wins."""

_SIGNS = {"⌘": "super ", "⌃": "ctrl ", "⌥": "alt ", "⇧": "shift ", "⌫": " backspace", "⌦": " delete", "⏎": " enter",
          "↩": " enter", "⎋": " esc", "⇥": " tab", "←": " left", "→": " right", "↑": " up", "↓": " down",
          "␣": " space", "⇞": " pageup", "⇟": " pagedown"}  # fmt: skip
_NAMES = {"ctl": "ctrl", "opt": "alt", "windows": "super", "alt gr": "rightalt", "page up": "pageup",
          "page down": "pagedown", "pgdn": "pagedown", "caps lock": "capslock", "scroll lock": "scrolllock", "num lock": "numlock",
          "print screen": "sysrq", "printscreen": "sysrq", "prtsc": "sysrq", "left arrow": "left", "right arrow": "right", "up arrow": "up",
          "down arrow": "down", "arrow left": "left", "arrow right": "right", "arrow up": "up", "arrow down": "down",
          "space bar": "space", "back space": "backspace", "equals": "=", "period": ".", "backtick": "`",
          "numpad enter": "kpenter", "num enter": "kpenter", "num +": "kpplus", "num -": "kpminus", "num *": "kpasterisk",
          "num /": "kpslash", "num .": "kpdot", "pause": "break"}  # fmt: skip
_KEYPAD = re.compile(r"(?:num|numpad|kp|keypad)[ _]?(\d)")
_ALTERNATIVES = re.compile(r"\s+/\s+|\s+or\s+|\s*\|\s*|\s*;\s+|,\s+")
_LARGEST = 8_000_000  # bytes


class ImportFailed(Exception):
    """A list that cannot be read; the message says why."""


class Table(Struct, frozen=True):
    """A list as it was found: the titles of its columns, its rows, and what a person should know of how it was read."""

    titles: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    remark: str = ""


class Imported(Struct, frozen=True):
    """What came of a table: the shortcuts, and the rows of which the keys could not be read, or the name was there
    already, with the reason."""

    shortcuts: tuple[Shortcut, ...]
    left_out: tuple[tuple[str, str], ...]


# --- Keys as people and programs write them ---


def keys_from(text: str) -> Phrase | None:
    """The keys that a text such as `Ctrl+Shift+Z`, `⌘Z`, `Ctrl-K Ctrl-S` or `Num 5` means; None if it means none."""
    for sign, word in _SIGNS.items():
        text = text.replace(sign, word)
    text = " ".join(text.split()).lower()
    if not text:
        return None
    chords: list[list[str]] = [[]]
    for word in _words(text):
        key = _key(word)
        if key is None:
            return None
        if chords[-1] and chords[-1][-1] not in MODIFIERS:
            chords.append([])
        if key in chords[-1]:
            return None
        chords[-1].append(key)
    return Phrase(tuple(Keys(tuple(chord)) for chord in chords)) if chords[0] else None


def _words(text: str) -> Iterator[str]:
    """The keys in a text: joined by `+`, by `-` after a word, or by blanks; names of two words stay together."""
    parts = re.split(r"(?<=[^\s+])\s*\+\s*(?=\S)|(?<=[a-z]{2})-(?=\S)|\s+", text)
    at = 0
    while at < len(parts):
        two = " ".join(parts[at : at + 2])
        if at + 1 < len(parts) and (two in _NAMES or _KEYPAD.fullmatch(two)):
            yield two
            at += 2
        else:
            if parts[at]:
                yield parts[at]
            at += 1


def _key(word: str) -> str | None:
    keypad = _KEYPAD.fullmatch(word)
    if keypad is not None:
        return f"kp{keypad[1]}"
    if word == "+":
        return "+"
    word = _NAMES.get(word, word)
    try:
        return canonical_key(other_words().get(word, word))
    except UnknownKey:
        return None


def first_keys(text: str) -> tuple[Phrase | None, str]:
    """The first of several shortcuts that a text gives, and the rest as it stands there."""
    own = _own_form(text)
    whole = own or (keys_from(text) if _BOTH.search(text) is None else None)
    if whole is not None:
        return whole, ""
    first, *rest = _ALTERNATIVES.split(text.strip(), maxsplit=1)
    return keys_from(first), " ".join(rest)


_BOTH = re.compile(r"\S\s+/\s+\S")


def _own_form(text: str) -> Phrase | None:
    """Keys in the form in which Fenko writes several of them: `m then 1`."""
    if " then " not in text:
        return None
    try:
        phrase = parse_phrase(text.strip())
    except PhraseError:
        return None
    return phrase if all(isinstance(step, Keys) for step in phrase.steps) else None


# --- Tables ---


def read_table(path: Path) -> Table:
    """The table in a file: JSON if it is that, else separated by tabs, semicolons or commas. Raises ImportFailed."""
    try:
        if path.stat().st_size > _LARGEST:
            raise ImportFailed(f"{path} is too long for a list of shortcuts")
        raw = read_file(path)
    except OSError as why:
        raise ImportFailed(f"{path} cannot be read: {reason(why)}") from None
    remark = ""
    try:
        text = raw.decode("utf-16" if raw[:2] in (b"\xff\xfe", b"\xfe\xff") else "utf-8-sig")
    except UnicodeDecodeError:
        text = raw.decode("cp1252", "replace")
        remark = "this is not UTF-8; it was read as Latin-1 (Windows-1252)"
    if not text.strip():
        raise ImportFailed(f"{path} is empty")
    if text.lstrip()[0] in "[{":
        try:
            return _from_json(msgspec.json.decode(text))
        except (msgspec.DecodeError, RecursionError) as why:
            raise ImportFailed(f"{path} begins like JSON, and is none: {why}") from None
    return structs.replace(_from_lines(path, text), remark=remark)


def _from_lines(path: Path, text: str) -> Table:
    first = text.lstrip().split("\n", 10)[:10]
    separator = max("\t;,", key=lambda one: sum(one in line for line in first))
    try:
        rows = [
            row for row in csv.reader(io.StringIO(text, newline=""), delimiter=separator) if any(map(str.strip, row))
        ]
    except csv.Error as why:
        raise ImportFailed(f"{path} is no table: {why}") from None
    most = max((len(row) for row in rows), default=0)
    if most < 2:
        raise ImportFailed(
            f"{path} has no two columns; a list has at least commands and keys, with a comma or tab between"
        )
    filled = [tuple(cell.strip() for cell in row) + ("",) * (most - len(row)) for row in rows]
    known = {word for words in _HEADINGS.values() for word in words}
    # What stands above the header, such as the title of the list, is no row.
    header = next((n for n, row in enumerate(filled[:5]) if sum(cell.casefold() in known for cell in row) >= 2), 0)
    filled = filled[header:]
    headed = sum(cell.casefold() in known for cell in filled[0]) >= 2 or (
        any(cell.casefold() in known for cell in filled[0]) and not any(_looks_like_keys(cell) for cell in filled[0])
    )
    titles = filled[0] if headed else tuple(f"column {number + 1}" for number in range(most))
    return Table(titles, tuple(filled[1:] if headed else filled))


def _from_json(data: Any) -> Table:
    entries = list(_entries(data, ""))
    if not entries:
        raise ImportFailed("this JSON holds no list of shortcuts")
    titles = tuple(dict.fromkeys(title for entry in entries for title in entry))
    return Table(titles, tuple(tuple(entry.get(title, "") for title in titles) for entry in entries))


def _entries(data: Any, group: str) -> Iterator[dict[str, str]]:
    """The entries of nested lists and objects; names on the way become the group."""
    within = {"group": group} if group else {}
    if isinstance(data, list):
        for item in data:
            yield from _entries(item, group)
    elif isinstance(data, dict):
        plain = {str(name): _text(value) for name, value in data.items() if not _is_nested(value)}
        known = {word for words in _HEADINGS.values() for word in words}
        if any(name.casefold() in known for name in plain):
            yield within | plain
        else:
            for name, text in plain.items():
                yield within | {"command": name, "keys": text}
        for name, value in data.items():
            if _is_nested(value):
                yield from _entries(value, str(name))


def _is_nested(value: Any) -> bool:
    return isinstance(value, dict) or (isinstance(value, list) and any(isinstance(item, dict | list) for item in value))


def _text(value: Any) -> str:
    if isinstance(value, list):
        return ", ".join(map(str, value))
    return "" if value is None else str(value)


# --- What is in which column ---


def _looks_like_keys(cell: str) -> bool:
    return keys_from(cell) is not None and bool(re.search(r"\+|-|ctrl|alt|shift|^f\d+$|[⌘⌃⌥⇧]", cell.casefold()))


def guess_columns(table: Table) -> dict[str, int]:
    """What each of `COLUMNS` is in the table; command and keys are there, if anything is."""
    found: dict[str, int] = {}
    for column in COLUMNS:
        for heading in _HEADINGS[column]:
            at = next((n for n, title in enumerate(table.titles) if title.casefold() == heading), None)
            if at is not None and at not in found.values():
                found[column] = at
                break
    cells = [[row[number] for row in table.rows if row[number]] for number in range(len(table.titles))]
    if "keys" not in found:
        shares = {
            n: sum(map(_looks_like_keys, column)) / len(column)
            for n, column in enumerate(cells)
            if column and n not in found.values()
        }
        best = max(shares, key=lambda n: shares[n], default=None)
        if best is not None and shares[best] > 0:
            found["keys"] = best
    if "command" not in found:
        rest = [n for n in range(len(cells)) if n not in found.values() and cells[n]]
        best = max(rest, key=lambda n: (len(set(cells[n])), -n), default=None)
        if best is not None:
            found["command"] = best
    for number, filled in enumerate(cells):
        if "group" not in found and filled and number not in found.values() and len(set(filled)) * 2 <= len(filled):
            found["group"] = number
    rest = [n for n in range(len(cells)) if n not in found.values() and cells[n]]
    if rest and "note" not in found:
        found["note"] = rest[0]
    return found


def named_columns(table: Table, text: str) -> dict[str, int]:
    """Columns as a person names them: `command=Name,keys=2`, by title or number. Raises ImportFailed."""
    found: dict[str, int] = {}
    for part in text.split(","):
        column, _, title = (piece.strip() for piece in part.partition("="))
        if column not in COLUMNS:
            raise ImportFailed(f"`{column}` is none of {', '.join(COLUMNS)}")
        titles = [one.casefold() for one in table.titles]
        if title.casefold() in titles:
            found[column] = titles.index(title.casefold())
        elif title.isascii() and title.isdigit() and 1 <= int(title) <= len(titles):
            found[column] = int(title) - 1
        else:
            raise ImportFailed(f"the list has no column `{title}`; it has {', '.join(table.titles)}")
    for column, at in found.items():
        other = next((one for one, place in found.items() if place == at and one != column), None)
        if other is not None:
            raise ImportFailed(f"`{column}` and `{other}` cannot both be {table.titles[at]}")
    return found


def imported(table: Table, columns: dict[str, int]) -> Imported:
    """The shortcuts of a table. Keys that cannot be read are kept in the note."""
    found: dict[str, Shortcut] = {}
    left_out: list[tuple[str, str]] = []
    for row in table.rows:
        cells = {column: " ".join(row[at].split()) for column, at in columns.items()}
        command, text = cells.get("command", ""), cells.get("keys", "")
        if not command:
            continue
        if folded(command) in found:
            left_out.append((command, "it stands there twice; the first one is kept"))
            continue
        phrase, rest = first_keys(text)
        notes = [cells.get("note", ""), f"also {rest}" if rest and phrase is not None else ""]
        if text and phrase is None:
            left_out.append((command, f"`{text}` cannot be read as keys; the command is kept without"))
            notes.append(f"keys there: {text}")
        found[folded(command)] = Shortcut(command, phrase, cells.get("group", ""), "; ".join(filter(None, notes)))
    return Imported(tuple(found.values()), tuple(left_out))


def sample(table: Table, columns: dict[str, int], most: int = 4) -> Iterable[tuple[str, ...]]:
    """The first rows as they would be read, for a person to confirm."""
    for one in imported(table, columns).shortcuts[:most]:
        yield one.command, one.keys, one.group, one.note
