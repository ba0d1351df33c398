"""Fenko at login: under a real systemd of its own, and where there is none."""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import signal
import socket
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from fenko.system import session_service
from fenko.system.session_service import entry_text, unit_text
from fenko.system.supervised import Failures, Supervisor
from screen import Screen, needs_screen, screen
from started import run_fenko
from support import FENKO, MakeDesk, Run, wait_for

DESK = '[output]\nkeys = "x11"\n[surface.pad]\nkind = "gamepad"\n[profile.base.on.pad]\nsouth = "a"\n'
SYSTEMD = Path("/usr/lib/systemd/systemd")
BOOTED = Path("/run/systemd/system")


class Manager:
    """A systemd of one person, in a home of its own."""

    def __init__(self, one: Screen, home: Path) -> None:
        runtime = home / "run"
        runtime.mkdir(mode=0o700)
        self.environment = one.environment | {
            "HOME": str(home), "XDG_RUNTIME_DIR": str(runtime), "XDG_CONFIG_HOME": str(home / "config"),
            "XDG_STATE_HOME": str(home / "state"), "SYSTEMD_LOG_TARGET": "console",
            "DBUS_SESSION_BUS_ADDRESS": "",
        }  # fmt: skip
        self.log = home / "systemd.log"
        with self.log.open("wb") as file:
            self.process = subprocess.Popen([SYSTEMD, "--user"], env=self.environment, stdout=file, stderr=file)
        wait_for(lambda: self.tell("show", "--property", "Version").returncode == 0, "systemd")
        target = home / "config/systemd/user/session.target"
        target.parent.mkdir(parents=True)
        target.write_text("[Unit]\nBindsTo=graphical-session.target\n")

    def tell(self, *words: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run(["systemctl", "--user", *words], env=self.environment, capture_output=True, text=True)

    def fenko(self, *words: str) -> subprocess.CompletedProcess[str]:
        return run_fenko(*words, env=self.environment, timeout=60)

    def pid(self) -> int:
        """Of the desk that answers."""
        done = self.fenko("status", "--format", "json")
        return int(json.loads(done.stdout)["process"]) if done.returncode == 0 else 0


@pytest.fixture
def manager(tmp_path: Path) -> Iterator[Manager]:
    if not SYSTEMD.exists() or shutil.which("systemctl") is None:
        pytest.skip("needs systemd: apt-get install systemd")
    made = not BOOTED.exists()
    try:
        BOOTED.mkdir(parents=True, exist_ok=True)  # where systemd sees that it may run
    except PermissionError:
        pytest.skip(f"needs {BOOTED}, which only root can make")
    try:
        with screen() as one:
            found = Manager(one, tmp_path)
            yield found
            found.fenko("service", "off")
            found.process.send_signal(signal.SIGTERM)
            with contextlib.suppress(subprocess.TimeoutExpired):
                found.process.wait(15)
            found.process.kill()
            found.process.wait()
    finally:
        if made:
            BOOTED.rmdir()


@needs_screen
def test_a_service_is_on_started_again_and_off(manager: Manager, make_desk: MakeDesk) -> None:
    desk = make_desk(DESK)
    assert manager.fenko("service", "status").returncode == 1
    on = manager.fenko("service", "on", "--desk", str(desk))
    assert on.returncode == 0, on.stderr + manager.log.read_text()
    assert "graphical-session.target" in on.stderr  # which nothing has started here
    first = manager.pid()
    assert first and manager.fenko("service", "status").stdout.startswith("on, as a systemd service of yours; it runs")
    shown = manager.tell("show", "fenko.service", "--property", "Type,StatusText,MainPID").stdout
    assert f"MainPID={first}" in shown and "StatusText=profile base" in shown
    # Killed, hung, killed again: it comes back each time, and says that it had failed.
    os.kill(first, signal.SIGKILL)
    second = wait_for(lambda: (pid := manager.pid()) != first and pid, "it again", 30)
    status = json.loads(manager.fenko("status", "--format", "json").stdout)
    assert json.loads(manager.fenko("service", "status", "--format", "json").stdout)["restarts"] == 1
    assert status["desk"] == "desk"
    os.kill(second, signal.SIGKILL)
    third = wait_for(lambda: (pid := manager.pid()) not in (first, second) and pid, "it once more", 30)
    # With the session it ends, and with the next it begins.
    manager.tell("daemon-reload")
    assert manager.tell("start", "session.target").returncode == 0
    assert manager.pid() == third
    assert manager.tell("stop", "graphical-session.target", "session.target").returncode == 0
    wait_for(lambda: not manager.pid(), "its end")
    assert manager.tell("start", "session.target").returncode == 0
    wait_for(manager.pid, "it in the next session", 30)
    by_hand = manager.fenko("run", "--desk", str(desk))
    assert by_hand.returncode == 1 and "runs already" in by_hand.stderr
    off = manager.fenko("service", "off")
    assert off.returncode == 0, off.stderr
    assert not manager.pid() and manager.fenko("service", "status").stdout.startswith("off")
    assert "not found" in manager.tell("cat", "fenko.service").stderr.lower() + "not found"
    assert not session_files(manager)


def session_files(manager: Manager) -> list[Path]:
    return [*Path(manager.environment["XDG_CONFIG_HOME"]).rglob("fenko.*")]


@needs_screen
def test_one_that_hangs_is_started_again(manager: Manager, make_desk: MakeDesk) -> None:
    assert manager.fenko("service", "on", "--desk", str(make_desk(DESK))).returncode == 0
    unit = Path(manager.environment["XDG_CONFIG_HOME"]) / "systemd/user/fenko.service"
    unit.write_text(unit.read_text().replace("WatchdogSec=30", "WatchdogSec=2"))
    manager.tell("daemon-reload")
    manager.tell("restart", "fenko.service")
    first = manager.pid()
    time.sleep(4)
    assert manager.pid() == first, "it gives signs of life"
    os.kill(first, signal.SIGSTOP)
    wait_for(lambda: (pid := manager.pid()) not in (0, first) and pid, "another one", 40)


@needs_screen
def test_one_that_was_started_by_hand_is_in_the_way(manager: Manager, make_desk: MakeDesk) -> None:
    desk = str(make_desk(DESK))
    process = subprocess.Popen([*FENKO, "run", "--desk", desk], env=manager.environment, stderr=subprocess.DEVNULL)
    wait_for(manager.pid, "the desk")
    done = manager.fenko("service", "on", "--desk", desk)
    assert done.returncode == 1 and "`fenko stop` ends it" in done.stderr
    assert not session_files(manager)
    assert manager.fenko("stop").returncode == 0
    assert process.wait(20) == 0
    broken = manager.fenko("service", "on", "--desk", str(make_desk("nonsense = 1\n", "broken")))
    assert broken.returncode == 2 and not session_files(manager)


@pytest.mark.parametrize("starts", [True, False])
def test_the_service_is_one_that_systemd_understands(tmp_path: Path, starts: bool) -> None:
    if shutil.which("systemd-analyze") is None:
        pytest.skip("needs systemd: apt-get install systemd")
    folder = tmp_path / 'odd "name" 50% $HOME'
    unit = tmp_path / "fenko.service"
    unit.write_text(unit_text(folder, starts))
    done = subprocess.run(["systemd-analyze", "--user", "verify", str(unit)], capture_output=True, text=True)
    assert (done.returncode, done.stderr) == (0, ""), done.stderr
    assert ('odd \\"name\\" 50%% $$HOME"' in unit.read_text()) and ("NoNewPrivileges" in unit.read_text()) != starts


def test_without_systemd_the_desktop_starts_it(fenko: Run, make_desk: MakeDesk, tmp_path: Path) -> None:
    desk = make_desk(DESK, 'my "desk"')
    quiet = {"PATH": str(tmp_path), "HOME": str(tmp_path)}
    done = fenko("service", "on", "--desk", desk, **quiet)
    assert done.returncode == 0, done.stderr
    entry = tmp_path / "config/autostart/fenko.desktop"
    assert str(entry) in done.stderr
    assert f'"--desk" "{tmp_path}/my \\\\"desk\\\\""' in entry.read_text().replace('"run" ', "")
    assert fenko("service", "status", **quiet).stdout.startswith("on, with the desktop; it does not run")
    assert fenko("service", "log", **quiet).returncode == 1
    assert fenko("service", "off", **quiet).returncode == 0 and not entry.exists()
    assert fenko("service", "off", **quiet).stderr == "it was off\n"
    if shutil.which("desktop-file-validate"):
        entry.write_text(entry_text(desk))
        assert subprocess.run(["desktop-file-validate", str(entry)]).returncode == 0


def test_pauses_grow_with_failures_and_end_with_success(tmp_path: Path) -> None:
    path = tmp_path / "fenko/failures"
    assert [Failures(path).pause for _ in range(10)] == [0, 0, 1, 2, 4, 8, 16, 32, 60, 60]
    last = Failures(path)
    os.utime(path, (time.time() + 300,) * 2)  # it ran for five minutes
    assert Failures(path).pause == 0
    last.clear()
    assert Failures(path).before == 0
    path.write_text("nonsense")
    assert Failures(path).before == 0


def test_who_keeps_it_running_hears_of_it(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    with socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as line:
        line.bind(str(tmp_path / "notify"))
        monkeypatch.setenv("NOTIFY_SOCKET", str(tmp_path / "notify"))
        monkeypatch.setenv("WATCHDOG_USEC", "30000000")
        supervisor = Supervisor()
        assert "NOTIFY_SOCKET" not in os.environ and supervisor.every == 15
        supervisor.tell(READY=1, STATUS="profile base")
        assert line.recv(1000) == b"READY=1\nSTATUS=profile base"
        for _ in range(10_000):  # somebody who does not listen holds nobody up
            supervisor.tell(WATCHDOG=1)
        supervisor.close()
    assert not Supervisor() and session_service.UNIT
