"""What must not stay behind: notes while a display hangs, threads of boards that are away, trials, states of surfaces, folders
that nobody watches any more."""

from __future__ import annotations

import json
import os
import resource
import socket
import threading
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from itertools import pairwise
from pathlib import Path

import pytest
from msgspec import structs

from ends import MakeFar, far, jack, jack_ports, needed
from fenko.core.changes import PLUG, UNPLUG
from fenko.core.engine import Engine
from fenko.core.plan import BASE, Level, Plan, Profile, Surface, Timing
from fenko.desk.compiled import compiled
from fenko.desk.load import load_desk
from fenko.integrations.board.transport import BoardWay
from fenko.live.keeping import Keeping
from fenko.live.loop import Loop
from fenko.live.session import Session
from fenko.outputs.listing import ListingPort
from fenko.system.inotify import Coming
from fenko.system.talking import private_folder
from fenko.workers.worker import Away
from running import Running, take
from screen import Screen, needs_screen
from support import MakeDesk, Run, wait_for
from test_midi import Monitor, begun, monitor
from test_talk import Bench

__all__ = ["far", "jack", "monitor"]


@pytest.fixture
def screen() -> Iterator[Screen]:
    found = Screen()
    yield found
    found.close()


# --- The end ---


@needs_screen
@needed("jackd")
def test_a_note_ends_at_once_also_where_the_display_hangs(
    screen: Screen, jack: dict[str, str], monitor: Monitor, tmp_path: Path, make_desk: MakeDesk
) -> None:
    desk = make_desk(
        'format = 1\n[midi.stage]\nport = "monitor*"\n[surface.pad]\nkind = "gamepad"\n'
        '[profile.base.on.pad]\nsouth = "midi note c4"\neast = "f9"\n'
    )
    taken = take(tmp_path / "t.jsonl", (0.5, "east", 1), (2.0, "south", 1), (600, "south", 0))
    jack_names = {name: value for name, value in jack.items() if name.startswith("JACK")}
    screen_of = type("Shown", (), {"environment": screen.environment | jack_names, "processes": screen.processes})
    running = Running(screen_of, tmp_path / "log", "--desk", str(desk), "--play", taken)
    wait_for(lambda: "Fenko:stage" in jack_ports(jack), "the port")
    wait_for(lambda: monitor.heard, "the note")
    with screen.hung():
        began = time.monotonic()
        running.process.terminate()
        wait_for(lambda: len(monitor.heard) > 1, "its end")
        assert time.monotonic() - began < 2 and monitor.heard[1] == "80 3c 00"
    assert running.process.wait(15) == 0


@needed("jackd")
def test_a_note_ends_at_once_also_where_another_peer_reads_nothing(
    jack: dict[str, str], monitor: Monitor, far: MakeFar
) -> None:
    with deaf_peer() as port:
        big = "x" * 30000
        hands = far(
            f'[midi.stage]\nport = "monitor*"\n[osc.slow]\nto = "tcp 127.0.0.1:{port}"\n'
            f'[profile.base.on.pad]\nsouth = "midi note c4"\neast = \'osc /b "{big}" to slow\'\n',
            jack,
        )
        hands.until(lambda: hands.facts["midi"]["stage"]["to"] == ["monitor:in"], "connected")
        begun(hands, monitor, "south", 1, "90 3c 64")
        for _ in range(200):  # more than sockets take
            hands.tap("east")
        closing = threading.Thread(target=hands.close)
        began = time.monotonic()
        closing.start()
        wait_for(lambda: "80 3c 00" in monitor.heard, "its end")
        assert time.monotonic() - began < 1
        closing.join()


@contextmanager
def deaf_peer() -> Iterator[int]:
    """The port of a TCP server that accepts a client and reads nothing."""
    with socket.socket(socket.AF_INET, socket.SOCK_STREAM) as slow:
        slow.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1024)
        slow.bind(("127.0.0.1", 0))
        slow.listen()
        yield int(slow.getsockname()[1])


# --- Trials ---


def _session(loop: Loop, folder: Path, said: list[str]) -> Session:
    return Session(
        compiled(load_desk(folder)), loop, lambda desk, open_now: [ListingPort(lambda effects: None)], said.append
    )


TRIED = 'format = 1\n[surface.pad]\nkind = "gamepad"\n[timing]\nhold = "200ms"\n'


def _hold(session: Session) -> float:
    return session.engine.plan.timing.hold


