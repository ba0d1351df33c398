"""What a running desk shows on the desktop, with a real program that shows notifications."""

from __future__ import annotations

import json
import shutil
import signal
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest

from ends import bus, needed, program
from running import Running
from screen import Screen, needs_screen, screen
from support import MakeDesk, wait_for

__all__ = ["bus"]
pytestmark = [needs_screen, needed("dunst", "dunstctl", "dbus-daemon")]
DESK = (
    '[output]\nkeys = "x11"\n[surface.pad]\nkind = "gamepad"\n[profile.frames]\nwhen = {{ app = "snipwell" }}\n{more}'
)


@pytest.fixture
def shown(bus: dict[str, str], monkeypatch: pytest.MonkeyPatch) -> Iterator[Screen]:
    monkeypatch.setenv("DBUS_SESSION_BUS_ADDRESS", bus["DBUS_SESSION_BUS_ADDRESS"])
    with screen() as one:
        yield one


@contextmanager
def desktop(one: Screen) -> Iterator[subprocess.Popen[bytes]]:
    """The program that shows them."""
    with program("dunst", "-conf", "/dev/null", env=one.environment) as process:
        wait_for(lambda: one.ask("dunstctl", "is-paused").returncode == 0, "dunst")
        yield process


def seen(one: Screen) -> list[tuple[str, str]]:
    """What has been shown and is no longer, by title and text."""
    one.ask("dunstctl", "close-all")
    done = one.ask("dunstctl", "history")
    found: list[dict[str, Any]] = json.loads(done.stdout)["data"][0] if done.returncode == 0 else []
    return [(note["summary"]["data"], note["body"]["data"]) for note in found]


def test_errors_are_shown_and_profiles_if_the_desk_wants_it(shown: Screen, make_desk: MakeDesk, tmp_path: Path) -> None:
    desk = make_desk(DESK.format(more=""))
    running = Running(shown, tmp_path / "log", "--desk", str(desk))
    running.says("is running")
    with desktop(shown):
        shown.raise_window(shown.terminal("Snipwell", "Reel <b>2</b>", tmp_path / "a"))
        running.says("profile: frames")
        make_desk(DESK.format(more='[profile.base.on.pad]\nsouht = "a<b>c"\n'))
        wait_for(lambda: any("errors" in title for title, _ in seen(shown)), "the error")
        ((_, text),) = seen(shown)
        assert (
            "desk.toml:8:1" in text
            and "a<b>c" in text.replace("&lt;", "<").replace("&gt;", ">")
            and "did you mean `south`" in text
        )
        make_desk(DESK.format(more="[notifications]\nprofiles = true\n"))
        running.says("has changed and is in force")
        shown.raise_window(shown.terminal("Other", "other", tmp_path / "b"))
        wait_for(lambda: any(title == "base" for title, _ in seen(shown)), "the profile")
        so_far = len(running.log.read_text())
        make_desk(DESK.format(more="[notifications]\nerrors = false\n[profile.base.on.pad]\nsouht = 'a'\n"))
        running.says("the old one stays", so_far)
    assert running.end() == 0


def test_one_that_shows_nothing_holds_nobody_up(shown: Screen, make_desk: MakeDesk, tmp_path: Path) -> None:
    """Nobody there, somebody stopped, and the one beside the desk killed."""
    desk = make_desk(DESK.format(more=""))
    running = Running(shown, tmp_path / "log", "--desk", str(desk))
    running.says("is running")

    def fails(number: int) -> None:
        so_far = len(running.log.read_text())
        make_desk(DESK.format(more=f"nonsense = {number}\n"))
        running.says("the old one stays", so_far)

    fails(1)
    with desktop(shown) as process:
        process.send_signal(signal.SIGSTOP)
        fails(2)
        fails(3)
        process.send_signal(signal.SIGCONT)
        helper = ["pgrep", "-P", str(running.process.pid), "-f", "services.notifying"]
        found = wait_for(lambda: subprocess.run(helper, capture_output=True).stdout.split(), "the one beside it")
        subprocess.run(["kill", "-9", found[0]], check=True)
        fails(4)
        wait_for(lambda: any("nonsense" in text for _, text in seen(shown)), "the error")
    assert running.end() == 0
    assert shutil.which("pgrep")
