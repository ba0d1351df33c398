"""What goes on as long as a control is off its rest: the pointer moves, something scrolls, a value follows or moves.

Between two changes every speed is constant, so what has been moved is added up exactly, whenever it is told. It is told on
one steady tick, which exists only while something moves, and at once where motion ends. What is left of a pixel is kept.
"""

from __future__ import annotations

from collections.abc import Mapping
from math import hypot, inf

from fenko.core.agenda import Agenda, after
from fenko.core.changes import Effect, Moving
from fenko.core.conditioning import OneEuro, Shaping
from fenko.core.controls import BUTTON, TOWARDS
from fenko.core.drives import Drive
from fenko.core.plan import Plan, Report, Surface
from fenko.core.stack import Stack
from fenko.core.steps import Follow, Item, Move, Rate, Steer
from fenko.core.values import Values

REST = (0.0, 0.0)
_SETTLED = 0.0005
"""A smoothed position that is as close as this to where the control is has arrived there."""
_DIGITS = 3
"""Digits of a pixel or line that are told; what is less is kept for the next time."""


_SPEED_DIGITS = 2
"""Digits of a speed that another end is told."""
Steered = tuple[str, str, tuple[object, ...]]


class Driven:
    """One control with axes: where it is (`at`, across and down), what that comes to (`wanted`), and the same smoothed
    (`made`). `resting`: it has to come to rest before it moves anything again. `met` tells of parts by which a value is to
    be picked up: where the control was last, and the number that it set, if it did."""

    __slots__ = ("at", "drives", "filters", "made", "met", "moving", "one_axis", "resting", "shaping", "wanted")

    def __init__(self) -> None:
        self.at = [0.0, 0.0]
        self.wanted = self.made = REST
        self.one_axis = False
        self.shaping: Shaping
        self.filters: tuple[OneEuro, OneEuro] | None = None
        self.drives: tuple[Drive, ...] = ()
        self.moving = False
        self.resting = False
        self.met: dict[str, tuple[float, float | None]] = {}

    @property
    def steers(self) -> bool:
        """Whether it has another end told how fast something goes."""
        return any(isinstance(drive.step, Steer) for drive in self.drives)

    def condition_by(self, surface: Surface, control: str) -> None:
        """What its position comes to, by what the desk says of it."""
        by = surface.conditioning_of(control)
        shape = surface.shape(control) or BUTTON
        self.one_axis = tuple(shape.axes) == ("",)
        self.shaping = Shaping(by, self.one_axis and shape.axes[""][0] is None)
        self.filters = (OneEuro(by.smooth), OneEuro(by.smooth)) if by.smooth else None


class Axis:
    """One axis of a control."""

    __slots__ = ("control", "index")

    def __init__(self, control: Driven, index: int) -> None:
        self.control = control
        self.index = index


