"""The journal: what of a running desk comes into it, and what never does; what becomes of it when the disk is full, when processes are
killed, when it is old, new or broken."""

from __future__ import annotations

import csv
import io
import os
import random
import resource
import signal
import sqlite3
import subprocess
import time
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from boards import CONTROLS, Board
from fenko.core.phrase import parse_phrase
from fenko.core.plan import Binding as Bound
from fenko.live.loop import Loop
from fenko.services.journalling import Writer
from fenko.services.messages import AddUses, JournalState
from fenko.system.child_process import ChildProcess
from fenko.system.journal import OTHER, STEPS, USE, Binding, Journal, JournalError, Use, journal_file, undoes, words_of
from running import DESK as PLAIN
from running import Running, press, take
from screen import screen
from started import run_fenko
from support import tries, wait_for

DESK = """
format = 1
name = "Bench"
[journal]
keep = "90 days"
[surface.bench]
kind = "board"
links = ["serial {device}"]
[surface.bench.control]
{controls}
[profile.base.on.bench]
red = {{ tap = 'type "hushhush" then enter', hold = "f9" }}
dial.left = "left"
dial.right = "right"
[profile.base.layer.fine]
while = "bench.green"
[profile.base.layer.fine.on.bench]
dial.right = "shift+right"
[profile.frames]
when = {{ app = "snipwell" }}
[profile.frames.on.bench]
red = {{ do = "ctrl+z", label = "Undo" }}
lean.right = 'type "wings wide"'
"""
TAKEN = f'{PLAIN}[journal]\nkeep = "90 days"\n'
SECRETS = ("hushhush", "wings wide", "Reel 7 of nobody", "nobody's business")


class Bench:
    """`fenko run` on a screen, with a board for hands."""

    def __init__(self, folder: Path, one: Any) -> None:
        self.one = one
        self.board = Board(folder / "board")
        self.board.plug_in()
        self.board.start()
        self.desk = folder / "desk"
        self.desk.mkdir()
        (self.desk / "desk.toml").write_text(DESK.format(device=self.board.device, controls=CONTROLS))
        self.folder = folder
        self.run = self.start()

    def start(self) -> Running:
        run = Running(self.one, self.folder / "log", "--desk", str(self.desk))
        run.says("surface bench: here now")
        return run

    def tap(self, control: str, seconds: float = 0.08) -> None:
        self.board.hands(**{control: "1"})
        time.sleep(seconds)
        self.board.hands()
        time.sleep(0.15)

    @property
    def file(self) -> Path:
        (found,) = (self.folder / "state/fenko/journal").glob("*.sqlite")
        return found

    def rows(self) -> list[dict[str, str]]:
        done = run_fenko("journal", "export", "--desk", str(self.desk), env=self.one.environment)
        return list(csv.DictReader(io.StringIO(done.stdout)))

    def used(self) -> list[tuple[str, str, str, str]]:
        return [(row["program"], row["profile"], row["control"], row["gesture"]) for row in self.rows()]


@pytest.fixture
def bench(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Bench]:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    monkeypatch.setenv("XDG_RUNTIME_DIR", str(tmp_path / "run"))
    (tmp_path / "run").mkdir(mode=0o700)
    with screen() as one:
        made = Bench(tmp_path, one)
        yield made
        made.board.unplug()