def test_of_two_trials_at_once_the_second_is_refused_and_the_first_undone(make_desk: MakeDesk) -> None:
    folder, said, told = make_desk(TRIED), list[str](), list[str | None]()
    with Loop() as loop:
        session = _session(loop, folder, said)
        for value in ('"300ms"', '"400ms"'):
            session.try_settings(((("timing", "hold"), value),), 0.6, told.append)
        seen: list[float] = []

        def look(now: float) -> None:
            seen.append(_hold(session))
            watch.set_in(0.02)

        watch = loop.timer(look)
        watch.set_in(0.0)
        over = loop.timer(lambda now: loop.stop() if 0.3 in seen and _hold(session) == 0.2 else over.set_in(0.05))
        over.set_in(0.1)
        loop.timer(lambda now: loop.stop()).set_in(20)
        loop.run()
        assert _hold(session) == 0.2 and 0.4 not in seen
        session.close()
    assert told[-1] is None and "being tried already" in str(told[0])


def test_reading_untouched_files_again_leaves_a_trial_alone(make_desk: MakeDesk) -> None:
    folder, said = make_desk(TRIED), list[str]()
    with Loop() as loop:
        session = _session(loop, folder, said)
        read: list[bool] = []

        def read_again(wrong: str | None, changed: bool) -> None:
            read.append(changed)
            loop.stop()

        session.try_settings(((("timing", "hold"), '"300ms"'),), 60, lambda wrong: session.reload(read_again))
        loop.run()
        assert _hold(session) == 0.3
        assert session.end_trial(keep=False) and _hold(session) == 0.2
        session.close()


def test_files_that_change_end_a_trial_which_is_said(make_desk: MakeDesk) -> None:
    folder, said = make_desk(TRIED), list[str]()
    with Loop() as loop:
        session = _session(loop, folder, said)

        def tried(wrong: str | None) -> None:
            make_desk(TRIED.replace("200", "250"))
            session.reload(lambda wrong, changed: loop.stop())

        session.try_settings(((("timing", "hold"), '"300ms"'),), 60, tried)
        loop.run()
        assert _hold(session) == 0.25 and not session.end_trial(keep=True)
        session.close()
    assert any("what was tried is taken back" in line for line in said)


# --- Boards that are away ---


def test_a_board_that_is_away_leaves_nothing_behind_and_is_found_at_once(tmp_path: Path) -> None:
    woken = threading.Event()
    device = tmp_path / "by-id" / "bench"
    way = BoardWay(f"serial {device}", {"kind": "board", "controls": {}}, woken.set, lambda text: None)
    way.due = 0.0

    def tried() -> None:
        with pytest.raises(Away):
            way.open()
        way.close()

    tried()
    tries = 20
    threads, files = threading.active_count(), len(os.listdir("/proc/self/fd"))
    for _ in range(tries):
        tried()
    # What other threads of this process open for a moment counts too.
    assert threading.active_count() == threads
    assert len(os.listdir("/proc/self/fd")) < files + tries / 2
    device.parent.mkdir()  # as udev does, with the first device that there is
    assert not woken.is_set()
    device.touch()
    assert woken.wait(5)
    way.end()
    assert threading.active_count() == threads - 1


def test_what_comes_and_goes_is_told_each_time(tmp_path: Path) -> None:
    came: list[float] = []
    path = tmp_path / "a" / "b"
    coming = Coming(path, lambda: came.append(time.monotonic()))
    for number in range(1, 4):
        path.parent.mkdir()
        path.touch()
        wait_for(lambda n=number: len(came) == n, "it has come")
        path.unlink()
        path.parent.rmdir()
        time.sleep(0.05)
    coming.close()


# --- Surfaces, and another desk ---


@pytest.mark.parametrize("there", [True, False])
def test_a_surface_is_there_as_much_as_before_under_another_desk(there: bool) -> None:
    def plan(debounce: float) -> Plan:
        surface = Surface("bench", "board", debounce=debounce)
        return Plan({"bench": surface}, {BASE: Profile(BASE, (), (Level(BASE, {}),), {})}, Timing())

    engine = Engine(plan(0.0))
    engine.feed((0.0, PLUG if there else UNPLUG, "bench"))
    engine.use_plan(1.0, plan(0.02))
    assert ("bench" in engine.circumstances.surfaces) == there
    engine.use_plan(2.0, structs.replace(plan(0.0), surfaces={}))
    assert not engine.circumstances.surfaces


