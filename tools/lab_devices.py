"""Plugs the demo's surfaces in (virtually, inside the kernel lab) and prints what a command shows on a terminal.

usage: lab_devices.py devices|learn|ready|watch
"""

import shutil
import sys
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).parent.parent
sys.path += [str(ROOT / "tests"), str(ROOT / "tests" / "kernel")]

from bench_devices import jog, key, keyboard, keypad, mouse, pad, wait_for
from evdev import UInput, ecodes

from terminal import Terminal

common = {"vendor": 0x1209, "bustype": ecodes.BUS_USB}
dial_events = {ecodes.EV_KEY: [ecodes.BTN_0], ecodes.EV_REL: [ecodes.REL_DIAL]}
thistle, tallow, burr, harrow = pad(), keypad(), mouse(), jog()
wren = UInput(dial_events, name="Wren dial", product=0x4D1A, **common)
knots = UInput(
    {ecodes.EV_KEY: list(range(ecodes.KEY_F13, ecodes.KEY_F22))}, name="Nine Knots", product=0x4D09, **common
)

if sys.argv[1] == "devices":
    terminal = Terminal("devices", columns=120)
    terminal.end(60)
    sys.stdout.write(terminal.shown.decode())
elif sys.argv[1] == "ready":
    # The pad may be read by nobody but root.
    for device in (tallow, *burr, harrow, wren, knots):
        Path(device.device.path).chmod(0o666)
    with Path("/etc/passwd").open("a") as users:
        users.write("animator:x:1500:1500::/tmp:/bin/sh\n")
    terminal = Terminal(
        "ready", columns=150, before=("env", "HOME=/tmp", "setpriv", "--reuid=1500", "--regid=1500", "--clear-groups")
    )
    terminal.end(60)
    sys.stdout.write(terminal.shown.decode())
elif sys.argv[1] == "learn":
    board = keyboard()
    bench = Path(tempfile.mkdtemp()) / "bench"
    shutil.copytree(ROOT / "src/fenko/data/demo", bench)
    terminal = Terminal("learn", "--profile", "frames", "--desk", "bench", columns=120, cwd=bench.parent)
    told = 0

    def says(text: str) -> None:
        global told
        wait_for(lambda: (terminal.pump(), text in terminal.shown.decode()[told:])[1], text)
        told += terminal.shown.decode()[told:].index(text) + len(text)

    def press(device: UInput, *codes: int) -> None:
        for value in (1, 0):
            for code in codes:
                key(device, code, value)
                time.sleep(0.05)

    def answer(*lines: str) -> None:
        for line in lines:
            says(": ")
            terminal.type(f"{line}\n".encode())

    says("stop): ")
    press(thistle, ecodes.BTN_MODE)
    says("(help): ")
    terminal.type(b"\n")
    says("perform it now")
    time.sleep(2)
    press(board, ecodes.KEY_LEFTCTRL, ecodes.KEY_E)
    says("label")
    answer("", "#009e73", "")
    says("stop): ")
    press(thistle, ecodes.BTN_NORTH, ecodes.BTN_TL)
    says("(help): ")
    terminal.type(b"?marker\n")
    says("(help): ")
    terminal.type(b"2\n")
    says("label")
    answer("", "", "")
    says("stop): ")
    key(tallow, ecodes.KEY_KP8, 1)
    says("hold")
    key(tallow, ecodes.KEY_KP8, 0)
    says("(help): ")
    terminal.type(b"ctrl+shfit+up\n")
    says("(help): ")
    terminal.type(b"ctrl+shift+up\n")
    says("label")
    answer("Layer up", "", "")
    says("stop): ")
    terminal.type(b"stop\n")
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
