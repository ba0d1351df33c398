"""Plugs the demo's surfaces in (virtually, inside the emulated machine) and prints what a command shows on a terminal.

usage: lab_devices.py devices|watch
"""

import sys
import time
from pathlib import Path

ROOT = Path(__file__).parent.parent
sys.path += [str(ROOT / "tests"), str(ROOT / "tests" / "kernel")]

from bench_devices import key, keypad, mouse, pad
from evdev import UInput, ecodes

from terminal import Terminal

common = {"vendor": 0x1209, "bustype": ecodes.BUS_USB}
dial_events = {ecodes.EV_KEY: [ecodes.BTN_0], ecodes.EV_REL: [ecodes.REL_DIAL]}
thistle, tallow, burr = pad(), keypad(), mouse()
wren = UInput(dial_events, name="Wren dial", product=0x4D1A, **common)
knots = UInput(
    {ecodes.EV_KEY: list(range(ecodes.KEY_F13, ecodes.KEY_F22))}, name="Nine Knots", product=0x4D09, **common
)

if sys.argv[1] == "devices":
    terminal = Terminal("devices")
    terminal.end(60)
    sys.stdout.write(terminal.shown.decode())
else:
    demo = ROOT / "src/fenko/data/demo"
    terminal = Terminal("watch", "pad", "mouse", "dial", "--desk", str(demo), columns=138, lines=46)
    terminal.shows("dial (dial)", 60)
    for code, value in ((ecodes.ABS_X, -20000), (ecodes.ABS_RZ, 160)):
        thistle.write(ecodes.EV_ABS, code, value)
        thistle.syn()
    key(thistle, ecodes.BTN_EAST, 1)
    key(thistle, ecodes.BTN_EAST, 0)
    time.sleep(2)
    key(thistle, ecodes.BTN_SOUTH, 1)
    for _ in range(4):
        wren.write(ecodes.EV_REL, ecodes.REL_DIAL, 1)
        wren.syn()
    terminal.shows("+4 detents", 60)
    picture = terminal.shown.decode().split("\x1b[H")[-1].split("\x1b[J")[0]
    sys.stdout.write(picture.replace("\r", ""))
    terminal.type(b"q")
    terminal.end(60)
