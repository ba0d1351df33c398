"""The whole way at once: a real device, the kernel, Fenko, a real X server, and the program in front."""

from __future__ import annotations

from pathlib import Path

import pytest
from bench_devices import FenkoRun, key, mouse, pad
from evdev import ecodes as e

from screen import needs_screen, screen
from support import wait_for

pytestmark = [pytest.mark.long, needs_screen]

DESK = """
[surface.pad]
kind = "gamepad"
links = ["usb 1209:4d50"]
[surface.mouse]
kind = "mouse"
links = ["usb 1209:4d12"]
[profile.frames]
when = { app = "snipwell" }
[profile.frames.on.pad]
south = { do = 'type "frames ✓" then enter', label = "Name the reel" }
[profile.sound]
when = { app = "hushdesk" }
[profile.sound.on.pad]
south = "s then enter"
east = "shift"
"""


@pytest.mark.parametrize("ends", ["unplugged", "killed"])
def test_a_press_on_a_real_device_is_the_right_shortcut_in_the_window_in_front(tmp_path: Path, ends: str) -> None:
    (tmp_path / "desk.toml").write_text(DESK)
    thistle, (burr, side) = pad(), mouse()
    with screen() as one:
        files = tmp_path / "frames", tmp_path / "sound"
        windows = [one.terminal(app, "x", file) for app, file in zip(("Snipwell", "Hushdesk"), files, strict=True)]
        one.raise_window(windows[0])  # so that Fenko has not yet said a word of the second one
        run = FenkoRun(tmp_path, tmp_path / "log", environment=one.environment)
        try:
            run.says("is running")
            run.says("output: the X server")
            for window, file, profile, text in zip(windows, files, ("frames", "sound"), ("frames ✓", "s"), strict=True):
                one.raise_window(window)
                run.says(f"profile: {profile}")
                key(thistle, e.BTN_SOUTH, 1)
                key(thistle, e.BTN_SOUTH, 0)
                wait_for(lambda file=file: file.exists() and file.read_text(), f"text in {file}")
                assert file.read_text() == text + "\n"
            before = one.ask("xdotool", "getmouselocation").stdout
            burr.write(e.EV_REL, e.REL_X, 40)
            burr.syn()
            wait_for(lambda: one.ask("xdotool", "getmouselocation").stdout != before, "the pointer to move")
            key(thistle, e.BTN_EAST, 1)
            wait_for(lambda: one.keys_down() == [50], "Shift to be down")
            if ends == "unplugged":
                thistle.close()
            else:
                run.process.kill()
            wait_for(lambda: not one.keys_down(), "nothing to be down")
        finally:
            run.process.kill()
    for device in (thistle, burr, side):
        device.close()
