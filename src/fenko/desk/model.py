"""What may stand in a desk file: one definition that loading, checking and the JSON Schema all read."""

from __future__ import annotations

from functools import cache
from typing import Annotated, Any, Literal, get_args, get_origin

import msgspec
from msgspec import UNSET, Meta, UnsetType, defstruct, field

from fenko.core.controls import KINDS
from fenko.core.endless import CODINGS
from fenko.core.links import LINKS
from fenko.core.plan import Timing
from fenko.core.reader import NAME
from fenko.core.registration import Table
from fenko.core.verbs import OUTPUTS
from fenko.core.words import format_time
from fenko.integrations import load

TimeText = Annotated[str, Meta(pattern=r"^\d+(\.\d+)?(ms|s)$", description="A time in ms or s", examples=["220ms"])]
"""A time as people write it; `fenko.core.words.parse_time` reads it."""

NameText = Annotated[
    str, Meta(pattern=f"^{NAME.pattern}$", description="Lower-case letters, digits, - and _", examples=["stop"])
]
Patterns = Annotated[
    str | list[str],
    Meta(
        description="`*` and `?` match, `~…` is a regular expression; case does not matter. "
        "Of several patterns in a list, one has to match."
    ),
]


LIMITS: dict[str, tuple[float, float]] = {
    "hold": (0.05, 5.0),
    "double": (0.05, 2.0),
    "chord": (0.005, 0.5),
    "burst": (0.005, 0.5),
    "fast": (0.005, 1.0),
    "stroke": (0.001, 1.0),
    "gap": (0.0, 0.05),
    "settle": (0.0, 2.0),
    "debounce": (0.0, 0.2),  # a contact that bounces for longer is broken
    "tick": (0.002, 0.05),
    "smooth": (0.0, 0.5),
    "latest": (0.02, 5.0),
}
"""The least and the most of every time that can be set, in seconds, both included."""


def described(does: str, default: str = "", within: str = "", **more: Any) -> Meta:
    """What a setting does, with its default and the range of its values, in words: for messages, for `fenko explain
    --settings` and, all in one sentence, for the JSON Schema."""
    whole = does + (f" {within}." if within else "") + (f" Default: {default}." if default else "")
    return Meta(description=whole, extra={"does": does, "default": default, "range": within}, **more)


def timed(name: str, does: str, default: float | None = None) -> Meta:
    """The same for a time, with its limits and the engine's own default."""
    seconds = getattr(Timing(), name) if default is None else default
    return described(does, format_time(seconds), " to ".join(map(format_time, LIMITS[name])))


File = Table

LATEST = 0.15
"""Seconds that a press on another computer may be old when it arrives, where the desk says nothing of it."""


class WindowFile(File):
    """A window: every field that is given has to match."""

    app: Annotated[Patterns, Meta(description="The program's app id, as `fenko windows` prints it.")] | UnsetType = (
        UNSET
    )
    title: Annotated[Patterns, Meta(description="The window's title.")] | UnsetType = UNSET
    program: (
        Annotated[Patterns, Meta(description="The file name of the program that the window is of.")] | UnsetType
    ) = UNSET
    path: Annotated[Patterns, Meta(description="Where that file is, from `/` on.")] | UnsetType = UNSET
    arguments: (
        Annotated[Patterns, Meta(description="What stood after the program's name when it was started.")] | UnsetType
    ) = UNSET


class AroundFile(WindowFile):
    """What has to be so: the window in front, programs that run, surfaces that are there, states of machines."""

    running: (
        Annotated[Patterns, Meta(description="The file name of a program that merely runs, whatever is in front.")]
        | UnsetType
    ) = UNSET
    surface: (
        Annotated[
            str | list[str],
            Meta(description="A surface of the desk that is plugged in; of several in a list, one has to be."),
        ]
        | UnsetType
    ) = UNSET
    machine: (
        Annotated[
            Patterns,
            Meta(
                description="A [machine.NAME] and its state: `rail alarm`, `rail jogging`; idle, homing, running, held, away."
            ),
        ]
        | UnsetType
    ) = UNSET