def test_what_was_used_stands_in_it(bench: Bench) -> None:
    bench.tap("red")
    bench.tap("red", 0.4)
    bench.board.hands(green="1")
    time.sleep(0.5)
    bench.board.turn(3)
    time.sleep(0.5)
    bench.board.hands()
    time.sleep(0.2)
    bench.one.terminal("snipwell", "Reel 7 of nobody", bench.folder / "typed")
    bench.run.says("profile: frames")
    bench.tap("red")
    bench.tap("lean", 0.0)
    status = run_fenko("status", env=bench.one.environment).stdout
    assert "journal   kept" in status
    assert bench.run.end() == 0
    assert bench.used() == [
        ("", "base", "bench.red", "time hold"), ("", "base", "bench.red", "tap"),
        ("", "base", "bench.red", "hold"), ("", "base", "bench.red", "time hold"),
        ("", "base", "bench.dial.right", "turn"), ("", "base", "", "layer"),
        ("snipwell", "frames", "bench.red", "press"),
    ]  # fmt: skip
    rows = bench.rows()
    assert [row["does"] for row in rows if row["does"]] == ['type "…" then …', "f9", "shift+right", "Undo"]
    assert rows[4]["count"] == "3"
    assert [row["level"] for row in rows[4:6]] == ["base/fine", "base/fine"]
    short, long, layer = (float(rows[at]["lasted"]) for at in (0, 3, 5))
    assert short < 0.22 < long < 1
    assert 0.5 < layer < 5  # of a second; a board's words may be late
    assert os.stat(bench.file).st_mode & 0o077 == 0


def test_nothing_else_does(bench: Bench) -> None:
    """Whatever hands and programs do: no typed text, no title, nothing of a control that no binding has."""
    seed = time.time_ns() % 1_000_000
    luck = random.Random(seed)
    window = bench.one.terminal("snipwell", "Reel 7 of nobody", bench.folder / "typed")
    bench.run.says("profile: frames")
    for _ in range(40):
        match luck.randrange(4):
            case 0:
                bench.one.set_title(window, luck.choice(SECRETS) + str(luck.random()))
            case 1:
                bench.board.turn(luck.choice((-2, 1, 3)))
            case _:
                bench.board.hands(
                    red=luck.choice("01"), green=luck.choice("01"), knob=str(luck.randrange(1024)),
                    lean=f"{luck.choice((-511, 0, 511))} {luck.choice((-511, 0, 511))}",
                )  # fmt: skip
        time.sleep(luck.choice((0.01, 0.1, 0.3)))
    bench.board.hands()
    time.sleep(0.2)
    assert bench.run.end() == 0
    controls = {row["control"] for row in bench.rows()}
    assert controls <= {"bench.red", "bench.dial.left", "bench.dial.right", "bench.lean.right", ""}, seed
    assert controls, seed
    raw = b"".join(path.read_bytes() for path in bench.file.parent.iterdir())
    for secret in SECRETS:
        assert secret.encode() not in raw, (secret, seed)


def _writer(run: Running) -> int:
    found = subprocess.run(
        ["pgrep", "-P", str(run.process.pid), "-f", "fenko.services.journalling"], capture_output=True, text=True
    )
    return int(found.stdout) if found.stdout.strip() else 0


def test_kill_loses_no_more_than_the_last_second(bench: Bench) -> None:
    bench.tap("red")
    time.sleep(1.5)
    bench.tap("red")
    os.kill(bench.run.process.pid, signal.SIGKILL)
    bench.run.process.wait()
    wait_for(lambda: bench.used().count(("", "base", "bench.red", "tap")) >= 1, "the first tap")
    bench.run = bench.start()
    bench.tap("red")
    time.sleep(1.2)
    before = bench.used()
    writer = wait_for(lambda: _writer(bench.run), "who writes")
    os.kill(writer, signal.SIGKILL)
    bench.run.says("the journal is not written: the process that writes it has ended")
    time.sleep(5)
    bench.tap("red")
    wait_for(lambda: len(bench.used()) > len(before), "it to go on")
    bench.run.says("the journal is written again")
    assert bench.run.end() == 0


def test_a_full_disk_stops_the_journal_and_nothing_else(bench: Bench) -> None:
    bench.tap("red")
    writer = wait_for(lambda: _writer(bench.run), "who writes")
    wait_for(bench.used, "the first tap")
    resource.prlimit(writer, resource.RLIMIT_FSIZE, (1, resource.RLIM_INFINITY))
    bench.tap("red")
    bench.run.says("the journal is not written: ")
    before = bench.used()
    bench.board.turn(1)
    time.sleep(1.2)
    assert bench.used() == before
    bench.one.listen(bench.folder)
    resource.prlimit(writer, resource.RLIMIT_FSIZE, (resource.RLIM_INFINITY, resource.RLIM_INFINITY))
    bench.tap("red")
    bench.run.says("the journal is written again")
    assert len(bench.used()) > len(before)
    assert bench.run.end() == 0


