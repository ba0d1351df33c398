"""Boards of one's own: the reference programs on a terminal, killed, reset, silent, flooded, older and newer than Fenko; and the
line protocol against whatever a line can say."""

from __future__ import annotations

import itertools
import json
import os
import random
import shutil
import signal
import socket
import subprocess
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from boards import CONTROLS, Board
from ends import FarDesk, MakeFar, far, needed
from fenko.core.controls import SORTS
from fenko.core.flow import MOST_A_SECOND, Flow, summed_up
from fenko.core.inputs import Raw
from fenko.data import BOARDS
from fenko.integrations.board.lines import LONGEST, Alive, BoardReader, Hello, Ready, Said, line
from fenko.integrations.board.transport import BoardWay
from support import FENKO, MakeDesk, tries, wait_for

__all__ = ["far"]
DESK = """
[surface.bench]
kind = "board"
links = ["{link}"]
names = {{ red = "take" }}
[surface.bench.control]
{controls}[value.exposure]
[profile.base.on.bench]
take = "ctrl+t"
green = "lamp red on then tone 880 for 80ms then display \\"Reel 2\\" then rumble 60% then lamp glow #ff8800"
knob = "value exposure follow"
dial.left = "left"
dial.right = "right"
lean.left = "lamp red off"
"""


@pytest.fixture
def board(tmp_path: Path) -> Iterator[Board]:
    """A board that is plugged in, with the reference program."""
    made = Board(tmp_path / "board")
    made.plug_in()
    made.start()
    yield made
    made.unplug()


@pytest.fixture
def line_alone(tmp_path: Path) -> Iterator[Board]:
    """A line with nobody at its other end but the test."""
    made = Board(tmp_path / "board")
    made.plug_in()
    yield made
    made.unplug()


def desk_at(link: str) -> str:
    return DESK.format(link=link, controls=CONTROLS)


def desk(board: Board) -> str:
    return desk_at(f"serial {board.device}")


def held(hands: FarDesk) -> bool:
    return ("keys", "t") in hands.engine.held


def test_the_reference_program_is_a_surface(board: Board, far: MakeFar) -> None:
    hands = far(desk(board))
    hands.said(f"surface bench: here now, Bench box (serial {board.device})")
    board.hands(red="1", knob="1023")
    hands.until(lambda: held(hands), "held")
    hands.until(lambda: hands.engine.values["value", "exposure"] == 100, "followed")
    board.hands()
    hands.until(lambda: not held(hands), "let go")
    board.turn(-2)
    hands.until(lambda: [effect[3] for effect in hands.sent if effect[2] == "down"].count("left") == 2, "turned")
    board.hands(green="1")
    hands.until(lambda: len(board.asked) == 5, "told")
    assert board.asked == ["lamp red on", "tone 880 80", "text Reel 2", "rumble 60 120", "lamp glow #ff8800"]
    board.hands(lean="-500 0")
    hands.until(lambda: board.asked[5:] == ["lamp red off"])
    hands.close()
    wait_for(lambda: board.asked[6:] == ["rest"], "all off with the desk")


def test_a_board_is_watched_whatever_the_desk_has(board: Board, make_desk: MakeDesk, tmp_path: Path) -> None:
    usual = os.environ | {"FENKO_DESK": str(make_desk('[surface.pad]\nkind = "gamepad"\n'))}
    watch = [*FENKO, "watch", "--format", "jsonl", "--link", f"serial {board.device}"]
    assert subprocess.run([*watch, "--desk", usual["FENKO_DESK"]], capture_output=True).returncode == 2
    with (tmp_path / "seen").open("wb") as file:
        process = subprocess.Popen(watch, env=usual, stdout=file)
    presses = itertools.cycle((lambda: board.hands(red="1"), board.hands))

    def seen() -> bool:
        next(presses)()  # it is not known when it is there
        time.sleep(0.1)
        lines = map(json.loads, (tmp_path / "seen").read_text().rpartition("\n")[0].splitlines())
        return any((line.get("control"), line.get("value")) == ("red", 1) for line in lines)

    try:
        wait_for(seen, "the button")
    finally:
        process.send_signal(signal.SIGINT)
        assert process.wait(20) == 0


def test_another_desk_with_the_same_board_lets_go_of_nothing(board: Board, far: MakeFar) -> None:
    hands = far(desk(board))
    hands.said("here now")
    board.hands(red="1")
    hands.until(lambda: held(hands), "held")
    hands.use(desk(board) + '[value.more]\nrange = [0, 5]\n[app.snipwell]\ncommand = ["snipwell"]\n')
    hands.look(0.5)
    assert held(hands) and not any("gone" in note for note in hands.notes)
    hands.use(desk_at("serial /dev/null"))
    hands.until(lambda: not held(hands), "let go")


