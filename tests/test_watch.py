"""The picture of all controls: its words, its terminal, and what it records."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from fenko.core.board import Board
from fenko.core.changes import FOCUS, KEYBOARD, PLUG, UNPLUG
from fenko.core.circumstances import Focus
from fenko.core.conditioning import Conditioning
from fenko.core.plan import Surface
from fenko.devices.recorder import TakeWriter
from fenko.devices.take import read_take
from support import Run
from terminal import Terminal

PAD = Surface("pad", "gamepad", names={"thumb": "east"})
DIAL = Surface("dial", "dial")


@pytest.fixture
def board() -> Board:
    one = Board()
    one.add(PAD, ["south", "east", "trigger-right", "stick-left", "hat"])
    one.add(DIAL, ["dial"])
    return one


def words(board: Board, now: float = 10.0) -> dict[str, str]:
    return {row.control: row.words for row in board.rows(now)}


def test_every_control_stands_in_its_place_before_it_moves(board: Board) -> None:
    assert words(board) == {
        "south": "up", "thumb": "up", "trigger-right": "0 %", "stick-left": "centre", "hat": "centre",
        "dial": "+0 detents",
    }  # fmt: skip
    assert all(row.moved_at is None and not row.active for row in board.rows(0))


@pytest.mark.parametrize(
    ("changes", "control", "expected", "active"),
    [
        ([("pad.south", 1)], "south", "pressed", True),
        ([("pad.thumb", 1), ("pad.thumb", 0)], "thumb", "up", False),
        ([("pad.trigger-right", 0.634)], "trigger-right", "63 %", True),
        ([("pad.stick-left.x", -0.63)], "stick-left", "left 63 %", True),
        ([("pad.stick-left.x", -0.63), ("pad.stick-left.y", 0.2)], "stick-left", "left 63 %, down 20 %", True),
        ([("pad.stick-left.x", 0.004)], "stick-left", "centre", False),
        ([("pad.hat.up", 1)], "hat", "up 100 %", True),
        ([("dial.dial", 2), ("dial.dial", -5)], "dial", "-3 detents, 14/s", True),
    ],
)
def test_words(board: Board, changes: list[tuple[str, float]], control: str, expected: str, active: bool) -> None:
    for address, value in changes:
        board.see((10.0, address, value))
    row = board.row(f"{changes[0][0]}", 10.1)
    assert row is not None
    assert (row.control, row.words, row.active, row.moved_at) == (control, expected, active, 10.0)


def test_a_dials_speed_fades_and_its_count_stays(board: Board) -> None:
    for n in range(10):
        board.see((10.0 + n / 20, "dial.dial", 1))
    assert words(board, 10.45)["dial"] == "+10 detents, 20/s"
    assert words(board, 12.0)["dial"] == "+10 detents"


def test_unplugged_controls_are_at_rest_and_unknown_ones_no_matter(board: Board) -> None:
    for change in [
        (1.0, "pad.south", 1),
        (2.0, UNPLUG, "pad"),
        (2.0, "gone.x", 1),
        (2.0, FOCUS, Focus("a")),
        (2.0, KEYBOARD, ()),
    ]:
        board.see(change)
    assert words(board)["south"] == "up"
    assert board.gone("pad") and not board.gone("dial")
    board.see((3.0, PLUG, "pad"))
    assert not board.gone("pad")


def test_what_is_recorded_is_read_back_the_same(tmp_path: Path) -> None:
    path = tmp_path / "take.jsonl"
    writer = TakeWriter(path, "Reel 2", "a note", {"pad": "gamepad", "dial": "dial"}, start=100.0)
    changes = [
        (100.5, "pad.thumb", 1), (100.4, "pad.stick-left.x", -0.123456789), (101.0, FOCUS, Focus("snipwell", "Größe ✓")),
        (102.0, UNPLUG, "pad"), (102.5, PLUG, "pad"), (103.0, "dial.dial", -2), (104.0, KEYBOARD, ("shift",)),
    ]  # fmt: skip
    for change in changes:
        writer.add(change)
    writer.close()
    take = read_take(path, {"pad": PAD, "dial": DIAL})
    assert take.changes == [
        (0.5, "pad.thumb", 1), (0.5, "pad.stick-left.x", -0.123457), (1.0, FOCUS, Focus("snipwell", "Größe ✓")),
        (2.0, UNPLUG, "pad"), (2.5, PLUG, "pad"), (3.0, "dial.dial", -2), (4.0, KEYBOARD, ("shift",)),
    ]  # fmt: skip
    assert json.loads(path.read_text().splitlines()[0])["note"] == "a note"
    assert path.stat().st_mode & 0o077 == 0
    with pytest.raises(FileExistsError):
        TakeWriter(path, "x", None, {}, 0.0)


@pytest.mark.parametrize("key", [b"q", b"\x03", b"\x04"])
def test_the_terminal_is_given_back(key: bytes) -> None:
    terminal = Terminal("watch", columns=60, lines=20)
    terminal.shows("fenko watch")
    assert len(terminal.frame()) <= 20
    terminal.resize(200, 60)
    terminal.shows("q or Ctrl-C ends")
    terminal.type(key)
    assert terminal.end() == 0


def test_wrong_names_and_files_that_are_there(fenko: Run, tmp_path: Path) -> None:
    (tmp_path / "desk.toml").write_text('[surface.pad]\nkind = "gamepad"')
    done = fenko("watch", "pda", "--desk", tmp_path)
    assert (done.returncode, "did you mean `pad`?" in done.stderr) == (2, True)
    (tmp_path / "take.jsonl").write_text("mine")
    done = fenko("watch", "--desk", tmp_path, "--take", "take.jsonl")
    assert (done.returncode, "already there" in done.stderr) == (2, True)
    assert (tmp_path / "take.jsonl").read_text() == "mine"


def test_a_person_reads_a_control_in_a_range_of_their_own() -> None:
    shown = {"stick-left": Conditioning(shown=(-1200, 1200)), "trigger-right": Conditioning(shown=(20, 20000))}
    board = Board()
    board.add(Surface("pad", "gamepad", conditioning=shown), ["stick-left", "trigger-right"])
    board.see((1.0, "pad.stick-left.x", -0.5))
    board.see((1.0, "pad.stick-left.y", 0.25))
    board.see((1.0, "pad.trigger-right", 0.5))
    assert words(board) == {"stick-left": "left -600, down 300", "trigger-right": "10010"}