def test_a_slow_peer_that_a_reload_closes_holds_up_no_other(far: MakeFar) -> None:
    with ExitStack() as stack:
        slow = stack.enter_context(deaf_peer())
        quick = stack.enter_context(socket.socket(socket.AF_INET, socket.SOCK_DGRAM))
        quick.bind(("127.0.0.1", 0))
        quick.settimeout(1.0)
        port = quick.getsockname()[1]
        text = f'{{slow}}[osc.quick]\nto = "udp 127.0.0.1:{port}"\n[profile.base.on.pad]\nsouth = "osc /a 1 to quick"\n{{east}}'
        big = "x" * 30000
        whole = text.format(
            slow=f'[osc.slow]\nto = "tcp 127.0.0.1:{slow}"\n',
            east=f"east = 'osc /b \"{big}\" to slow'\n",
        )
        hands = far(whole)
        hands.tap("south")
        assert hands.until(lambda: quick.recv(1000))
        for _ in range(200):  # more than sockets take
            hands.tap("east")
        hands.look(0.3)
        hands.use(text.format(slow="", east=""))
        hands.tap("south")
        began = time.monotonic()
        hands.look(0.05)
        assert quick.recv(1000) and time.monotonic() - began < 1


def test_a_folder_of_the_desk_that_is_made_anew_is_watched_again(make_desk: MakeDesk) -> None:
    folder = make_desk('format = 1\ninclude = ["profiles/*.toml"]\n[surface.pad]\nkind = "gamepad"\n')
    profiles = folder / "profiles"

    def write(key: str) -> None:
        profiles.mkdir(exist_ok=True)
        (profiles / "a.toml").write_text(f'[profile.base.on.pad]\nsouth = "{key}"\n')

    write("a")
    said: list[str] = []
    with Loop() as loop:
        session = _session(loop, folder, said)
        session.watch_files()

        def is_key(key: str) -> bool:
            cell = session.engine.cell("pad.south")
            return cell is not None and cell.press is not None and cell.press.words == key

        def until(what: object) -> None:
            def look(now: float) -> None:
                if what():  # type: ignore[operator]
                    loop._stopped = True
                else:
                    timer.set_in(0.02)

            late = loop.timer(lambda now: pytest.fail(f"too late; said {said}"))
            late.set_in(10)
            timer = loop.timer(look)
            timer.set_in(0.0)
            loop._stopped = False
            loop.run()
            late.end()

        for number, key in enumerate("bcd"):
            before = len([line for line in said if "errors" in line])
            (profiles / "a.toml").unlink()
            profiles.rmdir()
            until(lambda b=before: len([line for line in said if "errors" in line]) > b)
            write(key)
            until(lambda k=key: is_key(k))
            assert number < 3
        session.close()


# --- What is kept ---


def test_numbers_that_no_value_can_be_are_not_kept_values(make_desk: MakeDesk, tmp_path: Path) -> None:
    desk = compiled(load_desk(make_desk("format = 1\n[value.lamp]\nkeep = true\nstart = 7\n")))
    file = tmp_path / "kept.json"
    for kept in ("1" * 400, "1e999", "-" + "9" * 30, '"x"', "null"):
        file.write_text(f'{{"lamp": {kept}}}')
        with Loop() as loop:
            engine = Engine(desk.plan)
            Keeping(engine, loop, file)
            assert engine.values["value", "lamp"] == 7


