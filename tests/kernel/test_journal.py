"""A journal on a real kernel: of a keyboard that Fenko has taken over, nothing comes into it but what is bound."""

from __future__ import annotations

import csv
import subprocess
from pathlib import Path

import pytest
from bench_devices import FenkoRun, Reader, key, keypad
from evdev import ecodes as e

from started import run_fenko
from support import wait_for

pytestmark = pytest.mark.long

DESK = """
[journal]
keep = "90 days"
[output]
keys = "kernel"
layout = "us"
[surface.keypad]
kind = "keypad"
links = ["usb 1209:4d17"]
unbound = "pass"
[profile.base.on.keypad]
kp1 = "ctrl+z"
kp3 = { tap = 'type "hushhush"', hold = "f9" }
[profile.base.layer.other]
while = "shift"
[profile.base.layer.other.on.keypad]
kp1 = "f5"
"""


def _writers() -> str:
    return subprocess.run(["pgrep", "-f", "fenko.services.journalling"], capture_output=True, text=True).stdout


def test_unbound_keys_never_stand_in_it(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    (tmp_path / "desk.toml").write_text(DESK)
    device = keypad()
    run = FenkoRun(tmp_path, tmp_path / "log")
    run.says("taken over")
    sent = Reader("Fenko keys")
    keys = (e.KEY_KP4, e.KEY_KP1, e.KEY_KP5, e.KEY_KP3, e.KEY_KP6, e.KEY_KP1, e.KEY_KP9)
    for code in keys:
        key(device, code, 1)
        key(device, code, 0)
    passed = [code for code, value in sent.events(8 + 2 * 4 + 2 * len("hushhush")) if value]
    assert {e.KEY_KP4, e.KEY_KP5, e.KEY_KP6, e.KEY_KP9} <= {*passed}  # they went on to the program in front
    assert run.end() == 0
    device.close()
    wait_for(lambda: not _writers(), "who writes to end")
    rows = list(csv.DictReader(run_fenko("journal", "export", "--desk", str(tmp_path), check=True).stdout.splitlines()))
    assert [(row["control"], row["gesture"]) for row in rows if not row["gesture"].startswith("time")] == [
        ("keypad.kp1", "press"), ("keypad.kp3", "tap"), ("keypad.kp1", "press"),
    ]  # fmt: skip
    assert {row["control"] for row in rows} == {"keypad.kp1", "keypad.kp3"}
    raw = b"".join(path.read_bytes() for path in (tmp_path / "state/fenko/journal").iterdir())
    assert b"hushhush" not in raw
    assert b"kp4" not in raw
