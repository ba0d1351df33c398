"""What a failed test leaves in the emulated kernel, the next file does not find."""

from __future__ import annotations

import gc
from collections.abc import Iterator

import pytest
from bench_devices import FenkoRun
from evdev import UInput


@pytest.fixture(scope="module", autouse=True)
def nothing_left() -> Iterator[None]:
    """Ends and unplugs at the end of a file, and not of a test: tests of a file share devices, and plug in others."""
    yield
    for one in gc.get_objects():
        if isinstance(one, FenkoRun):
            one.process.kill()
        elif isinstance(one, UInput):
            one.close()
