"""Changes a desk's files by the smallest stretch of text: every comment, blank line and spelling outside it stays.

An edit is worked out on the text, and then read back: the file has to say what it said before plus the one new entry,
and the whole desk has to load. Otherwise nothing is written.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
import stat
import tomllib
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path
from typing import Any

from msgspec import Struct

from fenko.desk.cells import is_binding
from fenko.desk.load import load_desk
from fenko.desk.locate import Extent, KeyPath, Place, Section, line_and_column, sections
from fenko.desk.problems import DeskError
from fenko.desk.sources import SourceFile, Sources
from fenko.desk.writing import key, quoted
from fenko.system import history
from fenko.system.files import read_file, real_path, whole_file

_BOM = b"\xef\xbb\xbf"


class EditError(Exception):
    """An edit that cannot be made; the message says why and what to do. `failed`: it could not be written."""

    failed = False


class NotWritten(EditError):
    """An edit that is good, but could not be written."""

    failed = True


class Edit(Struct, frozen=True):
    """One file before and after, and the line in which the new entry stands."""

    path: Path
    before: bytes
    after: bytes
    line: int

    @property
    def text(self) -> str:
        """The line as it will be."""
        return self.after.decode("utf-8-sig").split("\n")[self.line - 1].strip()


@contextlib.contextmanager
def alone(folder: Path) -> Iterator[None]:
    """Nobody else edits this desk in the meantime: from reading its files to writing them, one after the other.

    Raises EditError where the folder cannot be opened."""
    try:
        handle = os.open(folder if folder.is_dir() else folder.parent, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    except OSError as why:
        raise EditError(f"{folder} cannot be opened: {why.strerror}") from why
    try:
        fcntl.flock(handle, fcntl.LOCK_EX)
        yield
    finally:
        os.close(handle)


def set_binding(
    folder: Path, where: KeyPath, control: KeyPath, gesture: str, value: str, keep_as: str = "press"
) -> Edit:
    """The edit that binds a gesture of a control to a TOML value.

    `where` is the table of the surface, such as ("profile", "frames", "on", "pad"); `control` the control, with its
    direction and threshold if it has any. What a control without gestures did before becomes its `keep_as`. Raises
    EditError; DeskError if the desk has faults, before or after."""
    sources = _opened(folder)
    holder = (*where, *control)
    old = _at(sources.data, holder)
    target = holder if gesture == "press" and (old is None or is_binding(old)) else (*holder, gesture)
    for length in range(len(where) + 1, len(target)):
        # Something that is bound plainly gets gestures, and what it did becomes one of them.
        above = target[:length]
        if is_binding(_at(sources.data, above)):
            keep = keep_as if above == holder else "press"
            return _set(
                sources, above, f"{{ {keep} = {_written(sources, above)}, {_dotted(target[length:])} = {value} }}"
            )
    return _set(sources, target, value)


def set_entry(folder: Path, path: KeyPath, value: str, instead: Mapping[Path, str] | None = None) -> Edit:
    """The edit that gives any entry of a desk a TOML value, with these texts `instead` of some files. Raises EditError,
    DeskError."""
    return _set(_opened(folder, instead), path, value, instead)


def with_entries(folder: Path, entries: Iterable[tuple[KeyPath, str]]) -> dict[Path, str]:
    """The texts of the files that change where a desk gets these TOML values. Raises EditError, DeskError."""
    texts: dict[Path, str] = {}
    for path, value in entries:
        edit = set_entry(folder, path, value, texts)
        texts[edit.path] = edit.after.decode("utf-8-sig")
    return texts


def _opened(folder: Path, instead: Mapping[Path, str] | None = None) -> Sources:
    sources = Sources(folder, instead)
    sources.read()
    if sources.problems:
        raise DeskError(sorted(sources.problems))
    return sources


def _at(data: Any, path: KeyPath) -> Any:
    for part in path:
        if not isinstance(data, dict) or part not in data:
            return None
        data = data[part]
    return data


def _written(sources: Sources, path: KeyPath) -> str:
    """An entry's value as it is written."""
    found = sources.entry(path)
    if found is None or not found[2]:
        raise EditError(f"`{'.'.join(map(str, path))}` cannot be found in the desk's files")
    file, path, _ = found
    spot = _value_spot(file, path)
    return file.text[spot.start : spot.start + spot.length]


