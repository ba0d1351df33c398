"""Shortcut lists: reading, searching, importing what programs export, and how bindings use them."""

from __future__ import annotations

import csv
import json
import tempfile
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fenko.desk.importing import ImportFailed, first_keys, guess_columns, imported, keys_from, read_table
from fenko.desk.shortcuts import Shortcut, folded, list_text, read_list
from hands import phrases
from support import DEMO, MakeDesk, Run
from terminal import Terminal

DESK = """[surface.pad]
kind = "gamepad"
[app.snipwell]
shortcuts = "snipwell.csv"
[profile.frames]
when = { app = "snipwell" }
[profile.frames.on.pad]
south = "snipwell: split ALL x2"
east = "ctrl+z x3"
west = "ctrl+q"
north.hold = { do = "m then 1", label = "Red" }
"""
LIST = "command,keys,group,note\nSplit all,ctrl+k,Edit,\nUndo,ctrl+z,Edit,\nRedo,ctrl+y,Edit,again\nRed marker,m then 1,Mark,\nExport,,File,\n"


@pytest.fixture
def bench(make_desk: MakeDesk) -> Path:
    folder = make_desk(DESK)
    (folder / "snipwell.csv").write_text(LIST)
    return folder


def test_a_binding_follows_the_list(fenko: Run, bench: Path) -> None:
    def told() -> str:
        return fenko("explain", "pad.south", "--app", "snipwell", "--desk", bench).stdout

    assert "does    snipwell: split ALL x2" in told() and "k↓" in told()
    (bench / "snipwell.csv").write_text(LIST.replace("Split all,ctrl+k", "Split all,alt+p"))
    assert "alt↓  p↓" in told() and "k↓" not in told()


def test_search_and_what_is_bound(fenko: Run, bench: Path) -> None:
    def found(*words: str) -> list[tuple[str, list[str]]]:
        done = fenko("shortcuts", "snipwell", *words, "--desk", bench, "--format", "json")
        return [(one["command"], one["bound"]) for one in json.loads(done.stdout)]

    assert found("edit") == [("Split all", ["pad south"]), ("Undo", ["pad east"]), ("Redo", [])]
    assert found("MARK", "red") == [("Red marker", ["pad north hold"])]
    assert [name for name, _ in found("--unbound")] == ["Redo", "Export"]
    assert [name for name, _ in found("re")] == ["Redo", "Red marker"]
    done = fenko("shortcuts", "snipwell", "nothing", "--desk", bench)
    assert done.returncode == 1 and done.stdout == ""
    done = fenko("shortcuts", "snipwell", "--unlisted", "--desk", bench, "--format", "json")
    assert done.returncode == 1
    assert [(one["binding"], one["keys"], one["where"]) for one in json.loads(done.stdout)] == [
        ("pad west", "ctrl+q", "desk.toml:10")
    ]
    (listed,) = json.loads(fenko("shortcuts", "--desk", bench, "--format", "json").stdout)
    assert listed == {"app": "snipwell", "commands": 5, "bound": 3, "file": "snipwell.csv"}
    assert "did you mean `snipwell`?" in fenko("shortcuts", "snipwel", "--desk", bench).stderr
    assert "pad south in trim" in fenko("shortcuts", "snipwell", "trim", "here", "--desk", DEMO).stdout


@pytest.mark.parametrize(
    ("text", "problem"),
    [
        ("", ":1:1: error: the first line names the columns, and `command` is missing"),
        ("command,group\n", ":1:1: error: the first line names the columns, and `keys` is missing"),
        (LIST + "Bad,ctlr+b,,\n", ":7:5: error: unknown key `ctlr`"),
        (LIST + "undo,f5,,\n", ":7:1: error: `undo` stands in line 3 already"),
        (LIST + "Layer,layer trim,,\n", ":7:7: error: a shortcut consists of keys"),
        (LIST + ",f5,,\n", ":7:1: error: this line names no command"),
        (LIST + '"Open,f5\n', ": error: this is not CSV"),
    ],
)
def test_a_bad_list_says_where(fenko: Run, bench: Path, text: str, problem: str) -> None:
    (bench / "snipwell.csv").write_text(text)
    done = fenko("check", "--desk", bench)
    assert done.returncode == 2 and f"snipwell.csv{problem}" in done.stdout.replace(":7:1: error: this is not", ": error: this is not"), done.stdout  # fmt: skip