@pytest.mark.parametrize("how", ["killed", "unplugged", "reset", "worker killed"])
def test_nothing_stays_held(board: Board, far: MakeFar, how: str) -> None:
    hands = far(desk(board))
    came: list[str] = []
    hands.linked.came = came.append
    hands.said("here now")
    board.hands(red="1")
    hands.until(lambda: held(hands), "held")
    before = len(came)
    if how != "killed":
        board.hands()
    match how:
        case "killed":
            board.kill()  # the line stays, and says nothing any more; the button is held on it for ever
        case "unplugged":
            board.unplug()
        case "reset":
            board.kill()
            board.start()
        case _:
            os.kill(hands.workers, signal.SIGKILL)
    hands.until(lambda: not held(hands), "let go")
    board.hands()
    if how == "unplugged":
        hands.said("gone; it works again as soon as it is back")
        board.plug_in()
    if how in ("unplugged", "killed"):
        board.start()
    hands.until(lambda: len(came) > before, "back again")

    def pressed() -> bool:
        """A board that starts says what it is by itself and when Fenko asks; what is pressed at that moment is not a press."""
        board.hands()
        hands.look(0.1)
        board.hands(red="1")
        hands.look(0.1)
        return held(hands)

    hands.until(pressed, "held again")


def test_a_lamp_is_lit_again_when_the_board_is_back(board: Board, far: MakeFar) -> None:
    hands = far(desk(board))
    hands.said("here now")
    board.hands(green="1")
    hands.until(lambda: "lamp glow #ff8800" in board.told)
    before = len(board.told)
    board.kill()
    board.start()
    hands.until(lambda: {"lamp red on", "lamp glow #ff8800", "text Reel 2"} <= {*board.told[before:]}, "lit again")
    assert not any(word in told for told in board.told[before:] for word in ("tone", "rumble"))


def accepted(hands: FarDesk, server: socket.socket) -> socket.socket:
    """The line that the desk opens to a server."""
    server.setblocking(False)
    line: socket.socket = hands.until(server.accept, "somebody to come")[0]
    line.setblocking(True)
    return line


def test_a_board_on_tcp_and_one_that_is_not_there_yet(far: MakeFar) -> None:
    with socket.create_server(("127.0.0.1", 0)) as server:
        number = server.getsockname()[1]
        hands = far(desk_at(f"tcp 127.0.0.1:{number}"))
        line = accepted(hands, server)
    with line:
        line.sendall(b"board 1 bench\nhas red button\nready\nis red 1\n")
        hands.until(lambda: held(hands), "held")
    hands.until(lambda: not held(hands), "its line is gone")
    hands.said("cannot be opened")
    with socket.create_server(("127.0.0.1", number)) as server, accepted(hands, server) as line:
        line.sendall(b"board 1 bench\nhas red button\nready\nis red 1\n")
        hands.until(lambda: held(hands), "held again")


def test_a_newer_board_is_understood_and_one_of_no_version_is_not(line_alone: Board, far: MakeFar) -> None:
    board = line_alone
    hands = far(desk(board))
    hands.until(lambda: b"fenko 1" in board.said, "asked who it is")
    board.say(b"board 0 bench\nhas red button\nready\nis red 1\n")
    hands.said("speaks version 0")
    assert not hands.linked.present("bench")
    board.say(
        b"board 7 bench\nhas red button\nwith glitter\nhas orb hologram 1 2 3\ncan sing\nready\nglow red\nis red 1 2 3\nis red 1\n"
    )
    hands.until(lambda: held(hands), "held")


def test_a_flood_neither_stops_the_desk_nor_leaves_anything_held(line_alone: Board, far: MakeFar) -> None:
    """A megabyte a second: of noise, of half lines, of a button that is never still."""
    board = line_alone
    hands = far(desk(board))
    hands.until(lambda: b"fenko 1" in board.said, "asked who it is")
    board.say(b"board 1 bench\nhas red button\nhas knob fader 0 1023\nready\nis red 1\n")
    hands.until(lambda: held(hands), "held")
    chance = random.Random(7)
    ends = time.monotonic() + 3
    storm = b"".join(b"is red %d\nis knob %d\n" % (number % 2, number % 1024) for number in range(4000))

    def flood() -> None:
        while time.monotonic() < ends:
            board.say(chance.randbytes(50_000) + b"\n" + storm)
            time.sleep(0.05)

    flooding = threading.Thread(target=flood)
    flooding.start()
    longest = 0.0
    while flooding.is_alive():
        before = time.monotonic()
        hands.look(0.02)
        longest = max(longest, time.monotonic() - before)
    hands.said("more than any hand can")
    hands.said("is no line of a board")
    board.say(b"\nis red 0\nis knob 1023\n")
    hands.until(lambda: not held(hands) and hands.engine.values["value", "exposure"] == 100, "what was said last holds")
    presses = sum(effect[2:4] == ("down", "t") for effect in hands.sent)
    assert presses < 5 * MOST_A_SECOND


