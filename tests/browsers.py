"""A real browser, without a window."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import pytest

CHROMIUM = shutil.which("chromium")
needs_browser = pytest.mark.skipif(CHROMIUM is None, reason="needs chromium: run tools/needs tests")


@contextmanager
def chromium() -> Iterator[Any]:
    """Chromium, that asks nobody for anything."""
    from playwright.sync_api import sync_playwright

    quiet = ["--no-sandbox", "--disable-gpu", "--disable-quic", "--disable-background-networking", "--disable-sync"]
    with sync_playwright() as tools:
        made = tools.chromium.launch(executable_path=CHROMIUM, args=quiet)
        yield made
        made.close()