@pytest.mark.parametrize(
    ("change", "message"),
    [
        (("split ALL", "splt all"), "snipwell.csv has no command `splt all`\n  8 | south = \"snipwell: splt all x2\"\n    |                    ^^^^^^^^"),
        (("split ALL", "export"), "`Export` has no keys in snipwell.csv"),
        (('"snipwell: split', '"snipwel: split'), "no shortcut list `snipwel`; expected snipwell"),
        (("split ALL x2", "red marker every 50ms"), "is more than one shortcut (m then 1)"),
        (('"snipwell.csv"', '"../other.csv"'), "`../other.csv` lies outside the desk's folder"),
        (('"snipwell.csv"', '"snipwel.csv"'), "there is no file `snipwel.csv`"),
    ],
)  # fmt: skip
def test_what_a_binding_cannot_name(fenko: Run, bench: Path, change: tuple[str, str], message: str) -> None:
    (bench / "desk.toml").write_text(DESK.replace(*change))
    done = fenko("check", "--desk", bench)
    assert done.returncode == 2 and message in done.stdout, done.stdout


@pytest.mark.parametrize(
    ("text", "phrase"),
    [
        ("Ctrl+Shift+Z", "ctrl+shift+z"),
        ("⌘⇧Z", "super+shift+z"),
        ("Ctrl-K Ctrl-S", "ctrl+k then ctrl+s"),
        ("Ctrl + Num 5", "ctrl+kp5"),
        ("Numpad 0", "kp0"),
        ("Page Up", "pageup"),
        ("Ctrl Shift Z", "ctrl+shift+z"),
        ("Ctrl++", "ctrl+plus"),
        ("Control-Option-Left Arrow", "ctrl+alt+left"),
        ("Shift+F10", "shift+f10"),
        ("-", "-"),
        ("Ctrl+-", "ctrl+-"),
        ("g i", "g then i"),
        ("ESC", "esc"),
    ],
)
def test_keys_as_programs_write_them(text: str, phrase: str) -> None:
    assert str(keys_from(text)) == phrase


def test_keys_that_are_none() -> None:
    assert [keys_from(text) for text in ("", "   ", "Ctrl+Wheel", "n/a", "Ctrl+Ctrl")] == [None] * 5
    assert [(str(phrase), rest) for phrase, rest in (first_keys("Ctrl+Z, Alt+Backspace"), first_keys("F5 or Ctrl+R"))] == [
        ("ctrl+z", "Alt+Backspace"), ("f5", "Ctrl+R"),
    ]  # fmt: skip


@given(st.text(max_size=30))
def test_any_text_is_keys_or_none(text: str) -> None:
    phrase, rest = first_keys(text)
    assert phrase is None or str(phrase)
    assert isinstance(rest, str)


EXPORTS = {
    "comma with a head": "Name,Shortcut,Category\nSplit,Ctrl+K,Edit\nUndo,Ctrl+Z,Edit\nOdd,Wheel Up,View\n",
    "tabs without a head": "Split\tCtrl+K\tEdit\nUndo\tCtrl+Z\tEdit\nOdd\tWheel Up\tView\nSave\tCtrl+S\tEdit\n",
    "semicolons, keys first": "Hotkey;Action;Category\nCtrl+K;Split;Edit\nCtrl+Z;Undo;Edit\nWheel Up;Odd;View\n",
    "JSON entries": json.dumps([{"action": "Split", "keys": ["Ctrl+K"], "context": "Edit"}, {"action": "Undo", "keys": "Ctrl+Z", "context": "Edit"}, {"action": "Odd", "keys": "Wheel Up", "context": "View"}]),
    "JSON by groups": json.dumps({"Edit": {"Split": "Ctrl+K", "Undo": "Ctrl+Z"}, "View": {"Odd": "Wheel Up"}}),
}  # fmt: skip


