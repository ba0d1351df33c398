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

import lab
from fenko.integrations import load
from lab import KernelTest
from rails import STARTED
from started import WITHIN_LAB, run_fenko
from support import FAILED, FENKO, MakeDesk, Run, run_within, tries

if not WITHIN_LAB:
    from hypothesis import HealthCheck, settings

    settings.register_profile(
        "all", max_examples=tries(100), deadline=None, suppress_health_check=[HealthCheck.too_slow]
    )
    settings.load_profile("all")


load()  # before a test draws phrases

_LONGEST = ("kernel", "gnome", "kwin", "sway", "X11")
"""What takes minutes is begun first, so that it does not run alone at the end."""


_OF_DESKTOPS = ("test_desktops", "test_desktops_trouble", "test_programs")


_QUICK = tuple(
    f"test_{name}"
    for name in "arcs check decisions descriptions desk editing engine explain motion phrase rehearse table tilt touch".split()
)
"""What needs no other program, and is done in a minute."""


def group_of(test: str) -> str:
    """What a test, by its name, shares with others that takes long to make: a desktop, a kernel, else what its file has for all of
    its tests."""
    path, _, name = test.partition("::")
    if path == "tests/test_packages.py" and "[" in name:
        return test  # minutes each, with nothing in common
    given = name.partition("[")[2].removesuffix("]").split("-")
    if path.startswith("tests/kernel/"):
        return "kernel"
    return next((one for one in given if one in _LONGEST and Path(path).stem in _OF_DESKTOPS), path)


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Where there is no such kernel here, its tests run elsewhere; and those of a group follow one another."""
    items[:] = [KernelTest.of(item) if group_of(item.nodeid) == "kernel" and not lab.HERE else item for item in items]
    groups = [*_LONGEST, *dict.fromkeys(group_of(item.nodeid) for item in items)]
    items.sort(key=lambda item: groups.index(group_of(item.nodeid)))
    for item in items:
        if item.path.stem in _QUICK and group_of(item.nodeid) != "kernel":
            item.add_marker(pytest.mark.quick)


@pytest.hookimpl(optionalhook=True)
def pytest_xdist_make_scheduler(config: pytest.Config, log: Any) -> Any:
    """Whoever runs several processes at a time has the tests of a group in one of them."""
    from xdist.scheduler import LoadScopeScheduling

    class Groups(LoadScopeScheduling):
        """How tests are dealt out."""

        def _split_scope(self, nodeid: str) -> str:
            return group_of(nodeid)

    return Groups(config, log)


@pytest.fixture(autouse=True)
def own_person(monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """A person has one desk that runs; each test is a person of its own."""
    with tempfile.TemporaryDirectory(prefix="fenko-") as folder:  # short, for the path of a socket has to be
        monkeypatch.setenv("XDG_RUNTIME_DIR", folder)
        monkeypatch.setenv("XDG_STATE_HOME", f"{folder}/state")
        # Programs that find no bus named start one, which stays; of those that a user may have, it takes the last.
        monkeypatch.setenv("DBUS_SESSION_BUS_ADDRESS", f"unix:path={folder}/bus")
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
        words = [*map(str, arguments)]
        if "PYTHONPATH" in environment:  # a Python of its own
            return subprocess.run(
                [*FENKO, *words], capture_output=True, text=True, timeout=timeout, env=kept, cwd=tmp_path
            )
        if words[0] in _READ:
            return run_within(words, kept, tmp_path)
        return run_fenko(*words, timeout=timeout, env=kept, cwd=tmp_path)

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
    """Fixtures that last know whether a test that had them has failed."""
    report: pytest.TestReport = yield  # type: ignore[misc]
    if isinstance(item, KernelTest) and report.when == "call":
        report.duration = item.took
    if report.failed:
        for node in item.listchain():
            node.stash[FAILED] = True
    return report  # type: ignore[return-value]


def pytest_sessionfinish() -> None:
    """Desktops that tests have shared end."""
    if "desktops" in sys.modules:
        sys.modules["desktops"].end_kept()
