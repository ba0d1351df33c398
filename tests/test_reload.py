"""A running desk that is read again: by a signal, with a second process doing the work."""

from __future__ import annotations

import errno
import json
import os
import pickle
import signal
import subprocess
import time
from pathlib import Path

import pytest

from fenko.core.patterns import compile_pattern
from fenko.desk.compiled import compiled
from fenko.desk.load import load_desk
from fenko.live.loop import Loop
from fenko.live.service import MOST_UNDER_WAY, Services
from fenko.live.session import Session
from fenko.outputs.listing import ListingPort
from fenko.services.compiling import Assembly, compile_desk
from support import DEMO, FENKO, MakeDesk, wait_for

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
        with self.out.open("w") as out, self.messages.open("w") as messages:
            command = [*FENKO, "try", "--desk", str(desk), "--play", str(take), "--play-focus", "--format", "jsonl"]
            environment = os.environ | {"PYTHONUNBUFFERED": "1"}
            self.process = subprocess.Popen(command, stdout=out, stderr=messages, env=environment)

    def last_key(self) -> str:
        lines = self.out.read_text().splitlines()
        return json.loads(lines[-2])["key"] if len(lines) > 1 else ""

    def said(self) -> str:
        return self.messages.read_text()

    def end(self) -> None:
        self.process.send_signal(signal.SIGINT)
        assert self.process.wait(30) == 0, self.said()


def test_a_signal_reads_the_desk_again_and_a_broken_one_changes_nothing(make_desk: MakeDesk, tmp_path: Path) -> None:
    desk = make_desk(DESK.format(key="f1"))
    running = Running(desk, tmp_path)
    try:
        wait_for(lambda: running.last_key() == "f1", "the first key", 30)
        make_desk(DESK.format(key="f2"))
        running.process.send_signal(signal.SIGUSR1)
        wait_for(lambda: running.last_key() == "f2", "the key of the desk that was read again", 30)
        make_desk(DESK.format(key="f3").replace("south", "suoth"))
        running.process.send_signal(signal.SIGUSR1)
        wait_for(lambda: "suoth" in running.said(), "the error", 30)
        assert (
            "desk.toml:5:1: error: unknown control `suoth`" in running.said() and "the old one stays" in running.said()
        )
        make_desk(DESK.format(key="f4"))
        running.process.send_signal(signal.SIGUSR1)
        wait_for(lambda: running.last_key() == "f4", "the desk after the mistake", 30)
    finally:
        running.end()


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
    assert not isinstance(desk, list)
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
    def refuses(*_: object) -> int:
        raise OSError(errno.ENOMEM, os.strerror(errno.ENOMEM))

    monkeypatch.setattr(os, "posix_spawn", refuses)
    said: list[str] = []
    with Loop() as loop:
        desk = compiled(load_desk(DEMO))
        session = Session(desk, loop, lambda open_now: [ListingPort(lambda effects: None)], said.append)
        session.reload()
        session.reload()
        session.close()
    assert sum("the old one stays: no second process" in line for line in said) == 2, said


@pytest.mark.parametrize("kill", [False, True])
def test_nobody_waits_for_a_service_and_one_that_dies_is_noticed(
    kill: bool, make_desk: MakeDesk, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    desk = make_desk(DESK.format(key="f1"))
    (tmp_path / "msgspec.py").write_text("raise SystemExit('somebody else's module')")
    monkeypatch.chdir(tmp_path)  # what lies there is nobody's module
    answers: list[tuple[str, object]] = []
    with Loop() as loop:
        services = Services(loop)

        def answer(word: str, what: object) -> None:
            answers.append((word, what))
            if word != "part":
                loop.stop()

        start = time.monotonic()
        for _ in range(MOST_UNDER_WAY):
            assert services.ask("compile", str(desk), answer=answer)
        assert not services.ask("compile", str(desk), answer=answer)
        assert time.monotonic() - start < 5
        if kill:
            os.kill(services._pid, signal.SIGKILL)
        loop.run()
        services.close()
    assert answers[-1][0] == ("failed" if kill else "done")
    assert kill or [word for word, _ in answers[-3:]] == ["part", "part", "done"]