# --- The sketch in C ---


@pytest.mark.skipif(shutil.which("cc") is None, reason="needs a C compiler (Debian: gcc)")
def test_the_sketch_in_c_says_the_same(board: Board, far: MakeFar) -> None:
    """The very file, built for this computer: its pins are files."""
    board.kill()
    built = board.folder / "board"
    subprocess.run(
        ["cc", "-Wall", "-Wextra", "-Werror", "-DON_A_COMPUTER", BOARDS / "board.c", "-o", built], check=True
    )
    (board.folder / "pins").write_text("0 0 0")
    board.start(str(built))
    hands = far(desk(board))
    hands.said("here now, Bench box")
    (board.folder / "pins").write_text("1 0 1023")
    hands.until(lambda: held(hands) and hands.engine.values["value", "exposure"] == 100)
    (board.folder / "pins").write_text("0 1 1023")
    lamps = board.folder / "lamps"
    hands.until(lambda: not held(hands) and lamps.read_text() == "red 1\n")
    hands.close()
    wait_for(lambda: "red 0" in lamps.read_text(), "out with the desk")


@needed("avr-gcc", "qemu-system-avr")
def test_the_sketch_runs_on_a_microcontroller(board: Board, far: MakeFar, tmp_path: Path) -> None:
    """The very file on an emulated ATmega328P, whose serial line is Fenko's."""
    board.unplug()
    firmware = tmp_path / "board.elf"
    subprocess.run(
        [
            "avr-gcc",
            "-mmcu=atmega328p",
            "-DF_CPU=16000000UL",
            "-Os",
            "-Wall",
            "-Werror",
            BOARDS / "board.c",
            "-o",
            firmware,
        ],
        check=True,
    )
    command = ["qemu-system-avr", "-machine", "uno", "-bios", firmware, "-nographic", "-monitor", "none", "-serial"]
    line = tmp_path / "uno"
    with socket.socket(socket.AF_UNIX) as server:
        server.bind(str(line))
        server.listen()
        machine = subprocess.Popen([*command, f"unix:{line}"], stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL)
        try:
            server.settimeout(30)
            end, _ = server.accept()
            with end, socket.create_server(("127.0.0.1", 0)) as here:
                hands = far(desk_at(f"tcp 127.0.0.1:{here.getsockname()[1]}"))
                other = accepted(hands, here)
                for one, two in ((end, other), (other, end)):
                    threading.Thread(target=_pass_on, args=(one, two), daemon=True).start()
                hands.said("here now, Bench box")
                assert hands.linked.said("bench")[0]["controls"].keys() == {"red", "green", "knob"}
        finally:
            machine.kill()
            machine.wait()


def _pass_on(one: socket.socket, other: socket.socket) -> None:
    try:
        while data := one.recv(4096):
            other.sendall(data)
    except OSError:
        return


def test_what_comes_while_it_introduces_itself_is_heard() -> None:
    """Who is woken first takes the rest of what was read before; what it was woken for is to be heard too."""
    woken = threading.Event()
    with socket.create_server(("127.0.0.1", 0)) as here:
        way = BoardWay(f"tcp 127.0.0.1:{here.getsockname()[1]}", {}, woken.set, lambda text: None)
        way.open()
        board, _ = here.accept()
        with board:
            board.sendall(b"board 1 bench\nhas red button\nready\nis red 1\n")
            assert woken.wait(5)
            woken.clear()
            assert way.hear(time.monotonic()) == [] and way.what is not None
            board.sendall(b"is red 0\n")
            assert woken.wait(5)
            woken.clear()
            heard = []
            for _ in range(2):
                now = time.monotonic()
                assert woken.is_set() or way.due <= now, "it would sleep for ever"
                heard += [(control, value) for _, control, value in way.hear(now)]
            way.close()
    assert heard == [("red", 1), ("red", 0)]


# --- What lines mean ---


