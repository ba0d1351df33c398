"""Strategies for property tests: desks, hands on them, and a witness who keeps track of what is down."""

from __future__ import annotations

import unicodedata
from collections.abc import Iterable
from typing import Any

from hypothesis import strategies as st

from fenko.core.backlog import queued_as
from fenko.core.changes import FOCUS, KEYBOARD, PLUG, UNPLUG, Change, Effect
from fenko.core.circumstances import Condition, Focus
from fenko.core.keys import NAMED_KEYS
from fenko.core.patterns import compile_pattern
from fenko.core.phrase import Phrase, parse_phrase
from fenko.core.plan import BASE, Binding, Cell, Level, Plan, Surface, Timing
from fenko.core.plan import Layer as Layered
from fenko.core.plan import Profile as Profiled
from fenko.core.registration import Said
from fenko.core.steps import Item
from fenko.core.value import Value
from fenko.core.verbs import HELD, TARGETS, VERB_OF

SURFACES = {
    "pad": Surface("pad", "gamepad"),
    "keys": Surface("keys", "keypad", passes=True),
    "mouse": Surface("mouse", "mouse", passes=True),
    "dial": Surface("dial", "dial"),
    "old": Surface("old", "gamepad", debounce=0.02),
}
CELLS = ["pad.south", "pad.east", "pad.north", "pad.trigger-right", "pad.hat.left", "pad.hat.right", "keys.kp1",
         "keys.kp2", "mouse.left", "mouse.side", "dial.dial.left", "dial.dial.right", "pad.north+south", "pad.east+south",
         "pad.east+north+south", "pad.trigger-right.half", "pad.trigger-right.full", "pad.hat.up-left",
         "pad.south-touch", "keys.kp1-x2", "keys.kp1-x3", "old.south"]  # fmt: skip
VALUES = {
    ("value", name): Value(name, -10, 10, start=1, step=step) for name, step in (("exposure", 0.5), ("zoom", 0.0))
} | {item: TARGETS[item[0]].value(item[1], {}) for item in (("audio", "output"), ("midi", "cc 7 1 fenko"))}
DRIVEN = {
    "pad.stick-left": ["pointer 900", "scroll 20"],
    "pad.stick-left.x": ["value zoom rate 5", "value exposure follow"],
    "pad.stick-left.up": ["scroll 20", "value zoom rate 30%"],
    "pad.hat": ["pointer 300"],
    "pad.trigger-right": ["value exposure follow 10 to -10", "value zoom follow pick-up", "scroll 5"],
    "mouse.motion": ["pointer x0.5", "scroll x0.1"],
}
LAYERS = ["trim", "coarse"]
WHILES = [(), ("shift",), ("pad.east",), ("shift", "pad.trigger-right")]
APPS = ["snipwell", "hushdesk", "beamcart"]
PROFILES = [BASE, *APPS]

command_words = st.one_of(
    st.sampled_from(["Split", "all", "then", "x3", "every", '"', "'quoted'", "then,", "\\"]),
    st.text(st.characters(categories=["L", "N", "P", "S"]), min_size=1, max_size=5),
)
"""Words of commands, also those that mean something in phrases."""

key_names = st.one_of(
    st.sampled_from(["ctrl", "shift", "alt", "a", "b", "z"]),
    st.sampled_from(sorted(NAMED_KEYS)),
    st.characters(categories=["Ll", "Lo", "Nd", "Sm"], exclude_characters="+").filter(
        lambda c: c.lower() == c and unicodedata.normalize("NFC", c) == c  # the one spelling of a key
    ),
)
few_keys = st.sampled_from(["ctrl", "shift", "a", "b"])


