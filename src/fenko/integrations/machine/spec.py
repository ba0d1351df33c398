"""Machines: axes that are jogged as long as a control is off its rest or held, step by step, homed, and told lines of G-code."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping
from typing import Annotated, Any, Literal, TypeAlias

from msgspec import UNSET, Meta, Struct, UnsetType, structs

from fenko.core.reader import PhraseError, Reader, in_quotes
from fenko.core.registration import (
    Act,
    Argument,
    Finding,
    Held,
    Output,
    Queued,
    Said,
    Surrounding,
    Table,
    Unsettled,
    Verb,
)
from fenko.core.steps import Hold, Send, Steer, Step
from fenko.core.words import nearest, shortened
from fenko.integrations.machine.chosen import Chosen
from fenko.integrations.machine.dialects import DIALECTS
from fenko.integrations.machine.explained import Told, explained
from fenko.integrations.machine.facts import standing
from fenko.integrations.machine.settings import AXIS_NAMES, MachineSettings, settings_of
from fenko.integrations.wording import entry, filled, read_to, the_one

_NUMBER = re.compile(r"([+-]?)(\d{1,6}(?:\.\d{1,6})?)")
_AXES = re.compile(f"[{AXIS_NAMES}]{{1,{len(AXIS_NAMES)}}}")
_SIZES = ("next", "previous")
_PLAIN = ("hold", "resume", "stop", "unlock")
_WATCHED = 0.5
"""Seconds for which a machine that is to move is told that the desk is at work; it asks for more while it moves."""


class Axis(Struct, frozen=True):
    """The axis that is meant from now on, where none is named."""

    axis: str


class Jog(Struct, frozen=True):
    """Axes (none: the chosen one) go at a speed, in units a minute: `by_way`, as far as the control is off its rest."""

    axes: str
    speed: float
    by_way: bool


class StepBy(Struct, frozen=True):
    """So many step sizes; or, of an axis that is named, so far."""

    number: float
    axis: str = ""


class StepSize(Struct, frozen=True):
    """Another step size: `next`, `previous`, or this one."""

    size: str | float


class Home(Struct, frozen=True):
    """Axes, or all, find where they are."""

    axes: str = ""


class Zero(Struct, frozen=True):
    """The place where they are becomes the origin of axes."""

    axes: str


class Lines(Struct, frozen=True):
    """Lines of G-code."""

    text: str


class Order(Struct, frozen=True):
    """`hold`, `resume`, `stop` or `unlock`."""

    word: str


What: TypeAlias = Axis | Jog | StepBy | StepSize | Home | Zero | Lines | Order


class RunMachine(Said, frozen=True):
    """A machine is to do something."""

    what: What
    of: str = ""

    def back(self) -> Said | None:
        """The same the other way."""
        match self.what:
            case StepBy(number, axis):
                return structs.replace(self, what=StepBy(-number, axis))
            case StepSize(size) if size in _SIZES:
                return structs.replace(self, what=StepSize(_SIZES[1 - _SIZES.index(str(size))]))
        return None


# --- The desk's tables ---

_Ends = Annotated[list[float], Meta(min_length=2, max_length=2)]


class AxisTable(Table):
    """An axis of a machine."""

    travel: Annotated[
        _Ends, Meta(description="The least and the most of its places, in its unit.", examples=["[0, 300]"])
    ]
    fastest: Annotated[float, Meta(description="Its fastest speed, in units a minute.", gt=0)]
    acceleration: (
        Annotated[float, Meta(description="How fast its speed may change, in units/s². Default: 100.", gt=0)]
        | UnsetType
    ) = UNSET
    unit: (
        Annotated[Literal["mm", "inch", "degree"], Meta(description="What it is counted in. Default: mm.")] | UnsetType
    ) = UNSET
    limits: (
        Annotated[_Ends, Meta(description="The least and the most that Fenko lets it go to. Default: its travel.")]
        | UnsetType
    ) = UNSET


class MachineTable(Table):
    """A machine that moves."""

    link: Annotated[
        str,
        Meta(
            description="How it is reached: a serial line with its speed, or a TCP port.",
            pattern=r"^(serial /\S+( \d{3,7})?|tcp \S+:\d{1,5})$",
            examples=["serial /dev/ttyACM0 115200", "tcp rail.example:7700"],
        ),
    ]
    axis: Annotated[
        dict[str, AxisTable],
        Meta(description="Its axes, x to z and a to c."),
    ]
    dialect: (
        Annotated[
            Literal["grbl", "lines"], Meta(description=f"How it is talked to: {', '.join(DIALECTS)}. Default: grbl.")
        ]
        | UnsetType
    ) = UNSET
    step_sizes: (
        Annotated[
            list[Annotated[float, Meta(gt=0)]],
            Meta(
                min_length=1,
                description="Step sizes, in the axis's unit; the first one at first. Default: [0.1, 1, 10].",
            ),
        ]
        | UnsetType
    ) = UNSET
    safe_height: (
        Annotated[float, Meta(description="The height of z above which it may go sideways fast, in its unit.")]
        | UnsetType
    ) = UNSET
    stop_with_focus: (
        Annotated[bool, Meta(description="Whether it stops when another program comes in front. Default: false.")]
        | UnsetType
    ) = UNSET
    note: Annotated[str, Meta(description="Anything worth knowing about it.")] | UnsetType = UNSET


# --- How it is said ---


def _read(reader: Reader, verb: str) -> What:
    known = ("axis", "jog", "step", "step-size", "home", "zero", "send", *_PLAIN)
    word, start = reader.argument(verb, ", ".join(known))
    match word:
        case "axis":
            return Axis(_axes(reader, "machine axis", 1))
        case "jog":
            return _read_jog(reader)
        case "step":
            named = _AXES.fullmatch(reader.peek()) is not None
            axis = _axes(reader, "machine step", 1) if named else ""
            return StepBy(_number(reader, "machine step", signed=True), axis)
        case "step-size":
            if reader.peek() in _SIZES:
                return StepSize(reader.word()[0])
            return StepSize(_number(reader, "machine step-size", least=1e-6))
        case "home":
            return Home(_axes(reader, "machine home") if _AXES.fullmatch(reader.peek()) is not None else "")
        case "zero":
            return Zero(_axes(reader, "machine zero"))
        case "send":
            return Lines(reader.quoted("machine send"))
        case _ if word in _PLAIN:
            return Order(word)
    raise reader.error(f"a machine cannot `{word}`: {', '.join(known)}", word, start, nearest(word, known))


def _read_jog(reader: Reader) -> Jog:
    axes = "" if reader.peek() in ("rate", "at") else _axes(reader, "machine jog", 2)
    how, start = reader.argument(
        "machine jog", "`rate` and a speed by the way of the control, or `at` and one while it is held"
    )
    if how not in ("rate", "at"):
        raise reader.error(f"`{how}` is neither `rate` nor `at`", how, start, nearest(how, ("rate", "at")))
    if how == "at" and len(axes) > 1:
        raise reader.error("at one speed goes one axis", how, start, "rate")
    return Jog(axes, _number(reader, f"machine jog … {how}"), how == "rate")


def _axes(reader: Reader, verb: str, most: int = len(AXIS_NAMES)) -> str:
    word, start = reader.argument(verb, f"an axis: {', '.join(AXIS_NAMES)}")
    if _AXES.fullmatch(word) is None or len({*word}) < len(word):
        raise reader.error(f"`{word}` is no axis: {', '.join(AXIS_NAMES)}", word, start)
    if len(word) > most:
        raise reader.error(
            f"`{verb}` takes {'one axis' if most == 1 else 'two axes at most'}", word, start, word[:most]
        )
    return word


def _number(reader: Reader, verb: str, signed: bool = False, least: float = 0.0) -> float:
    word, start = reader.argument(verb, "a number")
    found = _NUMBER.fullmatch(word)
    if found is None or (least and float(word) < least):
        raise PhraseError(f"`{word}` is no number" + (" above 0" if least else ""), start, len(word))
    if signed and not found[1]:
        raise PhraseError("a step says which way it goes", start, len(word), f"+{word}")
    return float(word) + 0.0


def _plain(number: float, signed: bool = False) -> str:
    written = f"{number:+.6f}" if signed else f"{number:.6f}"
    return written.rstrip("0").rstrip(".")


def _write(what: What) -> str:
    match what:
        case Axis(axis):
            return f"axis {axis}"
        case Jog(axes, speed, by_way):
            return f"jog {axes + ' ' if axes else ''}{'rate' if by_way else 'at'} {_plain(speed)}"
        case StepBy(number, axis):
            return f"step {axis + ' ' if axis else ''}{_plain(number, signed=True)}"
        case StepSize(size):
            return f"step-size {size if isinstance(size, str) else _plain(size)}"
        case Home(axes):
            return f"home {axes}".rstrip()
        case Zero(axes):
            return f"zero {axes}"
        case Lines(text):
            return f"send {in_quotes(text)}"
        case Order(word):
            return word


# --- What it comes down to ---


def _steps(said: RunMachine) -> tuple[Step, ...]:
    of = said.of
    match said.what:
        case Axis(axis):
            return (_send("axis", of, axis),)
        case Jog(axes, speed, True):
            return (Steer("machine", "jog", (of, axes), speed, two=len(axes) == 2),)
        case Jog(axes, speed):
            return (Hold((("machine", f"{of} {axes} {speed!r}"),)),)
        case StepBy(number, axis):
            return (_send("step", of, axis, "units" if axis else "sizes", number),)
        case StepSize(size):
            return (_send("step-size", of, size),)
        case Home(axes):
            return (_send("home", of, axes),)
        case Zero(axes):
            return (_send("zero", of, axes),)
        case Lines(text):
            return (_send("send", of, text.splitlines()),)
        case Order(word):
            return (_send(word, of),)


def _send(act: str, *values: object) -> Send:
    return Send("machine", act, values)


def _held(act: str) -> Callable[[str], tuple[Any, ...]]:
    def values(name: str) -> tuple[Any, ...]:
        of, axes, speed = name.split(" ")
        return (act, of, axes, float(speed))

    return values


def _spelled(name: str) -> str:
    _, axes, speed = name.split(" ")
    return f"machine {_write(Jog(axes, float(speed), False))}"


# --- What the desk makes of it ---


def settings_in(tables: Mapping[str, Any], name: str) -> MachineSettings:
    """The settings of a machine of the desk. Raises ValueError with what is wrong."""
    return settings_of(name, entry(tables, "machine", name))


def _settle(said: RunMachine, around: Surrounding) -> Iterable[Said]:
    known = around.table("machine")
    if not said.of and len(known) > 1:
        raise Unsettled("the desk has several machines, so this one has to be named", "", f"`of {next(iter(known))}`")
    name = the_one(around, "machine", said.of, 'a [machine.NAME] with `link = "serial /dev/ttyACM0 115200"`')
    try:
        settings = settings_in(around.tables, name)
    except ValueError as why:
        raise Unsettled(f"[machine.{name}]: {why}") from None
    for axis in _axes_of(said.what):
        if axis not in settings.axes:
            said_of_it = _write(said.what).partition(" ")[0]
            raise Unsettled(f"`{name}` has no axis `{axis}`", f"{said_of_it} {axis}", ", ".join(settings.axes))
    if (
        isinstance(said.what, StepSize)
        and not isinstance(said.what.size, str)
        and said.what.size not in settings.step_sizes
    ):
        sizes = ", ".join(f"{size:g}" for size in settings.step_sizes)
        raise Unsettled(f"{said.what.size:g} is none of its step sizes", f"{said.what.size:g}", sizes)
    if isinstance(said.what, Lines):
        for number, one in enumerate(_explained(said.what, settings), 1):
            if one.errors:
                wrong, column = one.errors[0]
                raise Unsettled(f"{wrong} (line {number}, column {column}: `{shortened(one.text, 30)}`)", one.text)
    return (filled(said, of=name),)


def _axes_of(what: What) -> str:
    match what:
        case Axis(axes) | Jog(axes) | Home(axes) | Zero(axes):
            return axes
        case StepBy(axis=axis):
            return axis
    return ""


def _explained(what: Lines, settings: MachineSettings) -> list[Told]:
    return list(explained(what.text.splitlines(), settings.machine()))


def _judge(said: RunMachine, around: Surrounding) -> Iterable[Finding]:
    settings = settings_in(around.tables, said.of)
    match said.what:
        case Jog(axes, speed):
            fastest = {axis: settings.axes[axis].fastest * 60 / settings.unit(axis) for axis in axes or settings.axes}
            slow = [axis for axis, most in fastest.items() if abs(speed) > most * 1.0001]
            if slow and (axes or len(slow) == len(fastest)):
                most = max(fastest[axis] for axis in slow)
                yield Finding(
                    "speeds beyond what a machine does",
                    f"{' and '.join(slow)} goes {most:g} {settings.units[slow[0]]} a minute at most, and never {abs(speed):g}",
                    "warning",
                    f"{most:g}",
                )
        case StepBy(number, axis) if axis:
            travel = (settings.axes[axis].most - settings.axes[axis].least) / settings.unit(axis)
            if abs(number) > travel:
                yield Finding(
                    "steps beyond the travel",
                    f"{axis} goes {travel:g} {settings.units[axis]} from end to end",
                    "warning",
                )
        case Lines() as what:
            for number, one in enumerate(_explained(what, settings), 1):
                for warning in one.warnings:
                    yield Finding(
                        "programs worth a second look",
                        f"line {number}, `{shortened(one.text, 30)}`: {warning}",
                        "warning",
                    )


def _risk(effect: tuple[Any, ...], tables: Mapping[str, Any]) -> str:
    act, name, *values = effect
    link = entry(tables, "machine", name).get("link", "")
    if act == "send":
        return f"has the machine {name} ({link}) carry out: {'; '.join(values[0])}"
    return (
        f"moves the machine {name} ({link})"
        if act in ("jog", "begin", "step", "home", "zero", "resume", "unlock")
        else ""
    )


def _resolver(tables: Mapping[str, Any]) -> Callable[[str, tuple[Any, ...]], tuple[Any, ...] | None]:
    return Chosen(tables).resolved


# --- How it reads and waits ---


def _goes(machine: str, axes: str, speeds: list[float], chosen: str = "") -> str:
    named = chosen or axes or "its axis"
    if not any(speeds):
        return f"{machine}: {named} rests"
    return f"{machine}: {named} at {', '.join(f'{speed:g}' for speed in speeds)} a minute"


def _jog_queued(machine: str, axes: str, speeds: list[float], chosen: str = "") -> Queued:
    return Queued("newest", (machine, axes))


def _stepped(machine: str, axis: str, counted: str, number: float) -> str:
    if counted == "sizes":
        return f"{machine}: {axis or 'its axis'} {number:+g} step{'s' if abs(number) != 1 else ''}"
    return f"{machine}: {axis or 'its axis'} {number:+g}"


WHAT = Argument(
    'axis AXIS | jog [AXES] rate SPEED | jog [AXIS] at SPEED | step [AXIS] +N | step-size next|previous|N | home [AXES] | '
    'zero AXES | send "LINES" | hold | resume | stop | unlock',
    _read, _write,
    (Axis("x"), Jog("", 1500, True), Jog("x", 600, False), Jog("", -600, False), Jog("xy", 1200, True), Jog("z", -90.5, True),
     StepBy(1), StepBy(-3), StepBy(0.1, "x"), StepSize("next"), StepSize("previous"), StepSize(0.1), Home(), Home("x"), Zero("x"),
     Zero("xy"), Lines("G53 G0 Z0"), Lines("G91\nG0 X1"), Order("hold"), Order("resume"), Order("stop"), Order("unlock")),
)  # fmt: skip
OF = Argument(
    "[of NAME]",
    lambda reader, verb: read_to(reader, verb, "of"),
    lambda name: f"of {name}" if name else "",
    ("", "rail"),
)


def _act(act: str, fields: tuple[str, ...], words: Callable[..., str], about: str, **more: Any) -> Act:
    return Act("machine", act, ("machine", *fields), words, about, mood="change", **more)


OUTPUT = Output(
    "machine",
    "Machines",
    "Jogs the axes of machines, step by step or as long as a control is off its rest, homes them, tells them lines.",
    "fenko.integrations.machine.worker:MachineWorker",
    verbs=(
        Verb("machine", RunMachine, (WHAT, OF), _steps, "machine jog x at 600",
             "moves a machine: `axis x` chooses, `jog rate 1500` goes as fast as the control is off its rest (`jog xy rate 1200` on a "
             "stick), `jog x at 600` while it is held, `step +1` a step size a detent, `step x +0.1`, `step-size next`, `home`, "
             '`zero x`, `send "G53 G0 Z0"`, `hold`, `resume`, `stop`, `unlock` after an alarm; `of NAME` where there are several'),
    ),
    acts=(
        _act("axis", ("axis",), lambda machine, axis: f"{machine}: axis {axis}", "a [machine.NAME]; the axis that is chosen"),
        _act("step-size", ("size",), lambda machine, size: f"{machine}: step size {size if isinstance(size, str) else f'{size:g}'}",
             "a [machine.NAME]; `next`, `previous`, or a number"),
        _act("jog", ("axes", "speeds", "chosen"), _goes,
             "a [machine.NAME]; its axes (empty: the chosen one); how fast each goes, in units a minute, 0 where it rests",
             queued=_jog_queued, watched=_WATCHED),
        _act("begin", ("axis", "speed", "chosen"), lambda machine, axis, speed, chosen="": _goes(machine, axis, [speed], chosen),
             "the same, of a control that is held", queued=lambda machine, axis, speed, chosen="": Queued("begin", (machine, axis, speed)),
             watched=_WATCHED),
        _act("end", ("axis", "speed", "chosen"), lambda machine, axis, speed, chosen="": _goes(machine, axis, [0.0], chosen),
             "and let go", queued=lambda machine, axis, speed, chosen="": Queued("end", (machine, axis, speed))),
        _act("step", ("axis", "counted", "number"), _stepped,
             "a [machine.NAME]; its axis (empty: the chosen one); `sizes` or `units`; so many of them", queues="summed",
             queued=lambda *values: Queued("all"), watched=_WATCHED),
        _act("home", ("axes",), lambda machine, axes: f"{machine}: homes {', '.join(axes) or 'all axes'}",
             "a [machine.NAME]; its axes (empty: all)", watched=_WATCHED),
        _act("zero", ("axes",), lambda machine, axes: f"{machine}: {', '.join(axes)} = 0 here", "a [machine.NAME]; its axes", watched=_WATCHED),
        _act("send", ("lines",), lambda machine, lines: f'{machine}: "{shortened("; ".join(lines))}"', "a [machine.NAME]; lines of G-code",
             watched=_WATCHED),
        _act("hold", (), lambda machine: f"{machine}: holds", "a [machine.NAME]"),
        _act("resume", (), lambda machine: f"{machine}: goes on", "a [machine.NAME]", watched=_WATCHED),
        _act("unlock", (), lambda machine: f"{machine}: its alarm is cleared", "a [machine.NAME]", watched=_WATCHED),
        _act("stop", (), lambda machine: f"{machine}: stops", "a [machine.NAME]", queued=lambda machine: Queued("end", (machine, "stop"))),
    ),
    held=(Held("machine", _held("begin"), _held("end"), _spelled, ends_with_profile=True),),
    tables={"machine": dict[str, MachineTable]},
    settle=_settle,
    judge=_judge,
    risk=_risk,
    ready="fenko.integrations.machine.worker:ready",
    listens=lambda tables: bool(tables.get("machine")),
    each="machine",
    end=lambda machine, *values: machine,
    resolver=_resolver,
    checks="fenko.integrations.machine.checks:check",
    in_words=standing,
    simulation="fenko.integrations.machine.simulation:MachineSimulation",
    place=100,
)  # fmt: skip
