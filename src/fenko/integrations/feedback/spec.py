"""What comes back to a surface: lamps, rumble, tones, a line of text, and where the value is that a control drives."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import Any, NamedTuple, TypeAlias

from msgspec import Struct

from fenko.core.controls import has_control
from fenko.core.links import has_transport, kind_of
from fenko.core.reader import NAME, PhraseError, Reader, in_quotes
from fenko.core.registration import Act, Argument, Finding, Output, Queued, Said, Surrounding, Unsettled, Verb
from fenko.core.steps import Send, Step
from fenko.core.words import format_time, nearest, parse_time, shortened
from fenko.integrations.wording import filled, read_to

KERNEL_LAMPS = (
    "numlock", "capslock", "scrolllock", "compose", "kana", "sleep", "suspend", "mute", "misc", "mail", "charging",
)  # fmt: skip
"""The kernel's lamps (LED_NUML … LED_CHARGING, input-event-codes.h), in the order of their codes."""
USUAL_SECONDS = 0.12
LONGEST_TEXT = 100
_LONGEST = 10.0
_LEVEL = re.compile(r"(\d{1,3}(?:\.\d{1,3})?)%")
_COLOUR = re.compile(r"#[0-9a-fA-F]{6}")


class Lacks(NamedTuple):
    """A lamp that a surface has not: which it has, and the one that is most alike."""

    expected: str
    nearest: str | None


class Rumble(Struct, frozen=True):
    """So strongly (0 to 1), for so many seconds."""

    level: float
    seconds: float = USUAL_SECONDS


class Tone(Struct, frozen=True):
    """So high, in Hz, for so many seconds."""

    hertz: int
    seconds: float = USUAL_SECONDS


class Lamp(Struct, frozen=True):
    """A lamp is on, off, or has a colour (#rrggbb)."""

    name: str
    to: str


class Line(Struct, frozen=True):
    """A text on a display; an empty one clears it."""

    text: str


What: TypeAlias = Rumble | Tone | Lamp | Line


class AnswerBack(Said, frozen=True):
    """A surface is told something; without one, that of the control."""

    what: What
    surface: str = ""


class RumbleSaid(AnswerBack, frozen=True):
    """A surface rumbles."""


class ToneSaid(AnswerBack, frozen=True):
    """A surface sounds."""


class LampSaid(AnswerBack, frozen=True):
    """A lamp of a surface changes."""


class DisplaySaid(AnswerBack, frozen=True):
    """A surface shows a text."""


def _read_rumble(reader: Reader, verb: str) -> Rumble:
    word, start = reader.argument(verb, "a level, such as 60%")
    found = _LEVEL.fullmatch(word)
    if found is None or not 0 < float(found[1]) <= 100:
        raise PhraseError(f"`{word}` is no level: 1% to 100%", start, len(word))
    return Rumble(round(float(found[1]) / 100, 6), _read_seconds(reader, verb))


def _read_seconds(reader: Reader, verb: str) -> float:
    if reader.peek() != "for":
        return USUAL_SECONDS
    reader.word()
    word, start = reader.argument(f"{verb} … for", "a time, such as 120ms")
    try:
        seconds = parse_time(word)
    except ValueError as why:
        raise PhraseError(str(why), start, len(word)) from None
    if not 0.01 <= seconds <= _LONGEST:
        raise PhraseError(f"`{word}` is out of range: 10ms to {format_time(_LONGEST)}", start, len(word))
    return seconds


def _write_seconds(seconds: float) -> str:
    return "" if seconds == USUAL_SECONDS else f" for {format_time(seconds)}"


def _read_tone(reader: Reader, verb: str) -> Tone:
    word, start = reader.argument(verb, "a height in Hz, such as 440")
    if not (word.isascii() and word.isdigit() and 20 <= int(word[:6]) <= 20000):
        raise PhraseError(f"`{word}` is no height of a tone: 20 to 20000 Hz", start, len(word))
    return Tone(int(word), _read_seconds(reader, verb))


def _read_lamp(reader: Reader, verb: str) -> Lamp:
    name, start = reader.argument(verb, "the name of a lamp")
    if NAME.fullmatch(name) is None:
        raise PhraseError(f"`{name}` cannot be the name of a lamp", start, len(name))
    to, start = reader.argument(f"{verb} {name}", "on, off or a colour")
    if to not in ("on", "off") and _COLOUR.fullmatch(to) is None:
        raise PhraseError(
            f"a lamp cannot be `{to}`: on, off or a colour as #rrggbb", start, len(to), nearest(to, ("on", "off"))
        )
    return Lamp(name, to.lower())


