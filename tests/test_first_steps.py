"""The first desk, and whether the machine is ready for it."""

from __future__ import annotations

import json
import os
import re
import subprocess
import tomllib
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from fenko.core.circumstances import Focus
from fenko.core.controls import KINDS
from fenko.core.plan import Surface
from fenko.core.remedies import input_denied, together, uinput_denied, uinput_missing
from fenko.desk.load import load_desk
from fenko.desk.starting import Found, starting_desk, surface_name
from fenko.system.administrator import add_lines, missing_lines
from screen import Screen, needs_screen, screen
from started import run_fenko
from support import FENKO, MakeDesk, Run, wait_for

things = st.lists(st.tuples(st.sampled_from(sorted(KINDS)), st.text(max_size=12), st.booleans()), max_size=5)


@example([], "", "~[")
@given(things, st.text(max_size=20), st.text(max_size=20))
def test_a_first_desk_is_in_order_whatever_things_and_windows_are_called(
    found: list[tuple[str, str, bool]], name: str, app: str
) -> None:
    import tempfile

    surfaces: list[Found] = []
    for number, (kind, called, used) in enumerate(found):
        surface = Surface(surface_name(kind, [one.surface.name for one in surfaces]), kind)
        links = (f"usb 1209:{number:04x}",)
        surfaces.append(Found(called, surface, links, None, tuple(sorted(KINDS[kind])), used))
    text = starting_desk(name, surfaces, Focus(app=app))
    with tempfile.TemporaryDirectory() as folder:
        (Path(folder) / "desk.toml").write_text(text)
        desk = load_desk(Path(folder))
    assert set(desk.plan.surfaces) == {one.surface.name for one in surfaces if one.used}
    settings = [line for line in text.split("\n") if line and not line.startswith("#")]
    assert [line for line in settings if "  # " not in line and line != "[timing]"] == []


def test_a_first_desk_from_kinds(fenko: Run, tmp_path: Path) -> None:
    done = fenko("new", "gamepad", "dial", "gamepad", "--desk", "here/desk")
    assert done.returncode == 0, done.stderr
    path = tmp_path / "here/desk/desk.toml"
    assert (path.stat().st_mode & 0o777, path.parent.stat().st_mode & 0o777) == (0o600, 0o700)
    assert set(tomllib.loads(path.read_text())["surface"]) == {"pad", "dial", "pad-2"}
    assert fenko("check", "--desk", "here/desk").returncode == 0
    text = path.read_text()
    again = fenko("new", "dial", "--desk", "here/desk")
    assert again.returncode == 2 and "already there" in again.stderr
    assert path.read_text() == text


def test_a_first_desk_needs_something(fenko: Run, tmp_path: Path) -> None:
    done = fenko("new", "--desk", "desk")
    assert done.returncode == 1 and "fenko new gamepad dial" in done.stderr
    assert not (tmp_path / "desk").exists()
    assert fenko("new", "gamepd", "--desk", "desk").returncode == 2
    (tmp_path / "file").write_text("")
    blocked = fenko("new", "dial", "--desk", "file/desk")
    assert blocked.returncode == 1 and "cannot be written" in blocked.stderr and "Traceback" not in blocked.stderr


def test_remedies_are_put_together_without_saying_anything_twice() -> None:
    both = together([uinput_missing(None), uinput_denied(None), input_denied([(1, 2), (1, 2), (3, 4)], None)])
    assert len(both.rules) == 3 and both.modules == ("uinput",)
    script = "\n".join(both.commands())
    assert subprocess.run(["sh", "-n"], input=script, text=True).returncode == 0
    assert script.count("udevadm control --reload") == 1


def test_lines_are_added_once_and_what_was_there_is_kept(tmp_path: Path) -> None:
    path = tmp_path / "rules.d" / "x.rules"
    add_lines(str(path), ["one"])
    assert missing_lines(str(path), ["one", "two"]) == ["two"]
    path.write_text("mine\none")
    add_lines(str(path), ["two"])
    assert path.read_text() == "mine\none\ntwo\n"
    assert path.with_name("x.rules.before").read_text() == "mine\none"
    assert path.stat().st_mode & 0o777 == 0o644


def test_a_machine_without_anything_says_so(fenko: Run, make_desk: MakeDesk) -> None:
    done = fenko("ready", "--format", "json", "--desk", make_desk(""), XDG_RUNTIME_DIR="/nowhere")
    found = {fact["about"]: fact for fact in json.loads(done.stdout)}
    assert {"session", "sending keys", "window in front", "keyboard layout", "MIDI", "audio", "user session"} <= set(
        found
    )
    assert done.returncode == any(fact["state"] == "missing" for fact in found.values())
    if found["sending keys"]["state"] == "missing":
        assert any("60-fenko.rules" in line for line in found["sending keys"]["commands"])
    table = fenko("ready", XDG_RUNTIME_DIR="/nowhere")
    assert re.search(r"^note +session +none", table.stdout, re.MULTILINE)
    assert fenko("ready", "--yes").returncode == 2


def test_a_config_folder_that_may_not_be_entered(tmp_path: Path) -> None:
    (tmp_path / "config").mkdir(mode=0o000)
    done = subprocess.run(
        ["setpriv", "--reuid=65534", "--regid=65534", "--clear-groups", *FENKO, "ready"],
        env={"XDG_CONFIG_HOME": str(tmp_path / "config"), "PATH": "/bin"}, capture_output=True, text=True, cwd="/",
    ) if os.geteuid() == 0 else run_fenko("ready", env=os.environ | {"XDG_CONFIG_HOME": str(tmp_path / "config")})  # fmt: skip
    assert done.returncode in (0, 1) and "Traceback" not in done.stderr, done.stderr


def test_a_display_that_cannot_be_opened_is_missing(fenko: Run) -> None:
    done = fenko("ready", DISPLAY=":4711")
    assert done.returncode == 1
    assert re.search(r"^missing +session +display :4711 cannot be opened", done.stdout, re.MULTILINE)


@pytest.fixture
def shown() -> Iterator[Screen]:
    with screen() as one:
        yield one


@needs_screen
def test_the_window_manager_that_is_missing_is_started_as_told(shown: Screen) -> None:
    def look() -> dict[str, dict[str, str]]:
        done = shown.ask(*FENKO, "ready", "--format", "json")
        return {fact["about"]: fact for fact in reversed(json.loads(done.stdout))}

    manager = shown.processes.pop()
    manager.kill()
    manager.wait()
    before = look()["window in front"]
    assert (before["state"], before["commands"][0].split()[0]) == ("missing", "openbox")
    assert look()["session"]["found"] == f"X11, display {shown.display}"
    shown.manage()
    after = wait_for(lambda: (fact := look()["window in front"])["state"] == "ready" and fact, "openbox to be told")
    assert after["found"] == "told by Openbox, as it happens"
    assert look()["sending keys"]["state"] == "ready"


@needs_screen
def test_the_example_is_for_the_window_that_was_in_front(shown: Screen, tmp_path: Path) -> None:
    shown.terminal("Hushdesk", "Rain", tmp_path / "a")
    shown.raise_window(shown.terminal("Snipwell", "Reel 2", tmp_path / "b"))
    done = shown.ask(*FENKO, "new", "dial", "--desk", str(tmp_path / "desk"))
    assert "for Snipwell" in done.stdout, done.stderr
    profile = tomllib.loads((tmp_path / "desk/desk.toml").read_text())["profile"]["snipwell"]
    assert profile["when"] == {"app": "Snipwell"}
