"""Strategies for property tests: desks, hands on them, and a witness who keeps track of what is down."""

from __future__ import annotations

import unicodedata
from collections.abc import Iterable
from typing import Any

from hypothesis import strategies as st

from fenko.core.changes import FOCUS, KEYBOARD, PLUG, UNPLUG, Change, Effect
from fenko.core.keys import NAMED_KEYS
from fenko.core.phrase import Keys, Nothing, Pause, Phrase, Profile, Step, Type, Wait, parse_phrase
from fenko.core.plan import (
    BASE,
    Binding,
    Cell,
    Condition,
    Focus,
    Level,
    Plan,
    Surface,
    Timing,
    compile_pattern,
    compile_profile,
)

SURFACES = {
    "pad": Surface("pad", "gamepad"),
    "keys": Surface("keys", "keypad", passes=True),
    "mouse": Surface("mouse", "mouse", passes=True),
    "dial": Surface("dial", "dial"),
}
CELLS = ["pad.south", "pad.east", "pad.north", "pad.trigger-right", "pad.hat.left", "pad.hat.right", "keys.kp1",
         "keys.kp2", "mouse.left", "mouse.side", "dial.dial.left", "dial.dial.right"]  # fmt: skip
APPS = ["snipwell", "hushdesk", "beamcart"]
PROFILES = [BASE, *APPS]

key_names = st.one_of(
    st.sampled_from(["ctrl", "shift", "alt", "a", "b", "z"]),
    st.sampled_from(sorted(NAMED_KEYS)),
    st.characters(categories=["Ll", "Lo", "Nd", "Sm"], exclude_characters="+").filter(
        lambda c: c.lower() == c and unicodedata.normalize("NFC", c) == c  # the one spelling of a key
    ),
)
few_keys = st.sampled_from(["ctrl", "shift", "a", "b"])


def steps(keys: st.SearchStrategy[str], profiles: Iterable[str]) -> st.SearchStrategy[Step]:
    """Any step of the language."""
    return st.one_of(
        st.builds(Keys, st.lists(keys, min_size=1, max_size=3, unique=True).map(tuple), st.integers(1, 4)),
        st.builds(Keys, st.lists(keys, min_size=1, max_size=3, unique=True).map(tuple)),
        st.builds(Wait, st.integers(1, 400).map(lambda ms: ms / 1000)),
        st.builds(Type, st.text(st.characters(categories=["L", "N", "P", "S"]), min_size=1, max_size=8)),
        st.builds(Profile, st.sampled_from([*profiles, "next", "previous", "auto"])),
        st.just(Pause()),
        st.just(Nothing()),
    )


def phrases(keys: st.SearchStrategy[str] = few_keys, profiles: Iterable[str] = PROFILES) -> st.SearchStrategy[Phrase]:
    """Phrases of one to four steps."""
    return st.builds(Phrase, st.lists(steps(keys, profiles), min_size=1, max_size=4).map(tuple))


# Enough of the language to get into each other's way, few enough to be drawn fast.
_POOL = [
    parse_phrase(text)
    for text in (
        "a", "a", "b", "ctrl", "ctrl+a", "shift+a", "ctrl+shift+b", "a x3", "a then b", "ctrl+a then wait 50ms then b",
        "wait 10ms then a", 'type "x" then a', "profile next", "profile auto", "profile hushdesk then a", "pause",
        "a then pause then b", "nothing",
    )
]  # fmt: skip
_GESTURES = [("press",), ("press",), ("tap",), ("hold",), ("press", "hold"), ("tap", "hold"), ("press", "release"),
             ("press", "release", "tap", "hold"), ()]  # fmt: skip


def _cell(draw: st.DrawFn, address: str, profile: str) -> Cell:
    gestures = ("press",) if address.startswith("dial") else draw(st.sampled_from(_GESTURES))
    return Cell(address, profile, **{gesture: Binding(draw(st.sampled_from(_POOL))) for gesture in gestures})


@st.composite
def plans(draw: st.DrawFn) -> Plan:
    """A plan with a profile for each app over base."""
    levels = {}
    for profile in PROFILES:
        controls: dict[str, tuple[Cell, ...]] = {}
        for address in draw(st.lists(st.sampled_from(CELLS), unique=True, max_size=6)):
            surface, control, *_ = address.split(".")
            whole = f"{surface}.{control}"
            controls[whole] = (*controls.get(whole, ()), _cell(draw, address, profile))
        levels[profile] = Level(profile, controls)
    compiled = {}
    for profile in PROFILES:
        conditions = [] if profile == BASE else [Condition({"app": (compile_pattern(profile),)})]
        chain = [levels[BASE]] if profile == BASE else [levels[BASE], levels[profile]]
        compiled[profile] = compile_profile(profile, conditions, chain, SURFACES)
    return Plan(SURFACES, compiled, Timing(hold=0.2, stroke=0.01))


_BUTTONS = ["pad.south", "pad.east", "pad.north", "pad.hat.left", "keys.kp1", "keys.kp2", "keys.kp9", "mouse.left",
            "mouse.side", "mouse.middle"]  # fmt: skip
_happenings = st.one_of(
    st.tuples(st.sampled_from(_BUTTONS), st.sampled_from([0, 1])),
    st.tuples(st.sampled_from(_BUTTONS[:4]), st.sampled_from([0, 1])),
    st.tuples(st.just("pad.trigger-right"), st.sampled_from([0, 0.3, 0.45, 0.5, 0.7, 1])),
    st.tuples(st.sampled_from(["pad.hat.x", "pad.stick-left.y"]), st.sampled_from([-1, -0.45, 0, 0.45, 1])),
    st.tuples(st.just("dial.dial"), st.sampled_from([-2, -1, -0.5, 0.5, 1, 3])),
    st.tuples(st.sampled_from(["mouse.wheel", "mouse.motion.x"]), st.sampled_from([-1, 0.25, 2])),
    st.tuples(st.just(FOCUS), st.sampled_from([Focus(app) for app in [*APPS, "other"]])),
    st.tuples(st.sampled_from([UNPLUG, PLUG]), st.sampled_from(sorted(SURFACES))),
    st.tuples(st.just(KEYBOARD), st.just(("shift",))),
)
# Gaps on, just under and just over the times that matter, and anything in between.
_gaps = st.sampled_from([0.0, 0.001, 0.009, 0.01, 0.011, 0.05, 0.199, 0.2, 0.201, 1.0])


@st.composite
def performances(draw: st.DrawFn) -> list[Change]:
    """Anything that hands and windows can do, in order of time."""
    changes = []
    t = 0.0
    for (address, value), gap in draw(st.lists(st.tuples(_happenings, _gaps), max_size=40)):
        t = round(t + gap, 6)
        changes.append((t, address, value))
    return changes


def at_rest(t: float) -> list[Change]:
    """All controls let go."""
    return [(t, address, 0) for address in [*_BUTTONS, "pad.trigger-right", "pad.hat.x", "pad.stick-left.y"]]


class Witness:
    """Sees every effect and objects to what no keyboard could do."""

    def __init__(self) -> None:
        self.down: set[Any] = set()
        self.t = 0.0

    def see(self, effects: Iterable[Effect]) -> None:
        """Takes note of effects."""
        for t, out, act, *values in effects:
            assert t >= self.t, "effects come in order of time"
            self.t = t
            if act == "down":
                assert (out, values[0]) not in self.down, f"{values[0]} went down twice"
                self.down.add((out, values[0]))
            elif act == "up":
                assert (out, values[0]) in self.down, f"{values[0]} came up without having been down"
                self.down.remove((out, values[0]))