def test_a_board_is_what_it_says() -> None:
    reader = BoardReader()
    events = reader.feed(
        b"board 1 bench-box Bench box\r\nhas red button\nhas tip tilt-wheel\nhas lean stick -5 5\ncan lamp red\n"
        b"can lamp glow colours\ncan text 16\ncan alive\nready\nis red 1\nturned tip -2\nis lean 9 -3\nalive\n"
    )
    assert [type(event) for event in events] == [Hello, Ready, Said, Alive]
    ready, said = events[1:3]
    assert isinstance(ready, Ready)
    assert isinstance(said, Said)
    assert (ready.what.name, ready.what.title) == ("bench-box", "Bench box")
    assert ready.what.sorts == {"red": "button", "tip": "tilt wheel", "lean": "stick"}
    assert ready.what.lamps == {"red": False, "glow": True}
    assert said.changes == [("red", 1), ("tip", -2), ("lean.x", Raw(5, -5, 5)), ("lean.y", Raw(-3, -5, 5))]
    assert reader.left_out == 0


@pytest.mark.parametrize(
    "text",
    ["is red 2", "is red", "is red 1 0", "is blue 1", "is knob x", "turned red 1", "turned dial 4000", "is knob 99999999999",
     "has late button", "can lamp late", "ready", "IS red 1", "is red 1 " + "0" * 200, "board 1 b \x1b[31mred", "is\x00red 1", "is r\xe4d 1"],
)  # fmt: skip
def test_what_is_not_plainly_said_is_left_out(text: str) -> None:
    reader = BoardReader()
    reader.feed(b"board 1 b\nhas red button\nhas knob fader 0 9\nhas dial dial\nready\n")
    assert reader.feed(text.encode("latin-1") + b"\nis red 1\n") == [Said([("red", 1)])]
    assert reader.left_out == 1


_WORDS = st.sampled_from(
    [b"board", b"1", b"has", b"red", b"button", b"knob", b"fader", b"0", b"1023", b"ready", b"is", b"turned", b"-1", b"can",
     b"lamp", b"alive", b"\n", b"\n", b"\0", b"\xff", b"9" * 130, b"dial"]
)  # fmt: skip


@settings(max_examples=tries(1500))
@given(st.lists(st.one_of(_WORDS, st.binary(max_size=8)), max_size=80), st.integers(1, 40))
def test_whatever_a_line_says_only_controls_of_it_change(words: list[bytes], cut: int) -> None:
    data = b" ".join(words)
    reader, whole = BoardReader(), BoardReader()
    events = [event for at in range(0, len(data), cut) for event in reader.feed(data[at : at + cut])]
    sorts: dict[str, str] = {}
    for event in events:
        if isinstance(event, Hello):
            sorts = {}
        elif isinstance(event, Ready):
            sorts = event.what.sorts
        elif isinstance(event, Said):
            for control, value in event.changes:
                shape = SORTS[sorts[control.partition(".")[0]]]
                assert isinstance(value, Raw) == bool(shape.axes)
                if isinstance(value, Raw):
                    assert value.least <= value.value <= value.most
    told = [change for event in whole.feed(data) if isinstance(event, Said) for change in event.changes]
    assert told == [change for event in events if isinstance(event, Said) for change in event.changes]


def test_lines_to_a_board_are_short_and_plain() -> None:
    assert line("text", "Tür\nis red 1") == b"text T?r?is red 1\n"
    assert len(line("text", "x" * 500)) == LONGEST + 1


# --- Floods ---


@settings(max_examples=tries(300))
@given(
    st.lists(st.tuples(st.integers(0, 30), st.sampled_from(["red", "knob", "dial"]), st.integers(-3, 3)), max_size=300),
    st.integers(4, 60),
)
def test_summed_up_or_not_the_last_word_holds(hands: list[tuple[int, str, int]], most: int) -> None:
    flow = Flow(frozenset({"dial"}), most)
    stands: dict[str, object] = {}
    meant: dict[str, object] = {}
    turned = wanted = 0
    now = 0.0
    for pause, control, number in hands:
        now += pause / 1000
        value = number if control == "dial" else number % 2 if control == "red" else Raw(number % 4, 0, 3)
        told = flow.pass_time(now) if now >= flow.due else []
        for _, name, got in [*told, *flow.put(now, [(now, control, value)])]:
            if name == "dial":
                turned += got
            else:
                stands[name] = got
        if control == "dial":
            wanted += number
        else:
            meant[control] = value
    while flow.due < float("inf"):
        for _, name, got in flow.pass_time(flow.due):
            if name == "dial":
                turned += got
            else:
                stands[name] = got
    assert turned == wanted
    assert {name: value for name, value in meant.items() if stands.get(name, 0) != value and value != 0} == {}
    assert all(stands.get(name, 0) == value for name, value in meant.items())


def test_what_nobody_reads_is_summed_up_in_its_order() -> None:
    assert summed_up([(1.0, "a", 1), (2.0, "b", 1), (3.0, "a", 0)]) == [(2.0, "b", 1), (3.0, "a", 0)]