class Motion:
    """All that moves by itself. `out` takes the effects, `report` is told of what begins to move."""

    def __init__(
        self, plan: Plan, agenda: Agenda, values: Values, out: list[Effect], stack: Stack, report: Report | None
    ) -> None:
        self.axes: dict[str, Axis] = {}
        """Every axis that has moved so far, by its address."""
        self._surfaces: Mapping[str, Surface] = plan.surfaces
        self._tick_every = plan.timing.tick
        self._agenda = agenda
        self._values = values
        self._out = out
        self._stack = stack
        self.report = report
        self._controls: dict[str, Driven] = {}
        self._active: list[Driven] = []
        self._since = -inf
        self._move = [0.0, 0.0, 0.0, 0.0]  # how fast across and down, and what has not been told yet
        self._scroll = [0.0, 0.0, 0.0, 0.0]
        self._rates: dict[Item, list[float]] = {}  # how fast, and what has not been told yet
        self._steered: dict[Steered, tuple[float, ...]] = {}  # how fast, as was told last
        self._going = False
        self.gliding: Driven | None = None
        """A stick or hat that moves the pointer, or scrolls, as a whole, while nothing else moves: the common case."""
        self._glide = self._move
        self._glides_by = 0.0
        self.tick = agenda.entry(self._ticked, repeats=True)

    def use_plan(self, t: float, plan: Plan) -> None:
        """Another plan is in force; where controls are is known on."""
        self._pass(t)
        self._surfaces = plan.surfaces
        self._tick_every = plan.timing.tick
        for address, control in self._controls.items():
            surface, _, own = address.partition(".")
            control.condition_by(plan.surfaces[surface], own)

    # --- Controls ---

    def axis(self, address: str, control: str, part: str) -> Axis:
        """The axis at an address; known from now on."""
        found = self.axes.get(address)
        if found is None:
            found = self.axes[address] = Axis(self._control(control), int(part == "y"))
        return found

    def _control(self, address: str) -> Driven:
        known = self._controls.get(address)
        if known is None:
            known = self._controls[address] = Driven()
            surface, _, own = address.partition(".")
            known.condition_by(self._surfaces[surface], own)
            known.drives = self._stack.drives(address)
        return known

    def depth(self, cell: str) -> float:
        """How far the control of a cell is along it: 0 to 1; all the way for what has no way to go."""
        surface, _, own = cell.partition(".")
        control, _, part = own.partition(".")
        known = self._controls.get(f"{surface}.{control}")
        if known is None:
            return 1.0
        across, down = TOWARDS.get(part, (1, 0))
        return min(1.0, max(0.0, known.at[0] * across + known.at[1] * down))

    def press(self, t: float, control: str, direction: str, on: bool) -> None:
        """A direction that has a switch of its own was pressed, or let go."""
        across, down = TOWARDS[direction]
        driven = self._control(control)
        index = int(bool(down))
        if on:
            driven.at[index] = across or down
        elif driven.at[index] == (across or down):
            driven.at[index] = 0.0
        self._moved(t, driven)

    def set(self, t: float, axis: Axis, value: float) -> None:
        """An axis is there now."""
        control = axis.control
        control.at[axis.index] = value
        if control.drives:
            self._moved(t, control)

    def glide(self, t: float, control: Driven) -> bool:
        """The short way of the control that is gliding, which is somewhere else now; False if it came to rest."""
        x, y = control.at
        shaping = control.shaping
        distance = hypot(x, y)
        past = distance - shaping.dead
        if past <= 0:
            return False
        share = past / shaping.way
        scale = (1.0 if share >= 1 else share if shaping.linear else shaping.along(share)) / distance
        across, down = x * scale, y * scale
        control.made = control.wanted = (across, down)
        speeds, by = self._glide, self._glides_by
        passed = t - self._since
        if passed > 0:
            self._since = t
            speeds[2] += speeds[0] * passed
            speeds[3] += speeds[1] * passed
        speeds[0] = by * across
        speeds[1] = by * down
        return True

    def tick_until(self, now: float) -> None:
        """All ticks up to `now`, while nothing but a gliding control moves."""
        due, speeds, act = self.tick.due, self._glide, "move" if self._glide is self._move else "scroll"
        while due <= now:
            passed = due - self._since
            self._since = due
            far_across, far_down = speeds[2] + speeds[0] * passed, speeds[3] + speeds[1] * passed
            across, down = round(far_across, _DIGITS) + 0.0, round(far_down, _DIGITS) + 0.0
            speeds[2], speeds[3] = far_across - across, far_down - down
            if across or down:
                self._out.append((due, "pointer", act, across, down))
            due = after(due, self._tick_every)
        self._agenda.set(self.tick, due)

    def _moved(self, t: float, control: Driven) -> None:
        if not control.drives:
            return
        before = control.made
        self._pass(t)
        self._condition(t, control)
        if control.made == before:
            return
        self._begin_or_end(t, control)
        for drive in control.drives:
            if isinstance(drive.step, Follow):
                self._follow(t, control, drive, drive.step)
        self._sum_up(t)

    def _condition(self, t: float, control: Driven) -> None:
        x, y = control.at
        wanted = (control.shaping.one(x), 0.0) if control.one_axis else control.shaping.two(x, y)
        control.wanted = control.made = wanted
        if control.filters is not None and not (wanted == REST and control.steers):
            # Rest is rest at once for what is steered, however much is smoothed.
            across, down = control.filters
            x, y = across.at(t, wanted[0]), down.at(t, wanted[1])
            if abs(x - wanted[0]) > _SETTLED or abs(y - wanted[1]) > _SETTLED:
                control.made = (x, y)
        if control.resting and wanted == REST:
            control.resting = False

    def _begin_or_end(self, t: float, control: Driven) -> None:
        moving = control.made != REST and not control.resting and bool(control.drives)
        if moving == control.moving:
            return
        control.moving = moving
        if not moving:
            self._active.remove(control)
            return
        self._active.append(control)
        if self.report is not None:
            for drive in control.drives:
                if drive.along(*control.made):
                    self.report(t, drive.cell.address, "move", drive.cell.profile, drive.binding)

    # --- Speeds ---

    def _sum_up(self, t: float) -> None:
        """How fast everything moves now; what has come to rest is told at once."""
        move_x = move_y = scroll_x = scroll_y = 0.0
        rates: dict[Item, float] = {}
        steered: dict[Steered, tuple[float, ...]] = {}
        going = False
        for control in self._active:
            x, y = control.made
            going = going or control.made != control.wanted
            for drive in control.drives:
                step = drive.step
                if isinstance(step, Move):
                    across, down = drive.way(step.act, x, y)
                    if step.act == "move":
                        move_x += step.speed * across
                        move_y += step.speed * down
                    else:
                        scroll_x += step.speed * across
                        scroll_y += step.speed * down
                elif isinstance(step, Rate) and (along := drive.along(x, y)):
                    speed = self._values.value(step.target).number(step.speed, change=True)
                    rates[step.target] = rates.get(step.target, 0.0) + speed * along
                elif isinstance(step, Steer):
                    _steer(steered, drive, step, x, y)
        if steered or self._steered:
            self._tell_steered(t, steered)
        ended = False
        for speeds, across, down in ((self._move, move_x, move_y), (self._scroll, scroll_x, scroll_y)):
            moves = bool(across or down)
            ended = ended or (not moves and bool(speeds[0] or speeds[1]))
            going = going or moves
            speeds[0], speeds[1] = across, down
        if ended or self._rates.keys() - rates.keys():
            self._tell(t)
        self._rates = {item: [speed, self._rates.get(item, (0.0, 0.0))[1]] for item, speed in rates.items()}
        going = going or bool(rates)
        self.gliding = self._alone()
        if going != self._going:
            self._going = going
            self._agenda.set(self.tick, after(t, self._tick_every) if going else inf)

    def _tell_steered(self, t: float, steered: dict[Steered, tuple[float, ...]]) -> None:
        """Whoever is steered hears at once of every change."""
        for key in self._steered.keys() - steered.keys():
            steered[key] = (0.0,) * len(self._steered[key])
        for key, speeds in steered.items():
            speeds = steered[key] = tuple(round(speed, _SPEED_DIGITS) + 0.0 for speed in speeds)
            if speeds != self._steered.get(key):
                out, act, values = key
                self._out.append(Moving((t, out, act, *values, [*speeds])))
        self._steered = {key: speeds for key, speeds in steered.items() if any(speeds)}

    def _alone(self) -> Driven | None:
        if len(self._active) != 1:
            return None
        control = self._active[0]
        step = control.drives[0].step if len(control.drives) == 1 else None
        if not isinstance(step, Move) or control.drives[0].part or control.one_axis:
            return None
        if control.filters is not None or control.shaping.axial:
            return None
        self._glide = self._move if step.act == "move" else self._scroll
        self._glides_by = step.speed
        return control

    def _pass(self, t: float) -> None:
        """Adds up what has moved until `t`."""
        passed = t - self._since
        self._since = t
        if passed <= 0 or not self._going:
            return
        for speeds in (self._move, self._scroll):
            speeds[2] += speeds[0] * passed
            speeds[3] += speeds[1] * passed
        for rate in self._rates.values():
            rate[1] += rate[0] * passed

    def _tell(self, t: float) -> None:
        for act, speeds in (("move", self._move), ("scroll", self._scroll)):
            across, down = round(speeds[2], _DIGITS) + 0.0, round(speeds[3], _DIGITS) + 0.0
            if across or down:
                speeds[2] -= across
                speeds[3] -= down
                self._out.append((t, "pointer", act, across, down))
        for item, rate in self._rates.items():
            self._values.add(t, item, rate[1])
            rate[1] = 0.0

    def _ticked(self, t: float) -> None:
        self._agenda.set(self.tick, after(t, self._tick_every))
        self._pass(t)
        self._tell(t)
        for control in [control for control in self._active if control.made != control.wanted]:
            self._moved(t, control)

    # --- Values that follow ---

    def _follow(self, t: float, control: Driven, drive: Drive, step: Follow) -> None:
        value = self._values.value(step.target)
        number = value.between(drive.share(*control.made), step.low, step.high)
        if step.pick_up and not self._picked_up(control, drive.part, number, self._values.told(step.target)):
            return
        self._values.set(t, step.target, number, moving=True)
        control.met[drive.part] = (number, self._values.told(step.target))

    def _picked_up(self, control: Driven, part: str, number: float, now: float) -> bool:
        """Whether the control has met the value, or passed it, since somebody else set it."""
        before, mine = control.met.get(part, (number, None))
        if now == mine:
            return True
        control.met[part] = (number, None)
        return min(before, number) <= now <= max(before, number)

    # --- What is in force changes, and things go away ---

    def use_stack(self, t: float, stack: Stack) -> None:
        """Something else is in force: what is deflected goes on under it at once, but for what is steered: that
        ends, and begins again only after the control has been at rest."""
        self._pass(t)
        self._stack = stack
        for address, control in self._controls.items():
            drives = stack.drives(address)
            if drives != control.drives:
                # What another layer leaves as it was has still met its value.
                control.met = {
                    drive.part: control.met[drive.part] for drive in drives
                    if drive.part in control.met and any(drive.cell is before.cell for before in control.drives)
                }  # fmt: skip
                control.drives = drives
                if control.steers:
                    control.resting = control.made != REST or control.at != [0.0, 0.0]
                if control.moving:
                    control.moving = False
                    self._active.remove(control)
                self._condition(t, control)
                # A value that follows waits for the next move: a fader stays where it was left, and drags nothing along.
                if not all(isinstance(drive.step, Follow) for drive in drives):
                    self._begin_or_end(t, control)
        self._sum_up(t)

    def stop(self, t: float) -> None:
        """Everything stands still, and what is deflected moves nothing until it has been at rest."""
        self._pass(t)
        for control in self._controls.values():
            control.resting = control.made != REST or control.at != [0.0, 0.0]
            self._begin_or_end(t, control)
        self._sum_up(t)

    def unplug(self, t: float, surface: str) -> None:
        """The controls of a surface are gone, and move nothing."""
        self._pass(t)
        within = f"{surface}."
        self.axes = {address: axis for address, axis in self.axes.items() if not address.startswith(within)}
        for address in [address for address in self._controls if address.startswith(within)]:
            control = self._controls.pop(address)
            if control.moving:
                self._active.remove(control)
        self._sum_up(t)


def _steer(steered: dict[Steered, tuple[float, ...]], drive: Drive, step: Steer, x: float, y: float) -> None:
    """Adds what a control at `x`, `y` wants to what others want of the same."""
    key = (step.out, step.act, step.values)
    speeds = (step.speed * x, -step.speed * y) if step.two else (step.speed * drive.along(x, y),)
    steered[key] = tuple(a + b for a, b in zip(steered.get(key, (0.0, 0.0)), speeds, strict=False))