def test_who_writes_may_stand_still(bench: Bench) -> None:
    bench.tap("red")
    writer = wait_for(lambda: _writer(bench.run), "who writes")
    os.kill(writer, signal.SIGSTOP)
    for _ in range(3):
        bench.tap("red")
    os.kill(writer, signal.SIGCONT)
    wait_for(lambda: bench.used().count(("", "base", "bench.red", "tap")) == 4, f"four taps: {bench.used()}")
    os.kill(writer, signal.SIGSTOP)
    bench.tap("red")
    began = time.monotonic()
    assert bench.run.end() == 0
    assert time.monotonic() - began < 8
    os.kill(writer, signal.SIGCONT)
    wait_for(lambda: bench.used().count(("", "base", "bench.red", "tap")) == 5, "the last one, written afterwards")


def test_who_writes_is_not_waited_for() -> None:
    """Neither when the desk wants no journal any more: it ends by itself, as soon as it can."""
    with Loop() as loop:
        child = ChildProcess("fenko.services.journalling", JournalState, print, print, loop=loop)
        child.start()
        os.kill(child.pid, signal.SIGSTOP)
        pid, begun = child.pid, time.monotonic()
        while not child.unsent:
            child.send(AddUses([Use(0.0, Binding("base", "pad.south", "tap"), "", "base")] * 1000))
        child.leave()
        assert time.monotonic() - begun < 0.5 and not child.running
        os.kill(pid, signal.SIGCONT)

        def look(now: float) -> None:
            if Path(f"/proc/{pid}").exists():
                looking.set_in(0.05)
            else:
                loop.stop()

        looking = loop.timer(look)
        looking.set_in(0.0)
        late = loop.timer(lambda now: pytest.fail("it is still there"))
        late.set_in(30)
        loop.run()


def test_a_desk_that_wants_none_any_more_has_none(bench: Bench) -> None:
    bench.tap("red")
    for what in ("off", "on", "off"):
        done = run_fenko("journal", what, "--desk", str(bench.desk), env=bench.one.environment)
        assert done.returncode == 0, done.stderr
    bench.run.says("Bench has changed and is in force")
    wait_for(lambda: not _writer(bench.run), "nobody to write")
    before = bench.used()
    assert before
    bench.tap("red")
    time.sleep(1.2)
    assert bench.used() == before
    assert bench.run.end() == 0


def test_a_take_that_is_played_is_no_use(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, make_desk: Any) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    with screen() as one:
        desk = make_desk(TAKEN)
        run = Running(
            one, tmp_path / "log", "--desk", str(desk), "--play", take(tmp_path / "t.jsonl", *press(0.1, "mode"))
        )
        assert run.process.wait(20) == 0
    assert not (tmp_path / "state/fenko/journal").exists()


# --- The database ---

USES = st.lists(
    st.builds(
        Use,
        st.integers(0, 999).map(lambda ms: ms / 1000),
        st.builds(Binding, st.sampled_from(("base", "frames")), st.sampled_from(("pad.south", "pad.ä")), st.just("tap"), st.text(max_size=5)),
        st.text(max_size=5), st.sampled_from(("base", "frames")), st.sampled_from((-1.0, 0.0, 0.25, 3.5)), st.integers(1, 9),
    ),
    max_size=20,
)  # fmt: skip


def _all(journal: Journal) -> list[Any]:
    from fenko.system.journal import unpacked

    bindings, names = journal.bindings(), journal.names()
    return [unpacked(raw, bindings, names) for batch in journal.batches() for raw in USE.iter_unpack(batch)]