class When(AroundFile):
    """The conditions of a profile: every field that is given has to match."""

    not_: (
        Annotated[
            AroundFile | list[AroundFile],
            Meta(description="What must not be so; of several in a list, none."),
        ]
        | UnsetType
    ) = field(name="not", default=UNSET)


class FocusFile(File):
    """How profiles follow the window in front."""

    ignore: (
        Annotated[
            WindowFile | list[WindowFile],
            Meta(description="Windows that do not count: with them in front, all stays as it is."),
        ]
        | UnsetType
    ) = UNSET
    by_hand: (
        Annotated[
            Literal["until-auto", "until-focus"],
            described(
                "How long a profile stays that was chosen by hand: until `profile auto`, or only until another program "
                "comes in front.",
                "until-auto",
            ),
        ]
        | UnsetType
    ) = UNSET


load()
_FAR = [kind for kind in LINKS.values() if kind.word]
_OF_THE_KERNEL = r"(usb|bluetooth|virtual|other) [0-9a-f]{4}:[0-9a-f]{4}( (serial|port) \S+)?"
LinkText = Annotated[
    str,
    Meta(
        pattern=f"^({'|'.join((_OF_THE_KERNEL, *(kind.pattern for kind in _FAR)))})$",
        description="A link as `fenko devices` prints it: of a kernel device, "
        + ", ".join(f"`{kind.form}`" for kind in _FAR),
        examples=["usb 1209:4d50"],
    ),
]
KindText = Literal[
    "gamepad", "keypad", "keyboard", "mouse", "dial", "ring-and-dial", "macro-pad", "midi", "board", "other"
]
assert set(get_args(KindText)) == set(KINDS)


class TimingFile(File):
    """Times; those closest to a binding hold: its own, its control's, the profile's, the surface's, the desk's."""

    hold: Annotated[TimeText, timed("hold", "From a press to its hold; shorter is a tap.")] | UnsetType = UNSET
    double: Annotated[TimeText, timed("double", "From a release to the press that makes it a double.")] | UnsetType = (
        UNSET
    )
    chord: (
        Annotated[TimeText, timed("chord", "Within this time of the first, controls count as pressed at once.")]
        | UnsetType
    ) = UNSET
    burst: Annotated[TimeText, timed("burst", "Presses closer than this come from one key.")] | UnsetType = UNSET
    fast: Annotated[TimeText, timed("fast", "Detents closer than this are turned fast.")] | UnsetType = UNSET
    stroke: Annotated[TimeText, timed("stroke", "How long a key is down when no hand holds it.")] | UnsetType = UNSET


class DeskTimingFile(TimingFile):
    """Times that hold for the whole desk."""

    gap: (
        Annotated[TimeText, timed("gap", "From a key's release to the soonest moment at which it goes down again.")]
        | UnsetType
    ) = UNSET
    settle: (
        Annotated[TimeText, timed("settle", "How long a window is in front before its profile comes.")] | UnsetType
    ) = UNSET
    tick: Annotated[TimeText, timed("tick", "From one step of what moves by itself to the next.")] | UnsetType = UNSET


CodingText = Literal["twos-complement", "offset", "sign-magnitude"]
assert get_args(CodingText) == CODINGS
Coding = Annotated[
    CodingText, described("Of an endless MIDI control: how it writes its steps.", "recognised from what it sends")
]
Bits = Annotated[Literal[7, 14], described("Of a MIDI controller: how fine its numbers are.", "7")]

Pair = Annotated[list[float], Meta(min_length=2, max_length=2, description="Two numbers", examples=["[-1200, 1200]"])]
Points = Annotated[
    list[Pair],
    Meta(min_length=2, description="Points from [0, 0] to [1, 1]", examples=["[[0, 0], [0.5, 0.2], [1, 1]]"]),
]


