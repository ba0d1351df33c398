"""Runs the tests of `tests/kernel` in an emulated machine with a real kernel, all in one go; each is an item of its own here."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent
_PYTEST = [sys.executable, "-m", "pytest", "-p", "no:cacheprovider"]
_OUTCOME = re.compile(r"^(tests/kernel/\S+) (PASSED|FAILED|ERROR|SKIPPED)", re.MULTILINE)

pytestmark = [
    pytest.mark.skipif("KERNEL_LAB" in os.environ, reason="this already is the emulated machine"),
    pytest.mark.skipif(
        shutil.which("apt-get") is None or (os.geteuid() != 0 and shutil.which("qemu-system-x86_64") is None),
        reason="needs Debian and root (or qemu-system-x86 and a prepared cache) for tools/kernel-lab",
    ),
]


def _names() -> list[str]:
    """The tests that are there, as pytest names them."""
    if "KERNEL_LAB" in os.environ:
        return []
    done = subprocess.run(
        [*_PYTEST, "--collect-only", "-q", "-o", "addopts=", str(ROOT / "tests/kernel")],
        cwd=ROOT, env=os.environ | {"FENKO_COLLECT_KERNEL": "1"}, capture_output=True, text=True,
    )  # fmt: skip
    names = [line for line in done.stdout.splitlines() if line.startswith("tests/kernel/") and "::" in line]
    assert names, done.stdout + done.stderr
    return names


@pytest.fixture(scope="module")
def outcomes() -> tuple[dict[str, str], str]:
    """How each test went, and all that was printed."""
    done = subprocess.run(
        [str(ROOT / "tools/kernel-lab"), "--timeout", "1680", "--", *_PYTEST, "-vv", "--durations=5", "--reruns", "1", str(ROOT / "tests/kernel")],
        cwd=ROOT, capture_output=True, text=True,
    )  # fmt: skip
    failures = done.stdout.partition("= FAILURES =")[2] or done.stdout[-4000:]
    return dict(_OUTCOME.findall(done.stdout)), failures[:12_000] + done.stderr[-2000:]


@pytest.mark.parametrize("name", _names())
def test_on_a_real_kernel(name: str, outcomes: tuple[dict[str, str], str]) -> None:
    found, printed = outcomes
    assert found.get(name) == "PASSED", printed
