"""A desk that runs, with a board: which lamps are lit, what its knobs show, what others are told; off whatever ends it. And what
`lit` means, in no time."""

from __future__ import annotations

import contextlib
import json
import os
import signal
import socket
import subprocess
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pythonosc.osc_packet import OscPacket

from boards import Board
from ends import free_port, needed, program, there
from fenko.core.lit import ALONE, HOWS, NAMED, Lit, read_lit
from fenko.core.reader import PhraseError
from screen import Screen, needs_screen
from started import Started, run_fenko
from support import DEMO, FENKO, MakeDesk, Run, wait_for

DESK = """
format = 1
[surface.bench]
kind = "board"
links = ["serial {device}"]
[surface.bench.control]
red.sort = "button"
green.sort = "button"
knob.sort = "fader"
knob.show = [-1200, 1200]
dial.sort = "dial"
lean.sort = "tilt"
[value.exposure]
start = 20
[timing]
hold = "800ms"
{more}
[profile.base.on.bench]
red = {{ do = "layer trim", lit = "pressed" }}
green.tap = {{ do = "profile next", lit = "profile frames", lamp = "glow", colour = "#FF8800" }}
green.hold = {{ do = "pause", lit = "paused", lamp = "glow", colour = "#0000ff" }}
knob = "value exposure follow"
dial.right = {{ do = "value exposure by +10", lit = "value exposure above 60", lamp = "glow", colour = "#ffffff" }}
dial.left = "value exposure by -10"
[profile.base.layer.trim.on.bench]
dial.left = {{ do = "nothing", lit = "layer trim", lamp = "glow" }}
[profile.frames.on.bench]
"""


class Bench:
    """A board, and a desk that runs with it."""

    def __init__(self, folder: Path, more: str = "", agree: bool = True) -> None:
        self.folder = folder
        self.board = Board(folder / "board")
        self.board.plug_in()
        self.board.start()
        (folder / "desk").mkdir()
        self.desk = folder / "desk"
        (self.desk / "desk.toml").write_text(DESK.format(device=self.board.device, more=more))
        self.screen = Screen()
        self.env = {
            **self.screen.environment, "XDG_RUNTIME_DIR": str(folder / "run"), "XDG_STATE_HOME": str(folder / "state"),
            "XDG_CONFIG_HOME": str(folder / "config"),
        }  # fmt: skip
        (folder / "run").mkdir(mode=0o700)
        if agree:
            run_fenko("trust", "--yes", "--desk", str(self.desk), env=self.env)
        self.said = folder / "said"
        self.process = Started(["run", "--desk", str(self.desk)], self.said, env=self.env)
        self.says("surface bench: here now, Bench box")

    def says(self, words: str) -> None:
        wait_for(lambda: words in self.said.read_text(), f"`{words}`")

    @property
    def lamps(self) -> dict[str, str]:
        """How its lamps are, by what it was told; everything is off after `rest`."""
        found: dict[str, str] = {}
        for line in self.board.told:
            match line.split():
                case ["lamp", name, to]:
                    found[name] = to
                case ["show", name, at]:
                    found[f"show {name}"] = at
                case ["rest"]:
                    found.clear()
        return {name: to for name, to in found.items() if to != "off"}

    def lit(self, **lamps: str) -> None:
        wanted = {name.replace("_", " "): to for name, to in lamps.items()}
        wait_for(
            lambda: {k: v for k, v in self.lamps.items() if k in wanted or not k.startswith("show")} == wanted,
            f"{wanted}, not {self.lamps}",
        )

    def close(self) -> None:
        self.process.kill()
        self.process.wait()
        self.board.unplug()
        self.screen.close()


@pytest.fixture
def bench(tmp_path: Path) -> Iterator[Bench]:
    """A desk that runs with a board."""
    made = Bench(tmp_path)
    yield made
    made.close()


