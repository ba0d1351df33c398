"""An integration is one folder: adding one changes nothing else, and nothing outside a folder imports from it."""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

import fenko.integrations
from fenko.core.lazy import load_named
from fenko.core.links import LINKS
from fenko.integrations import load

SOURCE = Path(fenko.__file__).parent
FOLDERS = sorted(path.parent.name for path in (SOURCE / "integrations").glob("*/__init__.py"))
EXAMPLE = Path(__file__).parent / "log_integration"
DESK = """
format = 1
[surface.pad]
kind = "gamepad"
[log]
file = "evening.txt"
[profile.base.on.pad]
south = 'log "reel 2 begins"'
"""


@pytest.fixture
def installed(tmp_path: Path) -> dict[str, str]:
    """The environment of a Fenko to which the folder of the example has been added, and nothing else."""
    shutil.copytree(SOURCE, tmp_path / "fenko", ignore=shutil.ignore_patterns("__pycache__"))
    shutil.copytree(EXAMPLE, tmp_path / "fenko/integrations/log", ignore=shutil.ignore_patterns("__pycache__"))
    return {**os.environ, "PYTHONPATH": str(tmp_path)}


def test_adding_an_integration_touches_its_folder_alone(installed: dict[str, str], tmp_path: Path) -> None:
    desk = tmp_path / "desk"
    desk.mkdir()
    (desk / "desk.toml").write_text(DESK)
    take = tmp_path / "take.jsonl"
    lines = [
        {"take": 1, "name": "x", "surfaces": {"pad": "gamepad"}},
        {"t": 0.5, "surface": "pad", "control": "south", "value": 1},
        {"t": 0.6, "surface": "pad", "control": "south", "value": 0},
    ]
    take.write_text("".join(f"{json.dumps(line)}\n" for line in lines))

    def run(*arguments: object) -> str:
        command = [sys.executable, "-P", "-m", "fenko", *map(str, arguments)]
        done = subprocess.run(command, env=installed, capture_output=True, text=True, timeout=60)
        assert done.returncode == 0, done.stdout + done.stderr
        return done.stdout

    run("check", "--desk", desk)
    rehearsed = run("rehearse", take, "--desk", desk, "--format", "jsonl")
    assert json.loads(rehearsed) == {"t": 0.5, "out": "log", "act": "append", "text": "reel 2 begins"}
    assert "appends a line to the log file" in run("check", "--schema")
    assert 'log "reel 2 begins"' in run("explain", "pad.south", "--desk", desk)
    subprocess.run([sys.executable, "-P", "-c", _SEND, str(desk)], env=installed, check=True, timeout=60)
    assert (desk / "evening.txt").read_text() == "reel 2 begins\n"


_SEND = """
import sys
from pathlib import Path
from fenko.desk.compiled import compiled
from fenko.desk.load import load_desk
from fenko.outputs.port import Settings
from fenko.outputs.workers_port import WorkersPort
desk = compiled(load_desk(Path(sys.argv[1])))
port = WorkersPort(desk.far, Settings(desk.tables, print, None, desk.folder))
port.send([(0.0, "log", "append", "reel 2 begins")])
port.write()
port.close()
"""


def test_nothing_outside_imports_from_an_integration() -> None:
    named = re.compile(rf"\bfenko\.integrations\.({'|'.join(FOLDERS)})\b")
    found = {
        str(path.relative_to(SOURCE))
        for path in SOURCE.rglob("*.py")
        if "integrations" not in path.relative_to(SOURCE).parts and named.search(path.read_text())
    }
    assert not found


def test_every_folder_is_found() -> None:
    load()
    declared = [path.parent.name for path in (SOURCE / "integrations").glob("*/spec.py")]
    assert sorted(declared) == FOLDERS
    for kind in LINKS.values():
        for place in filter(None, (kind.transport, kind.find, kind.ready, kind.checks)):
            load_named(place)