def steps(keys: st.SearchStrategy[str], profiles: Iterable[str]) -> st.SearchStrategy[Said]:
    """Any step of the language: every verb and form that is registered, with arguments of its own samples and more."""
    some_keys = st.lists(keys, min_size=1, max_size=3, unique=True).map(tuple)
    more: dict[str, st.SearchStrategy[Any]] = {
        "KEYS": some_keys | some_keys.map(lambda found: (*found[:2], "button left")),
        "COMMAND": st.lists(command_words, min_size=1, max_size=4).map(" ".join),
        "[xN]": st.integers(1, 999),
        "[every TIME]": st.none() | st.integers(5, 400).map(lambda ms: ms / 1000),
        "TIME": st.integers(1, 400).map(lambda ms: ms / 1000),
        '"TEXT"': st.text(st.characters(categories=["L", "N", "P", "S"]), min_size=1, max_size=8),
        "NAME|next|previous|auto": st.sampled_from([*profiles, "next", "previous", "auto"]),
    }
    return st.one_of(
        [
            st.builds(
                verb.said,
                *(st.sampled_from(one.samples) | more.get(one.word, st.nothing()) for one in verb.arguments),
            )
            for verb in VERB_OF.values()
        ]
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
        "a then pause then b", "nothing", "a every 30ms", "b x3 every 20ms", "tap ctrl+a", "toggle shift", "toggle b then a",
        "layer trim", "layer coarse", "layer trim locked", "layer coarse once", "a then layer trim", "button left",
        "ctrl+button right x2", "wait 30ms then layer trim", "press shift then a x2 then lift shift then b",
        "press ctrl+b then wait 40ms then lift b then wait 40ms", "press a", "lift a then press a then pause",
        "value exposure by +3", "value zoom to 50% then a", "pointer left 3", "midi note c4", "midi note e4 velocity follow then a",
        "volume by +5%", "midi cc 7 to 100 then b",
    )
]  # fmt: skip
_GESTURES = [("press",), ("press",), ("tap",), ("hold",), ("press", "hold"), ("tap", "hold"), ("press", "release"),
             ("press", "release", "tap", "hold"), ("double",), ("tap", "double"), ("tap", "double", "triple"),
             ("tap", "triple", "hold"), ("press", "double", "hold", "release"), ()]  # fmt: skip


def _binding(draw: st.DrawFn) -> Binding:
    others = draw(st.lists(st.sampled_from(_POOL), max_size=2)) if draw(st.integers(0, 5)) == 0 else []
    return Binding(
        draw(st.sampled_from(_POOL)), others=tuple(others), at_random=draw(st.booleans()), states=("on", "off"),
        group=draw(st.sampled_from([None, None, None, "view"])),
    )  # fmt: skip


def _cell(draw: st.DrawFn, address: str, profile: str) -> Cell:
    if address.startswith("dial"):
        gestures: tuple[str, ...] = draw(st.sampled_from([("press",), ("press",), ("press", "fast"), ("fast",)]))
    else:
        gestures = draw(st.sampled_from(_GESTURES))
    surface, _, control = address.partition(".")
    members = tuple(f"{surface}.{one}" for one in control.split("+")) if "+" in control else ()
    timing = draw(st.sampled_from([None, None, None, Timing(hold=0.1, double=0.1, stroke=0.02, chord=0.03)]))
    bindings: dict[str, Any] = {gesture: _binding(draw) for gesture in gestures}
    return Cell(address, profile, timing=timing, members=members, **bindings)


def _level(draw: st.DrawFn, name: str, most: int = 6) -> Level:
    controls: dict[str, tuple[Cell, ...]] = {}
    for address in draw(st.lists(st.sampled_from(CELLS), unique=True, max_size=most)):
        surface, control, *_ = address.split(".")
        whole = f"{surface}.{control}"
        controls[whole] = (*controls.get(whole, ()), _cell(draw, address, name))
    for address in draw(st.lists(st.sampled_from(sorted(DRIVEN)), unique=True, max_size=2)):
        whole = ".".join(address.split(".")[:2])
        cell = Cell(address, name, move=Binding(parse_phrase(draw(st.sampled_from(DRIVEN[address])))))
        controls[whole] = (cell, *(one for one in controls.get(whole, ()) if one.move and "." in address[len(whole) :]))
    return Level(name, controls)