@pytest.mark.parametrize("form", EXPORTS)
def test_columns_are_guessed(tmp_path: Path, form: str) -> None:
    path = tmp_path / "export"
    path.write_text(EXPORTS[form])
    table = read_table(path)
    result = imported(table, guess_columns(table))
    assert [(one.command, one.keys, one.group) for one in result.shortcuts[:3]] == [
        ("Split", "ctrl+k", "Edit"), ("Undo", "ctrl+z", "Edit"), ("Odd", "", "View"),
    ]  # fmt: skip
    assert result.shortcuts[2].note == "keys there: Wheel Up"
    assert [name for name, _ in result.left_out] == ["Odd"]


@pytest.mark.parametrize("text", ["", "one\ntwo\n", "{", "[]", '{"a": ', "\x00"])
def test_what_is_no_list_is_refused(tmp_path: Path, text: str) -> None:
    path = tmp_path / "export"
    path.write_text(text)
    with pytest.raises(ImportFailed):
        read_table(path)


@given(st.binary(max_size=200))
def test_no_file_breaks_an_import(raw: bytes) -> None:
    with tempfile.TemporaryDirectory() as name:
        path = Path(name) / "export"
        path.write_bytes(raw)
        try:
            table = read_table(path)
        except ImportFailed:
            return
        imported(table, guess_columns(table))


_CELLS = st.text(st.characters(exclude_categories=["C", "Z"]), max_size=8)


_SHORTCUTS = st.builds(Shortcut, _CELLS.filter(bool), st.none() | phrases(), _CELLS, _CELLS)


@given(st.lists(_SHORTCUTS, max_size=5, unique_by=lambda one: folded(one.command)))
def test_a_list_reads_back_what_was_written(shortcuts: list[Shortcut]) -> None:
    with tempfile.TemporaryDirectory() as name:
        path = Path(name) / "list.csv"
        path.write_text(list_text(shortcuts))
        with path.open(newline="") as file:
            assert len(list(csv.reader(file))) == len(shortcuts) + 1
        found, problems = read_list("app", path)
        assert len(found.shortcuts) + len(problems) == len(shortcuts)
        by_name = {one.command: one for one in shortcuts}
        for one in found.shortcuts:
            assert (one.keys, one.group, one.note) == (by_name[one.command].keys, by_name[one.command].group, by_name[one.command].note)  # fmt: skip


def test_an_import_into_a_desk_that_lacks_more_than_the_list_is_refused(
    fenko: Run, make_desk: MakeDesk, tmp_path: Path
) -> None:
    export = tmp_path / "export.csv"
    export.write_text("command,keys\nMute,m\n")
    text = '[surface.pad]\nkind = "gamepad"\n[app.hushdesk]\nshortcuts = "hushdesk.csv"\n[profile.hushdesk.on.pad]\n'
    good = make_desk(f'{text}south = "hushdesk: Mute"')
    assert fenko("shortcuts", "hushdesk", "--import", export, "--yes", "--desk", good).returncode == 0
    bad = make_desk(f'{text}south = "hushdesk: Mute"\nhushdesk = "x"', "bad")
    done = fenko("shortcuts", "hushdesk", "--import", export, "--yes", "--desk", bad)
    assert done.returncode == 2
    assert "unknown control `hushdesk`" in done.stderr
    assert not (bad / "hushdesk.csv").exists()