def _read_line(reader: Reader, verb: str) -> Line:
    if reader.peek() in ('""', "''"):
        reader.word()
        return Line("")
    reader.peek()
    start = reader.at
    text = reader.quoted(verb)
    if len(text) > LONGEST_TEXT:
        raise PhraseError(f"that is longer than {LONGEST_TEXT} characters", start, len(text))
    return Line(text)


def _steps(said: AnswerBack) -> tuple[Step, ...]:
    surface = said.surface
    match said.what:
        case Rumble(level, seconds):
            return (Send("feedback", "rumble", (surface, level, seconds)),)
        case Tone(hertz, seconds):
            return (Send("feedback", "tone", (surface, hertz, seconds)),)
        case Lamp(name, to):
            return (Send("feedback", "lamp", (surface, name, to)),)
        case Line(text):
            return (Send("feedback", "text", (surface, text)),)


# --- What the desk makes of it ---


def _settle(said: AnswerBack, around: Surrounding) -> Iterable[Said]:
    surfaces = around.table("surface")
    name = said.surface or around.surface
    if not name:
        raise Unsettled("no control stands here, so it has to be said which surface is meant", "", "`of SURFACE`")
    if name not in surfaces:
        raise Unsettled(f"the desk has no surface `{name}`", name, ", ".join(surfaces), nearest(name, surfaces))
    return (filled(said, surface=name),)


def lamp_of(lamp: str, entry: Any) -> Lacks | None:
    """What keeps a surface from having such a lamp, as far as the desk can know: a kernel device has the kernel's, a MIDI
    controller one for each control; a board says itself which it has, and so does whoever lends one."""
    entry = entry if isinstance(entry, dict) else {}
    kind, names = entry.get("kind"), entry.get("names")
    own = {} if not isinstance(names, dict) else {written: kernel for kernel, written in names.items()}
    if kind == "board" or "description" in entry or any("mqtt " in str(link) for link in entry.get("links") or ()):
        return None
    if kind == "midi":
        good = has_control("midi", str(own.get(lamp, lamp)))
        return None if good else Lacks("a control of it: its lamp is called as it is", None)
    return None if lamp in KERNEL_LAMPS else Lacks(", ".join(KERNEL_LAMPS), nearest(lamp, KERNEL_LAMPS))


def _judge(said: AnswerBack, around: Surrounding) -> Iterable[Finding]:
    if isinstance(said.what, Lamp):
        lacks = lamp_of(said.what.name, around.table("surface").get(said.surface))
        if lacks is not None:
            what = f"`{said.surface}` has no lamp `{said.what.name}`, so nothing comes of it"
            yield Finding("lamps that are not there", what, "warning", lacks.expected)


def is_linked(entry: Any) -> bool:
    """Whether a surface, as the desk writes it, can turn up otherwise than as a kernel device."""
    links = entry.get("links") if isinstance(entry, dict) else None
    return isinstance(links, list) and any(isinstance(link, str) and has_transport(link) for link in links)


def _lets_in(name: str, link: str, tables: Mapping[str, Any]) -> str:
    """What a link lets somebody else do, in words; empty for things that are on this computer."""
    kind, rest = kind_of(link)
    what = kind.lets_in(rest, tables)
    return f"{what} press what is bound on {name}" if what else ""


def _asks(tables: Mapping[str, Any]) -> Iterator[tuple[tuple[str | int, ...], str]]:
    """Links by which others press controls here: what they press is typed here."""
    surfaces = tables.get("surface")
    for name, entry in surfaces.items() if isinstance(surfaces, dict) else ():
        for number, link in enumerate(entry.get("links") or () if isinstance(entry, dict) else ()):
            if isinstance(link, str) and (what := _lets_in(name, link, tables)):
                yield ("surface", name, "links", number), what


def _allows(tables: Mapping[str, Any], agreed: Callable[[str], bool]) -> tuple[Mapping[str, Any], list[str]]:
    """The tables without such links as nobody has agreed to."""
    refused: list[str] = []
    linked: dict[str, Any] = {}
    for name, entry in (tables.get("linked") or {}).items():
        kept = []
        for link in entry["links"]:
            what = _lets_in(name, link, tables)
            if what and not agreed(what):
                refused.append(what)
            else:
                kept.append(link)
        linked[name] = {**entry, "links": kept}
    return {**tables, "linked": linked}, refused