def test_a_slow_disk_holds_up_no_event(make_desk: MakeDesk, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    desk = compiled(load_desk(make_desk("format = 1\n[value.lamp]\nkeep = true\n")))
    writes = threading.Event()
    slow = threading.Event()
    monkeypatch.setattr(os, "fsync", lambda fd: (writes.set(), slow.wait(20)))
    monkeypatch.setattr("fenko.live.keeping.SOON", 0.0)
    ticks: list[float] = []
    with Loop() as loop:
        engine = Engine(desk.plan)
        keeping = Keeping(engine, loop, tmp_path / "kept.json")
        loop.soon(lambda: engine.hear(0.0, ("value", "lamp"), 5))

        def tick(now: float) -> None:
            ticks.append(now)
            if writes.is_set() and len(ticks) > 20:
                loop.stop()
            timer.set_in(0.005)

        timer = loop.timer(tick)
        timer.set_in(0.0)
        loop.run()
        slow.set()
        keeping.write()
    assert json.loads((tmp_path / "kept.json").read_text()) == {"lamp": 5}
    assert max(later - one for one, later in pairwise(ticks)) < 2


# --- Clients ---


@needs_screen
def test_a_client_that_closes_its_sending_half_gets_its_answers(
    screen: Screen, tmp_path: Path, make_desk: MakeDesk
) -> None:
    bench = Bench(screen, tmp_path, make_desk(TRIED))
    running = Running(bench_screen(bench), tmp_path / "log", "--desk", str(bench.desk))
    running.says("is running")
    try:
        for ask in (
            {"ask": "reload"},
            {"ask": "set", "settings": {"timing.hold": '"300ms"'}, "for": 1.0},
            {"ask": "values"},
        ):
            with socket.socket(socket.AF_UNIX) as line:
                line.settimeout(20)
                line.connect(str(tmp_path / "run/fenko/desk"))
                line.sendall(json.dumps(ask).encode() + b"\n")
                line.shutdown(socket.SHUT_WR)
                said = b""
                while data := line.recv(65536):
                    said += data
            answers = [json.loads(one) for one in said.splitlines()]
            assert answers[0]["fenko"] == 1 and "done" in answers[-1], (ask, answers)
    finally:
        assert running.end() == 0


def bench_screen(bench: Bench) -> object:
    return type("Shown", (), {"environment": bench.environment, "processes": bench.screen.processes})


@needs_screen
def test_without_descriptors_the_desk_works_on(screen: Screen, tmp_path: Path, make_desk: MakeDesk) -> None:
    bench = Bench(screen, tmp_path, make_desk(TRIED))
    running = Running(bench_screen(bench), tmp_path / "log", "--desk", str(bench.desk))
    running.says("is running")
    pid = running.process.pid
    with ExitStack() as stack:
        here = len(os.listdir(f"/proc/{pid}/fd"))
        _, most = resource.prlimit(pid, resource.RLIMIT_NOFILE)
        resource.prlimit(pid, resource.RLIMIT_NOFILE, (here, most))
        for _ in range(5):
            line = stack.enter_context(socket.socket(socket.AF_UNIX))
            line.connect(str(tmp_path / "run/fenko/desk"))

        def used() -> float:
            fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
            return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")

        before, began = used(), time.monotonic()
        wait_for(lambda: time.monotonic() - began > 1.5, "a while")
        assert used() - before < 0.5
    resource.prlimit(pid, resource.RLIMIT_NOFILE, (most, most))
    wait_for(lambda: bench.fenko("status").returncode == 0, "it answers again")
    assert running.end() == 0


def test_a_folder_behind_a_link_is_no_private_folder(tmp_path: Path) -> None:
    (tmp_path / "real").mkdir(mode=0o700)
    (tmp_path / "link").symlink_to(tmp_path / "real")
    (tmp_path / "dangling").symlink_to(tmp_path / "nothing")
    for name in ("link", "dangling"):
        with pytest.raises(OSError):
            private_folder(tmp_path / name)
    assert not (tmp_path / "nothing").exists()


# --- Files that are too much ---


@pytest.mark.parametrize("deep", [40, 500, 3000])
def test_keys_in_keys_are_an_error_of_the_desk(fenko: Run, make_desk: MakeDesk, deep: int) -> None:
    for text in (
        f"[profile.base.on.pad.{'.'.join(['a'] * deep)}]\nb = 1\n",
        f"[surface.{'.'.join(['a'] * deep)}]\nb = 1\n",
    ):
        done = fenko("check", "--desk", make_desk("format = 1\n" + text))
        assert done.returncode == 2 and "nested too deeply" in done.stdout + done.stderr


def test_a_list_that_no_desk_could_read_is_not_imported(fenko: Run, make_desk: MakeDesk, tmp_path: Path) -> None:
    desk = make_desk('format = 1\n[surface.pad]\nkind = "gamepad"\n')
    source = tmp_path / "long.csv"
    long = 40 * "reel "
    source.write_text("command,keys\n" + "".join(f"Cmd {n} {long},f1\n" for n in range(20_000)))
    done = fenko("shortcuts", "snipwell", "--import", source, "--yes", "--desk", desk, timeout=200)
    assert done.returncode == 2 and "20,000 commands" in done.stderr
    assert not (desk / "snipwell.csv").exists()
    assert fenko("check", "--desk", desk).returncode != 2