def _value_spot(file: SourceFile, path: KeyPath) -> Extent:
    """Where an entry's value is written. Raises EditError where it is a table with a header, or spread over lines."""
    place = file.places[path]
    if place.key != place.value:
        return place.value
    line, _ = line_and_column(file.text, place.key.start)
    raise EditError(
        f"{file.path}:{line}: `{'.'.join(map(str, path))}` is written as a table of its own, which Fenko cannot change; "
        "change it by hand"
    )


def _set(sources: Sources, path: KeyPath, value: str, instead: Mapping[Path, str] | None = None) -> Edit:
    texts = instead or {}
    file = _file_for(sources, path)
    newline = "\r\n" if "\r\n" in file.text else "\n"
    text, at = _put(file, path, value, newline)
    line, _ = line_and_column(text, at)
    wanted = tomllib.loads(file.text)
    _store(wanted, path, tomllib.loads(f"value = {value}")["value"])
    try:
        good = tomllib.loads(text) == wanted
    except tomllib.TOMLDecodeError:
        good = False
    if not good:
        raise EditError(
            f"{file.path} is written in a way that Fenko cannot change; put this there by hand: "
            f"{'.'.join(key(str(part)) for part in path)} = {value}"
        )
    real = real_path(file.path)
    load_desk(sources.folder, {**texts, real: text})
    return edit_of(file, text, line, texts.get(real))


def edit_of(file: SourceFile, text: str, line: int, instead: str | None = None) -> Edit:
    """The edit that gives a file that was read this text, with the new in that line; with a text `instead` of the one on the disk. Raises
    EditError where it has been changed since."""
    real = real_path(file.path)
    try:
        before = instead.encode() if instead is not None else read_file(real)
    except OSError as why:
        raise EditError(f"{real} cannot be read: {why.strerror}") from why
    if before.decode("utf-8-sig") != file.text:
        raise EditError(f"{real} has just been changed by somebody else; nothing was written")
    return Edit(real, before, (_BOM if before.startswith(_BOM) else b"") + text.encode(), line)


def _store(data: dict[str, Any], path: KeyPath, value: Any) -> None:
    for part in path[:-1]:
        data = data.setdefault(str(part), {})
    data[str(path[-1])] = value


def _file_for(sources: Sources, path: KeyPath) -> SourceFile:
    """The file in which most of the way to an entry stands already; the main file where nothing of it does."""
    best, most = sources.files[0], 0
    for file in sources.files:
        known = max((length for length in range(len(path) + 1) if path[:length] in file.places), default=0)
        # The bare word `profile` says nothing about where a new one belongs.
        if known > max(most, 1):
            best, most = file, known
    return best


def _put(file: SourceFile, path: KeyPath, value: str, newline: str) -> tuple[str, int]:
    """The text with the entry, and where its line is."""
    text, places = file.text, file.places
    if path in places:
        spot = _value_spot(file, path)
        return text[: spot.start] + value + text[spot.start + spot.length :], spot.start
    inline = next(
        (path[:length] for length in range(len(path) - 1, 0, -1) if _is_inline(text, places, path[:length])), None
    )
    if inline is not None:
        return _into_inline(text, places[inline], _dotted(path[len(inline) :]), value)
    found = _section_for(sections(text), places, path)
    if found is None:
        return _new_section(text, path, value, newline)
    section, after = found
    entry = f"{_dotted(path[len(section.path) :])} = {value}"
    return _line_after(text, after, entry, newline)


def _dotted(path: KeyPath) -> str:
    return ".".join(key(str(part)) for part in path)


def _is_inline(text: str, places: dict[KeyPath, Place], path: KeyPath) -> bool:
    place = places.get(path)
    return place is not None and place.key != place.value and text[place.value.start] == "{"


def _into_inline(text: str, place: Place, name: str, value: str) -> tuple[str, int]:
    close = place.value.start + place.value.length - 1
    inside = text[place.value.start + 1 : close]
    comma = ", " if inside.strip() else " "
    kept = text[: place.value.start + 1] + inside.rstrip()
    return f"{kept}{comma}{name} = {value} {text[close:]}", len(kept)


