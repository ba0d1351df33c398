"""Everything that `fenko ready` tells a person to do, done: before it fails, after it works.

A person is made here, and the system's own device manager runs; where the login system would say who sits at the
machine, this says so in the same files. `sudo` is left out, since the tests are root already."""

from __future__ import annotations

import json
import os
import pwd
import shutil
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from bench_devices import FenkoRun, Reader, key, pad, wait_for
from evdev import UInput
from evdev import ecodes as e

from started import run_fenko

pytestmark = pytest.mark.long

UDEVD = Path("/lib/systemd/systemd-udevd")
RULES = Path("/etc/udev/rules.d/60-fenko.rules")
MARA = ("setpriv", "--reuid=mara", "--regid=mara", "--init-groups")
DESK = """
[surface.pad]
kind = "gamepad"
links = ["usb 1209:4d50"]
[profile.base.on.pad]
south = "a"
"""


def sh(script: str) -> str:
    """Runs what a person was told to type."""
    done = subprocess.run(["sh", "-e"], input=script.replace("sudo ", ""), capture_output=True, text=True)
    assert done.returncode == 0, script + done.stdout + done.stderr
    return done.stdout


@pytest.fixture(scope="module", autouse=True)
def person() -> Iterator[int]:
    """Mara, an ordinary user, and a running device manager, which has to be told that this machine is all there is."""
    os.environ["SYSTEMD_IGNORE_CHROOT"] = "1"
    sh(f"useradd --create-home mara\nmkdir -p /run/udev\n{UDEVD} --daemon\nudevadm trigger --settle")
    yield pwd.getpwnam("mara").pw_uid
    sh("udevadm control --exit")


def plugged_in() -> UInput:
    """A pad with which the device manager has done all that it does to a new node, which `udevadm settle` may be too early for.
    What is left to do with one that had the node before, is done first."""
    sh("udevadm settle")
    before = time.time_ns()
    one = pad()
    number = os.stat(one.device.path).st_rdev
    known = Path(f"/run/udev/data/c{os.major(number)}:{os.minor(number)}")
    wait_for(lambda: known.exists() and known.stat().st_mtime_ns >= before, f"{known} to be written")
    return one


@pytest.fixture
def device() -> Iterator[UInput]:
    """A pad that only root may read."""
    for path in (RULES, Path("/etc/modules-load.d/fenko.conf")):
        path.unlink(missing_ok=True)
    subprocess.run(["groupdel", "fenko"], capture_output=True)
    sh("udevadm control --reload\nudevadm settle\n")
    for node in (Path("/dev/uinput"), Path("/dev/snd/seq")):
        if node.exists():
            sh(f"chown root:root {node}\nchmod 600 {node}\nsetfacl -b {node} || true")
    one = plugged_in()
    yield one
    one.close()


def ask(*arguments: str, user: str = "mara") -> subprocess.CompletedProcess[str]:
    """`fenko ready …` as Mara."""
    environment = {k: v for k, v in os.environ.items() if k != "DISPLAY"} | {"HOME": "/home/mara"}
    return run_fenko("ready", *arguments, env=environment, cwd=Path("/"), user=user)


def facts() -> dict[str, dict[str, Any]]:
    """What `ready` finds, by what it is about; of several the one that matters most."""
    done = ask("--format", "json")
    found = json.loads(done.stdout)
    assert done.returncode == any(fact["state"] == "missing" for fact in found), done.stderr
    return {fact["about"]: fact for fact in sorted(found, key=lambda fact: fact["state"] == "missing")}


def states(*names: str) -> list[str]:
    found = facts()
    return [found[name]["state"] if name in found else "-" for name in names]


@pytest.fixture
def public(tmp_path: Path) -> Iterator[Path]:
    """A folder that Mara may read."""
    folder = Path("/home/mara/desk")
    folder.mkdir()
    (folder / "desk.toml").write_text(DESK)
    yield folder
    shutil.rmtree(folder)


def do_as_told(found: dict[str, dict[str, Any]], *names: str) -> str:
    """Types what stands beside these facts; returns it."""
    script = "\n".join(line for name in names for line in found[name]["commands"])
    sh(script)
    return script