def test_an_import_is_a_list_that_bindings_can_name(fenko: Run, make_desk: MakeDesk, tmp_path: Path) -> None:
    folder = make_desk('# mine\n[surface.pad]\nkind = "gamepad"\n[profile.sound]\nwhen = { app = "hushdesk" }\n')
    export = tmp_path / "export.tsv"
    export.write_text(EXPORTS["tabs without a head"])
    unasked = fenko("shortcuts", "hushdesk", "--import", export, "--desk", folder)
    assert unasked.returncode == 2 and "--yes takes it" in unasked.stderr
    done = fenko("shortcuts", "hushdesk", "--import", export, "--yes", "--desk", folder)
    assert done.returncode == 0, done.stderr
    assert "4 commands of hushdesk" in done.stdout and "`Wheel Up` cannot be read as keys" in done.stderr
    assert (folder / "desk.toml").read_text().startswith("# mine\n[surface.pad]")
    assert '[app.hushdesk]\nshortcuts = "hushdesk.csv"\n' in (folder / "desk.toml").read_text()
    assert fenko("learn", "pad.south", "hushdesk: split", "--profile", "sound", "--desk", folder).returncode == 0
    assert "pad south" in fenko("shortcuts", "hushdesk", "split", "--desk", folder).stdout
    again = fenko("shortcuts", "hushdesk", "--import", export, "--desk", folder)
    assert again.returncode == 2 and "--yes takes it" in again.stderr
    anew = fenko("shortcuts", "hushdesk", "--import", export, "--yes", "--desk", folder)
    assert anew.returncode == 0 and "`fenko history` has" in anew.stdout, anew.stderr
    (folder / "hushdesk.csv").unlink()
    assert fenko("shortcuts", "hushdesk", "--import", export, "--yes", "--desk", folder).returncode == 0
    twice = fenko("shortcuts", "beamcart", "--import", export, "--columns", "command=2,keys=2", "--desk", folder)
    assert twice.returncode == 2 and "cannot both be" in twice.stderr
    assert fenko("shortcuts", "Not A Name", "--import", export, "--desk", folder).returncode == 2
    other = fenko("shortcuts", "beamcart", "--import", export, "--columns", "command=2,keys=nine", "--desk", folder)
    assert other.returncode == 2 and "no column `nine`" in other.stderr
    named = fenko("shortcuts", "beamcart", "--import", export, "--columns", "command=1,keys=2,note=3", "--desk", folder)
    assert named.returncode == 0 and (folder / "beamcart.csv").read_text().splitlines()[1] == "Split,ctrl+k,,Edit"


def test_the_columns_are_confirmed_in_a_terminal(make_desk: MakeDesk, tmp_path: Path) -> None:
    folder = make_desk('[surface.pad]\nkind = "gamepad"\n')
    export = tmp_path / "export.csv"
    export.write_text("Id,What it does,Keys\n1,Split,Ctrl+K\n2,Undo,Ctrl+Z\n")
    terminal = Terminal("shortcuts", "snipwell", "--import", str(export), "--desk", str(folder))
    for answer in (b"command=9\n", b"command=What it does,keys=3\n", b"\n"):
        terminal.type(answer)
    assert terminal.end() == 0
    assert b"the list has no column `9`" in terminal.shown
    assert (folder / "snipwell.csv").read_text().splitlines() == [
        "command,keys,group,note",
        "Split,ctrl+k,,",
        "Undo,ctrl+z,,",
    ]


@pytest.mark.parametrize(
    ("raw", "expected"),
    [
        (b"command,keys\nMark,m then 1\n", [("Mark", "m then 1", "")]),
        (b"command,keys\nCopy,Ctrl+C / Ctrl+Ins\n", [("Copy", "ctrl+c", "also Ctrl+Ins")]),
        ("command,keys\nL\u00f6schen,Ctrl+L\n".encode("latin-1"), [("L\u00f6schen", "ctrl+l", "")]),
        (b"Action,Default,Current\nSplit,Ctrl+K,Alt+K\n", [("Split", "alt+k", "Ctrl+K")]),
        (b"Snipwell shortcuts\n\ncommand,keys\nUndo,Ctrl+Z\n", [("Undo", "ctrl+z", "")]),
    ],
)
def test_lists_as_programs_write_them(raw: bytes, expected: list[tuple[str, str, str]], tmp_path: Path) -> None:
    file = tmp_path / "list.csv"
    file.write_bytes(raw)
    table = read_table(file)
    found = imported(table, guess_columns(table)).shortcuts
    assert [(one.command, one.keys, one.note) for one in found] == expected
    assert bool(table.remark) == (b"\xf6" in raw)