class ControlFile(File):
    """How the positions of one control are conditioned. They are shares of the way: 0 to 1 for controls that go one way,
    -1 to 1 for all others."""

    centre: (
        Annotated[
            Pair | float,
            described("Where it rests, across and down.", "0", "-0.5 to 0.5"),
        ]
        | UnsetType
    ) = UNSET
    range: (
        Annotated[
            list[Pair | float],
            described("How far it goes; of a stick across and down: `[[-0.97, 0.95], [-1, 0.98]]`.", "all the way"),
        ]
        | UnsetType
    ) = UNSET
    dead_zone: (
        Annotated[
            float,
            described(
                "What counts as rest; the way past it is stretched, so there is no step.",
                "0.1 for a stick, else 0",
                "0 to 0.9",
            ),
        ]
        | UnsetType
    ) = UNSET
    dead_axes: (
        Annotated[
            float,
            described("The same for each axis of a stick alone, which keeps straight lines straight.", "0", "0 to 0.9"),
        ]
        | UnsetType
    ) = UNSET
    outer: Annotated[float, described("What counts as all the way.", "1", "0.1 to 1")] | UnsetType = UNSET
    curve: (
        Annotated[
            Literal["linear", "soft", "steep", "s"] | Points,
            described("What half the way comes to, and all between.", "linear"),
        ]
        | UnsetType
    ) = UNSET
    smooth: (
        Annotated[
            TimeText,
            timed(
                "smooth",
                "Trembling is smoothed over this time while it hardly moves, and not while it moves fast.",
                0.0,
            ),
        ]
        | UnsetType
    ) = UNSET
    invert: (
        Annotated[
            bool | list[Literal["x", "y"]], described("Whether it goes the other way; of a stick, which axes.", "false")
        ]
        | UnsetType
    ) = UNSET
    press: Annotated[float, described("Where a direction becomes a press.", "0.5", "0.05 to 1")] | UnsetType = UNSET
    release: Annotated[float, described("Where it ends.", "0.4", "0 to 1, at most press")] | UnsetType = UNSET
    spin: (
        Annotated[
            list[Pair],
            Meta(
                min_length=2,
                description="Of a dial or wheel: from so many detents a second on, a step of a value, of the pointer or of "
                "scrolling counts so many times as much: `[[5, 1], [20, 8]]`; between the points in proportion.",
            ),
        ]
        | UnsetType
    ) = UNSET
    show: Annotated[Pair, described("The range in which a person wants to read it.", "0 to 100 %")] | UnsetType = UNSET
    sort: (
        Annotated[
            str,
            described("How it acts, where neither its name nor a description says so.", "what its name says"),
        ]
        | UnsetType
    ) = UNSET
    coding: Coding | UnsetType = UNSET
    bits: Bits | UnsetType = UNSET
    shows_value: (
        Annotated[
            bool,
            described(
                "Whether it is told the value that it drives, to show it with a motor or a ring of lamps.", "false"
            ),
        ]
        | UnsetType
    ) = UNSET


class ValueFile(File):
    """A number that controls can drive."""

    range: Annotated[Pair, described("The least and the most that it can be.", "0 to 100")] | UnsetType = UNSET
    start: Annotated[float, described("What it is at first.", "its least")] | UnsetType = UNSET
    step: (
        Annotated[float, described("Its grain: it is always a whole number of these above its least.", "none")]
        | UnsetType
    ) = UNSET
    unit: Annotated[str, Meta(description="What it counts, such as `%` or `lux`.", max_length=12)] | UnsetType = UNSET
    scale: (
        Annotated[
            Literal["linear", "dB"] | Points,
            described("How the way of a control that it follows is spread over its range.", "linear"),
        ]
        | UnsetType
    ) = UNSET
    keep: Annotated[bool, described("Whether it is still the same when Fenko starts again.", "false")] | UnsetType = (
        UNSET
    )
    note: Annotated[str, Meta(description="Anything worth knowing about it.")] | UnsetType = UNSET


class NetworkFile(File):
    """How a surface of another computer is taken."""

    latest: (
        Annotated[
            TimeText,
            timed("latest", "How old a press may be when it arrives; what ends something always counts.", LATEST),
        ]
        | UnsetType
    ) = UNSET


