"""What all tests share: running the built program, and small desks on disk."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, settings

import lab
from fenko.outputs.registered import load
from lab import KernelTest
from rails import STARTED
from support import FAILED, FENKO, MakeDesk, Run, run_within, tries

settings.register_profile("all", max_examples=tries(100), deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("all")


load()  # before a test draws phrases

_LONGEST = ("kernel", "gnome", "kwin", "sway", "X11")
"""What takes minutes is begun first, so that it does not run alone at the end."""


@pytest.hookimpl(tryfirst=True)  # who deals them out reads the groups
def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Who runs several processes at a time has those tests in one that share something which takes long to make: a desktop, else
    what a file has for all of its tests."""
    items[:] = [KernelTest.of(item) if _group(item) == "kernel" and not lab.HERE else item for item in items]
    groups = {item: _group(item) for item in items}
    items.sort(key=lambda item: _LONGEST.index(groups[item]) if groups[item] in _LONGEST else len(_LONGEST))
    for item, group in groups.items():
        item.add_marker(pytest.mark.xdist_group(group))


def _group(item: pytest.Item) -> str:
    if item.path.parent.name == "kernel":
        return "kernel"
    given: dict[str, Any] = item.callspec.params if hasattr(item, "callspec") else {}
    desktop = given.get("shown") or given.get("editor", ("",))[0]
    return desktop if desktop in _LONGEST else item.path.stem


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


_READ = frozenset((
    "arrange", "check", "explain", "history", "machine", "rehearse", "sheet", "shortcuts", "status", "switch", "tune", "usage", "values",
))  # fmt: skip
"""Commands that read, and print, need no process of their own: starting one takes longer than what most of them do."""


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
        if str(arguments[0]) in _READ and "PYTHONPATH" not in environment:
            return run_within([*map(str, arguments)], kept, tmp_path)
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


@pytest.hookimpl(wrapper=True)
def pytest_runtest_makereport(item: pytest.Item) -> Iterator[None]:
    """Fixtures that last know whether the test before has failed."""
    report: pytest.TestReport = yield  # type: ignore[misc]
    if report.failed:
        item.stash[FAILED] = True
    return report  # type: ignore[return-value]


def pytest_sessionfinish() -> None:
    """Desktops that tests have shared end."""
    if "desktops" in sys.modules:
        sys.modules["desktops"].end_kept()