@needs_screen
def test_lamps_say_how_things_stand(bench: Bench) -> None:
    board = bench.board
    bench.lit(show_knob="20.0")
    board.hands(red="1")
    bench.lit(red="on", glow="on")
    board.hands()
    bench.lit()
    board.hands(green="1")
    time.sleep(0.1)
    board.hands()
    bench.lit(glow="#ff8800")
    board.turn(5)  # the value is 70; what is in force here says nothing of it: base lies under it
    bench.lit(glow="#ff8800", show_knob="70.0")
    # Read again without that lamp.
    text = (bench.desk / "desk.toml").read_text()
    (bench.desk / "desk.toml").write_text(text.replace('lit = "profile frames", lamp = "glow", ', ""))
    bench.says("has changed and is in force")
    bench.lit(glow="#ffffff")
    board.hands(green="1")
    bench.says("paused")
    bench.lit(glow="#0000ff")
    board.hands()
    board.kill()
    board.start()
    wait_for(lambda: board.told.count("lamp glow #0000ff") >= 2, "lit again")
    board.hands(green="1")
    bench.says("running again")
    board.hands()
    bench.lit(glow="#ffffff")


@needs_screen
@pytest.mark.parametrize("how", [signal.SIGINT, signal.SIGKILL])
def test_all_is_off_when_it_ends(bench: Bench, how: signal.Signals) -> None:
    bench.board.turn(6)
    bench.lit(glow="#ffffff", show_knob="80.0")
    bench.process.send_signal(how)
    wait_for(lambda: bench.board.told[-1] == "rest", f"all off: {bench.board.told}")


@needs_screen
def test_a_knob_is_not_moved_under_a_hand(bench: Bench) -> None:
    bench.lit(show_knob="20.0")
    told = len(bench.board.told)
    places = range(100, 1000, 100)
    for at in places:
        bench.board.hands(knob=str(at))
        wait_for(lambda at=at: abs(bench_value(bench) - at / 10.23) < 1, "followed")
    # Whatever it was told meanwhile, while the hand rested for a moment, it was where the hand had left it.
    shown = [float(line.split()[2]) for line in bench.board.told[told:] if line.startswith("show")]
    assert all(any(abs(one - at / 10.23) < 1 for at in places) for one in shown), shown
    bench.lit(show_knob="88.0", glow="#ffffff")  # where it is, when the hand has left it
    bench.board.turn(1)
    bench.lit(show_knob="98.0", glow="#ffffff")


def bench_value(bench: Bench) -> float:
    asked = run_fenko("values", "--format", "json", env=bench.env)
    return float(json.loads(asked.stdout)["values"]["exposure"]["value"])


@needs_screen
@needed("mosquitto", "mosquitto_sub")
def test_others_are_told_what_hands_do_if_a_person_agreed(tmp_path: Path) -> None:
    port = free_port()
    (tmp_path / "broker.conf").write_text(f"listener {port} 127.0.0.1\nuser root\nallow_anonymous true\n")
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as ear, contextlib.ExitStack() as stack:
        ear.bind(("127.0.0.1", 0))
        heard: list[tuple[str, list[Any]]] = []
        threading.Thread(target=_hear, args=(ear, heard), daemon=True).start()
        stack.enter_context(program("mosquitto", "-c", str(tmp_path / "broker.conf")))
        published = tmp_path / "published"
        wait_for(there(lambda: socket.create_connection(("127.0.0.1", port), 1).close() or True), "the broker")
        out = stack.enter_context(published.open("wb"))
        stack.enter_context(program("mosquitto_sub", "-p", str(port), "-v", "-t", "#", stdout=out))
        more = f"""
[mqtt.house]
url = "mqtt://127.0.0.1:{port}"
tells = ["bench.*", "value exposure"]
tells-on = "moth/bench"
[osc.lamps]
to = "udp 127.0.0.1:{ear.getsockname()[1]}"
tells = ["bench.knob", "bench.red"]
"""
        bench = Bench(tmp_path, more, agree=False)
        stack.callback(bench.close)
        bench.board.hands(red="1", knob="1023")
        bench.says("not done, for nobody has agreed to it: tells house")
        bench.board.hands()
        trusted = run_fenko("trust", "--yes", "--desk", str(bench.desk), env=bench.env)
        assert "tells lamps (udp 127.0.0.1:" in trusted.stdout
        assert "what hands do: bench.*, value exposure" in trusted.stdout
        bench.board.hands(red="1", knob="767", lean="-256 0")
        bench.board.turn(-2)
        wait_for(lambda: b"turned" in published.read_bytes() and len(heard) >= 2, f"{published.read_text()} {heard}")
        bench.board.hands()
        wait_for(lambda: '{"pressed":false}' in published.read_text().splitlines()[-6:].__str__(), "let go")
    told = {
        line.partition(" ")[0]: json.loads(line.partition(" ")[2])
        for line in reversed(published.read_text().splitlines())
    }
    first = {line.partition(" ")[0]: [] for line in published.read_text().splitlines()}
    for line in published.read_text().splitlines():
        first[line.partition(" ")[0]].append(json.loads(line.partition(" ")[2]))
    assert {"pressed": True} in first["moth/bench/bench/red"]
    knob = {"at": 0.7498, "percent": 74.98, "shows": 899.707, "direction": "", "raw": "767"}
    assert knob in first["moth/bench/bench/knob"]
    assert any(one["direction"] == "left" and -51 < one["percent"] < -49 for one in first["moth/bench/bench/lean/x"])
    assert first["moth/bench/bench/dial"] == [{"turned": -2.0}]
    assert all(isinstance(one["value"], float) for one in first["moth/bench/value/exposure"])
    assert told
    assert ("/fenko/bench/red", [1]) in heard
    assert any(address == "/fenko/bench/knob" and abs(arguments[0] - 0.7498) < 1e-3 for address, arguments in heard)
    assert {address for address, _ in heard} == {"/fenko/bench/red", "/fenko/bench/knob"}


