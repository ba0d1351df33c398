"""The files of a desk: reading and including them, laying them together, and placing problems in them."""

from __future__ import annotations

import hashlib
import os
import re
import tomllib
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from fenko.core.words import reason
from fenko.desk.locate import KeyPath, Place, line_and_column, locate
from fenko.desk.problems import Problem
from fenko.system.files import read_file, real_path

MAIN_FILE = "desk.toml"
_POSITION = re.compile(r" \(at (?:line (\d+), column (\d+)|end of document)\)")
DEEPEST = 32
"""Tables and lists in one another; beyond that nothing of a desk can be meant."""
_LISTED = "expect"
"""The one list that every file of a desk may add to."""
_ESCAPE = re.compile(r"\\(?:u[0-9a-fA-F]{4}|U[0-9a-fA-F]{8}|.)")


class SourceFile:
    """One file of a desk, as a text."""

    def __init__(self, path: Path, text: str) -> None:
        self.path = path
        self.text = text
        self._places: dict[KeyPath, Place] | None = None

    @property
    def places(self) -> dict[KeyPath, Place]:
        """Where everything stands in it."""
        if self._places is None:
            self._places = locate(self.text)
        return self._places


class Sources:
    """All files of one desk. `data` is what they say together; `problems` what is wrong with them. `instead` has texts
    that some files, by their resolved paths, are read as having."""

    def __init__(self, folder: Path, instead: Mapping[Path, str] | None = None) -> None:
        self.given = folder
        """What was asked for: a folder, or a file in it."""
        self.folder = folder
        self._instead = instead or {}
        self.files: list[SourceFile] = []
        self.data: dict[str, Any] = {}
        self._resolved: set[Path] = set()
        self._listed: list[tuple[SourceFile, int]] = []
        self.problems: list[Problem] = []
        self.digests: dict[str, str] = {}
        """Every file that the desk was read from, or would be if it were there, with what tells its text from others."""

    def read(self) -> None:
        """Reads `desk.toml` and everything that it includes."""
        main = self.folder / MAIN_FILE
        expected = f"a folder that holds a {MAIN_FILE}; `fenko new` makes a first one, `fenko demo --keep DIR` copies one to look at"
        # os.path asks without raising, also where a folder above may not be entered.
        if not os.path.lexists(self.folder):
            self._file_problem(self.folder, "there is no such folder, or it may not be entered", expected)
        elif not os.path.isdir(self.folder):
            self.folder, main = self.folder.parent, self.folder
            self._read_file(main)
        elif not os.access(self.folder, os.X_OK):
            self._file_problem(self.folder, "this folder may not be entered by this user", expected)
        elif not os.path.lexists(main):
            self.digests[str(main)] = ""
            self._file_problem(self.folder, f"this folder has no {MAIN_FILE}", expected)
        else:
            self._read_file(main)

    def _file_problem(self, path: Path, message: str, expected: str | None = None) -> None:
        self.problems.append(Problem(str(path), 0, 0, message, expected=expected))

    def _read_file(self, path: Path) -> None:
        self._resolved.add(real_path(path))
        text = self._read_text(path)
        if text is None:
            return
        try:
            data = tomllib.loads(text)
        except RecursionError:
            self._file_problem(
                path, f"this is nested too deeply to be a desk: more than {DEEPEST} tables and lists in one another"
            )
            return
        except ValueError as why:
            self.problems.append(_syntax_problem(path, text, str(why)))
            return
        if _depth(data) > DEEPEST:
            self._file_problem(
                path, f"this is nested too deeply to be a desk: more than {DEEPEST} tables and lists in one another"
            )
            return
        file = SourceFile(path, text)
        self.files.append(file)
        self._merge(self.data, {key: value for key, value in data.items() if key != "include"}, (), file)
        includes = data.get("include", [])
        if not isinstance(includes, list) or not all(isinstance(pattern, str) for pattern in includes):
            self.add(
                ("include",),
                "`include` is a list of file names",
                expected='a list such as ["profiles/*.toml"]',
            )
            return
        for number, pattern in enumerate(includes):
            self._include(file, number, pattern)

    def _read_text(self, path: Path) -> str | None:
        if real_path(path) in self._instead:
            text = self._instead[real_path(path)]
            self.digests[str(path)] = _digest(text.encode("utf-8", "surrogatepass"))
            return text
        self.digests[str(path)] = ""
        try:
            raw = read_file(path)
            self.digests[str(path)] = _digest(raw)
        except OSError as why:
            self._file_problem(path, f"cannot be read: {reason(why)}")
            return None
        try:
            return raw.decode("utf-8-sig")
        except UnicodeDecodeError as why:
            line = raw.count(b"\n", 0, why.start) + 1
            column = len(raw[raw.rfind(b"\n", 0, why.start) + 1 : why.start].decode("utf-8", "replace")) + 1
            message = f"the byte 0x{raw[why.start]:02x} is not UTF-8 text"
            self.problems.append(Problem(str(path), line, column, message, expected="a file saved as UTF-8"))
            return None

    def also(self, path: Path) -> None:
        """The desk was read from this file too."""
        self.digests[str(path)] = digest_of(path)

    def _include(self, file: SourceFile, number: int, pattern: str) -> None:
        where: KeyPath = ("include", number)
        folder = self.folder
        try:
            found = sorted(file.path.parent.glob(pattern)) if pattern else []
            inside = [path for path in found if real_path(path).is_relative_to(real_path(folder))]
        except (ValueError, NotImplementedError, OSError, IndexError, RuntimeError):
            self.add(where, f"`{pattern}` is not a file name of this folder", file=file)
            return
        if not found:
            self.digests[str(file.path.parent / pattern)] = ""
            self.add(where, f"there is no file `{pattern}` here", file=file, expected=f"a file below {folder}")
        elif len(inside) < len(found):
            self.add(where, f"`{pattern}` lies outside the desk's folder", file=file)
        for path in inside:
            if os.path.isdir(path):
                self.add(where, f"`{pattern}` is a folder", file=file, expected=f"`{pattern}/*.toml`")
            elif real_path(path) not in self._resolved:
                self._read_file(path)

    def _merge(self, into: dict[str, Any], new: dict[str, Any], path: KeyPath, file: SourceFile) -> None:
        for key, value in new.items():
            if not path and key == _LISTED and isinstance(value, list):
                into[key] = [*into.get(key, []), *value]
                self._listed += [(file, number) for number in range(len(value))]
            elif key not in into:
                into[key] = value if file is self.files[0] else _copied(value)
            elif isinstance(value, dict) and isinstance(into[key], dict):
                self._merge(into[key], value, (*path, key), file)
            elif (*path, key) != ("format",) or into[key] != value:
                others = [other for other in self.files if other is not file and (*path, key) in other.places]
                place = self._where(others[0], others[0].places[(*path, key)].key.start) if others else "another file"
                self.add((*path, key), f"`{key}` is already set in {place}", file=file, at_key=True)

    def _where(self, file: SourceFile, start: int) -> str:
        line, column = line_and_column(file.text, start)
        return f"{file.path}:{line}:{column}"

    def entry(self, path: KeyPath, file: SourceFile | None = None) -> tuple[SourceFile, KeyPath, bool] | None:
        """The file in which an entry stands, its path there, and whether it is the entry itself and not just what is
        around it; None if nothing of it stands anywhere."""
        for length in range(len(path), 0, -1):
            here: KeyPath = path[:length]
            files = self.files if file is None else [file]
            number = path[1] if len(path) > 1 and path[0] == _LISTED else None
            if isinstance(number, int) and length > 1 and number < len(self._listed):
                files, here = [self._listed[number][0]], (_LISTED, self._listed[number][1], *path[2:length])
            for one in files:
                if here in one.places:
                    return one, here, length == len(path)
            file = None
        return None

    def where(self, path: KeyPath) -> str:
        """The file and line of an entry; empty if it stands nowhere."""
        found = self.entry(path)
        if found is None:
            return ""
        file, stands, _ = found
        line, _ = line_and_column(file.text, file.places[stands].key.start)
        name = file.path.relative_to(self.folder) if file.path.is_relative_to(self.folder) else file.path
        return f"{name}:{line}"

    def add(
        self,
        path: KeyPath,
        message: str,
        *,
        at_key: bool = False,
        part: tuple[int, int] | None = None,
        expected: str | None = None,
        nearest: str | None = None,
        severity: str = "error",
        file: SourceFile | None = None,
        got: str | None = None,
    ) -> None:
        """Notes a problem with the entry at `path`: at its key or its value, or at a part (offset, length) of the
        text that the value is."""
        found = self.entry(path, file)
        if found is None:
            known = self.files[0].path if self.files else self.folder
            self.problems.append(Problem(str(known), 0, 0, message, 1, expected, nearest, None, severity, got))
            return
        file, stands, whole = found
        if not whole:
            part = None
        path = stands
        place = file.places[path]
        spot = place.key if at_key else place.value
        start, length = spot.start, spot.length
        if part is not None:
            written = file.text[start : start + length]
            first, last = _offset_in(written, part[0]), _offset_in(written, part[0] + part[1])
            start, length = start + first, max(1, last - first)
        line, column = line_and_column(file.text, start)
        end = file.text.find("\n", start)
        source = file.text[file.text.rfind("\n", 0, start) + 1 : len(file.text) if end < 0 else end].rstrip("\r")
        length = min(length, max(1, len(source) - column + 1))
        self.problems.append(
            Problem(str(file.path), line, column, message, length, expected, nearest, source, severity, got)
        )


