"""A surface that a profile leaves to the program: who sees its keys, on a real kernel."""

from __future__ import annotations

from pathlib import Path

from bench_devices import FenkoRun, Reader, key, keypad, pad, wait_for
from evdev import ecodes as e

LEAVING = """
format = 1
[output]
keys = "kernel"
layout = "us"
[surface.pad]
kind = "gamepad"
links = ["usb 1209:4d50", "usb 1209:4d51"]
[surface.keypad]
kind = "keypad"
links = ["usb 1209:4d17"]
[profile.base.on.pad]
south = "ctrl+z"
east = "a"
[profile.base.on.keypad]
kp9 = "profile game"
[profile.game]
leaves = ["pad"]
[profile.game.on.pad]
select = "profile auto"
"""


def test_a_surface_is_left_to_the_program_and_taken_over_again(tmp_path: Path) -> None:
    """Its keys reach others while the profile is active, held over both changes, and Fenko sends nothing for them."""
    folder = tmp_path / "desk"
    folder.mkdir()
    (folder / "desk.toml").write_text(LEAVING)
    thistle, tallow = pad(), keypad()
    run = FenkoRun(folder, tmp_path / "log")
    try:
        run.says("is running")
        run.says("taken over", 2)
        keys, other = Reader("Fenko keys"), Reader("Thistle pad")
        key(thistle, e.BTN_SOUTH, 1)
        assert keys.events(2) == [(e.KEY_LEFTCTRL, 1), (e.KEY_Z, 1)]
        key(tallow, e.KEY_KP9, 1)
        key(tallow, e.KEY_KP9, 0)
        run.says("left to the program: pad")
        key(thistle, e.BTN_SOUTH, 0)
        assert keys.events(2) == [(e.KEY_Z, 0), (e.KEY_LEFTCTRL, 0)]
        assert other.events(1) == [(e.BTN_SOUTH, 0)]
        key(thistle, e.BTN_EAST, 1)
        assert other.events(1) == [(e.BTN_EAST, 1)]
        assert keys.silent()
        # Its own binding leads back; what is held then is the program's until it is let go.
        key(thistle, e.BTN_SELECT, 1)
        key(thistle, e.BTN_SELECT, 0)
        run.says("profile: base")
        key(thistle, e.BTN_EAST, 0)
        wait_for(lambda: (e.BTN_EAST, 0) in other.events(3), "the program sees it let go")

        def is_fenkos() -> bool:
            """A tap that comes before it was taken over is the program's too."""
            key(thistle, e.BTN_EAST, 1)
            key(thistle, e.BTN_EAST, 0)
            return not keys.silent(0.5)

        wait_for(is_fenkos, "it is taken over again")
        other.drain()
        keys.drain()
        key(thistle, e.BTN_EAST, 1)
        key(thistle, e.BTN_EAST, 0)
        assert keys.events(2) == [(e.KEY_A, 1), (e.KEY_A, 0)]
        assert other.silent()
    finally:
        run.process.kill()
        thistle.close()
        tallow.close()