def _hear(ear: socket.socket, heard: list[tuple[str, list[Any]]]) -> None:
    with contextlib.suppress(OSError):
        while data := ear.recv(4096):
            heard.extend((one.message.address, list(one.message.params)) for one in OscPacket(data).messages)


# --- What `lit` says ---


def _lits() -> st.SearchStrategy[Lit]:
    name = st.sampled_from(["trim", "rail", "a-b"])
    return st.one_of(
        st.builds(Lit, st.sampled_from(ALONE), denied=st.booleans()),
        st.builds(Lit, st.sampled_from(NAMED), name, denied=st.booleans()),
        st.builds(Lit, st.sampled_from(["volume", "player"]), st.sampled_from(["", "radio"]), denied=st.booleans()),
        st.builds(Lit, st.just("microphone"), denied=st.booleans()),
        st.builds(Lit, st.just("machine"), name, st.sampled_from(["alarm", "idle"]), denied=st.booleans()),
        st.builds(
            Lit, st.just("value"), name, st.sampled_from(HOWS), st.sampled_from([0.0, -2.5, 100.0]), st.booleans()
        ),
    )


@given(_lits())
def test_a_condition_is_read_as_it_is_written(lit: Lit) -> None:
    assert read_lit(str(lit)) == lit


@given(
    st.lists(
        st.sampled_from(
            ["not", "pressed", "value", "exposure", "above", "x", "100", "volume", "muted", "of", '"', "\\", "layer"]
        ),
        max_size=6,
    )
)
def test_any_words_are_a_condition_or_told_where_they_go_wrong(words: list[str]) -> None:
    text = " ".join(words)
    try:
        assert read_lit(str(read_lit(text))) == read_lit(text)
    except PhraseError as why:
        assert 0 <= why.offset <= len(text) and why.length > 0


@pytest.mark.parametrize(
    ("lit", "where", "words"),
    [
        ("presed", 'lit = "presed"', "did you mean `pressed`"), ("layer trin", 'lit = "layer trin"', "unknown layer `trin`"),
        ("value x above 3", 'lit = "value x above 3"', "unknown value `x`"), ("volume", 'lit = "volume"', "while it is `muted`"),
        ("machine rail alarm", 'lit = "machine rail alarm"', "unknown machine `rail`"), ("pressed now", "", "`now` means nothing here"),
    ],
)  # fmt: skip
def test_check_says_what_is_wrong_with_a_lamp(
    make_desk: MakeDesk, fenko: Run, lit: str, where: str, words: str
) -> None:
    desk = make_desk(
        f'[surface.c]\nkind = "midi"\nlinks = ["midi X*"]\n[profile.base.on.c]\nnote-1 = {{ do = "a", lit = "{lit}" }}\n'
    )
    done = fenko("check", "--desk", desk)
    assert done.returncode == 2
    assert words in done.stdout + done.stderr