class SurfaceFile(File):
    """One physical thing with controls."""

    kind: (
        Annotated[
            KindText,
            described(
                "What sort of thing it is; decides which controls it can have.", "what its description says, else other"
            ),
        ]
        | UnsetType
    ) = UNSET
    description: (
        Annotated[
            str,
            described("The description file, without .toml, that knows its names and places.", "none"),
        ]
        | UnsetType
    ) = UNSET
    links: (
        Annotated[
            list[LinkText],
            Meta(description="Every way the thing can turn up, as `fenko devices` prints them."),
        ]
        | UnsetType
    ) = UNSET
    exclusive: (
        Annotated[bool, described("Whether other programs do not see it while Fenko runs.", "true")] | UnsetType
    ) = UNSET
    unbound: (
        Annotated[
            Literal["pass", "drop"],
            described("Whether a control without a binding works as it always did.", "pass"),
        ]
        | UnsetType
    ) = UNSET
    names: (
        Annotated[
            dict[str, NameText],
            Meta(description="Names of your own for controls: the control's usual name = your name for it."),
        ]
        | UnsetType
    ) = UNSET
    timing: TimingFile | UnsetType = UNSET
    debounce: (
        Annotated[TimeText, timed("debounce", "A change back within this time is bounce, and ignored.", 0.0)]
        | UnsetType
    ) = UNSET
    control: (
        Annotated[
            dict[str, ControlFile], Meta(description="What is made of the positions of its controls, by control.")
        ]
        | UnsetType
    ) = UNSET
    colours: (
        Annotated[
            dict[str, Annotated[int, Meta(ge=0, le=127)]],
            described(
                'Of a MIDI controller: the numbers by which its lamps take colours, `"#ff0000" = 5`; the nearest counts.',
                "127 for any",
            ),
        ]
        | UnsetType
    ) = UNSET
    network: NetworkFile | UnsetType = UNSET
    note: Annotated[str, Meta(description="Anything worth knowing about it.")] | UnsetType = UNSET


class NotificationsFile(File):
    """What is shown on the desktop."""

    errors: (
        Annotated[bool, described("Whether it is shown that files are wrong, or that something has failed.", "true")]
        | UnsetType
    ) = UNSET
    profiles: Annotated[bool, described("Whether each profile that comes is shown.", "false")] | UnsetType = UNSET


class JournalFile(File):
    """What is remembered of what is used, on this computer alone."""

    keep: (
        Annotated[
            str,
            described(
                "How long it is remembered which binding was used when (`fenko usage`): never what was typed, nor any title.",
                "nothing",
                pattern=r"^([1-9]\d{0,3} (day|week|month|year)s?|nothing)$",
                examples=["90 days", "1 year", "nothing"],
            ),
        ]
        | UnsetType
    ) = UNSET


class OutputFile(File):
    """Where keys and pointer moves go."""

    keys: (
        Annotated[
            Literal["auto", "kernel", "wayland", "x11"],
            described(
                "Through the kernel's virtual keyboard, the X server, the Wayland compositor, or what works.", "auto"
            ),
        ]
        | UnsetType
    ) = UNSET
    layout: (
        Annotated[
            str,
            described(
                "Keyboard layout for the kernel output, such as us, de or fr(oss).",
                "the system's",
                pattern=r"^[a-z]+(\([A-Za-z0-9_-]+\))?$",
            ),
        ]
        | UnsetType
    ) = UNSET


Bindings = dict[str, Any]
"""Controls to phrases, binding tables or tables of gestures; `fenko.desk.bindings` reads them."""


class LayerFile(File):
    """Bindings of a profile that lie on top while something is held, or until they are lifted."""

    while_: (
        Annotated[
            str | list[str],
            Meta(
                description="What has to be held for the layer to be on by itself: a modifier of the ordinary keyboard "
                "(ctrl, alt, shift, super), or a control as SURFACE.CONTROL; all of a list."
            ),
        ]
        | UnsetType
    ) = msgspec.field(default=UNSET, name="while")
    on: Annotated[dict[str, Bindings], Meta(description="The bindings, by surface and control.")] | UnsetType = UNSET
    note: Annotated[str, Meta(description="Anything worth knowing about it.")] | UnsetType = UNSET


