"""The program as a whole: how long it takes to start, how large it is, and how still it stands."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from bench.rows import Row, ratio_of
from fenko.core.controls import KINDS

ROUNDS = 9
REST = 5.0  # s


def large_desk(folder: Path, profiles: int = 200, bindings: int = 100) -> Path:
    """A desk with that many profiles, each with that many bindings, half of them plain and half written out."""
    controls = sorted(KINDS["keyboard"] - {"dial", "wheel"})[:bindings]
    lines = ["format = 1", "[surface.keys]", 'kind = "keyboard"']
    for profile in range(profiles):
        lines += [f"[profile.p{profile}]", f'when = {{ app = "app{profile}" }}', f"[profile.p{profile}.on.keys]"]
        for number, control in enumerate(controls):
            phrase = f"ctrl+f{1 + (profile + number) % 24}"
            plain = f'{control} = "{phrase}"'
            lines.append(f'{control} = {{ do = "{phrase} then f5", label = "Do {number}" }}' if number % 2 else plain)
    (folder / "desk.toml").write_text("\n".join(lines))
    return folder


def _time(*command: str) -> float:
    start = time.perf_counter()
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
    return time.perf_counter() - start


def measure() -> list[Row]:
    """Start-up, check, memory and rest."""
    python, fenko = sys.executable, str(Path(sys.executable).parent / "fenko")
    help_ratio, ours, bare = ratio_of(
        lambda: _time(fenko, "--help"), lambda: _time(python, "-c", "import click"), ROUNDS
    )
    with tempfile.TemporaryDirectory() as name:
        desk = large_desk(Path(name))
        checks = sorted(_time(fenko, "check", "--desk", str(desk)) for _ in range(5))
        small = Path(name) / "small"
        small.mkdir()
        (small / "desk.toml").write_text('[surface.pad]\nkind = "gamepad"\n[profile.base.on.pad]\nsouth = "ctrl+z"\n')
        memory, wakeups = _at_rest(fenko, small)
    libraries = _memory_of_libraries(python)
    return [
        Row("`fenko --help`", f"{help_ratio:.2f} × ({ours * 1000:.0f} ms against {bare * 1000:.0f} ms)",
            "≤ 1.4 × an interpreter that imports click", help_ratio <= 1.4),
        Row("`fenko check` of 200 profiles × 100 bindings", f"{checks[2]:.2f} s", "≤ 1 s", checks[2] <= 1),
        Row("running desk, memory", f"{memory / libraries:.2f} × ({memory / 1024:.1f} MiB against {libraries / 1024:.1f} MiB)",
            "≤ 1.5 × an interpreter with its libraries", memory / libraries <= 1.5),
        Row("running desk at rest", f"{wakeups} wake-ups in {REST:.0f} s", "none", wakeups == 0),
    ]  # fmt: skip


def _status(pid: int, field: str) -> int:
    text = Path(f"/proc/{pid}/status").read_text()
    return int(next(line for line in text.splitlines() if line.startswith(f"{field}:")).split()[1])


def _at_rest(fenko: str, desk: Path) -> tuple[int, int]:
    """Memory (KiB) and the number of times the process woke up while nothing happened."""
    process = subprocess.Popen(
        [fenko, "run", "--dry", "--desk", str(desk)], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True
    )
    assert process.stderr is not None
    for line in process.stderr:
        if "is running" in line:
            break
    time.sleep(1)
    before = _status(process.pid, "voluntary_ctxt_switches")
    time.sleep(REST)
    wakeups = _status(process.pid, "voluntary_ctxt_switches") - before
    memory = _status(process.pid, "VmRSS")
    process.send_signal(signal.SIGTERM)
    process.wait()
    return memory, wakeups


def _memory_of_libraries(python: str) -> int:
    code = "import evdev, xcffib.xproto, xcffib.xtest, msgspec, click, time; print(flush=True); time.sleep(60)"
    process = subprocess.Popen([python, "-c", code], stdout=subprocess.PIPE, env=os.environ | {"PYTHONUNBUFFERED": "1"})
    assert process.stdout is not None
    process.stdout.readline()
    memory = _status(process.pid, "VmRSS")
    process.kill()
    process.wait()
    return memory