def settled(digests: Mapping[str, str], main: Path) -> bool:
    """Whether these files are still what they were when they were read, and the `main` one is not empty: somebody may be
    writing into them, and what is half there can be a desk too."""
    empty = _digest(b"")
    for name, digest in digests.items():
        now = digest_of(Path(name))
        if now != digest or (now == empty and Path(name) == main):
            return False
    return True


def _depth(data: Any) -> int:
    """How many tables and lists stand in one another."""
    depth, level = 0, [data]
    while level and depth <= DEEPEST:
        depth += 1
        level = [
            one
            for outer in level
            for one in (outer.values() if isinstance(outer, dict) else outer)
            if isinstance(one, dict | list)
        ]
    return depth


def digest_of(path: Path) -> str:
    """By which what a file says now is known; empty if it cannot be read."""
    try:
        return _digest(read_file(path))
    except OSError:
        return ""


def _digest(raw: bytes) -> str:
    return hashlib.blake2b(raw, digest_size=16).hexdigest()


def _copied(value: Any) -> Any:
    """Tables of their own for what later files may add to; everything else is never changed."""
    return {key: _copied(item) for key, item in value.items()} if isinstance(value, dict) else value


def _syntax_problem(path: Path, text: str, message: str) -> Problem:
    found = _POSITION.search(message)
    lines = text.split("\n")
    line, column = (int(found[1]), int(found[2])) if found and found[1] else (max(1, len(lines)), len(lines[-1]) + 1)
    message = _POSITION.sub("", message)
    source = lines[line - 1].rstrip("\r") if line <= len(lines) else None
    if 'Expected "\'"' in message:  # the text goes on to the end of the file, for the parser
        line = next((n for n, one in enumerate(lines, 1) if (s := _SETTING.match(one)) and s[2].count("'") == 1), line)
        source = lines[line - 1].rstrip("\r")
    ours, mended = _mended(message, lines, line)
    if ours:
        return Problem(str(path), line, 1, ours, len(source or ""), mended, source=source)
    return Problem(str(path), line, column, f"this is not TOML: {message[:1].lower()}{message[1:]}", source=source)


