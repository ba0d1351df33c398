"""A keyboard that a person has, on a compositor that lets programs make some: LAYOUT GROUP, then a line for each set of key codes."""

import sys
import time

from fenko.system.wayland import Wayland, memory_with
from fenko.system.xkb import KeyboardMap

line = Wayland()
seat, keyboards = line.bind("wl_seat", 5), line.bind("zwp_virtual_keyboard_manager_v1", 1)
assert seat is not None and keyboards is not None
keymap = KeyboardMap.named(sys.argv[1], "")
text = keymap.text + b"\0"
keyboard = keyboards.tell("create_virtual_keyboard", seat)
keyboard.tell("keymap", 1, memory_with(text), len(text))
group = int(sys.argv[2])
keyboard.tell("modifiers", 0, 0, 0, group)
for codes in sys.stdin:
    for code in map(int, codes.split()):
        for down in (True, False):
            keyboard.tell("key", int(time.monotonic() * 1000), code - 8, int(down))
            if code - 8 in keymap.modifiers:
                keyboard.tell("modifiers", *keymap.moved(code - 8, down)[:3], group)
    line.settle()
    print("done", flush=True)