@given(
    st.lists(st.tuples(st.integers(1_700_000_000, 1_701_000_000), USES), max_size=5).map(
        lambda batches: [[msgspec.structs.replace(use, at=second + use.at) for use in uses] for second, uses in batches]
    )
)
@settings(max_examples=tries(40), deadline=None)
def test_what_is_written_is_read_back(batches: list[list[Use]]) -> None:
    import tempfile

    with tempfile.TemporaryDirectory() as folder:
        with closing(Journal(Path(folder) / "j", new=True)) as journal:
            for uses in batches:
                journal.add(sorted(uses, key=lambda use: use.at))
            every = _all(journal)
            wanted = [use for uses in batches for use in uses]
            key = lambda use: (round(use.at, 2), use.binding.does, use.program, use.count, use.lasted)  # noqa: E731
            assert sorted(map(key, every)) == sorted(map(key, wanted))
            journal.tidy(0, 2_000_000_000)
            assert sorted(map(key, _all(journal))) == sorted(map(key, wanted))
            journal.tidy(1_700_500_000, 2_000_000_000)
            left = sorted(map(key, _all(journal)))
            assert left == sorted(key(one) for one in wanted if key(one) in left)
            assert all(key(one) in left for one in wanted if one.at >= 1_700_500_000)
            assert all(one[0] > 1_700_500_000 - 86_400 for one in left)
        with closing(Journal(Path(folder) / "j")) as again:
            assert sorted(map(key, _all(again))) == left
            again.clear()
            assert _all(again) == []


@pytest.mark.parametrize("version", range(len(STEPS)))
def test_old_versions_migrate(tmp_path: Path, version: int) -> None:
    path = tmp_path / "j"
    with closing(sqlite3.connect(path)) as old:
        for statements in STEPS[:version]:
            for statement in statements:
                old.execute(statement)
        if version:
            old.execute(
                "INSERT INTO bindings (number, level, control, gesture, does) VALUES (1, 'base', 'pad.south', 'tap', 'Undo')"
            )
            old.execute("INSERT INTO names VALUES (1, 'snipwell')")
            old.execute(
                "INSERT INTO batches VALUES (1700000000, 1700000000, ?)",
                (USE.pack(1_700_000_000, 5, 1, 1, 1, 0xFFFF, 2),),
            )
        old.execute(f"PRAGMA user_version = {version}")
        old.commit()
    with closing(Journal(path)) as journal:
        journal.add([Use(1_700_000_001, Binding("base", "pad.south", "tap", "Undo"), "snipwell", "base")])
        assert [(use.binding.control, use.program, use.count) for use in _all(journal)][-1] == (
            "pad.south",
            "snipwell",
            1,
        )
        assert len(_all(journal)) == (2 if version else 1)
        assert len(journal.bindings()) == 1


def test_what_cannot_be_used_is_said(tmp_path: Path) -> None:
    newer = tmp_path / "newer"
    with closing(sqlite3.connect(newer)) as base:
        base.execute("PRAGMA user_version = 99")
    broken = tmp_path / "broken"
    broken.write_bytes(b"no database at all, but long enough to be one" * 100)
    for path, says in (
        (newer, "newer Fenko"),
        (broken, "fenko journal clear"),
        (tmp_path / "none", "no journal yet"),
        (tmp_path, "unable to open"),
    ):
        with pytest.raises(JournalError, match=says):
            Journal(path)
    writer = Writer(broken, 90)
    writer.write([Use(1.0, Binding("base", "pad.south", "tap"), "", "base")], 1.0)
    assert "not a database" in writer.wrong


