"""What all tests share: running the built program, and small desks on disk."""

from __future__ import annotations

import os
import subprocess
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, settings

from fenko.outputs.registered import load
from rails import STARTED
from support import FENKO, MakeDesk, Run

settings.register_profile("all", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("all")

# The kernel tests need a kernel with uinput; elsewhere test_kernel_lab.py runs them in an emulated machine.
collect_ignore_glob = [] if os.access("/dev/uinput", os.W_OK) or "FENKO_COLLECT_KERNEL" in os.environ else ["kernel/*"]


load()  # before a test draws phrases

_LONGEST = ("test_kernel_lab", "test_desktops", "test_desktops_trouble", "test_packages", "test_programs")
"""Files that take minutes: begun first, they do not run alone at the end."""


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Whoever runs several files at a time takes them in this order."""
    items.sort(key=lambda item: _LONGEST.index(item.path.stem) if item.path.stem in _LONGEST else len(_LONGEST))


@pytest.fixture(autouse=True)
def own_person(monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """A person has one desk that runs; each test is a person of its own."""
    with tempfile.TemporaryDirectory(prefix="fenko-") as folder:  # short, for the path of a socket has to be
        monkeypatch.setenv("XDG_RUNTIME_DIR", folder)
        monkeypatch.setenv("XDG_STATE_HOME", f"{folder}/state")
        yield


@pytest.fixture(autouse=True)
def no_machine_is_left() -> Iterator[None]:
    """Simulated machines that a test has started end with it."""
    yield
    while STARTED:
        STARTED.pop().close()


@pytest.fixture
def fenko(tmp_path: Path) -> Run:
    """Runs `fenko …` as a person would, with no display, no desk and no colour unless the test sets them."""

    def run(*arguments: str | Path, timeout: float = 60, **environment: str) -> subprocess.CompletedProcess[str]:
        kept = {key: value for key, value in os.environ.items() if not key.startswith(("FENKO", "DISPLAY", "WAYLAND"))}
        kept |= {
            "XDG_CONFIG_HOME": str(tmp_path / "config"),
            "XDG_STATE_HOME": str(tmp_path / "state"),
            "PYTHONWARNINGS": "error",
        } | environment
        return subprocess.run(
            [*FENKO, *map(str, arguments)], capture_output=True, text=True, timeout=timeout, env=kept, cwd=tmp_path
        )

    return run


@pytest.fixture
def make_desk(tmp_path: Path) -> MakeDesk:
    """Writes a desk and returns its folder; other files are given by name."""

    def make(text: str, name: str = "desk", **files: str) -> Path:
        folder = tmp_path / name
        folder.mkdir(exist_ok=True)
        (folder / "desk.toml").write_text(text, encoding="utf-8")
        for file, content in files.items():
            (folder / f"{file}.toml").write_text(content, encoding="utf-8")
        return folder

    return make


def pytest_terminal_summary(terminalreporter: Any) -> None:
    """What failed at first and passed the second time is a fault that has not been found yet: it is told."""
    for report in terminalreporter.stats.get("rerun", ()):
        terminalreporter.write_sep("-", f"run again: {report.nodeid}")
        terminalreporter.write_line("\n".join(str(report.longreprtext).splitlines()[-25:]))
