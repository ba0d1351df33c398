"""Plugs the demo's surfaces in (virtually, inside the emulated machine) and runs `fenko devices` on a pretended terminal."""

import pty
import sys
from pathlib import Path

TESTS = Path(__file__).parent.parent / "tests"
sys.path += [str(TESTS), str(TESTS / "kernel")]

from bench_devices import keypad, mouse, pad
from evdev import UInput, ecodes

common = {"vendor": 0x1209, "bustype": ecodes.BUS_USB}
plugged_in = [
    pad(),
    keypad(),
    *mouse(),
    UInput(
        {ecodes.EV_KEY: [ecodes.BTN_0], ecodes.EV_REL: [ecodes.REL_DIAL]}, name="Wren dial", product=0x4D1A, **common
    ),
    UInput({ecodes.EV_KEY: list(range(ecodes.KEY_F13, ecodes.KEY_F22))}, name="Nine Knots", product=0x4D09, **common),
]
pty.spawn([str(Path(sys.executable).parent / "fenko"), "devices"])