def test_it_grows_no_larger_than_it_may(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("fenko.system.journal._MOST_BYTES", 10 * USE.size)
    south = Binding("base", "pad.south", "tap")
    with closing(Journal(tmp_path / "j", new=True)) as journal:
        for day in range(8):
            journal.add(Use(1_700_000_000.0 + 86_400 * day + at, south, "", "base") for at in range(3))
        journal.tidy(0, 1_800_000_000)
        assert [use.at // 86_400 - 19_675 for use in _all(journal)] == [5] * 3 + [6] * 3 + [7] * 3


def test_programs_cannot_fill_it_with_names(tmp_path: Path) -> None:
    with closing(Journal(tmp_path / "j", new=True)) as journal:
        south = Binding("base", "pad.south", "tap")
        journal.add(Use(1.0, south, f"program {number}" + "x" * 200, "base") for number in range(5000))
        assert len(journal.names()) <= 4001
        assert max(map(len, journal.names().values())) <= 80
        assert len(_all(journal)) == 5000
        assert {use.program for use in _all(journal)[4000:]} == {journal.names()[OTHER]}


@given(st.text(min_size=3, max_size=12).filter(lambda text: text.isprintable() and "…" not in text))
def test_words_say_nothing_of_what_is_typed(text: str) -> None:
    written = text.replace("\\", "\\\\").replace('"', '\\"')
    for phrase in ('type "{}"', 'type "{}" then enter', 'ctrl+c then type "{}"'):
        try:
            parsed = parse_phrase(phrase.format(written))
        except ValueError:
            continue
        assert text not in words_of(Bound(parsed)).replace('type "…"', "").replace("ctrl+c then …", "").replace(
            " then …", ""
        )


@pytest.mark.parametrize(
    ("phrase", "label", "found"),
    [
        ("ctrl+z", None, True),
        ("ctrl+z x3", None, True),
        ("ctrl+shift+z", "Undo it", True),
        ("ctrl+shift+z", None, False),
        ("u", "Redo", False),
    ],
)
def test_what_takes_back_is_known(phrase: str, label: str | None, found: bool) -> None:
    assert undoes(Bound(parse_phrase(phrase), label)) is found


# --- The command ---


def _fenko(*arguments: str, folder: Path) -> subprocess.CompletedProcess[str]:
    return run_fenko(*arguments, env=os.environ | {"XDG_STATE_HOME": str(folder / "state")})


def test_the_command(tmp_path: Path, make_desk: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    desk = make_desk("format = 1 # the first line")
    at = ("--desk", str(desk))
    assert "No journal is kept" in _fenko("journal", *at, folder=tmp_path).stdout
    assert _fenko("journal", "export", *at, folder=tmp_path).returncode == 1
    assert _fenko("journal", "on", "--keep", "some days", *at, folder=tmp_path).returncode == 2
    assert _fenko("journal", "off", "--keep", "2 weeks", *at, folder=tmp_path).returncode == 2
    assert _fenko("journal", "on", "--keep", "2 weeks", *at, folder=tmp_path).returncode == 0
    assert "# the first line" in (desk / "desk.toml").read_text()
    assert 'keep = "2 weeks"' in (desk / "desk.toml").read_text()
    with closing(Journal(journal_file(desk), new=True)) as journal:
        journal.add([Use(1_700_000_000.25, Binding("base", "pad.south", "tap", "Undo"), "snipwell", "base", 0.5)])
    said = _fenko("journal", "--format", "json", *at, folder=tmp_path).stdout
    assert '"keep": "2 weeks"' in said
    assert '"records": 1' in said
    assert ",snipwell,base,base,pad.south,tap,Undo,1,0.5" in _fenko("journal", "export", *at, folder=tmp_path).stdout
    assert '"control":"pad.south"' in _fenko("journal", "export", "--format", "json", *at, folder=tmp_path).stdout
    assert _fenko("journal", "clear", *at, folder=tmp_path).returncode == 1  # nobody agreed
    assert _fenko("journal", "clear", "--yes", *at, folder=tmp_path).returncode == 0
    assert "There is nothing in it" in _fenko("journal", *at, folder=tmp_path).stdout
    journal_file(desk).write_bytes(b"broken" * 1000)
    broken = _fenko("journal", *at, folder=tmp_path)
    assert broken.returncode == 1
    assert "fenko journal clear" in broken.stderr
    assert _fenko("journal", "clear", "--yes", *at, folder=tmp_path).returncode == 0
    assert "There is nothing in it" in _fenko("journal", *at, folder=tmp_path).stdout
