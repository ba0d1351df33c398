"""`fenko history`: earlier versions of the files that Fenko has changed."""

from __future__ import annotations

import difflib
import stat
import time
from pathlib import Path

import click

from fenko.cli.shared import (
    colour,
    desk_option,
    desk_path,
    fail,
    fail_unknown,
    format_option,
    note,
    say,
    show_json,
    show_table,
    shown_path,
)
from fenko.core.words import reason
from fenko.desk.load import load_desk
from fenko.desk.problems import DeskError
from fenko.system.files import read_file, real_path, whole_file
from fenko.system.history import Version, files_below, keep, versions


@click.command()
@click.argument("file", required=False, type=click.Path(path_type=Path))
@desk_option
@format_option("table", "json")
@click.option("--diff", "shown", metavar="N", type=int, help="Show what has changed since version N.")
@click.option(
    "--restore", "wanted", metavar="N", type=int, help="Put version N in place; what is there now is kept too."
)
def command(file: Path | None, desk_folder: Path | None, form: str, shown: int | None, wanted: int | None) -> None:
    """List earlier versions of the desk's files: what each said before Fenko changed it (`learn`, `set`, `tune`, `arrange`,
    `journal`, `shortcuts --import`), the newest first.

    FILE may be named as it stands in the desk; it can be left out if Fenko has changed one file only. Of each file the last 50
    versions are kept.
    """
    folder = desk_path(desk_folder)
    folder = folder if folder.is_dir() else folder.parent
    if shown is not None and wanted is not None:
        raise click.UsageError("--diff and --restore are two different things")
    files = files_below(folder)
    if file is not None:
        files = [_named(file, folder, files)]
    if shown is None and wanted is None:
        _list(folder, files, form)
        return
    if len(files) != 1:
        names = ", ".join(str(path.relative_to(real_path(folder))) for path in files)
        fail(f"say which file: {names}" if files else f"Fenko has changed no file of {folder}", 2)
    number = shown if shown is not None else wanted
    version = next((one for one in versions(files[0]) if one.number == number), None)
    if version is None:
        fail(f"{shown_path(files[0])} has no version {number}; `fenko history` lists those that are kept", 2)
    try:
        if shown is not None:
            _show(files[0], version)
        else:
            _restore(folder, files[0], version)
    except OSError as why:
        fail(f"{files[0]}: {reason(why)}")


def _named(file: Path, folder: Path, files: list[Path]) -> Path:
    found = next((real_path(place) for place in (folder / file, file) if real_path(place) in files), None)
    if found is None:
        fail_unknown(
            f"no earlier version of {file} is kept",
            str(file),
            [str(one.relative_to(real_path(folder))) for one in files],
        )
    return found


def _list(folder: Path, files: list[Path], form: str) -> None:
    found = []
    for path in files:
        after = _lines(read_file(path)) if path.exists() else []
        for version in versions(path):
            before = _lines(version.read())
            moved = list(difflib.unified_diff(before, after, n=0))[2:]
            gone, come = (sum(line.startswith(sign) for line in moved) for sign in "-+")
            found.append((path, version, come, gone))
            after = before
    if form == "json":
        show_json(
            [
                {"file": str(path), "version": one.number, "at": one.at, "added": come, "removed": gone}
                for path, one, come, gone in found
            ]
        )
        return
    if not found:
        note(f"Fenko has changed no file of {shown_path(folder)} yet")
        return
    rows = [
        (str(path.relative_to(real_path(folder))), str(one.number), time.strftime("%Y-%m-%d %H:%M:%S", time.localtime(one.at)),
         f"+{come} -{gone}")
        for path, one, come, gone in found
    ]  # fmt: skip
    show_table(("file", "version", "changed", "lines"), rows)
    note("\n`fenko history FILE --diff N` shows what has changed since a version, `--restore N` puts it back.")


def _lines(raw: bytes) -> list[str]:
    return raw.decode("utf-8-sig", "replace").splitlines()


def _show(path: Path, version: Version) -> None:
    now = _lines(read_file(path)) if path.exists() else []
    lines = list(difflib.unified_diff(_lines(version.read()), now, f"version {version.number}", "now", lineterm=""))
    if not lines:
        note(f"{shown_path(path)} says the same as in version {version.number}")
    for line in lines:
        shade = {"+": "green", "-": "red", "@": "cyan"}.get(line[:1])
        say(colour(line, shade) if shade else line)


def _restore(folder: Path, path: Path, version: Version) -> None:
    raw = version.read()
    mode = 0o644
    if path.exists():
        now = read_file(path)
        if now == raw:
            note(f"{shown_path(path)} says the same as in version {version.number}")
            return
        keep(path, now)
        mode = stat.S_IMODE(path.stat().st_mode)
    with whole_file(path, mode) as file:
        file.write(raw)
    say(f"{shown_path(path)} is what it was in version {version.number}.")
    try:
        load_desk(folder)
    except DeskError as error:
        note(f"the desk has {len(error.problems)} errors now; `fenko check` shows them")
