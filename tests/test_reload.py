"""A running desk that is read again: by a signal, with a second process doing the work."""

from __future__ import annotations

import errno
import itertools
import json
import os
import pickle
import signal
import time
from collections.abc import Collection, Iterator, Sequence
from pathlib import Path

import pytest

from fenko.core.changes import Effect
from fenko.core.patterns import compile_pattern
from fenko.core.remedies import Remedy
from fenko.desk.compiled import Compiled, compiled
from fenko.desk.load import load_desk
from fenko.desk.sources import settled
from fenko.live.loop import Loop
from fenko.live.rereading import MOST_WAITING, Compiling
from fenko.live.session import Session
from fenko.outputs.listing import ListingPort
from fenko.outputs.port import Port, PortError, PortLost
from fenko.services.compiling import Assembly, compile_desk
from started import Started
from support import DEMO, MakeDesk, wait_for

DESK = """
[surface.pad]
kind = "gamepad"
[profile.base.on.pad]
south = "{key}"
[profile.titled]
when = {{ title = "~^Reel [0-9]+$" }}
"""


class Running:
    """`fenko try` with a take that presses again and again."""

    def __init__(self, desk: Path, folder: Path) -> None:
        lines = [{"take": 1, "name": "x", "surfaces": {}}]
        for number in range(1200):
            lines.append({"t": number / 20 + 0.1, "surface": "pad", "control": "south", "value": 1 - number % 2})
        take = folder / "t.jsonl"
        take.write_text("\n".join(map(json.dumps, lines)))
        self.out = folder / "out.txt"
        self.messages = folder / "messages.txt"
        command = ["try", "--desk", str(desk), "--play", str(take), "--play-focus", "--format", "jsonl"]
        self.process = Started(command, self.out, self.messages, env=os.environ | {"PYTHONUNBUFFERED": "1"})

    def last_key(self) -> str:
        lines = self.out.read_text().splitlines()
        return json.loads(lines[-2])["key"] if len(lines) > 1 else ""

    def said(self) -> str:
        return self.messages.read_text()

    def end(self) -> None:
        self.process.send_signal(signal.SIGINT)
        assert self.process.wait(30) == 0, self.said()


@pytest.fixture
def pressing(make_desk: MakeDesk, tmp_path: Path) -> Iterator[tuple[Path, Running]]:
    """A desk that is pressed again and again."""
    desk = make_desk(DESK.format(key="f1"))
    running = Running(desk, tmp_path)
    try:
        wait_for(lambda: running.last_key() == "f1", "the first key", 30)
        yield desk, running
    finally:
        running.end()


def test_what_is_saved_is_in_force_and_what_is_broken_changes_nothing(
    pressing: tuple[Path, Running], make_desk: MakeDesk
) -> None:
    desk, running = pressing
    make_desk(DESK.format(key="f2"))
    wait_for(lambda: running.last_key() == "f2", "the key of the desk that was saved", 30)
    make_desk(DESK.format(key="f3").replace("south", "suoth"))
    wait_for(lambda: "suoth" in running.said(), "the error", 30)
    assert "desk.toml:5:1: error: unknown control `suoth`" in running.said() and "the old one stays" in running.said()
    make_desk(DESK.format(key="f2"))
    wait_for(lambda: "without errors again" in running.said(), "the way back", 30)
    # As editors save that never leave half a file behind.
    (desk / "draft").write_text(DESK.format(key="f4"))
    (desk / "draft").rename(desk / "desk.toml")
    wait_for(lambda: running.last_key() == "f4", "the desk after the mistake", 30)
    assert running.said().count("errors, so") == 1


def test_all_that_a_desk_is_read_from_is_watched(
    pressing: tuple[Path, Running], make_desk: MakeDesk, tmp_path: Path
) -> None:
    desk, running = pressing
    app = '[app.snipwell]\nshortcuts = "list.csv"\n'
    elsewhere = tmp_path / "elsewhere.toml"
    elsewhere.write_text('[profile.base.on.pad]\nsouth = "f5"\n')
    (desk / "list.csv").write_text("command,keys,group,note\nSplit,f6,,\n")
    (desk / "more").mkdir()
    (desk / "more/hands.toml").write_text('[profile.base.on.pad]\nsouth = "snipwell: Split"\n')
    make_desk('include = ["more/*.toml"]\n[surface.pad]\nkind = "gamepad"\n' + app)
    wait_for(lambda: running.last_key() == "f6", "the key of what is included", 30)
    (desk / "list.csv").write_text("command,keys,group,note\nSplit,f7,,\n")
    wait_for(lambda: running.last_key() == "f7", "the key of the list", 30)
    (desk / "more/hands.toml").write_text("# nothing here\n")
    (desk / "more/other.toml").write_text('[profile.base.on.pad]\nsouth = "f8"\n')
    wait_for(lambda: running.last_key() == "f8", "the key of a file that is new", 30)
    # A folder that is taken away, and one that comes in its place.
    desk.rename(tmp_path / "away")
    wait_for(lambda: "no such folder" in running.said(), "that it is gone", 30)
    assert running.last_key() == "f8"
    make_desk(DESK.format(key="f9"))
    wait_for(lambda: running.last_key() == "f9", "the key of the new folder", 30)
    # A file that is somewhere else.
    elsewhere.write_text(DESK.format(key="f10"))
    (desk / "link").symlink_to(elsewhere)
    (desk / "link").rename(desk / "desk.toml")
    wait_for(lambda: running.last_key() == "f10", "the key behind the link", 30)
    elsewhere.write_text(DESK.format(key="f11"))
    wait_for(lambda: running.last_key() == "f11", "the key that was changed behind the link", 30)


