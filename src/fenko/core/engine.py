"""The engine: changes of controls go in, effects come out.

Time is a number of seconds that the caller brings with each change; nothing here reads a clock. `feed` takes one
change, `advance` lets time pass, `deadline` says when something will happen by itself, `release_all` lifts
everything. Each returns the effects, in order, with the time at which each is due.

How it keeps its promises
=========================

1.  What is down is never counted, it is derived. `HeldKeys` says who holds which keys (a cell, an action, or the stroke
    in flight); a key is down as long as any holder has it. A key goes down with its first holder and comes up with its
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

7.  A press that may still become something else is kept until that is known, with the cell that it had when it came:
    members of chords in a *gathering*, keys that may send their code several times in a *burst*, taps that may be
    doubled in a *count*. Whatever is pressed next settles them first, so actions come in the order of the hand. What
    is not a member, not such a key, not counted, never waits.

8.  What devices tell is made into cells that are pressed and let go by the *contacts*: bounce, thresholds, directions
    between two. What is undecided there is due like everything else.

9.  Layers that are on stand in `_layers`, newest last, each with what keeps it on: a held cell, a lock, the next action,
    or what its `while` names. The tables of a profile with such layers are laid out once and kept.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from functools import partial
from math import inf
from random import Random
from typing import Any

from fenko.core.axes import Detents
from fenko.core.changes import FOCUS, KEYBOARD, PLUG, UNPLUG, Change, Effect
from fenko.core.contacts import Contacts, Due
from fenko.core.controls import BUTTON, DIAL, MOTION, WHEEL, Shape, shape_of
from fenko.core.held import HeldKeys
from fenko.core.pending import Burst, Count, Gathering, Pressed, Run
from fenko.core.phrase import Keys, Layer, Lift, Pause, Phrase, Press, Step, Toggle, Type, Wait
from fenko.core.phrase import Profile as ProfileStep
from fenko.core.plan import (
    BASE,
    Binding,
    Cell,
    Focus,
    Plan,
    Profile,
    Report,
    Tables,
    Timing,
    lay_out,
    mirrored_keys,
    repeats_while_held,
    unrolled,
    while_paused,
)

_NOTHING: tuple[Effect, ...] = ()
_STROKE = ""  # the holder that stands for the stroke in flight; no cell has an empty address
_TOUCH = "-touch"
_LOCKED, _ONCE, _WHILE = "locked", "once", "while"  # what keeps a layer on, where it is not a cell


class Engine:
    """Turns changes into effects by a plan. `report`, if given, is told of each action that starts; `seed` decides what
    comes at random."""

    def __init__(self, plan: Plan, report: Report | None = None, seed: int = 0) -> None:
        self.plan = plan
        self.deadline = inf
        self.focus = Focus()
        self.keyboard: tuple[str, ...] = ()
        self.paused = False
        self.profile: Profile = plan.profiles[BASE]
        self.by_hand = False
        self._report = report
        self._random = Random(seed)
        self._tables: Tables = self.profile.tables
        self._known_tables: dict[tuple[str, ...], Tables] = {}
        self._instant: dict[str, tuple[str, ...]] = {}
        self._held = HeldKeys()
        self._holders = self._held.holders
        # The cell that `feed` pressed the short way, and its keys; kept apart as long as nothing else happens.
        self._alone: str | None = None
        self._alone_keys: tuple[str, ...] = ()
        self._down: set[str] = set()
        self._presses: dict[str, Pressed] = {}
        self._counts: dict[str, Count] = {}
        self._gatherings: dict[str, Gathering] = {}
        self._bursts: dict[str, Burst] = {}
        # A cell that is pressed in place of others: each of these, to it.
        self._instead: dict[str, str] = {}
        self._lanes: dict[str, list[Run]] = {}
        self._stroking: Run | None = None
        self._toggled: dict[str, str | None] = {}
        self._turns: dict[tuple[str, str, str], int] = {}
        # (name, what keeps it on) of each layer, newest last.
        self._layers: list[tuple[str, str]] = []
        self._detents: dict[str, Detents] = {}
        self._turned_at: dict[str, float] = {}
        self._shapes: dict[str, tuple[str, Shape]] = {}
        self._order = 0
        self._contacts = Contacts(plan.surfaces, plan.timing.chord, self._number, self._set, self._tables)
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
        """The keys, and mouse buttons as `button left`, that are down now because of this engine, in the order of going
        down."""
        self._take_in()
        return tuple(self._held.keys)

    @property
    def toggled(self) -> tuple[str, ...]:
        """The keys that stay down until they are toggled again, the profile changes, or everything is lifted."""
        return tuple(key for holder in self._toggled for key in self._holders.get(holder, ()))

    @property
    def layers(self) -> tuple[str, ...]:
        """The layers that are on, newest last."""
        return tuple(dict.fromkeys(name for name, _ in reversed(self._layers)))[::-1]

    @property
    def comes_to_rest(self) -> bool:
        """Whether something is under way that ends by itself; what only goes on while a control is held does not."""
        return any(due[0] < inf for due in self._all_due(repeats=False))

    def use_profile(self, now: float, name: str) -> Sequence[Effect]:
        """Puts a profile in force by hand, or the `next` or `previous` one; with `auto` the focus decides again."""
        self._take_in()
        self._profile_by_hand(now, name)
        return self._finish()

    def lock_layer(self, now: float, name: str) -> Sequence[Effect]:
        """Puts a layer of the profile in force on top, until it is lifted."""
        self._take_in()
        self._set_layers(now, [*(on for on in self._layers if on != (name, _LOCKED)), (name, _LOCKED)])
        return self._finish()

    @property
    def tables(self) -> Tables:
        """All that is in force now."""
        return self._tables

    def cell(self, address: str) -> Cell | None:
        """What a cell does now; None where nothing is bound."""
        return self._tables.table.get(address)

    def _take_in(self) -> None:
        """Puts the press that came the short way among the holders, before anything else happens."""
        if self._alone is not None:
            self._holders[self._alone] = self._alone_keys
            self._down.add(self._alone)
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
                self._watch(t)
                return
            if address == UNPLUG:
                self._unplug(t, value)
                return
            if address == PLUG:
                return
            known = self._shapes[address] = self._look_up(address)
        control, shape = known
        if shape is BUTTON:
            self._contacts.button(t, address, control, bool(value))
        elif shape is MOTION:
            self._moved(t, address, value)
        elif shape.turns:
            self._turned(t, address, shape, value)
        else:
            self._contacts.axis(t, address, control, shape, value)

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

    def _turned(self, t: float, address: str, shape: Shape, value: float) -> None:
        assert shape.turns is not None
        cells = [f"{address}.{turn}" for turn in shape.turns]
        if not any(cell in self._tables.table for cell in cells):
            if self.plan.surfaces[address.partition(".")[0]].passes and not self.paused and shape is not DIAL:
                lines = (0, -value) if shape is WHEEL else (value, 0)
                self._effects.append((t, "pointer", "scroll", *lines))
            return
        whole = self._detents.setdefault(address, Detents()).turn(value)
        if not whole:
            return
        cell_address = cells[whole > 0]
        apart = (t - self._turned_at.get(cell_address, -inf)) / abs(whole)
        self._turned_at[cell_address] = t
        cell = self._tables.table.get(cell_address)
        if cell is None or (cell.press is None and cell.fast is None):
            return
        self._settle_all(t, "")
        fast = cell.fast is not None and apart < self._timing(cell).fast
        binding = cell.fast if fast else cell.press
        if binding is not None:
            for _ in range(abs(whole)):
                self._start(t, cell, "fast" if fast else "turn", binding, held=False)

    def _moved(self, t: float, address: str, value: float) -> None:
        if self.plan.surfaces[address.partition(".")[0]].passes and not self.paused:
            step = (value, 0) if address.endswith("x") else (0, value)
            self._effects.append((t, "pointer", "move", *step))

    # --- Presses ---

    def _set(self, t: float, address: str, on: bool) -> None:
        """A cell is pressed or let go."""
        if on == (address in self._down):
            return
        if on:
            self._down.add(address)
            if address in self.plan.watched:
                self._watch(t)
            if not self._is_silent_touch(address):
                self._begin(t, address)
            return
        self._down.discard(address)
        surface = address.partition(".")[0]
        gathering = self._gatherings.get(surface)
        if gathering is not None and address in gathering.pressed:
            self._settle_gathering(t, surface)
        burst = self._bursts.get(address)
        if burst is not None:
            burst.down = False
        else:
            self._let_go(t, self._instead.pop(address, address))
        if address in self.plan.watched:
            self._watch(t)

    def _is_silent_touch(self, address: str) -> bool:
        """Whether this is a touch of a control that is pressed."""
        if not address.endswith(_TOUCH):
            return False
        control = address[: -len(_TOUCH)]
        return control in self._down or f"{control}-press" in self._down

    def _begin(self, t: float, address: str) -> None:
        """A press has come; it may have to wait until it is known what it is."""
        self._settle_all(t, address)
        touch = self._tables.touches.get(address)
        if touch is not None:
            self._let_go(t, touch)
        cell = self._tables.table.get(address)
        if address in self._tables.chords:
            self._gather(t, address, cell)
        elif address in self._tables.bursts:
            self._count_burst(t, address, cell)
        else:
            self._press(t, address, cell, t)

    def _settle_all(self, t: float, address: str) -> None:
        """What waits to be known is settled by whatever comes next, so that it comes first; but not by its own kind."""
        for other in [other for other in self._counts if other != address]:
            self._settle_count(t, other)
        for other in [other for other in self._bursts if other != address]:
            self._settle_burst(t, other)
        chords = self._tables.chords
        for surface in [
            surface for surface in self._gatherings if address not in chords or not _within(address, surface)
        ]:
            self._settle_gathering(t, surface)

    def _gather(self, t: float, address: str, cell: Cell | None) -> None:
        surface = address.partition(".")[0]
        gathering = self._gatherings.get(surface)
        chords = self._tables.chords[address]
        if gathering is not None and not any(gathering.pressed.keys() <= set(chord.members) for chord in chords):
            self._settle_gathering(t, surface)
            gathering = None
        if gathering is None:
            window = max(self._timing(chord).chord for chord in chords)
            gathering = self._gatherings[surface] = Gathering(t + window, self._number())
        gathering.pressed[address] = (t, cell)
        fitting = [chord for chord in chords if gathering.pressed.keys() <= set(chord.members)]
        if len(fitting) == 1 and len(fitting[0].members) == len(gathering.pressed):
            self._settle_gathering(t, surface)

    def _settle_gathering(self, t: float, surface: str) -> None:
        """What was pressed at once is a chord, or each on its own."""
        pressed = self._gatherings.pop(surface).pressed
        first = next(iter(pressed))
        for chord in self._tables.chords.get(first, ()):
            if set(chord.members) == pressed.keys():
                self._instead.update(dict.fromkeys(pressed, chord.address))
                self._press(t, chord.address, chord, pressed[first][0])
                return
        for address, (since, cell) in pressed.items():
            self._press(t, address, cell, since)

    def _count_burst(self, t: float, address: str, cell: Cell | None) -> None:
        burst = self._bursts.get(address)
        if burst is None:
            burst = self._bursts[address] = Burst(t, cell, self._tables.bursts[address], self._number())
        burst.count += 1
        burst.down = True
        burst.due = t + self._timing(cell).burst
        if burst.count == max(burst.cells):
            self._settle_burst(t, address)

    def _settle_burst(self, t: float, address: str) -> None:
        """So many presses came from one key; or they were presses of their own."""
        burst = self._bursts.pop(address)
        several = burst.cells.get(burst.count)
        if several is not None:
            self._instead[address] = several.address
            self._press(t, several.address, several, burst.since)
        else:
            for _ in range(burst.count - 1):
                self._press(t, address, burst.cell, t)
                self._let_go(t, address)
            self._press(t, address, burst.cell, burst.since)
        if not burst.down:
            self._let_go(t, self._instead.pop(address, address))

    def _press(self, t: float, address: str, cell: Cell | None, since: float) -> None:
        """Presses a cell that is known to be meant; the hand did so at `since`."""
        if cell is None:
            self._pass_on(t, address)
            return
        if cell.waits:
            before = self._counts.pop(address, None)
            count = before.count + 1 if before is not None else 1
            press = self._presses[address] = Pressed(cell, since + self._timing(cell).hold, self._number(), count)
        if cell.press is not None:
            self._start(t, cell, "press", cell.press, held=True)
        if cell.waits and count > 1 and count == cell.presses_counted:
            press.pending = False
            gesture = "triple" if count == 3 else "double"
            several = cell.triple if count == 3 else cell.double
            if several is not None:
                self._start(t, cell, gesture, several, held=False)

    def _let_go(self, t: float, address: str) -> None:
        """Undoes what the press of this cell did, and decides what it was."""
        for run in list(self._lanes.get(address, ())):
            run.held = False
            if run.loops:
                self._end_run(t, run)
        self._lift(t, address)
        self._drop_layers(t, address)
        press = self._presses.pop(address, None)
        if press is None:
            return
        cell = press.cell
        if press.pending and t < press.due:
            if press.count < cell.presses_counted:
                due = t + self._timing(cell).double
                self._counts[address] = Count(cell, press.count, due, self._number())
            elif cell.tap is not None:
                self._start(t, cell, "tap", cell.tap, held=False)
        if cell.release is not None:
            self._start(t, cell, "release", cell.release, held=False)

    def _settle_count(self, t: float, address: str) -> None:
        """So many taps in a row, and no more."""
        found = self._counts.pop(address)
        cell = found.cell
        if found.count == 2 and cell.double is not None:
            self._start(t, cell, "double", cell.double, held=False)
        elif cell.tap is not None:
            for _ in range(found.count):
                self._start(t, cell, "tap", cell.tap, held=False)

    def _pass_on(self, t: float, address: str) -> None:
        """Sends on what no binding wants, on surfaces that Fenko has taken over for itself."""
        if self.paused:
            return
        surface, _, control = address.partition(".")
        key = self.plan.surfaces[surface].passed_on(control)
        if key is not None:
            if self._report is not None:
                self._report(t, address, "press", "", None)
            self._hold(t, address, (key,))

    def _unplug(self, t: float, surface: str) -> None:
        """The controls of a surface that went away are at rest, but no hand let go of them: nothing was tapped."""
        self._contacts.unplug(surface)
        self._gatherings.pop(surface, None)
        for waiting in (self._counts, self._bursts, self._instead):
            for address in [address for address in waiting if _within(address, surface)]:
                del waiting[address]
        self._down = {address for address in self._down if not _within(address, surface)}
        for state in (self._holders, self._presses, self._lanes):
            for address in [address for address in state if _within(address, surface)]:
                if address in self._presses:
                    self._presses[address].pending = False
                self._let_go(t, address)
        for cell in [by for _, by in self._layers if _within(by, surface)]:
            self._drop_layers(t, cell)
        for dial in [dial for dial in self._detents if _within(dial, surface)]:
            del self._detents[dial]
        self._watch(t)

    def _timing(self, cell: Cell | None) -> Timing:
        return cell.timing if cell is not None and cell.timing is not None else self.plan.timing

    # --- Actions ---

    def _start(self, t: float, cell: Cell, gesture: str, binding: Binding, held: bool) -> None:
        if self._report is not None:
            self._report(t, cell.address, gesture, cell.profile, binding)
        spent = [on for on in self._layers if on[1] == _ONCE]
        self._act(t, cell, gesture, binding, held)
        if spent:
            self._set_layers(t, [on for on in self._layers if on not in spent])

    def _act(self, t: float, cell: Cell, gesture: str, binding: Binding, held: bool) -> None:
        phrase = self._choice(t, cell, gesture, binding) if binding.others else binding.phrase
        if held and (keys := mirrored_keys(phrase)):
            self._hold(t, cell.address, keys)
            return
        if binding.group is not None:
            self._end_toggles(t, lambda holder, group: group == binding.group and holder not in _toggles_of(phrase))
        if cell.address in self._lanes:
            self._hurry(t, self._lanes[cell.address][0])
        stroke = self._timing(cell).stroke
        loops = held and repeats_while_held(phrase)
        run = Run(cell.address, unrolled(phrase, stroke), self._number(), stroke, held, loops)
        self._lanes.setdefault(cell.address, []).append(run)
        if binding.group is not None:
            self._toggled.update(dict.fromkeys(_toggles_of(phrase), binding.group))
        if self._runs(run):
            self._resume(t, run)

    def _choice(self, t: float, cell: Cell, gesture: str, binding: Binding) -> Phrase:
        """One of several: the next in turn, or any but the last one."""
        key = (cell.profile, cell.address, gesture)
        last, phrases = self._turns.get(key), binding.phrases
        if binding.at_random:
            number = self._random.choice([number for number in range(len(phrases)) if number != last])
        else:
            number = 0 if last is None else (last + 1) % len(phrases)
        self._turns[key] = number
        if number < len(binding.states):
            self._effects.append((t, "fenko", "state", cell.address, binding.states[number]))
        return phrases[number]

    def _resume(self, t: float, run: Run) -> None:
        """Goes on with a run until it has to wait or is through; then the next of its lane starts."""
        if self._stroking is run:
            self._lift_stroke(t)
        while run.next < len(run.steps):
            step = run.steps[run.next]
            run.next += 1
            if run.loops and run.next == len(run.steps):
                run.next = 0
            pause = self._do(t, run, step)
            if pause:
                run.due = t + pause
                return
            if not self._runs(run):
                return  # the step was `pause`, and everything under way was forgotten
        self._end_run(t, run)

    def _end_run(self, t: float, run: Run) -> None:
        """A run is through, or nobody holds it any longer; the next of its lane starts."""
        if self._stroking is run:
            self._lift_stroke(t)
        self._lift(t, run.holder)
        lane = self._lanes[run.lane]
        was_first = lane[0] is run
        lane.remove(run)
        if not lane:
            del self._lanes[run.lane]
        elif was_first:
            self._resume(t, lane[0])

    def _do(self, t: float, run: Run, step: Step) -> float:
        """Does one step; returns how long the run has to wait after it."""
        if isinstance(step, Keys):
            self._lift_stroke(t)
            self._hold(t, _STROKE, step.keys)
            self._stroking = run
            return run.stroke
        if isinstance(step, Wait):
            return step.seconds
        if isinstance(step, Type):
            self._lift_stroke(t)
            self._effects.append((t, "keys", "type", step.text))
        elif isinstance(step, Toggle):
            self._toggle(t, step)
        elif isinstance(step, Press):
            self._hold(t, run.holder, step.keys)
        elif isinstance(step, Lift):
            self._lift_stroke(t)
            self._lift(t, run.holder, step.keys)
        elif isinstance(step, Layer):
            self._layer(t, run, step)
        elif isinstance(step, ProfileStep):
            self._profile_by_hand(t, step.name)
        elif isinstance(step, Pause):
            self._toggle_pause(t)
        return 0.0

    def _toggle(self, t: float, step: Toggle) -> None:
        holder = _toggle_holder(step)
        if holder in self._holders:
            self._lift(t, holder)
            self._toggled.pop(holder, None)
        else:
            self._toggled.setdefault(holder, None)
            self._hold(t, holder, step.keys)

    def _end_toggles(self, t: float, ends: Callable[[str, str | None], bool]) -> None:
        """Lifts toggled keys of which `ends` (holder, group) says so."""
        for holder, group in list(self._toggled.items()):
            if ends(holder, group):
                del self._toggled[holder]
                self._lift(t, holder)

    def _hurry(self, t: float, run: Run) -> None:
        """Sends the strokes that remain of a run without the pauses between them, up to its next `wait` step."""
        while self._runs(run) and not isinstance(run.steps[run.next - 1], Wait):
            self._resume(t, run)

    def _runs(self, run: Run) -> bool:
        """Whether it is this run's turn in its lane."""
        lane = self._lanes.get(run.lane)
        return lane is not None and lane[0] is run

    # --- Keys ---

    def _hold(self, t: float, holder: str, keys: tuple[str, ...]) -> None:
        self._lift_stroke(t)
        self._effects.extend(self._held.hold(t, holder, keys))

    def _lift(self, t: float, holder: str, only: tuple[str, ...] | None = None) -> None:
        self._effects.extend(self._held.lift(t, holder, only))

    def _lift_stroke(self, t: float) -> None:
        if self._stroking is not None:
            self._stroking = None
            self._lift(t, _STROKE)

    def _release_all(self, t: float) -> None:
        self._take_in()
        self._effects.extend(self._held.lift_all(t))
        self._stroking = None
        for state in (
            self._presses, self._counts, self._gatherings, self._bursts, self._instead, self._lanes, self._detents,
            self._toggled,
        ):  # fmt: skip
            state.clear()
        # What hands still hold is known, and silent.
        for address, on in self._contacts.silence():
            (self._down.add if on else self._down.discard)(address)
        self._set_layers(t, [on for on in self._layers if on[1] == _WHILE])
        self._watch(t)

    # --- Layers ---

    def _layer(self, t: float, run: Run, step: Layer) -> None:
        """Puts a layer on top, or ends it where it is locked already."""
        if not step.mode and not run.held:
            return  # the control that would hold it has been let go in the meantime
        on = (step.name, step.mode or run.lane)
        others = [other for other in self._layers if other != on]
        self._set_layers(t, others if on in self._layers and step.mode == _LOCKED else [*others, on])

    def _drop_layers(self, t: float, cell: str) -> None:
        """Ends the layers that this cell held."""
        if any(by == cell for _, by in self._layers):
            self._set_layers(t, [on for on in self._layers if on[1] != cell])

    def _watch(self, t: float) -> None:
        """Layers that are on while something is held."""
        held = {key.removeprefix("right") for key in self.keyboard} | {*self.keyboard} | self._down
        on = [name for name, layer in self.profile.layers.items() if layer.held and held.issuperset(layer.held)]
        kept = [one for one in self._layers if one[1] != _WHILE or one[0] in on]
        new = [(name, _WHILE) for name in on if (name, _WHILE) not in kept]
        if new or len(kept) != len(self._layers):
            self._set_layers(t, kept + new)

    def _set_layers(self, t: float, layers: list[tuple[str, str]]) -> None:
        before = self.layers
        self._layers = layers
        after = self.layers
        if before == after:
            return
        self._effects.extend((t, "fenko", "layer", name, False) for name in before if name not in after)
        self._effects.extend((t, "fenko", "layer", name, True) for name in after if name not in before)
        self._use_tables()

    # --- Profiles and pause ---

    def _focus_on(self, t: float, focus: Focus) -> None:
        self.focus = focus
        if not self.by_hand:
            self._put_in_force(t, self.plan.choose(focus), "focus")

    def _profile_by_hand(self, t: float, name: str) -> None:
        self.by_hand = name != "auto"
        if name == "auto":
            # The way back from everything: what was locked ends too.
            self._set_layers(t, [on for on in self._layers if on[1] not in (_LOCKED, _ONCE)])
            self._put_in_force(t, self.plan.choose(self.focus), "focus")
            return
        steps = {"next": 1, "previous": -1}
        if name in steps:
            name = self.plan.neighbour(self.profile.name, steps[name])
        self._put_in_force(t, name, "hand")

    def _put_in_force(self, t: float, name: str, by: str) -> None:
        if name != self.profile.name:
            self.profile = self.plan.profiles[name]
            self._end_toggles(t, lambda holder, group: True)
            self._effects.append((t, "fenko", "profile", name, by))
            self._set_layers(t, [on for on in self._layers if on[0] in self.profile.layers or on[1] in self._down])
            self._use_tables()
            self._watch(t)

    def _toggle_pause(self, t: float) -> None:
        self._release_all(t)
        self.paused = not self.paused
        self._use_tables()
        self._effects.append((t, "fenko", "pause", self.paused))

    def _use_tables(self) -> None:
        layers = [name for name in self.layers if name in self.profile.layers]
        tables = self.profile.tables
        if layers:
            key = (self.profile.name, *layers)
            known = self._known_tables.get(key)
            if known is None:
                levels = (level for name in layers for level in self.profile.layers[name].levels)
                known = lay_out((*self.profile.levels, *levels), self.plan.surfaces, self.plan.watched)
                self._known_tables[key] = known
            tables = known
        self._tables = while_paused(tables, self.plan.surfaces) if self.paused else tables
        self._contacts.tables = self._tables

    def _number(self) -> int:
        """The place of what begins now among all that is due at one time."""
        self._order += 1
        return self._order

    # --- Time ---

    def _pass_time(self, now: float) -> None:
        self._take_in()
        while (due := self._next_due()) is not None and due[0] <= now:
            t, _, happen = due
            happen(t)

    def _next_due(self) -> Due | None:
        """What is due first; of two things at one time, the one that began first."""
        first: Due | None = None
        for due in self._all_due():
            if due[0] < inf and (first is None or due[:2] < first[:2]):
                first = due
        return first

    def _all_due(self, repeats: bool = True) -> Iterator[Due]:
        for press in self._presses.values():
            if press.pending and press.cell.hold is not None:
                yield press.due, press.order, partial(self._reach_hold, press=press)
        for lane in self._lanes.values():
            if not repeats and lane[0].loops:
                continue
            yield lane[0].due, lane[0].order, partial(self._resume, run=lane[0])
        for address, count in self._counts.items():
            yield count.due, count.order, partial(self._settle_count, address=address)
        for surface, gathering in self._gatherings.items():
            yield gathering.due, gathering.order, partial(self._settle_gathering, surface=surface)
        for address, burst in self._bursts.items():
            yield burst.due, burst.order, partial(self._settle_burst, address=address)
        yield from self._contacts.all_due()

    def _reach_hold(self, t: float, press: Pressed) -> None:
        press.pending = False
        cell = press.cell
        assert cell.hold is not None
        if press.count > 1 and cell.tap is not None:
            self._start(t, cell, "tap", cell.tap, held=False)  # the press before was a tap after all
        self._start(t, cell, "hold", cell.hold, held=True)

    def _finish(self) -> Sequence[Effect]:
        due = self._next_due()
        self.deadline = inf if due is None else due[0]
        # Whoever wants reports wants them of every press, and what waits to be settled has to see the next one, so then
        # nothing may take the short way.
        plain = self._report is None and not (self._counts or self._gatherings or self._bursts or self._layers)
        self._instant = self._tables.instant if plain else {}
        effects = self._effects
        if not effects:
            return _NOTHING
        self._effects = []
        return effects


def _within(address: str, surface: str) -> bool:
    return address.startswith(f"{surface}.")


def _toggle_holder(step: Toggle) -> str:
    return f"toggle {'+'.join(step.keys)}"


def _toggles_of(phrase: Phrase) -> list[str]:
    """The holders of the keys that a phrase toggles."""
    return [_toggle_holder(step) for step in phrase.steps if isinstance(step, Toggle)]