@st.composite
def plans(draw: st.DrawFn) -> Plan:
    """A plan with a profile for each app over base."""
    levels = {profile: _level(draw, profile) for profile in PROFILES}
    layers = {
        layer: Layered((_level(draw, layer, 3),), draw(st.sampled_from(WHILES)))
        for layer in draw(st.lists(st.sampled_from(LAYERS), unique=True))
    }
    watched = frozenset(held for layer in layers.values() for held in layer.held if "." in held)
    compiled = {}
    for profile in PROFILES:
        conditions = [] if profile == BASE else [Condition({"app": (compile_pattern(profile),)})]
        chain = [levels[BASE]] if profile == BASE else [levels[BASE], levels[profile]]
        own = layers if profile != "beamcart" else {}
        compiled[profile] = Profiled(profile, tuple(conditions), tuple(chain), own)
    return Plan(SURFACES, compiled, Timing(hold=0.2, stroke=0.01), watched, VALUES)


_BUTTONS = ["pad.south", "pad.east", "pad.north", "pad.hat.left", "keys.kp1", "keys.kp2", "keys.kp9", "mouse.left",
            "mouse.side", "mouse.middle", "pad.south-touch", "pad.hat.up", "old.south"]  # fmt: skip
_happenings = st.one_of(
    st.tuples(st.sampled_from(_BUTTONS), st.sampled_from([0, 1])),
    st.tuples(st.sampled_from(_BUTTONS[:4]), st.sampled_from([0, 1])),
    st.tuples(st.just("pad.trigger-right"), st.sampled_from([0, 0.3, 0.45, 0.5, 0.7, 0.9, 1])),
    st.tuples(
        st.sampled_from(["pad.hat.x", "pad.hat.y", "pad.stick-left.x", "pad.stick-left.y"]),
        st.sampled_from([-1, -0.45, 0, 0.05, 0.45, 1]),
    ),
    st.tuples(st.just("dial.dial"), st.sampled_from([-2, -1, -0.5, 0.5, 1, 3])),
    st.tuples(st.sampled_from(["mouse.wheel", "mouse.motion.x"]), st.sampled_from([-1, 0.25, 2])),
    st.tuples(st.just(FOCUS), st.sampled_from([Focus(app) for app in [*APPS, "other"]])),
    st.tuples(st.sampled_from([UNPLUG, PLUG]), st.sampled_from(sorted(SURFACES))),
    st.tuples(st.just(KEYBOARD), st.sampled_from([(), ("shift",), ("rightshift",)])),
)
# Gaps on, just under and just over the times that matter, and anything in between.
_gaps = st.sampled_from(
    [0.0, 0.001, 0.009, 0.01, 0.011, 0.02, 0.039, 0.04, 0.041, 0.06, 0.1, 0.199, 0.2, 0.201, 0.25, 1.0]
)


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
    axes = ["pad.trigger-right", "pad.hat.x", "pad.hat.y", "pad.stick-left.x", "pad.stick-left.y"]
    return [(t, address, 0) for address in [*_BUTTONS, *axes]]


def kept_apart(items: Iterable[Item]) -> set[Any]:
    """What is held, each as the other end tells it from what else is held there."""
    effects = [(out, (0.0, out, *HELD[out].begins(name)), name) for out, name in items]
    return {
        (out, queued.key if (queued := queued_as(effect)).how == "begin" else name) for out, effect, name in effects
    }


class Witness:
    """Sees every effect and objects to what no keyboard could do."""

    def __init__(self) -> None:
        self.down: set[Any] = set()
        self.up_at: dict[Any, float] = {}
        self.t = 0.0

    def see(self, effects: Iterable[Effect]) -> None:
        """Takes note of effects."""
        for t, out, act, *values in effects:
            assert t >= self.t, "effects come in order of time"
            self.t = t
            queued = queued_as((t, out, act, *values))
            if queued.how == "begin" and out != "sound":
                self.down.add((out, queued.key))
            elif queued.how == "end":
                self.down.discard((out, queued.key))
            elif act == "down":
                assert (out, values[0]) not in self.down, f"{values[0]} went down twice"
                assert t >= round(self.up_at.get((out, values[0]), -1.0) + 0.002, 6), (
                    f"{values[0]} went down again at once"
                )
                self.down.add((out, values[0]))
            elif act == "up":
                assert (out, values[0]) in self.down, f"{values[0]} came up without having been down"
                self.down.remove((out, values[0]))
                self.up_at[out, values[0]] = t
