"""The tests of `tests/kernel`, where this machine's kernel has no uinput: run in the kernel lab (`tools/kernel-lab`), all in one go, and each
reported here as it went there."""

from __future__ import annotations

import json
import os
import platform
import shutil
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

ROOT = Path(__file__).parent.parent
HERE = os.access("/dev/uinput", os.W_OK)
"""Whether these tests need no other machine."""
_MARK = "\x1ereport "
_LONGEST_RUN = 1680
"""Seconds that the lab has for all of them."""


_PLUGINS = [
    word
    for name in ("cacheprovider", "hypothesispytest", "xdist", "anyio", "playwright")
    for word in ("-p", f"no:{name}")
]
"""What it does without there."""


class Failed(Exception):
    """A test failed there: all that it said."""


class KernelTest(pytest.Item):
    """One of them."""

    took = 0.0
    """Seconds that it took there."""

    @classmethod
    def of(cls, item: pytest.Item) -> KernelTest:
        """In place of the item that would run here."""
        made: KernelTest = cls.from_parent(item.parent, name=item.name)
        made.own_markers = item.own_markers
        made.keywords.update(item.keywords)
        return made

    def runtest(self) -> None:
        """Looks how it went; the first one has them all run."""
        reports = _reports(self.session).get(self.nodeid, [])
        self.took = sum(report["seconds"] for report in reports)
        for report in reports:
            if report["outcome"] == "skipped":
                pytest.skip(report["text"])
            if report["outcome"] == "failed":
                raise Failed(f"{report['when']}:\n{report['text']}")
        if not reports:
            raise Failed(f"it did not run: {self.session.stash[_SAID][-4000:]}")

    def repr_failure(self, excinfo: pytest.ExceptionInfo[BaseException], style: Any = None) -> str:
        """What it said there."""
        return str(excinfo.value)


_FOUND = pytest.StashKey[dict[str, list[dict[str, Any]]]]()
_SAID = pytest.StashKey[str]()


def _reports(session: pytest.Session) -> dict[str, list[dict[str, Any]]]:
    """By test: how each part of it went."""
    if _FOUND not in session.stash:
        if platform.machine() != "x86_64" or shutil.which("apt-get") is None or os.geteuid():
            pytest.skip("tools/kernel-lab needs Debian, x86-64 and root")
        names = [item.nodeid for item in session.items if isinstance(item, KernelTest)]
        # What is compiled there is thrown away, and compiled anew the next time.
        subprocess.run([sys.executable, "-m", "compileall", "-q", "src"], cwd=ROOT, check=True)
        done = subprocess.run(
            [ROOT / "tools/kernel-lab", "--timeout", str(_LONGEST_RUN), "--", sys.executable, "-m", "pytest", *_PLUGINS, *names],
            cwd=ROOT, capture_output=True, text=True,
        )  # fmt: skip
        session.stash[_SAID] = done.stdout + done.stderr
        found: dict[str, list[dict[str, Any]]] = {}
        for line in done.stdout.split("\n"):
            if line.startswith(_MARK):
                report = json.loads(line.removeprefix(_MARK))
                found.setdefault(report["test"], []).append(report)
        session.stash[_FOUND] = found
    return session.stash[_FOUND]


def report(told: pytest.TestReport) -> str:
    """The line by which the lab says how a part of a test went."""
    said = "\n".join(f"--- {name} ---\n{text}" for name, text in told.sections)
    about = {
        "test": told.nodeid,
        "when": told.when,
        "outcome": told.outcome,
        "seconds": told.duration,
        "text": f"{told.longreprtext}\n{said}",
    }
    return f"\n{_MARK}{json.dumps(about)}"
