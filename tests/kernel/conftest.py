"""What a failed test leaves in the kernel lab, the next file does not find."""

from __future__ import annotations

import gc
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest
from bench_devices import FenkoRun
from evdev import UInput

import lab
from started import WITHIN_LAB


def pytest_runtest_logreport(report: pytest.TestReport) -> None:
    """in the kernel lab: whoever has had it started wants to know of each test."""
    if WITHIN_LAB:
        print(lab.report(report), flush=True)


@pytest.fixture(scope="session", autouse=True)
def python_for_all() -> None:
    """in the kernel lab, whose files are thrown away: others than root may run this Python, wherever it is."""
    if WITHIN_LAB:
        for folder in Path(sys.base_prefix).parents:
            folder.chmod(folder.stat().st_mode | 0o111)


@pytest.fixture(scope="module", autouse=True)
def nothing_left() -> Iterator[None]:
    """Ends and unplugs at the end of a file, and not of a test: tests of a file share devices, and plug in others."""
    yield
    for one in gc.get_objects():
        if isinstance(one, FenkoRun):
            one.process.kill()
        elif isinstance(one, UInput):
            one.close()
