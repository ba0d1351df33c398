"""Edits of desk files: only the lines that have to change do, and the desk says what it said before plus the new entry."""

from __future__ import annotations

import difflib
import shutil
import tempfile
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fenko.core.plan import Binding
from fenko.core.stack import stack_of
from fenko.desk.editing import EditError, binding_value, set_binding, set_entry, take_back, write
from fenko.desk.load import load_desk
from fenko.desk.problems import DeskError
from fenko.system.history import versions
from support import DEMO, tries

HEAD = """format = 1 # the first line
[surface.pad]
kind = "gamepad"

[surface.knots]
kind = "macro-pad"
"""
WHERE = ("profile", "frames", "on", "pad")


def desk(tmp_path: Path, text: str) -> Path:
    (tmp_path / "desk.toml").write_bytes((HEAD + text).encode())
    return tmp_path


def edited(folder: Path, control: tuple[str, ...], gesture: str, value: str, keep_as: str = "press") -> str:
    """What the edit makes of the part after the surfaces."""
    edit = set_binding(folder, WHERE, control, gesture, value, keep_as)
    text = edit.after.decode()
    assert text.startswith(HEAD)
    return text[len(HEAD) :]


@pytest.mark.parametrize(
    ("before", "control", "gesture", "after"),
    [
        # What is there is replaced where it stands.
        ('[profile.frames.on.pad]\nsouth = "a" # undo\n', ("south",), "press", '[profile.frames.on.pad]\nsouth = NEW # undo\n'),
        ("[profile.frames.on.pad]\nsouth = { do = 'a', label = \"A\" } # x\n", ("south",), "press", "[profile.frames.on.pad]\nsouth = NEW # x\n"),
        ('[profile.frames.on.pad]\nnorth.tap="a"\n  north.hold = "b"   # held\n', ("north",), "hold", '[profile.frames.on.pad]\nnorth.tap="a"\n  north.hold = NEW   # held\n'),
        # What is new comes in a line of its own, beside what is most like it.
        ('[profile.frames.on.pad]\nsouth = "a" # undo\n\n# the keypad\n', ("east",), "press", '[profile.frames.on.pad]\nsouth = "a" # undo\neast = NEW\n\n# the keypad\n'),
        ('[profile.frames.on.pad]\n  north.tap = "a"\neast = "b"\n', ("north",), "hold", '[profile.frames.on.pad]\n  north.tap = "a"\n  north.hold = NEW\neast = "b"\n'),
        ('[profile.frames.on.pad]\nhat.left = "a"\neast = "b"\n', ("hat", "right"), "press", '[profile.frames.on.pad]\nhat.left = "a"\nhat.right = NEW\neast = "b"\n'),
        ('[profile.frames.on.pad.north]\ntap = "a"\n[profile.base.on.pad]\n', ("north",), "hold", '[profile.frames.on.pad.north]\ntap = "a"\nhold = NEW\n[profile.base.on.pad]\n'),
        ('[profile.frames]\non.pad.south = "a"\nnote = "x"\n', ("east",), "press", '[profile.frames]\non.pad.south = "a"\non.pad.east = NEW\nnote = "x"\n'),
        # Inline tables grow inside.
        ('[profile.frames.on.pad]\nnorth = { tap = "a" } # n\n', ("north",), "hold", '[profile.frames.on.pad]\nnorth = { tap = "a", hold = NEW } # n\n'),
        ('[profile.frames]\non = { pad = { south = "a" } }\n', ("east",), "press", '[profile.frames]\non = { pad = { south = "a", east = NEW } }\n'),
        ('[profile]\nframes = { on = { pad = {} } }\n', ("hat", "up"), "press", '[profile]\nframes = { on = { pad = { hat.up = NEW } } }\n'),
        # A control without gestures gets some.
        ('[profile.frames.on.pad]\nnorth = { do = "a", label = "A" } # n\n', ("north",), "hold", '[profile.frames.on.pad]\nnorth = { tap = { do = "a", label = "A" }, hold = NEW } # n\n'),
        # A section is made where there is none: behind those of its profile.
        ('[profile.frames]\nwhen = { app = "x" } # y\n\n[profile.other]\n', ("south",), "press", '[profile.frames]\nwhen = { app = "x" } # y\n\n[profile.frames.on.pad]\nsouth = NEW\n\n[profile.other]\n'),
        ('[profile.frames]', ("south",), "press", '[profile.frames]\n\n[profile.frames.on.pad]\nsouth = NEW\n'),
        ('', ("south",), "tap", '\n[profile.frames.on.pad]\nsouth.tap = NEW\n'),
        ('[profile.frames.on.pad]\n', ("east+south",), "press", '[profile.frames.on.pad]\n"east+south" = NEW\n'),
        ('[profile.frames.on.knots]\ndial.left = "a"\n', ("south",), "press", '[profile.frames.on.knots]\ndial.left = "a"\n\n[profile.frames.on.pad]\nsouth = NEW\n'),
        # Files of other systems keep their line ends.
        ('[profile.frames.on.pad]\r\nsouth = "a"\r\n', ("east",), "press", '[profile.frames.on.pad]\r\nsouth = "a"\r\neast = NEW\r\n'),
    ],
)  # fmt: skip
def test_only_what_has_to_change_does(
    tmp_path: Path, before: str, control: tuple[str, ...], gesture: str, after: str
) -> None:
    folder = desk(tmp_path, before)
    assert edited(folder, control, gesture, '"f5"', "tap") == after.replace("NEW", '"f5"')