def test_a_kernel_device_has_the_kernels_lamps(make_desk: MakeDesk, fenko: Run) -> None:
    text = '[surface.pad]\nkind = "gamepad"\n[profile.base.on.pad]\nsouth = {{ do = "a", lit = "pressed"{} }}\n'
    for more, code, words in (
        ("", 1, "`south` has no lamp of its own"), (', lamp = "red"', 1, "has no lamp `red`"), (', lamp = "mute"', 0, ""),
    ):  # fmt: skip
        done = fenko("check", "--desk", make_desk(text.format(more)))
        assert done.returncode == code, done.stdout + done.stderr
        assert words in done.stdout + done.stderr
    said = make_desk(
        '[surface.pad]\nkind = "gamepad"\n[profile.base.on.pad]\nsouth = "lamp red on"\neast = "lamp capslock off"\n'
    )
    done = fenko("check", "--desk", said)
    assert (done.returncode, done.stdout.count("has no lamp")) == (1, 1)


def test_lamps_are_in_the_timeline(make_desk: MakeDesk, fenko: Run, tmp_path: Path) -> None:
    desk = make_desk(
        '[surface.c]\nkind = "midi"\n[surface.c.control.cc-16]\nsort = "dial"\nshows-value = true\n[value.x]\nstart = 50\n[profile.base.on.c]\n'
        'note-1 = { do = "volume mute on", lit = "volume muted" }\nnote-2 = { do = "toggle shift", lit = "toggled" }\n'
        'note-3 = { in-turn = ["a", "b"], states = ["One", "Two"], lit = "state Two", colour = "#112233" }\ncc-16 = "value x by +10"\n'
    )
    strikes = [(0.5, "note-1"), (1.0, "note-2"), (1.5, "note-3"), (2.0, "note-3"), (2.5, "note-2")]
    lines: list[dict[str, Any]] = [{"take": 2, "name": "x", "surfaces": {"c": "midi"}}]
    for t, control in strikes:
        lines += [
            {"t": t + late, "surface": "c", "control": control, "raw": raw, "range": [0, 127]}
            for late, raw in ((0, 90), (0.1, 0))
        ]
    lines.append({"t": 3.0, "surface": "c", "control": "cc-16", "value": 2})
    take = tmp_path / "take.jsonl"
    take.write_text("\n".join(map(json.dumps, lines)) + "\n")
    done = fenko("rehearse", take, "--desk", desk, "--format", "jsonl")
    found = [json.loads(line) for line in done.stdout.splitlines()]
    lamps = [(one["t"], one["lamp"], one["to"]) for one in found if one["act"] == "lamp"]
    assert lamps == [
        (0.5, "note-1", "on"), (1.0, "note-2", "on"), (2.0, "note-3", "#112233"), (2.5, "note-2", "off"),
    ]  # fmt: skip
    assert [(one["t"], one["control"], one["at"]) for one in found if one["act"] == "show"] == [
        (0.5, "cc-16", 0.5),
        (3.0, "cc-16", 0.7),
    ]
    assert os.path.exists(take)


def test_try_hears_it_and_lights_nothing(tmp_path: Path) -> None:
    board = Board(tmp_path / "board")
    board.plug_in()
    board.start()
    (tmp_path / "desk").mkdir()
    (tmp_path / "desk/desk.toml").write_text(DESK.format(device=board.device, more=""))
    said = tmp_path / "said"
    with said.open("wb") as out:
        trial = subprocess.Popen(
            [*FENKO, "try", "--app", "x", "--desk", str(tmp_path / "desk")],
            stdout=out,
            stderr=out,
            stdin=subprocess.DEVNULL,
        )
    try:
        wait_for(lambda: "here now" in said.read_text(), "the board")
        board.hands(red="1")
        wait_for(lambda: "bench: lamp red on" in said.read_text(), f"a lamp: {said.read_text()}")
        board.hands()
        board.turn(2)
        wait_for(lambda: "exposure = 40" in said.read_text() or "exposure = 30" in said.read_text(), "a value")
        trial.send_signal(signal.SIGINT)
        assert trial.wait(20) == 0
    finally:
        trial.kill()
        board.unplug()
    assert board.told == []


@needs_screen
def test_a_take_is_played_in_place_of_it(tmp_path: Path) -> None:
    """Whoever plays a take has no other hands beside it."""
    bench = Bench(tmp_path)
    bench.process.send_signal(signal.SIGINT)
    bench.process.wait(20)
    take = tmp_path / "take.jsonl"
    take.write_text(
        '{"take": 2, "name": "x", "surfaces": {"bench": "board"}}\n{"t": 3.0, "surface": "bench", "control": "red", "value": 0}\n'
    )
    played = subprocess.Popen(
        [*FENKO, "run", "--desk", str(bench.desk), "--play", str(take)],
        env=bench.env,
        stderr=subprocess.PIPE,
        text=True,
    )
    try:
        time.sleep(1.5)
        bench.board.turn(4)
        _, said = played.communicate(timeout=30)
        assert "here now" not in said
        assert "exposure" not in " ".join(bench.board.told)
    finally:
        played.kill()
        bench.close()


