"""Fenko in a process of its own, without what takes longer than most of what is tested: Python's start, and its imports. They are
had once, by a process of which each of these is a copy. Whether the command itself starts is tested elsewhere."""

from __future__ import annotations

import ctypes
import faulthandler
import fcntl
import multiprocessing
import os
import pwd
import signal
import subprocess
import sys
import tempfile
import termios
import time
import warnings
from collections.abc import Mapping, Sequence
from pathlib import Path
from types import ModuleType
from typing import Any, NamedTuple
from unittest import mock

WITHIN_LAB = "KERNEL_LAB" in os.environ
"""Whether this is the kernel lab of `tests/lab.py`, where loading a library takes seconds."""
_FENKO = multiprocessing.get_context("forkserver")
_FENKO.set_forkserver_preload([
    "fenko.start", "fenko.cli", "fenko.cli.run", "fenko.cli.devices", "fenko.cli.describe", "fenko.cli.learn", "fenko.cli.watch",
    "fenko.cli.tune", "fenko.live.session", "fenko.live.guard", "fenko.live.desktop_ready", "fenko.integrations", "evdev", "xcffib.xproto",
    "started",
    *(() if WITHIN_LAB else ("fenko.studies.proposing", "fenko.studies.made_up", "fenko.showing.usage_pictures")),  # and SciPy with them
])  # fmt: skip
_SET_DUMPABLE = 4
_LONG = 20  # seconds
_WHERE = signal.SIGUSR2
"""Has a process write where each of its threads is."""


class _Command(NamedTuple):
    """What is typed, by whom and where."""

    arguments: list[str]
    out: str
    err: str
    environment: dict[str, str]
    folder: str
    terminal: bool
    user: str | None
    typed: str


class Started:
    """`fenko …`, used as `subprocess.Popen` is. It writes to files or a terminal, by name."""

    def __init__(
        self,
        arguments: Sequence[str],
        out: Path | str,
        err: Path | str | None = None,
        env: Mapping[str, str] | None = None,
        cwd: Path | None = None,
        terminal: bool = False,
        user: str | None = None,
        typed: Path | str = os.devnull,
    ) -> None:
        for file in () if terminal else (out, err):
            if file is not None:
                Path(file).write_bytes(b"")
        environment = dict(os.environ if env is None else env)
        self.args = ["fenko", *arguments]
        what = _Command(
            [*arguments], str(out), str(err or out), environment, str(cwd or Path.cwd()), terminal, user, str(typed)
        )
        self._err = Path(err or out)
        self._process: Any = _FENKO.Process(target=_become, args=(what,), daemon=True)
        with mock.patch.dict(
            sys.modules, {"__main__": ModuleType("__main__")}
        ):  # whose own file the copy would run once more
            self._process.start()
        self.pid: int = self._process.pid

    @property
    def returncode(self) -> int | None:
        """The exit status, once it is known."""
        status: int | None = self._process.exitcode
        return status

    def poll(self) -> int | None:
        """The exit status; None while it runs."""
        return self.returncode

    def wait(self, timeout: float | None = None) -> int:
        """Waits for its end. Raises subprocess.TimeoutExpired."""
        self._process.join(timeout)
        status = self.returncode
        if status is None:
            if timeout and timeout >= _LONG:  # nobody expects that: where does it stand?
                self.send_signal(_WHERE)
                self._process.join(1)
                print(self._err.read_text(errors="replace") if self._err.is_file() else "")
            raise subprocess.TimeoutExpired(self.args, timeout or 0)
        return status

    def send_signal(self, number: int) -> None:
        """Sends it a signal, if it still runs."""
        if self.poll() is None:
            os.kill(self.pid, number)

    def terminate(self) -> None:
        """Asks it to end."""
        self.send_signal(signal.SIGTERM)

    def kill(self) -> None:
        """Ends it."""
        self.send_signal(signal.SIGKILL)


def _become(what: _Command) -> None:
    """In the copy: what the system does between a command typed and the first line of it run."""
    os.setsid()
    flags = os.O_RDWR if what.terminal else os.O_WRONLY | os.O_APPEND
    for number, name in enumerate((what.out if what.terminal else what.typed, what.out, what.err)):
        file = os.open(name, flags if number or what.terminal else os.O_RDONLY)
        os.dup2(file, number)
        os.close(file)
    if what.terminal:
        fcntl.ioctl(0, termios.TIOCSCTTY, 0)
    # Anew: whether it is a terminal, and how much is gathered before it is written, was asked when these were made.
    gathers = not (what.terminal or "PYTHONUNBUFFERED" in what.environment)
    sys.stdout = open(1, "w", buffering=-1 if gathers else 1, closefd=False)  # noqa: SIM115
    sys.stderr = open(2, "w", buffering=1, closefd=False)  # noqa: SIM115
    sys.stdin = open(0, closefd=False)  # noqa: SIM115
    os.chdir(what.folder)
    if what.user is not None:
        person = pwd.getpwnam(what.user)
        os.initgroups(what.user, person.pw_gid)
        os.setgid(person.pw_gid)
        os.setuid(person.pw_uid)
        ctypes.CDLL(None).prctl(
            _SET_DUMPABLE, 1, 0, 0, 0
        )  # it may read of itself what others may, as after a command's start
    os.environ.clear()
    os.environ.update(what.environment)
    time.tzset()
    signal.signal(signal.SIGINT, signal.SIG_DFL)
    faulthandler.register(_WHERE, sys.stderr)
    sys.argv = ["fenko", *what.arguments]
    if what.environment.get("PYTHONWARNINGS") == "error":
        warnings.simplefilter("error")
    from fenko.start import main

    main()


def run_fenko(
    *arguments: str,
    env: Mapping[str, str] | None = None,
    cwd: Path | None = None,
    timeout: float | None = 120,
    check: bool = False,
    user: str | None = None,
) -> subprocess.CompletedProcess[str]:
    """What `fenko …` prints and comes to; to be used as `subprocess.run` is."""
    with tempfile.TemporaryDirectory() as folder:
        out, err = Path(folder, "out"), Path(folder, "err")
        process = Started(arguments, out, err, env, cwd, user=user)
        try:
            status = process.wait(timeout)
        finally:
            process.kill()
        done = subprocess.CompletedProcess(process.args, status, out.read_text(), err.read_text())
    if check:
        done.check_returncode()
    return done