def test_an_edit_is_written_whole_kept_and_taken_back(tmp_path: Path) -> None:
    folder = desk(tmp_path, '[profile.frames.on.pad]\nsouth = "a"\n')
    main = folder / "desk.toml"
    main.chmod(0o640)
    before = main.read_bytes()
    edit = set_binding(folder, WHERE, ("south",), "press", '"b"')
    write(edit)
    assert (main.read_bytes(), main.stat().st_mode & 0o777) == (edit.after, 0o640)
    assert [version.read() for version in versions(main)] == [before]
    assert edit.text == 'south = "b"'
    assert sorted(path.name for path in folder.iterdir()) == ["desk.toml"]
    take_back(edit)
    assert main.read_bytes() == before
    main.write_bytes(before + b"# by hand\n")
    with pytest.raises(EditError, match="changed by somebody else"):
        write(edit)
    assert main.read_bytes() == before + b"# by hand\n"


def test_what_would_break_the_desk_is_not_made(tmp_path: Path) -> None:
    folder = desk(tmp_path, '[profile.frames.on.pad]\nsouth = "a"\n')
    with pytest.raises(DeskError):
        set_binding(folder, WHERE, ("nowhere",), "press", '"a"')
    with pytest.raises(DeskError):
        set_binding(folder, WHERE, ("east",), "press", '"profile nowhere"')
    (folder / "desk.toml").write_text("format = 2\n")
    with pytest.raises(DeskError):
        set_binding(folder, WHERE, ("south",), "press", '"a"')


def test_what_is_written_as_a_table_of_its_own_is_left_to_the_person(tmp_path: Path) -> None:
    folder = desk(tmp_path, '[profile.frames.on.pad.south]\ndo = "a"\nlabel = "A"\n')
    with pytest.raises(EditError, match=r"desk\.toml:7: .*by hand"):
        set_binding(folder, WHERE, ("south",), "press", '"b"')


def test_the_right_file_is_found(tmp_path: Path) -> None:
    folder = tmp_path / "demo"
    shutil.copytree(DEMO, folder)
    files = {path: path.read_bytes() for path in folder.rglob("*.toml")}
    edit = set_binding(folder, ("profile", "stream", "on", "dial"), ("dial", "left"), "press", '"f5"')
    assert edit.path.name == "set.toml"
    write(edit)
    changed = [path for path, text in files.items() if path.read_bytes() != text]
    assert changed == [folder / "profiles/set.toml"]
    assert set_entry(folder, ("app", "beamcart", "note"), '"n"').path.name == "desk.toml"


_CONTROLS = [("south",), ("north",), ("hat", "left"), ("hat", "up"), ("east+south",), ("trigger-right", "full")]
_LINES = ["", "# a comment", '  # "another" [one]', "\t"]


@st.composite
def _desks(draw: st.DrawFn) -> str:
    """The bindings of a profile, written in any of the ways in which people write TOML, with comments between."""
    lines: list[str] = []
    header = draw(
        st.sampled_from(["[profile.frames.on.pad]", "[ profile . frames.on.pad ] # here", "[profile.frames]"])
    )
    lines += [draw(st.sampled_from(_LINES)), header]
    before = "on.pad." if header == "[profile.frames]" else ""
    for control in draw(st.lists(st.sampled_from(["south", "north", "hat", "trigger-right"]), unique=True)):
        part = ".left" if control == "hat" else ""
        lines.append(draw(st.sampled_from([
            f'{before}{control}{part} = "a"', f"{before}'{control}'{part}.tap='a' # tap",
            f'{before}{control}{part} = {{ do = "a", label = "]" }}', f'  {before}{control}{part}={{tap="a",  hold = "b" }}',
        ])))  # fmt: skip
        lines.append(draw(st.sampled_from(_LINES)))
    lines += draw(st.sampled_from([[], ["[profile.other.on.pad]", 'south = """a""" # end']]))
    return draw(st.sampled_from(["\n", "\r\n"])).join(lines) + draw(st.sampled_from(["", "\n"]))


@settings(max_examples=tries(150), deadline=None)
@given(_desks(), st.lists(st.tuples(st.sampled_from(_CONTROLS), st.sampled_from(["press", "tap", "hold"])), max_size=5))
def test_edits_leave_everything_else_byte_for_byte(text: str, edits: list[tuple[tuple[str, ...], str]]) -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = desk(Path(name), text)
        for number, (control, gesture) in enumerate(edits):
            phrase = f"ctrl+f{number + 1}"
            before = (folder / "desk.toml").read_bytes().decode()
            write(set_binding(folder, WHERE, control, gesture, binding_value(phrase, label=f"Do {number}")))
            after = (folder / "desk.toml").read_bytes().decode()
            changed = [line for line in difflib.ndiff(before.split("\n"), after.split("\n")) if line[0] in "+-"]
            assert sum(line[0] == "-" and line[2:].strip() != "" for line in changed) <= 1
            address = f"pad.{'.'.join(control)}"
            bound: Binding | None = getattr(stack_of(load_desk(folder).plan, "frames").cell(address), gesture)
            assert bound is not None
            assert (str(bound.phrase), bound.label) == (phrase, f"Do {number}")
