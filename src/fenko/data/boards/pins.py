"""The bench box of the workshop: two buttons, a knob, an endless dial, a tilt sensor; a lamp in each button, a buzzer.

For MicroPython; the numbers are those of the pins."""

from machine import ADC, PWM, Pin

NAME = "bench-box Bench box"
HAS = ("red button", "green button", "knob fader 0 65535", "dial dial", "lean tilt -32768 32767")
CAN = ("lamp red", "lamp green", "tone")

_BUTTONS = {"red": Pin(2, Pin.IN, Pin.PULL_UP), "green": Pin(3, Pin.IN, Pin.PULL_UP)}
_LAMPS = {"red": Pin(4, Pin.OUT), "green": Pin(5, Pin.OUT)}
_DIAL = (Pin(6, Pin.IN, Pin.PULL_UP), Pin(7, Pin.IN, Pin.PULL_UP))
_KNOB, _ACROSS, _DOWN = ADC(26), ADC(27), ADC(28)
_BUZZER = PWM(Pin(8))
_QUARTERS = {(0, 1): 1, (1, 3): 1, (3, 2): 1, (2, 0): 1, (1, 0): -1, (3, 1): -1, (2, 3): -1, (0, 2): -1}
_GRAIN = 6  # bits of an analogue input that only tremble
_state = {"dial": 3, "turned": 0}


def _count(pin):
    """A quarter of a detent, at each edge of the dial's two switches."""
    at = _DIAL[0].value() << 1 | _DIAL[1].value()
    _state["turned"] += _QUARTERS.get((_state["dial"], at), 0)
    _state["dial"] = at


for _pin in _DIAL:
    _pin.irq(_count)


def read():
    detents = int(_state["turned"] / 4)
    _state["turned"] -= detents * 4
    knob, across, down = ((one.read_u16() >> _GRAIN) << _GRAIN for one in (_KNOB, _ACROSS, _DOWN))
    return {
        "red": str(1 - _BUTTONS["red"].value()),
        "green": str(1 - _BUTTONS["green"].value()),
        "knob": str(knob),
        "dial": str(detents),
        "lean": f"{across - 32768} {down - 32768}",
    }


def do(words):
    if words[0] == "lamp" and words[1] in _LAMPS:
        _LAMPS[words[1]].value(words[2] != "off")
    elif words[0] == "tone":
        _BUZZER.freq(int(words[1]))
        _BUZZER.duty_u16(32768 if int(words[2]) else 0)
    elif words[0] == "rest":
        for lamp in _LAMPS.values():
            lamp.value(0)
        _BUZZER.duty_u16(0)
