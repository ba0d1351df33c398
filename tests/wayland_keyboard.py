"""A person's keyboard: LAYOUT GROUP, then a line for each set of key codes. It is made, where the compositor lets programs make
some; else its only one is moved."""

import sys
import time

from fenko.system.wayland import Wayland, memory_with
from fenko.system.xkb import KeyboardMap

line = Wayland()
seat, keyboards = line.bind("wl_seat", 5), line.bind("zwp_virtual_keyboard_manager_v1", 1)
assert seat is not None
if keyboards is not None:
    keymap = KeyboardMap.named(sys.argv[1], "")
    text = keymap.text + b"\0"
    keyboard = keyboards.tell("create_virtual_keyboard", seat)
    keyboard.tell("keymap", 1, memory_with(text), len(text))
    group = int(sys.argv[2])
    keyboard.tell("modifiers", 0, 0, 0, group)
    pointers = line.bind("zwlr_virtual_pointer_manager_v1", 1)
    assert pointers is not None
    mouse = pointers.tell("create_virtual_pointer", seat)  # a person has one of these too
else:
    fake = line.bind("org_kde_kwin_fake_input", 4)
    assert fake is not None
    fake.tell("authenticate", "test", "test")


def move(code: int, down: bool) -> None:
    if keyboards is None:
        fake.tell("keyboard_key", code - 8, int(down))
        return
    keyboard.tell("key", int(time.monotonic() * 1000), code - 8, int(down))
    if code - 8 in keymap.modifiers:
        keyboard.tell("modifiers", *keymap.moved(code - 8, down)[:3], group)


for codes in sys.stdin:
    for word in codes.split():  # struck together with `+` between them
        together = [int(code) for code in word.split("+")]
        for code in together:
            move(code, True)
        for code in reversed(together):
            move(code, False)
    line.settle()
    print("done", flush=True)
