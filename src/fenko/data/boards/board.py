"""A board for Fenko, in MicroPython: says what it is, what hands do, and takes lamps, tones and text (docs/boards.md).

What is on the board stands in `pins.py` beside it: NAME, HAS and CAN, `read()`, which tells of each control what its line says
("1", "512", "100 -20", or detents since the last time for what turns), and `do(words)`, which carries out what it is told."""

import sys

import pins

try:
    from select import POLLIN, poll
except ImportError:
    from uselect import POLLIN, poll

TURNS = ("dial", "wheel", "tilt-wheel")
EVERY_MS = 5  # how often the controls are looked at


def say(*words):
    sys.stdout.write(" ".join(words) + "\n")
    if hasattr(sys.stdout, "flush"):
        sys.stdout.flush()


def introduce():
    """Says what it is, and how everything stands; what hands do comes behind `ready`."""
    say("board", "1", pins.NAME)
    for control in pins.HAS:
        say("has", control)
    for answer in pins.CAN:
        say("can", answer)
    say("can", "alive")
    now = tell({})
    say("ready")
    return now


def tell(before):
    """Says what is different from before."""
    now = pins.read()
    for control in pins.HAS:
        name, sort = control.split()[:2]
        value = now.get(name, "0")
        if sort not in TURNS:
            if value != before.get(name):
                say("is", name, value)
        elif value != "0":
            say("turned", name, value)
    return now


def main():
    line = ""
    before = introduce()
    asked = poll()
    asked.register(sys.stdin, POLLIN)
    while True:
        while asked.poll(EVERY_MS):
            letter = sys.stdin.read(1)
            if not letter:
                return  # nobody is there any more
            if letter != "\n":
                line = (line + letter)[-120:]
                continue
            words, line = line.split(), ""
            if words[:1] == ["fenko"]:
                before = introduce()
            elif words == ["alive"]:
                say("alive")
            elif words:
                pins.do(words)
        before = tell(before)


if __name__ == "__main__":
    main()
