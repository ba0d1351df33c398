"""Earlier versions of what Fenko has changed."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from fenko.system import history
from support import MakeDesk, Run

DESK = '[surface.pad]\nkind = "gamepad"\n[profile.base.on.pad]\nsouth = "a"\n'


def test_versions_are_listed_compared_and_put_back(fenko: Run, make_desk: MakeDesk) -> None:
    desk = make_desk(DESK)
    file = desk / "desk.toml"
    file.chmod(0o640)
    assert "no file" in fenko("history", "--desk", desk).stderr
    for key in "bcd":
        assert fenko("learn", "pad.south", key, "--desk", desk, "--profile", "base").returncode == 0
    listed = json.loads(fenko("history", "--desk", desk, "--format", "json").stdout)
    assert [(one["version"], one["added"], one["removed"]) for one in listed] == [(3, 1, 1), (2, 1, 1), (1, 1, 1)]
    assert fenko("history", "--desk", desk).stdout.splitlines()[1].split()[:2] == ["desk.toml", "3"]
    diff = fenko("history", "--desk", desk, "--diff", "1").stdout
    assert '-south = "a"' in diff and '+south = "d"' in diff
    done = fenko("history", "desk.toml", "--desk", desk, "--restore", "1")
    assert done.returncode == 0 and (file.read_text(), file.stat().st_mode & 0o777) == (DESK, 0o640)
    assert "says the same" in fenko("history", "--desk", desk, "--restore", "1").stderr
    # What was there before it was put back is kept too.
    assert fenko("history", "--desk", desk, "--restore", "4").returncode == 0
    assert 'south = "d"' in file.read_text()
    file.unlink()
    assert fenko("history", "--desk", desk, "--restore", "1").returncode == 0 and file.read_text() == DESK


@pytest.mark.parametrize(
    ("arguments", "message"),
    [
        (("--diff", "7"), "has no version 7"),
        (("--diff", "1", "--restore", "1"), "two different things"),
        (("dsk.toml",), "did you mean `desk.toml`"),
        (("--diff", "x"), "x"),
    ],
)
def test_what_is_not_kept_is_told(fenko: Run, make_desk: MakeDesk, arguments: tuple[str, ...], message: str) -> None:
    desk = make_desk(DESK)
    assert fenko("learn", "pad.south", "b", "--desk", desk, "--profile", "base").returncode == 0
    done = fenko("history", *arguments, "--desk", desk)
    assert done.returncode == 2 and message in done.stderr


def test_what_is_kept_is_bounded(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    file = tmp_path / "a.toml"
    for number in range(history.MOST + 20):
        history.keep(file, b"%d" % number)
        history.keep(file, b"%d" % number)  # the same twice is one version
    found = history.versions(file)
    assert [one.read() for one in (found[0], found[-1])] == [b"69", b"20"]
    for number in range(6):
        history.keep(file, bytes([number]) * (1 << 20))
    assert len(history.versions(file)) == 4
    monkeypatch.setattr(history, "LARGEST_OF_ALL", 6 << 20)
    other = tmp_path / "b.toml"
    for number in range(4):
        history.keep(other, bytes([number]) * (1 << 20))
    assert sum(one.path.stat().st_size for path in (file, other) for one in history.versions(path)) <= 6 << 20
    assert len(history.versions(other)) == 4
    assert history.files_below(tmp_path) == [file, other]
    (history.versions(file)[0].path.parent / "nonsense").touch()
    assert len(history.versions(file)) == 2
