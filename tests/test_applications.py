"""One desk for all desktops: a program is the same whatever a desktop calls it."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from fenko.core.changes import FOCUS
from fenko.core.choosing import Chooser
from fenko.core.circumstances import Circumstances, Condition, Focus
from fenko.core.patterns import compile_pattern
from fenko.core.plan import BASE, Level, Profile
from fenko.devices.recorder import take_line
from fenko.devices.take import read_take
from fenko.system.applications import Applications
from running import Running
from screen import needs_screen, screen
from support import MakeDesk

ENTRY = "[Desktop Entry]\nType=Application\nName=Snipwell\nExec=/usr/bin/snipwell %U\nStartupWMClass={wm}\n\n[Desktop Action New]\nExec=other\n"


@pytest.fixture
def files(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A data folder with one program of the workshop, and some that mean nothing."""
    folder = tmp_path / "data/applications"
    folder.mkdir(parents=True)
    (folder / "example.lantern.Snipwell.desktop").write_text(ENTRY.format(wm="Snipwell-main"))
    (folder / "script.desktop").write_text("[Desktop Entry]\nExec=python3 /opt/x.py\n")
    (folder / "broken.desktop").write_bytes(b"\xff\xfe no entry")
    (folder / "gone.desktop").symlink_to("nothing")
    monkeypatch.setenv("XDG_DATA_DIRS", str(tmp_path / "data"))
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "none"))
    return tmp_path / "data"


def test_a_program_goes_by_its_file_its_class_and_its_command(files: Path) -> None:
    known = Applications()
    known.wait(10)
    names = {"example.lantern.Snipwell", "Snipwell-main", "snipwell"}
    for app in ("example.lantern.Snipwell", "SNIPWELL", "snipwell-main"):
        assert {app.casefold(), *(name.casefold() for name in known.also(app, ""))} == {
            name.casefold() for name in names
        }
    assert set(known.also("anything", "snipwell")) == names
    assert known.also("xterm", "python3") == () and known.also("", "") == ()


def _profile(name: str, app: str) -> Profile:
    return Profile(name, (Condition({"app": (compile_pattern(app),)}),), (Level(name, {}),), {})


def test_app_fits_any_name_of_the_program_and_the_desktops_own_most_closely(tmp_path: Path) -> None:
    base = Profile(BASE, (), (Level(BASE, {}),), {})
    other, own = _profile("other", "example.lantern.snipwell"), _profile("own", "Snipwell")
    focus = Focus("Snipwell", program="snipwell-bin", also=("example.lantern.Snipwell", "snipwell"))
    chooser = Chooser([base, other, own])
    assert chooser.choose(Circumstances(focus)) == "own"
    assert Chooser([base, other]).choose(Circumstances(focus)) == "other"
    assert Chooser([base, _profile("by-file", "snipwell-bin")]).choose(Circumstances(focus)) == "by-file"
    lines = [{"take": 1, "name": "x", "surfaces": {}}, take_line((1.0, FOCUS, focus))]
    (tmp_path / "t.jsonl").write_text("\n".join(map(json.dumps, lines)))
    ((_, _, again),) = read_take(tmp_path / "t.jsonl", {}).changes
    assert again == focus, "a take keeps all of its names"
    dialog = Focus("chooser", owner=focus)
    assert Chooser([base, other]).choose(Circumstances(dialog)) == "other"
    assert Chooser([base, other]).choose(Circumstances(Focus("beamcart"))) == BASE


@needs_screen
def test_a_desk_by_the_desktop_file_works_where_windows_have_a_class(
    files: Path, tmp_path: Path, make_desk: MakeDesk, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_DATA_DIRS", f"{files}:/usr/local/share:/usr/share")  # the window manager's too
    desk = make_desk(
        'format = 1\n[surface.pad]\nkind = "gamepad"\n[profile.frames]\nwhen = { app = "example.lantern.Snipwell" }\n'
    )
    with screen() as shown:
        running = Running(shown, tmp_path / "log", "--desk", str(desk))
        running.says("is running")
        shown.raise_window(shown.terminal("Snipwell-main", "Reel 2", tmp_path / "out"))
        running.says("profile: frames (in front is Snipwell-main")
        assert running.end() == 0
