"""The engine: changes of controls go in, effects come out.

Time is a number of seconds that the caller brings with each change; nothing here reads a clock. `feed` takes one
change, `advance` lets time pass, `deadline` says when something will happen by itself, `release_all` lifts
everything. Each returns the effects, in order, with the time at which each is due.

How it keeps its promises
=========================

1.  What is down is never counted, it is derived. `_holders` says who holds which keys (a cell, or the stroke in
    flight); a key is down as long as any holder has it. A key goes down with its first holder and comes up with its
    last, and there is no count that could go wrong.

2.  What a release undoes was fixed at its press: a holder carries the keys of its press, so a profile that changes in
    between changes nothing that is held.

3.  Actions that are not just held keys are *runs*: steps that go on by themselves, with strokes (down, then up after
    `timing.stroke`). At most one stroke is in flight. Whatever wants keys next lifts it at once, so a stroke never
    makes anything wait and never mixes its modifiers into somebody else's keys.

4.  Runs of one cell follow one another in order. A new one hurries the one before it: the rest of its strokes go out
    without their pauses (a dial that is turned fast does not lag). Only a `wait` step is never cut short.

5.  Time comes before change: what was due before a change happens before it, at its own time. So it makes no
    difference whether time is let pass in one go or in pieces. A hold that is due at the very moment of the release is
    a hold.

6.  The common case is a button that holds keys while nothing else is down. `feed` handles it with one look-up and
    keeps it apart (`_alone`); whatever else happens takes it in among the holders first.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from math import inf
from typing import Any

from fenko.core.axes import Detents, pressed_end
from fenko.core.changes import FOCUS, KEYBOARD, PLUG, UNPLUG, Change, Effect
from fenko.core.controls import BUTTON, DIAL, MOTION, WHEEL, Shape, shape_of
from fenko.core.phrase import Keys, Pause, Step, Type, Wait
from fenko.core.phrase import Profile as ProfileStep
from fenko.core.plan import BASE, Binding, Cell, Focus, Plan, Profile, Report, Table, mirrored_keys, unrolled

_NOTHING: tuple[Effect, ...] = ()
_STROKE = ""  # the holder that stands for the stroke in flight; no cell has an empty address


class _Press:
    """A press of a cell that waits for more than the press: its cell as it was then, and when `hold` is reached."""

    __slots__ = ("cell", "due", "order", "pending")

    def __init__(self, cell: Cell, due: float, order: int) -> None:
        self.cell = cell
        self.due = due
        self.order = order
        self.pending = True


class _Run:
    """An action on its way through its steps; the next is due at `due`."""

    __slots__ = ("due", "lane", "next", "order", "steps")

    def __init__(self, lane: str, steps: tuple[Step, ...], order: int) -> None:
        self.lane = lane
        self.steps = steps
        self.next = 0
        self.due = inf
        self.order = order


class Engine:
    """Turns changes into effects by a plan. `report`, if given, is told of each action that starts."""

    def __init__(self, plan: Plan, report: Report | None = None) -> None:
        self.plan = plan
        self.deadline = inf
        self.focus = Focus()
        self.keyboard: tuple[str, ...] = ()
        self.paused = False
        self.profile: Profile = plan.profiles[BASE]
        self.by_hand = False
        self._report = report
        self._table: Table = {}
        self._instant: dict[str, tuple[str, ...]] = {}
        self._holders: dict[str, tuple[str, ...]] = {}
        # The cell that `feed` pressed the short way, and its keys; kept apart as long as nothing else happens.
        self._alone: str | None = None
        self._alone_keys: tuple[str, ...] = ()
        self._buttons: dict[str, str] = {}
        self._presses: dict[str, _Press] = {}
        self._lanes: dict[str, list[_Run]] = {}
        self._stroking: _Run | None = None
        self._ends: dict[str, int] = {}
        self._detents: dict[str, Detents] = {}
        self._shapes: dict[str, tuple[str, Shape]] = {}
        self._order = 0
        self._effects: list[Effect] = []
        self._use_tables()

    # --- The public surface ---

    def feed(self, change: Change) -> Sequence[Effect]:
        """Takes one change, after all that was due before it. Times must not run backwards."""
        t, address, value = change
        if t < self.deadline:
            if value == 1:
                if self._alone is None and not self._holders:
                    try:
                        keys = self._instant[address]
                    except KeyError:
                        pass
                    else:
                        self._alone = address
                        self._alone_keys = keys
                        if len(keys) == 2:
                            return ((t, "keys", "down", keys[0]), (t, "keys", "down", keys[1]))
                        return [(t, "keys", "down", key) for key in keys]
            elif value == 0 and address == self._alone:
                self._alone = None
                keys = self._alone_keys
                if len(keys) == 2:
                    return ((t, "keys", "up", keys[1]), (t, "keys", "up", keys[0]))
                return [(t, "keys", "up", key) for key in reversed(keys)]
        else:
            self._pass_time(t)
        self._change(t, address, value)
        return self._finish()

    def advance(self, now: float) -> Sequence[Effect]:
        """Lets time pass until `now`: all that is due by then happens, each thing at its own time."""
        if now < self.deadline:
            return _NOTHING
        self._pass_time(now)
        return self._finish()

    def release_all(self, now: float) -> Sequence[Effect]:
        """Lifts everything and forgets every gesture and action under way. What hands still hold stays silent."""
        self._release_all(now)
        return self._finish()

    @property
    def held(self) -> tuple[str, ...]:
        """The keys and buttons that are down now because of this engine, in the order of going down."""
        self._take_in()
        keys = (key for held in self._holders.values() for key in held)
        return (*dict.fromkeys(keys), *self._buttons.values())

    def _take_in(self) -> None:
        """Puts the press that came the short way among the holders, before anything else happens."""
        if self._alone is not None:
            self._holders[self._alone] = self._alone_keys
            self._alone = None

    # --- Changes ---

    def _change(self, t: float, address: str, value: Any) -> None:
        self._take_in()
        known = self._shapes.get(address)
        if known is None:
            if address == FOCUS:
                self._focus_on(t, value)
                return
            if address == KEYBOARD:
                self.keyboard = value
                return
            if address == UNPLUG:
                self._unplug(t, value)
                return
            if address == PLUG:
                return
            known = self._shapes[address] = self._look_up(address)
        control, shape = known
        if shape is BUTTON:
            self._set(t, address, bool(value))
        elif shape is MOTION:
            self._moved(t, address, value)
        elif shape.turns:
            self._turned(t, address, shape, value)
        else:
            self._axis(t, address, control, shape, value)

    def _look_up(self, address: str) -> tuple[str, Shape]:
        """The control's address and how changes at `address` act."""
        surface, _, rest = address.partition(".")
        control, _, part = rest.partition(".")
        kernel = self.plan.surfaces[surface].kernel_name(control) or control
        shape = shape_of(kernel)
        whole = f"{surface}.{control}"
        if part in shape.directions and part not in shape.axes:
            return whole, BUTTON  # a direction that has a switch of its own
        return whole, shape

    def _axis(self, t: float, address: str, control: str, shape: Shape, value: float) -> None:
        ends = shape.axes[address[len(control) + 1 :]]
        before = self._ends.get(address, 0)
        now = pressed_end(value, before)
        if now == before:
            return
        self._ends[address] = now
        for end, on in ((before, False), (now, True)):
            cell = ends[end > 0] if end else None
            if cell is not None:
                self._set(t, f"{control}.{cell}" if cell else control, on)

    def _turned(self, t: float, address: str, shape: Shape, value: float) -> None:
        assert shape.turns is not None
        cells = [f"{address}.{turn}" for turn in shape.turns]
        if not any(cell in self._table for cell in cells):
            if self.plan.surfaces[address.partition(".")[0]].passes and not self.paused and shape is not DIAL:
                lines = (0, -value) if shape is WHEEL else (value, 0)
                self._effects.append((t, "pointer", "scroll", *lines))
            return
        whole = self._detents.setdefault(address, Detents()).turn(value)
        cell = self._table.get(cells[whole > 0])
        if cell is not None and cell.press is not None:
            for _ in range(abs(whole)):
                self._start(t, cell, "turn", cell.press, held=False)

    def _moved(self, t: float, address: str, value: float) -> None:
        if self.plan.surfaces[address.partition(".")[0]].passes and not self.paused:
            step = (value, 0) if address.endswith("x") else (0, value)
            self._effects.append((t, "pointer", "move", *step))

    def _set(self, t: float, address: str, on: bool) -> None:
        if on:
            if address not in self._holders and address not in self._presses and address not in self._buttons:
                self._press(t, address)
            return
        self._undo(t, address)
        press = self._presses.pop(address, None)
        if press is not None:
            if press.cell.tap is not None and press.pending and t < press.due:
                self._start(t, press.cell, "tap", press.cell.tap, held=False)
            if press.cell.release is not None:
                self._start(t, press.cell, "release", press.cell.release, held=False)

    def _undo(self, t: float, address: str) -> None:
        """Lifts what the press of this cell put down."""
        self._lift_holder(t, address)
        button = self._buttons.pop(address, None)
        if button is not None and button not in self._buttons.values():
            self._effects.append((t, "pointer", "up", button))

    def _press(self, t: float, address: str) -> None:
        cell = self._table.get(address)
        if cell is None:
            self._pass_on(t, address)
            return
        if cell.waits:
            self._order += 1
            self._presses[address] = _Press(cell, t + self.plan.timing.hold, self._order)
        if cell.press is not None:
            self._start(t, cell, "press", cell.press, held=True)

    def _pass_on(self, t: float, address: str) -> None:
        """Sends on what no binding wants, on surfaces that Fenko has taken over for itself."""
        if self.paused:
            return
        surface, _, control = address.partition(".")
        passed = self.plan.surfaces[surface].passed_on(control)
        if passed is None:
            return
        if self._report is not None:
            self._report(t, address, "press", "", None)
        out, name = passed
        if out == "keys":
            self._hold(t, address, (name,))
        else:
            if name not in self._buttons.values():
                self._effects.append((t, "pointer", "down", name))
            self._buttons[address] = name

    def _unplug(self, t: float, surface: str) -> None:
        """The controls of a surface that went away are at rest, but no hand let go of them: nothing was tapped."""
        prefix = f"{surface}."
        for state in (self._holders, self._buttons, self._presses):
            for address in [address for address in state if address.startswith(prefix)]:
                if address in self._presses:
                    self._presses[address].due = t
                self._set(t, address, False)
        for axis in [axis for axis in (*self._ends, *self._detents) if axis.startswith(prefix)]:
            self._ends.pop(axis, None)
            self._detents.pop(axis, None)

    # --- Actions ---

    def _start(self, t: float, cell: Cell, gesture: str, binding: Binding, held: bool) -> None:
        if self._report is not None:
            self._report(t, cell.address, gesture, cell.profile, binding)
        if held and (keys := mirrored_keys(binding)):
            self._hold(t, cell.address, keys)
            return
        if cell.address in self._lanes:
            self._hurry(t, self._lanes[cell.address][0])
        self._order += 1
        run = _Run(cell.address, unrolled(binding.phrase), self._order)
        self._lanes.setdefault(cell.address, []).append(run)
        if self._runs(run):
            self._resume(t, run)

    def _resume(self, t: float, run: _Run) -> None:
        """Goes on with a run until it has to wait or is through; then the next of its lane starts."""
        if self._stroking is run:
            self._lift_stroke(t)
        while run.next < len(run.steps):
            step = run.steps[run.next]
            run.next += 1
            pause = self._do(t, run, step)
            if pause:
                run.due = t + pause
                return
            if not self._runs(run):
                return  # the step was `pause`, and everything under way was forgotten
        lane = self._lanes[run.lane]
        lane.pop(0)
        if lane:
            self._resume(t, lane[0])
        else:
            del self._lanes[run.lane]

    def _do(self, t: float, run: _Run, step: Step) -> float:
        """Does one step; returns how long the run has to wait after it."""
        if isinstance(step, Keys):
            self._lift_stroke(t)
            self._hold(t, _STROKE, step.keys)
            self._stroking = run
            return self.plan.timing.stroke
        if isinstance(step, Wait):
            return step.seconds
        if isinstance(step, Type):
            self._lift_stroke(t)
            self._effects.append((t, "keys", "type", step.text))
        elif isinstance(step, ProfileStep):
            self._profile_by_hand(t, step.name)
        elif isinstance(step, Pause):
            self._toggle_pause(t)
        return 0.0

    def _hurry(self, t: float, run: _Run) -> None:
        """Sends the strokes that remain of a run without the pauses between them, up to its next `wait` step."""
        while self._runs(run) and not isinstance(run.steps[run.next - 1], Wait):
            self._resume(t, run)

    def _runs(self, run: _Run) -> bool:
        """Whether it is this run's turn in its lane."""
        lane = self._lanes.get(run.lane)
        return lane is not None and lane[0] is run

    # --- Keys ---

    def _hold(self, t: float, holder: str, keys: tuple[str, ...]) -> None:
        self._lift_stroke(t)
        down = {key for held in self._holders.values() for key in held}
        mine = self._holders.get(holder, ())
        self._holders[holder] = mine + tuple(key for key in keys if key not in mine)
        self._effects.extend((t, "keys", "down", key) for key in keys if key not in down)

    def _lift_holder(self, t: float, holder: str) -> None:
        keys = self._holders.pop(holder, None)
        if keys:
            still = {key for held in self._holders.values() for key in held}
            self._effects.extend((t, "keys", "up", key) for key in reversed(keys) if key not in still)

    def _lift_stroke(self, t: float) -> None:
        if self._stroking is not None:
            self._stroking = None
            self._lift_holder(t, _STROKE)

    def _release_all(self, t: float) -> None:
        self._take_in()
        self._effects.extend((t, "keys", "up", key) for key in reversed(self._held_keys()))
        self._effects.extend((t, "pointer", "up", button) for button in dict.fromkeys(self._buttons.values()))
        self._stroking = None
        for state in (self._holders, self._buttons, self._presses, self._lanes, self._detents):
            state.clear()

    def _held_keys(self) -> list[str]:
        return list(dict.fromkeys(key for held in self._holders.values() for key in held))

    # --- Profiles and pause ---

    def _focus_on(self, t: float, focus: Focus) -> None:
        self.focus = focus
        if not self.by_hand:
            self._put_in_force(t, self.plan.choose(focus), "focus")

    def _profile_by_hand(self, t: float, name: str) -> None:
        self.by_hand = name != "auto"
        if name == "auto":
            self._put_in_force(t, self.plan.choose(self.focus), "focus")
            return
        steps = {"next": 1, "previous": -1}
        if name in steps:
            name = self.plan.neighbour(self.profile.name, steps[name])
        self._put_in_force(t, name, "hand")

    def _put_in_force(self, t: float, name: str, by: str) -> None:
        if name != self.profile.name:
            self.profile = self.plan.profiles[name]
            self._use_tables()
            self._effects.append((t, "fenko", "profile", name, by))

    def _toggle_pause(self, t: float) -> None:
        self._release_all(t)
        self.paused = not self.paused
        self._use_tables()
        self._effects.append((t, "fenko", "pause", self.paused))

    def _use_tables(self) -> None:
        self._table = self.profile.paused if self.paused else self.profile.table
        # Whoever wants reports wants them of every press, so nothing may take the short way.
        self._instant = {} if self.paused or self._report is not None else self.profile.instant

    # --- Time ---

    def _pass_time(self, now: float) -> None:
        self._take_in()
        while (due := self._next_due()) is not None and due[0] <= now:
            t, _, happen = due
            happen(t)

    def _next_due(self) -> tuple[float, int, Callable[[float], None]] | None:
        """What is due first; of two things at one time, the one that began first."""
        first: tuple[float, int, Callable[[float], None]] | None = None
        for press in self._presses.values():
            if (
                press.pending
                and press.cell.hold is not None
                and (first is None or (press.due, press.order) < first[:2])
            ):
                first = (press.due, press.order, lambda t, press=press: self._reach_hold(t, press))
        for lane in self._lanes.values():
            run = lane[0]
            if first is None or (run.due, run.order) < first[:2]:
                first = (run.due, run.order, lambda t, run=run: self._resume(t, run))
        return first

    def _reach_hold(self, t: float, press: _Press) -> None:
        press.pending = False
        assert press.cell.hold is not None
        self._start(t, press.cell, "hold", press.cell.hold, held=True)

    def _finish(self) -> Sequence[Effect]:
        due = self._next_due()
        self.deadline = inf if due is None else due[0]
        effects = self._effects
        if not effects:
            return _NOTHING
        self._effects = []
        return effects