def test_the_group_that_is_made_where_nobody_sits(device: UInput, public: Path, tmp_path: Path) -> None:
    found = facts()
    assert [found[name]["state"] for name in ("device", "sending keys")] == ["missing", "missing"]
    assert "usermod --append --groups fenko mara" in do_as_told(found, "device", "sending keys")
    assert Path(device.device.path).stat().st_mode & 0o777 == 0o660
    run = FenkoRun(public, tmp_path / "log", user="mara")
    run.says("is running")
    run.says("taken over")
    out = Reader("Fenko keys")
    key(device, e.BTN_SOUTH, 1)
    key(device, e.BTN_SOUTH, 0)
    assert out.events(2) == [(e.KEY_A, 1), (e.KEY_A, 0)]
    assert run.end() == 0


def test_who_sits_at_the_machine_gets_devices_from_the_login_system(device: UInput, person: int) -> None:
    for name, text in (
        (
            "seats/seat0",
            f"IS_SEAT0=1\nCAN_MULTI_SESSION=1\nACTIVE=c1\nACTIVE_UID={person}\nSESSIONS=c1\nUIDS={person}\n",
        ),
        (f"users/{person}", "NAME=mara\nSTATE=active\nSEATS=seat0\nACTIVE_SEATS=seat0\n"),
    ):
        path = Path("/run/systemd") / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text)
    script = ask("--fix").stdout
    assert "uaccess" in script and "usermod" not in script
    sh(script)
    device.close()
    again = plugged_in()  # anew: nothing has to be done again
    assert states("device", "sending keys") == ["ready", "ready"]
    again.close()
    shutil.rmtree("/run/systemd/seats")
    (Path("/run/systemd/users") / str(person)).unlink()


def test_root_may_have_it_done(device: UInput) -> None:
    asked = ask("--fix", "--for", "mara", user="root")
    assert asked.returncode == 1 and "Do this?" in asked.stderr
    assert not RULES.exists()
    done = ask("--fix", "--for", "mara", "--yes", user="root")
    assert done.returncode == 0, done.stdout + done.stderr
    rules = RULES.read_text()
    assert rules.count("\n") == 3 and 'KERNEL=="seq"' in rules and RULES.stat().st_mode & 0o777 == 0o644
    # Nothing applies the rules here, so she may still not use the sequencer; but nothing is written twice.
    assert ask("--fix", "--for", "mara", "--yes", user="root").returncode == 0 and RULES.read_text() == rules


def test_a_program_that_keeps_the_pad_to_itself_is_named(device: UInput) -> None:
    # By a rule: whatever the device manager has still to do with the node, others may read it.
    RULES.write_text('SUBSYSTEM=="input", KERNEL=="event*", MODE="0666"\n')
    sh("udevadm control --reload")
    device.close()
    device = plugged_in()
    hog = subprocess.Popen(
        [*MARA, sys.executable, "-c",
         f"import evdev, time; it = evdev.InputDevice({device.device.path!r}); it.grab(); print('has it', flush=True); time.sleep(600)"],
        stdout=subprocess.PIPE,
    )  # fmt: skip
    assert hog.stdout is not None and hog.stdout.readline()
    found = facts()
    assert found["taken over"]["state"] == "missing" and f"(process {hog.pid})" in found["taken over"]["found"]
    do_as_told(found, "taken over")
    hog.wait(60)
    assert states("taken over") == ["-"]
    device.close()


def test_modules_that_are_not_loaded(device: UInput) -> None:
    device.close()
    sh(
        "modprobe -r uinput\n"
        "for module in snd_virmidi snd_seq_virmidi snd_seq_midi snd_seq_midi_event snd_seq_dummy snd_seq; do\n"
        "  rmmod $module || true\ndone\n"
    )
    wait_for(lambda: not Path("/dev/uinput").exists(), "the module to be gone")
    assert not Path("/dev/snd/seq").exists()
    found = facts()
    assert found["sending keys"]["state"] == "missing"
    do_as_told(found, "sending keys", "MIDI")
    assert Path("/etc/modules-load.d/fenko.conf").read_text().split() == ["uinput", "snd-seq"]
    found = facts()
    assert [found[name]["state"] for name in ("sending keys", "MIDI")] == ["ready", "note"]
    do_as_told(found, "MIDI")  # the sequencer is there now, but not yet for everybody
    assert states("MIDI") == ["ready"]