def _section_for(known: list[Section], places: dict[KeyPath, Place], path: KeyPath) -> tuple[Section, int] | None:
    """The section in which a new entry belongs, and the offset after which it goes: beside what is most like it."""
    for length in range(len(path) - 1, _table_length(path) - 1, -1):
        above = path[:length]
        own = [section for section in known if section.path == above]
        if own:
            return own[-1], own[-1].end
        beside = [
            place.value.start + place.value.length
            for other, place in places.items()
            if other[:length] == above and place.key != place.value and _is_entry(places, other)
        ]
        if beside:
            section = max((one for one in known if one.start < max(beside)), key=lambda one: one.start)
            return (section, max(beside)) if path[: len(section.path)] == section.path else None
    return None


def _table_length(path: KeyPath) -> int:
    """How much of a path names the table that has a header of its own: the `on.SURFACE` of a profile or layer."""
    return next((at + 2 for at in range(2, len(path) - 2) if path[at] == "on"), len(path) - 1)


def _is_entry(places: dict[KeyPath, Place], path: KeyPath) -> bool:
    """Whether this is an entry of a section, and not within an inline table or a list."""
    return not any(
        (above := places.get(path[:length])) is not None and above.key != above.value for length in range(1, len(path))
    )


def _line_after(text: str, offset: int, entry: str, newline: str) -> tuple[str, int]:
    """The text with a line of its own after the line of `offset`, indented like that one."""
    end = text.find("\n", offset)
    start = text.rfind("\n", 0, offset) + 1
    line = text[start:offset]
    indent = line[: len(line) - len(line.lstrip(" \t"))] if not line.lstrip().startswith("[") else ""
    if end < 0:
        return f"{text}{newline}{indent}{entry}{newline}", len(text) + len(newline)
    return f"{text[: end + 1]}{indent}{entry}{newline}{text[end + 1 :]}", end + 1


def _new_section(text: str, path: KeyPath, value: str, newline: str) -> tuple[str, int]:
    """The text with a new section for the entry, behind those of the same profile; else at the end."""
    cut = _table_length(path)
    header = f"[{_dotted(path[:cut])}]"
    lines = f"{header}{newline}{_dotted(path[cut:])} = {value}{newline}"
    near = [section for section in sections(text) if section.path[:2] == path[:2] and section.path]
    closest = [section for section in near if section.path[:4] == path[:4]] or near
    if closest:
        end = text.find("\n", closest[-1].end)
        if end >= 0:
            new = f"{text[: end + 1]}{newline}{lines}{text[end + 1 :]}"
            return new, end + 1 + len(newline) + len(header) + len(newline)
    gap = "" if not text else newline if text.endswith("\n") else newline * 2
    return f"{text}{gap}{lines}", len(text) + len(gap) + len(header) + len(newline)


def write(edit: Edit) -> None:
    """Writes an edit: atomically, and the version before it is kept. Raises EditError."""
    _replace(edit.path, edit.before, edit.after, keep=True)


def take_back(edit: Edit) -> None:
    """Gives a file back what it said before an edit. Raises EditError if it has been changed since."""
    _replace(edit.path, edit.after, edit.before, keep=False)


def _replace(path: Path, expected: bytes, new: bytes, keep: bool) -> None:
    try:
        mode = stat.S_IMODE(path.stat().st_mode)
        if not mode & 0o222 or not os.access(path, os.W_OK):
            raise NotWritten(f"{path} is read-only; nothing was written")
        if read_file(path) != expected:
            raise EditError(f"{path} has been changed by somebody else in the meantime; nothing was written")
        if keep:
            history.keep(path, expected)
        with whole_file(path, mode, os.replace) as file:
            file.write(new)
    except OSError as why:
        raise NotWritten(f"{path} cannot be written: {why.strerror or why}") from why


def binding_value(phrase: str, label: str = "", colour: str = "", icon: str = "", note: str = "") -> str:
    """A binding as a TOML value: the phrase alone, or a table where there is more to say."""
    extras = {"label": label, "colour": colour, "icon": icon, "note": note}
    said = [f"{name} = {quoted(text)}" for name, text in extras.items() if text]
    return f"{{ {', '.join([f'do = {quoted(phrase)}', *said])} }}" if said else quoted(phrase)
