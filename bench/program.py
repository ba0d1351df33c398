"""The program as a whole: how long it takes to start and to check a large desk."""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from pathlib import Path

from bench.rows import Row, ratio_of
from fenko.core.controls import KINDS

ROUNDS = 9


def large_desk(folder: Path, profiles: int = 200, bindings: int = 100) -> Path:
    """A desk with that many profiles, each with that many bindings, half of them plain and half written out."""
    controls = sorted(KINDS["keyboard"] - {"dial", "wheel"})[:bindings]
    lines = ["format = 1", "[surface.keys]", 'kind = "keyboard"']
    for profile in range(profiles):
        lines += [f"[profile.p{profile}]", f'when = {{ app = "app{profile}" }}', f"[profile.p{profile}.on.keys]"]
        for number, control in enumerate(controls):
            held = ("", "ctrl+", "alt+", "shift+", "ctrl+shift+")[number // 24]
            phrase = f"{held}f{1 + (profile + number) % 24}"
            plain = f'{control} = "{phrase}"'
            lines.append(f'{control} = {{ do = "{phrase} then f5", label = "Do {number}" }}' if number % 2 else plain)
    (folder / "desk.toml").write_text("\n".join(lines))
    return folder


def _time(*command: str) -> float:
    start = time.perf_counter()
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
    return time.perf_counter() - start


def measure() -> list[Row]:
    """Start-up and check."""
    python, fenko = sys.executable, str(Path(sys.executable).parent / "fenko")
    help_ratio, ours, bare = ratio_of(
        lambda: _time(fenko, "--help"), lambda: _time(python, "-c", "import click"), ROUNDS
    )
    with tempfile.TemporaryDirectory() as name:
        desk = large_desk(Path(name))
        checks = sorted(_time(fenko, "check", "--desk", str(desk)) for _ in range(5))
    return [
        Row("`fenko --help`", f"{help_ratio:.2f} × ({ours * 1000:.0f} ms against {bare * 1000:.0f} ms)",
            "≤ 1.4 × an interpreter that imports click", help_ratio <= 1.4),
        Row("`fenko check` of 200 profiles × 100 bindings", f"{checks[2]:.2f} s", "≤ 1 s", checks[2] <= 1),
    ]  # fmt: skip
