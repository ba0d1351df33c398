"""What is in force: profiles, layers, pause, and nothing at all."""

from __future__ import annotations

from fenko.core import steps
from fenko.core.reader import NAME, Reader
from fenko.core.registration import Act, Argument, Said, Verb

PROFILE_WORDS = ("next", "previous", "auto")
LAYER_MODES = ("locked", "once")


class ChangeProfile(Said, frozen=True):
    """Put profile `name` in force, or the `next` or `previous` one, or let the focus decide again (`auto`)."""

    name: str


class TurnOnLayer(Said, frozen=True):
    """Put a layer of the profile on top: while the control is held (mode empty), until the same again (`locked`), or
    for the next action (`once`)."""

    name: str
    mode: str = ""


class PauseOrResume(Said, frozen=True):
    """Stop Fenko; the same again starts it."""


class TakeTilt(Said, frozen=True):
    """However things are held now, they are not tilted."""

    word: str


class PassOn(Said, frozen=True):
    """The control works as it always did, for the program in front: a key or a mouse button. What that is depends on the control;
    a desk puts it in the place of this."""


class Nothing(Said, frozen=True):
    """Owns the control and does nothing."""


def _read_profile(reader: Reader, verb: str) -> str:
    word, start = reader.word()
    if not word:
        raise reader.error(f"`{verb}` needs a profile's name, or next, previous or auto", word, start)
    if NAME.fullmatch(word) is None:
        raise reader.error(f"`{word}` cannot be a profile's name", word, start)
    return word


def _read_layer(reader: Reader, verb: str) -> str:
    word, start = reader.argument(verb, "a layer's name")
    if NAME.fullmatch(word) is None or word in LAYER_MODES:
        raise reader.error(f"`{word}` cannot be a layer's name", word, start)
    return word


PROFILE = Argument(
    "NAME|next|previous|auto", _read_profile, str, ("base", "snipwell", *PROFILE_WORDS), "profile", PROFILE_WORDS
)
LAYER = Argument("NAME", _read_layer, str, ("trim", "coarse"), "layer")
MODE = Argument(
    "[locked|once]", lambda reader, verb: reader.word()[0] if reader.peek() in LAYER_MODES else "", str,
    ("", *LAYER_MODES),
)  # fmt: skip


def _read_neutral(reader: Reader, verb: str) -> str:
    word, start = reader.argument(verb, "`neutral`")
    if word != "neutral":
        raise reader.error(f"`{verb}` can only be taken as it is: `tilt neutral`", word, start, "neutral")
    return word


NEUTRAL = Argument("neutral", _read_neutral, str, ("neutral",))

VERBS = (
    Verb("profile", ChangeProfile, (PROFILE,), lambda said: (steps.UseProfile(said.name),), "profile next",
         "changes the profile: a name, `next`, `previous`; `profile auto` follows the focus again"),
    Verb("layer", TurnOnLayer, (LAYER, MODE), lambda said: (steps.UseLayer(said.name, said.mode),), "layer trim",
         "puts a layer on top while held; `layer trim locked` until the same again, `layer trim once` for the next action"),
    Verb("pause", PauseOrResume, (), lambda said: (steps.SwitchPause(),), "pause", "stops Fenko and starts it again; other programs have the surfaces in between. It forgets what is under way, so "
         "nothing behind it is done; while paused, a binding with `pause` in it does just that"),
    Verb("tilt", TakeTilt, (NEUTRAL,), lambda said: (steps.TakeAsNeutral(),), "tilt neutral",
         "takes how a thing with a motion sensor is held now for its neutral position"),
    Verb("pass", PassOn, (), lambda said: (), "pass", "leaves the control to the program: its own key or mouse button, its wheel or move, as if "
         "Fenko were not there. A whole surface is left by a profile's `leaves`"),
    Verb("nothing", Nothing, (), lambda said: (), "nothing", "does nothing, and hides what lies below"),
)  # fmt: skip
ACTS = (
    Act("fenko", "profile", ("name", "by"),  # by: focus or hand
        lambda name, by: f"→ profile {name}" + (" (by hand)" if by == "hand" else ""),
        "and by what: `focus` or `hand`", mood="change"),
    Act("fenko", "layer", ("name", "on"), lambda name, on: f"→ layer {name}" if on else f"layer {name} off",
        "whether it is on now", mood="change"),
    # Of a binding that does several things in turn.
    Act("fenko", "state", ("control", "state"), lambda control, state: f"→ {state}",
        "where a binding that does several things in turn has come to", mood="change"),
    Act("fenko", "pause", ("on",), lambda on: "→ paused" if on else "→ running again",
        "whether Fenko does nothing now", mood="alert"),
)  # fmt: skip
HELD = ()