def test_check_says_what_nobody_is_told_and_which_broker_is_missing(make_desk: MakeDesk, fenko: Run) -> None:
    text = (
        '[surface.far]\nkind = "gamepad"\nlinks = ["mqtt bench/pad{}"]\n[value.x]\n[osc.lamps]\nto = "udp 127.0.0.1:9000"\n'
        'tells = ["far.*", "value x", {}]\n{}[profile.base.on.far]\nsouth = "value x by +1"\n'
    )
    broker = '[mqtt.house]\nurl = "mqtt://h"\n'
    for at, pattern, more, words in (
        ("", '"far.south"', "", "has no [mqtt.NAME]"), (" at barn", '"far.south"', broker, "has no [mqtt.barn]"),
        ("", '"fur.*"', broker, "`fur.*` fits no control"), ("", '"value y"', broker, "`value y` fits no control"),
    ):  # fmt: skip
        done = fenko("check", "--desk", make_desk(text.format(at, pattern, more)))
        assert done.returncode == 1
        assert words in done.stdout
    done = fenko("check", "--desk", make_desk(text.format(" at house", '"far.south"', broker)))
    assert done.returncode == 0, done.stdout


@needs_screen
def test_nobody_elsewhere_presses_anything_before_a_person_agreed(tmp_path: Path) -> None:
    """Whatever another computer says is typed here; a desk of somebody else may name it, and no more."""
    with socket.create_server(("127.0.0.1", 0)) as server, contextlib.ExitStack() as stack:
        server.settimeout(1.0)
        where = f"127.0.0.1:{server.getsockname()[1]}"
        (tmp_path / "desk").mkdir()
        (tmp_path / "desk/desk.toml").write_text(
            DESK.format(device="/nowhere", more="").replace("serial /nowhere", f"tcp {where}")
        )
        screen = Screen()
        stack.callback(screen.close)
        env = {
            **screen.environment, "XDG_RUNTIME_DIR": str(tmp_path / "run"), "XDG_STATE_HOME": str(tmp_path / "state"),
            "XDG_CONFIG_HOME": str(tmp_path / "config"),
        }  # fmt: skip
        (tmp_path / "run").mkdir(mode=0o700)
        said = tmp_path / "said"
        with said.open("wb") as out:
            run = subprocess.Popen([*FENKO, "run", "--desk", str(tmp_path / "desk")], env=env, stdout=out, stderr=out)
        stack.callback(run.wait)
        stack.callback(run.kill)
        words = f"lets {where} press what is bound on bench"
        wait_for(lambda: f"nobody has agreed to it: {words}" in said.read_text(), "refused")
        with pytest.raises(TimeoutError):
            server.accept()
        trusted = run_fenko("trust", "--yes", "--desk", str(tmp_path / "desk"), env=env)
        assert words in trusted.stdout
        run_fenko("reload", env=env, check=True)
        server.settimeout(20)
        line, _ = server.accept()
        with line:
            line.sendall(b"board 1 bench\nhas red button\nready\nis red 1\n")
            wait_for(lambda: "here now" in said.read_text(), "it is there")


def test_where_no_control_stands_the_surface_is_said(make_desk: MakeDesk, fenko: Run) -> None:
    text = '[surface.pad]\nkind = "gamepad"\n[profile.frames]\nwhen = {{ app = "x" }}\non-enter = "rumble 60%{}"\n[profile.frames.on.pad]\nsouth = "a"\n'
    done = fenko("check", "--desk", make_desk(text.format("")))
    assert done.returncode == 2
    assert "has to be said which surface is meant" in done.stdout + done.stderr
    assert fenko("check", "--desk", make_desk(text.format(" of pad"))).returncode == 0
    done = fenko("check", "--desk", make_desk(text.format(" of pat")))
    assert (done.returncode, "`pad`" in done.stdout + done.stderr) == (2, True)


def test_explain_names_the_lamp(fenko: Run) -> None:
    told = fenko("explain", "dunnock.pad-8", "--desk", DEMO).stdout
    assert "  lamp    dunnock pad-8 (#d55e00): microphone muted" in told
