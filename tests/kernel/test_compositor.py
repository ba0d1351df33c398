"""A compositor that offers nothing, and reads the kernel's devices as any does: keys go to its programs through the kernel."""

from __future__ import annotations

import os
import pwd
import shutil
import subprocess
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from bench_devices import FenkoRun, key, pad
from evdev import ecodes as e

from support import wait_for

pytestmark = pytest.mark.long

DESK = """
[surface.pad]
kind = "gamepad"
links = ["usb 1209:4d50"]
[profile.base.on.pad]
# No more events than the kernel keeps for a compositor that does not come to them.
south = 'type "abc" then ctrl+u then wait 50ms then type "it, ~1%" then enter'
east = "enter"
"""
UDEVD = "/lib/systemd/systemd-udevd"


@pytest.fixture
def compositor() -> Iterator[tuple[Path, subprocess.Popen[bytes]]]:
    """Cage with a terminal, for a person who is not root, with a seat; and the folder of that session."""
    for command in ("cage", "foot", "seatd"):
        if shutil.which(command) is None:
            pytest.skip(f"needs {command}")
    Path("/run/udev").mkdir(exist_ok=True)
    environment = os.environ | {"SYSTEMD_IGNORE_CHROOT": "1", "SEATD_VTBOUND": "0"}  # there are no virtual terminals
    subprocess.run([UDEVD, "--daemon"], env=environment, check=True, capture_output=True)
    subprocess.run(["udevadm", "trigger", "--settle"], env=environment, check=True)
    nobody = pwd.getpwnam("nobody")
    folder = Path(tempfile.mkdtemp(prefix="fenko-"))
    os.chown(folder, nobody.pw_uid, nobody.pw_gid)
    seat = subprocess.Popen(
        ["seatd", "-u", "nobody"], env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    wait_for(Path("/run/seatd.sock").exists, "the seat")
    session = environment | {
        "XDG_RUNTIME_DIR": str(folder), "HOME": str(folder), "LIBSEAT_BACKEND": "seatd", "LC_ALL": "C.UTF-8",
        "WLR_BACKENDS": "headless,libinput", "WLR_RENDERER": "pixman", "WLR_LIBINPUT_NO_DEVICES": "1",
    }  # fmt: skip
    user = ["setpriv", "--reuid", str(nobody.pw_uid), "--regid", str(nobody.pw_gid), "--clear-groups"]
    reads = f'touch {folder}/listens; while IFS= read -r line; do echo "$line" >> {folder}/typed; done'
    with (folder / "log").open("wb") as log:
        cage = subprocess.Popen(
            [*user, "cage", "--", "foot", "bash", "-c", reads],
            env=session,
            stdout=log,
            stderr=log,
            start_new_session=True,
        )
    wait_for((folder / "listens").exists, "the terminal", 120)
    yield folder, cage
    for process in (cage, seat):
        process.kill()
        process.wait()
    subprocess.run(["udevadm", "control", "--exit"], check=False)
    shutil.rmtree(folder, ignore_errors=True)


def test_the_kernels_way_works_there(compositor: tuple[Path, subprocess.Popen[bytes]], tmp_path: Path) -> None:
    folder, cage = compositor
    (tmp_path / "desk.toml").write_text(DESK)
    device = pad()
    socket = next(place for place in folder.glob("wayland-?") if place.is_socket())
    environment = {name: value for name, value in os.environ.items() if name != "DISPLAY"}
    environment |= {"XDG_RUNTIME_DIR": str(folder), "WAYLAND_DISPLAY": socket.name}
    run = FenkoRun(tmp_path, tmp_path / "log", environment=environment)
    run.says("taken over")
    run.says("because the compositor of wayland-0 lets nobody send keys")
    typed = folder / "typed"

    def heard() -> bool:
        """Whether the terminal has a line: what is struck before it has its keyboard is lost, whoever strikes it."""
        key(device, e.BTN_EAST, 1)
        key(device, e.BTN_EAST, 0)
        time.sleep(0.2)  # as a hand does
        return typed.exists()

    wait_for(heard, "the terminal to hear the new keyboard", 60)
    key(device, e.BTN_SOUTH, 1)
    key(device, e.BTN_SOUTH, 0)
    wait_for(lambda: typed.read_text().strip(), "what was typed", 60)
    assert typed.read_text().strip("\n").splitlines() == ["it, ~1%"]  # and Ctrl+U has taken away what came before
    assert cage.poll() is None
    assert run.end() == 0
    device.close()