def test_a_signal_has_it_read_again(pressing: tuple[Path, Running]) -> None:
    _, running = pressing
    running.process.send_signal(signal.SIGUSR1)
    wait_for(lambda: "was read again; nothing has changed" in running.said(), "that it was read", 30)


def test_a_file_that_is_being_written_is_no_desk_yet(pressing: tuple[Path, Running]) -> None:
    """What is saved in place is empty for a moment, and then a part of itself; the keys go on meanwhile."""
    desk, running = pressing
    file = desk / "desk.toml"
    text = DESK.format(key="f3")
    for part in ("", text[: text.index("[profile.titled]")].replace("f3", "f2")):
        file.write_text(part)
        time.sleep(0.08)  # it is read from 0.05 s on
    file.write_text("")
    time.sleep(0.2)
    file.write_text(text)
    wait_for(lambda: running.last_key() == "f3", running.said())
    keys = [line.get("key") for line in map(json.loads, running.out.read_text().splitlines())]
    assert None not in keys and set(keys) <= {"f1", "f2", "f3"}
    assert "no profile" not in running.said() and "error" not in running.said()
    # Every press was answered: nothing was ever bound to nothing.
    times = [json.loads(line)["t"] for line in running.out.read_text().splitlines()]
    assert max(b - a for a, b in itertools.pairwise(times)) < 1.0


def test_a_desk_is_settled_when_its_files_are_what_they_were(make_desk: MakeDesk) -> None:
    desk = make_desk(DESK.format(key="f1"))
    file = desk / "desk.toml"
    digests = load_desk(desk).sources.digests
    assert settled(digests, file)
    file.write_text(DESK.format(key="f2"))
    assert not settled(digests, file)
    file.write_text("")
    assert not settled(load_desk(desk).sources.digests, file)
    assert settled(load_desk(desk).sources.digests, desk / "other.toml")
    file.unlink()
    assert not settled(digests, file)


def test_an_output_that_is_lost_is_opened_again(make_desk: MakeDesk) -> None:
    """As often as it takes; it is said once, and what was down is not down any more."""
    desk = compiled(load_desk(make_desk(DESK.format(key="f1"))))
    sent: list[tuple[object, ...]] = []
    said: list[str] = []
    opened = 0

    class Breaking(ListingPort):
        name = "breaking"

        def send(self, effects: Sequence[Effect]) -> None:
            sent.extend(effects)
            if opened == 1:
                raise PortLost("its device is gone")

    def open_ports(desk: Compiled, open_now: Collection[str]) -> list[Port]:
        nonlocal opened
        opened += 1
        if opened == 2:
            raise PortError("not yet", Remedy())
        return [] if "keys" in open_now else [Breaking(lambda effects: None)]

    with Loop() as loop:
        session = Session(desk, loop, open_ports, said.append)
        loop.timer(lambda now: session.inbox.put([(now, "pad.south", 1)])).set(0.0)
        loop.timer(lambda now: loop.stop()).set_in(2.5)
        loop.run()
        assert session.engine.held == () and opened == 3
        session.inbox.put([(time.monotonic(), "pad.south", 0), (time.monotonic(), "pad.south", 1)])
        assert session.engine.held == (("keys", "f1"),)
        session.close()
    assert [line for line in said if "is gone" in line] == [
        "breaking is gone: its device is gone; it is opened again as soon as that can be done"
    ]
    assert [effect[2:] for effect in sent] == [("down", "f1"), ("down", "f1"), ("up", "f1")]


def test_saved_in_the_middle_of_reading_is_read_once_more(make_desk: MakeDesk) -> None:
    """Whoever asks is told of what was saved before, also while another reading is under way."""
    folder = make_desk(DESK.format(key="f1"))
    told: list[tuple[str | None, bool]] = []
    with Loop() as loop:
        desk = compiled(load_desk(folder))
        session = Session(desk, loop, lambda desk, open_now: [ListingPort(lambda effects: None)], lambda line: None)
        make_desk(DESK.format(key="f2"))
        session.reload(lambda wrong, changed: told.append((wrong, changed)))
        make_desk(DESK.format(key="f3").replace("south", "suoth"))

        def last(wrong: str | None, changed: bool) -> None:
            told.append((wrong, changed))
            loop.stop()

        session.reload(last)
        loop.run()
        session.close()
    assert "suoth" in str(told[1][0])