_TABLE = re.compile(r"\s*(\[.*?\])")
_SETTING = re.compile(r"\s*([\w\"'.+-]+?)\s*=\s*(.*?)\s*$")


def _mended(message: str, lines: list[str], number: int) -> tuple[str, str | None]:
    """What is wrong with a line, in the words of a desk, and the form that works; empty where the parser's words have to do."""
    line = lines[number - 1] if number <= len(lines) else ""
    table, setting = _TABLE.match(line), _SETTING.match(line)
    if "declare" in message and "twice" in message and table is not None:
        first = next((n for n, one in enumerate(lines, 1) if n < number and one.strip().startswith(table[1])), 0)
        where = f", in line {first}" if first else " above"
        return f"the table {table[1]} is there already{where}", "its lines under that one, without the header"
    if "overwrite" in message and setting is not None:
        name, _, gesture = setting[1].rpartition(".")
        first = next((n for n, one in enumerate(lines, 1) if n < number and _sets(one, name or setting[1])), 0)
        where = f" in line {first}" if first else " above"
        if not name:
            return f"`{setting[1]}` is set already{where}", None
        before = _SETTING.match(lines[first - 1]) if first else None
        value = before[2] if before is not None else '"…"'
        return (
            f"`{name}` is a binding of its own already{where}, so it takes no gestures",
            f"`{name} = {{ press = {value}, {gesture} = {setting[2]} }}` in place of both",
        )
    quote = next((one for one in "\"'" if setting is not None and setting[2].startswith(one)), "")
    if quote and setting is not None and setting[2].count(quote) == 1:
        return f"this text has no closing {quote}", f"`{setting[1]} = {setting[2]}{quote}`"
    return "", None


def _sets(line: str, name: str) -> bool:
    found = _SETTING.match(line)
    return found is not None and found[1] == name


def _offset_in(written: str, offset: int) -> int:
    """Where the character `offset` of a string stands in the string as it is written, quotes and escapes included."""
    if written[:3] in ('"""', "'''"):
        return 0
    at, escapes = 1, written[:1] == '"'
    for _ in range(offset):
        found = _ESCAPE.match(written, at) if escapes else None
        at += len(found[0]) if found else 1
    return min(at, max(0, len(written) - 1))