def _listens(tables: Mapping[str, Any]) -> bool:
    surfaces = tables.get("surface")
    return isinstance(surfaces, dict) and any(map(is_linked, surfaces.values()))


def _of(surface: str) -> str:
    return f"{surface}: "


RUMBLE = Argument("LEVEL [for TIME]", _read_rumble, lambda one: f"{one.level * 100:g}%{_write_seconds(one.seconds)}",
                  (Rumble(0.6), Rumble(1.0, 0.5), Rumble(0.255, 2.0)))  # fmt: skip
TONE = Argument("HERTZ [for TIME]", _read_tone, lambda one: f"{one.hertz}{_write_seconds(one.seconds)}",
                (Tone(440), Tone(20, 1.0), Tone(20000, 0.05)))  # fmt: skip
LAMP = Argument("NAME on|off|#rrggbb", _read_lamp, lambda one: f"{one.name} {one.to}",
                (Lamp("mute", "on"), Lamp("note-36", "off"), Lamp("red", "#ff8800")))  # fmt: skip
LINE = Argument('"LINE"', _read_line, lambda one: in_quotes(one.text), (Line("Reel 2"), Line("")))
SURFACE = Argument(
    "[of SURFACE]",
    lambda reader, verb: read_to(reader, verb, "of"),
    lambda name: f"of {name}" if name else "",
    ("", "pad"),
)

OUTPUT = Output(
    "feedback",
    "Surfaces",
    "Surfaces that are no kernel devices (MIDI controllers, boards, another computer's), and what comes back to any: lamps, "
    "rumble, tones, text.",
    "fenko.integrations.feedback.worker:SurfaceWorker",
    verbs=(
        Verb("rumble", RumbleSaid, (RUMBLE, SURFACE), _steps, "rumble 60% for 200ms",
             "the surface rumbles, for 120ms if nothing else is said; `of SURFACE` for another one"),
        Verb("tone", ToneSaid, (TONE, SURFACE), _steps, "tone 880 for 80ms", "the surface sounds, so many Hz; `of SURFACE`"),
        Verb("lamp", LampSaid, (LAMP, SURFACE), _steps, "lamp mute on",
             "a lamp of the surface is on, off or has a colour, until something else is said or Fenko ends; `of SURFACE`. What is lit "
             "while something holds is said with `lit`"),
        Verb("display", DisplaySaid, (LINE, SURFACE), _steps, 'display "Reel 2"',
             "the surface shows a line of text; an empty one clears it; `of SURFACE`"),
    ),
    acts=(
        Act("feedback", "rumble", ("surface", "level", "seconds"),
            lambda surface, level, seconds: f"{_of(surface)}rumble {level:.0%} for {format_time(seconds)}",
            "a surface; how strongly (0 to 1); for how long", queued=lambda surface, level, seconds: Queued("all")),
        Act("feedback", "tone", ("surface", "hertz", "seconds"),
            lambda surface, hertz, seconds: f"{_of(surface)}tone {hertz} Hz for {format_time(seconds)}",
            "a surface; how high; for how long", queued=lambda surface, hertz, seconds: Queued("all")),
        Act("feedback", "lamp", ("surface", "lamp", "to"), lambda surface, lamp, to: f"{_of(surface)}lamp {lamp} {to}",
            "a surface; one of its lamps; on, off or #rrggbb", queued=lambda surface, lamp, to: Queued("last", (surface, lamp))),
        Act("feedback", "text", ("surface", "text"), lambda surface, text: f'{_of(surface)}shows "{shortened(text)}"',
            "a surface; what it shows", queued=lambda surface, text: Queued("last", (surface,))),
        Act("feedback", "show", ("surface", "control", "at"), lambda surface, control, at: f"{_of(surface)}{control} shows {at:.0%}",
            "a surface; a control of it that can show a value; where that is (0 to 1)",
            queued=lambda surface, control, at: Queued("newest", (surface, control))),
    ),
    settle=_settle,
    judge=_judge,
    asks=_asks,
    allows=_allows,
    ready="fenko.integrations.feedback.worker:ready",
    checks="fenko.integrations.feedback.checks:check",
    listens=_listens,
    each="linked",
    end=lambda surface, *values: surface,
    reads=("mqtt",),
    process="surfaces",
    by_surface=True,
    simulation="fenko.integrations.feedback.simulation:FeedbackSimulation",
    place=110,
)  # fmt: skip