class ProfileFile(File):
    """The bindings that are in force while the conditions hold."""

    when: (
        Annotated[
            When | list[When],
            Meta(description="When the profile comes by itself; of several, one has to hold."),
        ]
        | UnsetType
    ) = UNSET
    extends: Annotated[str, Meta(description="Another profile whose bindings lie under this one.")] | UnsetType = UNSET
    leaves: (
        Annotated[
            list[str],
            Meta(
                description="Surfaces that are left to the program: other programs have them while the profile is active, and of "
                "their bindings only this profile's own act.",
                examples=[["pad"]],
            ),
        ]
        | UnsetType
    ) = UNSET
    on_enter: (
        Annotated[str, Meta(description="A phrase: what is done when the profile comes.", examples=["volume to 40%"])]
        | UnsetType
    ) = UNSET
    on_leave: (
        Annotated[str, Meta(description="A phrase: what is done when it goes.", examples=["volume to 80%"])] | UnsetType
    ) = UNSET
    on: Annotated[dict[str, Bindings], Meta(description="The bindings, by surface and control.")] | UnsetType = UNSET
    layer: dict[NameText, LayerFile] | UnsetType = UNSET
    timing: TimingFile | UnsetType = UNSET
    note: Annotated[str, Meta(description="Anything worth knowing about it.")] | UnsetType = UNSET


class AppFile(File):
    """A program that the desk works with."""

    shortcuts: (
        Annotated[
            str,
            Meta(
                description="A CSV file in the desk's folder with the program's commands: command,keys,group,note. "
                "Bindings name them as `NAME: COMMAND`."
            ),
        ]
        | UnsetType
    ) = UNSET
    app: (
        Annotated[Patterns, described("The program's app id, as `fenko windows` prints it.", "the name")] | UnsetType
    ) = UNSET
    command: (
        Annotated[
            list[str],
            Meta(
                description="How it is started: the program and its arguments, each a text of its own; for `start` and `front`.",
                min_length=1,
                examples=['["snipwell", "--project", "reel"]'],
            ),
        ]
        | UnsetType
    ) = UNSET
    note: Annotated[str, Meta(description="Anything worth knowing about it.")] | UnsetType = UNSET


class ExpectFile(File):
    """What has to come of a script of hands; `fenko check` tries it."""

    do: Annotated[
        list[str],
        Meta(
            min_length=1,
            description="What hands and windows do, step by step.",
            examples=['["front snipwell", "tap pad.south"]'],
        ),
    ]
    that: Annotated[str, Meta(description="What this is about, in words.")] | UnsetType = UNSET
    sends: (
        Annotated[
            str,
            Meta(
                description="The phrase that the program in front sees, each key with the modifiers that are down; "
                "`nothing` if nothing is to be sent.",
                examples=["ctrl+z then alt+left"],
            ),
        ]
        | UnsetType
    ) = UNSET
    moves: (
        Annotated[
            str,
            Meta(
                description="Where the pointer goes in all, and what scrolls: `right 300 down 20`, `scroll down 4`; each "
                "within a hundredth, or one.",
            ),
        ]
        | UnsetType
    ) = UNSET
    values: Annotated[dict[str, float], Meta(description="What values of the desk are at the end.")] | UnsetType = UNSET
    does: (
        Annotated[
            list[str],
            Meta(
                description="What goes to outputs, in the words of `fenko rehearse`, in order; of a number that moves where it "
                "comes to. An empty list for nothing.",
                examples=['["volume +5%", "microphone mute on"]'],
            ),
        ]
        | UnsetType
    ) = UNSET
    holds: (
        Annotated[str, Meta(description="The keys that are down at the end, joined by `+`; `nothing` for none.")]
        | UnsetType
    ) = UNSET
    profile: Annotated[str, Meta(description="The profile that is in force at the end.")] | UnsetType = UNSET
    layers: (
        Annotated[list[str], Meta(description="The layers that are on at the end, the newest last.")] | UnsetType
    ) = UNSET