@pytest.mark.parametrize("change", ["none", "of a file", "one more file", "a file less"])
def test_what_changes_before_it_is_watched_is_read(
    make_desk: MakeDesk, change: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    text = 'include = ["profiles/*.toml"]\n' + DESK.format(key="f1")
    folder = make_desk(text)
    (folder / "profiles").mkdir()
    for name in ("one", "two"):
        (folder / f"profiles/{name}.toml").write_text(f'[profile.{name}]\nwhen = {{ app = "{name}" }}\n')
    with Loop() as loop:
        desk = compiled(load_desk(folder))
        session = Session(desk, loop, lambda desk, open_now: [ListingPort(lambda effects: None)], lambda line: None)
        match change:
            case "of a file":
                make_desk(text.replace("f1", "f2"))
            case "one more file":
                (folder / "profiles/three.toml").write_text('[profile.three]\nwhen = { app = "three" }\n')
            case "a file less":
                (folder / "profiles/two.toml").unlink()
        read: list[str] = []

        def ask(compiling: Compiling, folder: str, *more: object) -> bool:
            read.append(folder)
            loop.stop()
            return True

        monkeypatch.setattr(Compiling, "ask", ask)
        session.watch_files()
        loop.timer(lambda now: loop.stop()).set_in(0.3 if change == "none" else 10)
        loop.run()
        session.close()
    assert read == ([] if change == "none" else [str(folder)])


def test_patterns_survive_the_way_from_one_process_to_another() -> None:
    for text in ("snip*well", "~^a+b$", "plain"):
        sent = pickle.loads(pickle.dumps(compile_pattern(text)))
        for title in ("snipwell", "aab", "plain", "x"):
            assert sent.fits(title) == compile_pattern(text).fits(title)


def test_the_pieces_of_a_desk_are_the_desk() -> None:
    assembly = Assembly()
    whole = [found for piece in compile_desk(str(DEMO)) if (found := assembly.take(*piece)) is not None]
    wanted = compiled(load_desk(DEMO))
    (desk,) = whole
    assert isinstance(desk, Compiled)
    assert desk.plan.surfaces == wanted.plan.surfaces and desk.links == wanted.links and desk.outs == wanted.outs
    assert [*desk.plan.profiles] == [*wanted.plan.profiles]
    for name, profile in wanted.plan.profiles.items():
        found = desk.plan.profiles[name]
        assert [level.controls for level in found.levels] == [level.controls for level in profile.levels]
        assert {own: layer.held for own, layer in found.layers.items()} == {
            own: layer.held for own, layer in profile.layers.items()
        }
    levels = [level for profile in desk.plan.profiles.values() for level in profile.levels if level.name == "base"]
    assert len({id(level) for level in levels}) == 1, "what profiles share is there once"


def test_a_machine_that_has_no_room_for_another_process_says_so(monkeypatch: pytest.MonkeyPatch) -> None:
    def refuses(*_: object, **options: object) -> int:
        raise OSError(errno.ENOMEM, os.strerror(errno.ENOMEM))

    monkeypatch.setattr(os, "posix_spawn", refuses)
    said: list[str] = []
    with Loop() as loop:
        desk = compiled(load_desk(DEMO))
        session = Session(desk, loop, lambda desk, open_now: [ListingPort(lambda effects: None)], said.append)
        session.reload()
        session.reload()
        session.close()
    assert (
        sum("the old one stays: the process that compiles it has ended (it cannot be" in line for line in said) == 2
    ), said


@pytest.mark.parametrize("kill", [False, True])
def test_nobody_waits_for_the_compiler_and_one_that_dies_is_noticed(
    kill: bool, make_desk: MakeDesk, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    desk = make_desk(DESK.format(key="f1"))
    (tmp_path / "msgspec.py").write_text("raise SystemExit('somebody else's module')")
    monkeypatch.chdir(tmp_path)  # what lies there is nobody's module
    answers: list[object] = []
    with Loop() as loop:
        compiling = Compiling(loop)

        def done(found: object) -> None:
            answers.append(found)
            if len(answers) > MOST_WAITING:
                loop.stop()

        start = time.monotonic()
        for _ in range(1 + MOST_WAITING):
            assert compiling.ask(str(desk), (), done)
        assert not compiling.ask(str(desk), (), done)
        assert time.monotonic() - start < 5
        if kill:
            os.kill(compiling.child.pid, signal.SIGKILL)
        loop.run()
        compiling.close()
    if kill:
        assert answers.pop(0) == "the process that compiles it has ended (SIGKILL)"
    assert all(isinstance(answer, Compiled) for answer in answers), "the next one is compiled by another process"
