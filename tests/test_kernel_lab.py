"""Runs the tests of `tests/kernel` in an emulated machine with a real kernel."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent


@pytest.mark.xdist_group("lab")
@pytest.mark.skipif("KERNEL_LAB" in os.environ, reason="this already is the emulated machine")
@pytest.mark.skipif(
    shutil.which("apt-get") is None or (os.geteuid() != 0 and shutil.which("qemu-system-x86_64") is None),
    reason="needs Debian and root (or qemu-system-x86 and a prepared cache) for tools/kernel-lab",
)
def test_on_a_real_kernel() -> None:
    done = subprocess.run(
        [str(ROOT / "tools/kernel-lab"), "--timeout", "1200", "--", sys.executable, "-m", "pytest",
         "-p", "no:cacheprovider", "-x", "-v", "--durations=0", str(ROOT / "tests/kernel")],
        cwd=ROOT, capture_output=True, text=True,
    )  # fmt: skip
    print(done.stdout)
    assert done.returncode == 0, done.stdout[-8000:] + done.stderr[-2000:]
    assert " passed" in done.stdout and "skipped" not in done.stdout