class DeskFile(File):
    """A desk, or a part of one that `include` brings in."""

    format: Annotated[Literal[1], Meta(description="The version of this file format.")] | UnsetType = UNSET
    name: Annotated[str, Meta(description="What this desk is called.")] | UnsetType = UNSET
    include: (
        Annotated[
            list[str],
            Meta(description="Other files of the desk's folder to bring in; `*` matches several."),
        ]
        | UnsetType
    ) = UNSET
    output: OutputFile | UnsetType = UNSET
    timing: DeskTimingFile | UnsetType = UNSET
    focus: FocusFile | UnsetType = UNSET
    notifications: NotificationsFile | UnsetType = UNSET
    journal: JournalFile | UnsetType = UNSET
    surface: dict[NameText, SurfaceFile] | UnsetType = UNSET
    profile: dict[NameText, ProfileFile] | UnsetType = UNSET
    app: dict[NameText, AppFile] | UnsetType = UNSET
    value: dict[NameText, ValueFile] | UnsetType = UNSET
    expect: list[ExpectFile] | UnsetType = UNSET


@cache
def desk_file() -> type[DeskFile]:
    """A desk file with the tables of every output, which have to be registered by now."""
    tables = {name: kind for output in OUTPUTS.values() for name, kind in output.tables.items()}
    fields = [(name, _named(kind) | UnsetType, UNSET) for name, kind in tables.items()]
    made: Any = defstruct("DeskFile", fields, bases=(DeskFile,), forbid_unknown_fields=True, rename="kebab")
    kind: type[DeskFile] = made
    return kind


def _named(kind: Any) -> Any:
    """Tables of one kind, each with a name."""
    return dict[NameText, get_args(kind)[1]] if get_origin(kind) is dict else kind  # type: ignore[misc]


class BindingFile(File):
    """A binding written out: what it does (`do`, or several in turn or at random), and what tells a person about it."""

    do: Annotated[str, Meta(description="The phrase: what it does.", examples=["ctrl+shift+z"])] | UnsetType = UNSET
    in_turn: (
        Annotated[list[str], Meta(min_length=2, description="Phrases: each time the next one, round and round.")]
        | UnsetType
    ) = UNSET
    at_random: (
        Annotated[list[str], Meta(min_length=2, description="Phrases: each time any of them but the last one.")]
        | UnsetType
    ) = UNSET
    states: (
        Annotated[list[str], Meta(description="With in-turn: what each phrase leads to, such as Muted and Live.")]
        | UnsetType
    ) = UNSET
    group: (
        Annotated[NameText, Meta(description="Of the bindings of a group, keys that are toggled on lift the others.")]
        | UnsetType
    ) = UNSET
    spring: (
        Annotated[bool, described("Whether a value that follows is meant to jump back with the control.", "false")]
        | UnsetType
    ) = UNSET
    lit: (
        Annotated[
            str,
            Meta(
                description="When a lamp is on: `pressed`, `layer NAME`, `profile NAME`, `paused`, `toggled`, `state NAME`, `volume "
                "muted`, `microphone muted`, `player playing`, `value NAME above N`, `machine NAME STATE`, `always`; `not` before it.",
                examples=["volume muted"],
            ),
        ]
        | UnsetType
    ) = UNSET
    lamp: Annotated[NameText, described("Which lamp of the surface that is.", "that of the control")] | UnsetType = (
        UNSET
    )
    timing: TimingFile | UnsetType = UNSET
    label: Annotated[str, Meta(description="A short name.", max_length=60)] | UnsetType = UNSET
    colour: Annotated[str, Meta(description="Its colour, as #rrggbb.", pattern=r"^#[0-9a-fA-F]{6}$")] | UnsetType = (
        UNSET
    )
    icon: (
        Annotated[
            str,
            Meta(
                description="Its picture: a character or two, or an icon by name (`fenko sheet --icons`).",
                max_length=60,
            ),
        ]
        | UnsetType
    ) = UNSET
    note: Annotated[str, Meta(description="Anything worth knowing about it.")] | UnsetType = UNSET
