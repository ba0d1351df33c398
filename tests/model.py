"""What `docs/desk.md` says of gestures, layers and profiles, as a small slow program: no tables, no short ways, every
question asked anew. It tells which actions begin and end; what keys do in between is not its business."""

from __future__ import annotations

from dataclasses import dataclass, field
from math import inf
from typing import Any

from fenko.core.changes import FOCUS, KEYBOARD, PLUG, UNPLUG, Change
from fenko.core.circumstances import Focus
from fenko.core.plan import BASE, Binding, Cell, Level, Plan
from fenko.core.verbs.desk import ChangeProfile, PauseOrResume, TurnOnLayer
from fenko.core.verbs.keys import Keys

Told = tuple[Any, ...]
RELOAD = "reload"
"""The address of a change of the desk: its value is the new plan."""
TURNS = {"dial.dial": ("left", "right"), "mouse.wheel": ("down", "up")}
DIRECTIONS = {"x": ("left", "right"), "y": ("up", "down")}
BETWEEN = {"up-left": {"up", "left"}, "up-right": {"up", "right"}, "down-left": {"down", "left"}, "down-right": {"down", "right"}}  # fmt: skip


def later(t: float, seconds: float) -> float:
    return round(t + seconds, 6) if t > -inf else t


def control(address: str) -> str:
    return address if "+" in address else ".".join(address.split(".")[:2])


def stem(address: str) -> str:
    return address.removesuffix(".half").removesuffix(".full")


@dataclass
class Undecided:
    """Something that a hand began at `began` (order `number`), and of which it is known at `due` at the latest what it is."""

    sort: str  # tap, together, burst, direction, leaving
    where: str
    number: int
    due: float
    began: float = 0.0
    cell: Cell | None = None
    count: int = 0
    members: list[tuple[str, float, Cell | None]] = field(default_factory=list)
    choices: list[Cell] = field(default_factory=list)
    presses: list[tuple[float, float]] = field(default_factory=list)


@dataclass
class Press:
    """A press of a cell that has come: since when, which taps of its cell came before it, whether it is known what it is."""

    cell: Cell
    since: float
    number: int
    taps: Undecided | None
    known: bool = False

    @property
    def count(self) -> int:
        return 1 + (self.taps.count if self.taps else 0)


class Model:
    def __init__(self, plan: Plan) -> None:
        self.plan = plan
        self.told: list[Told] = []
        self.at = 0.0
        self.number = 0
        self.pauses = 0
        self.profile, self.by_hand, self.paused = BASE, False, False
        self.focus, self.keyboard = Focus(), ()
        self.layers: list[tuple[str, str]] = []  # name, why
        self.hands: set[str] = set()  # cells that are down
        self.undecided: list[Undecided] = []
        self.presses: dict[str, Press] = {}
        self.holding: dict[str, int] = {}  # cells that hold keys: how many of their actions do
        self.part_of: dict[str, str] = {}  # a cell, and what was pressed in its place
        self.ends: dict[str, str] = {}  # axis: which end is pressed
        self.fulls: dict[str, str] = {}
        self.pushed: dict[str, list[str]] = {}
        self.applied: dict[str, list[str]] = {}
        self.detents: dict[str, float] = {}
        self.turned: dict[str, float] = {}

    # --- What is in force ---

    def levels(self) -> list[Level]:
        profile = self.plan.profiles[self.profile]
        names = list(dict.fromkeys(name for name, _ in reversed(self.layers)))[::-1]
        above = [level for name in names if name in profile.layers for level in profile.layers[name].levels]
        return [*profile.levels, *above][::-1]

    def cell(self, address: str) -> Cell | None:
        for level in self.levels():
            if control(address) in level.controls:
                found = next((cell for cell in level.controls[control(address)] if cell.address == address), None)
                return self.while_paused(found) if self.paused else found
        return None

    def while_paused(self, cell: Cell | None) -> Cell | None:
        kept = {gesture: binding for gesture, binding in cell.gestures() if _pauses(binding)} if cell else {}
        return Cell(cell.address, cell.profile, timing=cell.timing, members=cell.members, **kept) if cell and kept else None  # type: ignore[arg-type]  # fmt: skip

    def bound(self, address: str) -> Cell | None:
        cell = self.cell(address)
        return cell if cell and list(cell.gestures()) else None

    def every(self) -> list[Cell]:
        """All cells that are bound."""
        addresses = dict.fromkeys(
            cell.address for level in self.levels() for cells in level.controls.values() for cell in cells
        )
        return [cell for address in addresses if (cell := self.bound(address))]

    def groups(self, address: str) -> list[Cell]:
        return [cell for cell in self.every() if address in cell.members]

    def bursts(self, address: str) -> dict[int, Cell]:
        return {int(cell.address[-1]): cell for cell in self.every() if cell.address[:-1] == f"{address}-x"}

    def between(self, stick: str) -> dict[str, Cell]:
        return {name: cell for name in BETWEEN if (cell := self.bound(f"{stick}.{name}"))}

    def time(self, cell: Cell | None, name: str) -> float:
        timing = cell.timing if cell and cell.timing else self.plan.timing
        return float(getattr(timing, name))

    # --- Time ---

    def play(self, changes: list[Change]) -> list[Told]:
        for t, address, value in changes:
            self.pass_time(t)
            self.change(t, address, value)
            self.pass_time(t)
        self.pass_time(inf)
        return self.told

    def pass_time(self, until: float) -> None:
        while True:
            due: list[tuple[float, int, Any]] = [(one.due, one.number, one) for one in self.undecided]
            due += [
                (max(later(one.since, self.time(one.cell, "hold")), one.since), one.number, one)
                for one in self.presses.values()
                if not one.known and (one.cell.hold or one.count > 1)
            ]
            t, _, first = min(due, default=(inf, 0, None), key=lambda one: one[:2])
            if first is None or t > until:
                return
            t = self.at = max(t, self.at)
            if isinstance(first, Press):
                self.is_hold(t, first)
            else:
                self.decide(t, first)

    at = 0.0

    # --- Changes ---

    def change(self, t: float, address: str, value: Any) -> None:
        self.at = t
        if address == FOCUS:
            self.focus = value
            if not self.by_hand:
                self.put_in_force(t, self.plan.for_window(value))
        elif address == KEYBOARD:
            self.keyboard = value
            self.watch(t)
        elif address == UNPLUG:
            self.unplug(t, value)
        elif address == PLUG:
            pass
        elif address == RELOAD:
            self.use_plan(t, value)
        elif address in TURNS:
            self.turn(t, address, value)
        elif address == "knob.ring":
            self.axis(t, address, ("left", "right"), value, address)
        elif address.endswith((".x", ".y")):
            self.axis(t, address[:-2], DIRECTIONS[address[-1]], value, address)
        elif "trigger" in address:
            self.axis(t, address, ("", ""), value, address)
        else:
            self.hand(t, address, bool(value))

    def axis(self, t: float, whole: str, names: tuple[str, str], value: float, axis: str) -> None:
        def end(before: str, least: float, until: float) -> str:
            if before and (value > until if before == "+" else -value > until):
                return before
            return "+" if value >= least else "-" if -value >= least else ""

        before, full_before = self.ends.get(axis, ""), self.fulls.get(axis, "")
        now, full = self.ends[axis], self.fulls[axis] = end(before, 0.5, 0.4), end(full_before, 0.95, 0.85)

        def cell(side: str) -> str:
            name = names[side == "+"]
            return f"{whole}.{name}" if name else whole

        if full_before and full != full_before:
            self.hand(t, f"{cell(full_before)}.full", False)
        if before and before != now:
            self.hand(t, f"{cell(before)}.half", False)
            self.switch(t, whole, names, before, False)
        if now and before != now:
            self.switch(t, whole, names, now, True)
            self.hand(t, f"{cell(now)}.half", True)
        if full and full != full_before:
            self.hand(t, f"{cell(full)}.full", True)

    def switch(self, t: float, whole: str, names: tuple[str, str], side: str, on: bool) -> None:
        name = names[side == "+"]
        if name:
            self.push(t, whole, name, on)
        else:
            self.hand(t, whole, on)

    def push(self, t: float, stick: str, way: str, on: bool) -> None:
        """A direction waits beside one between two: when the stick leaves its rest, or one of the two."""
        if on:
            self.settle(t, f"{stick}.{way}", inf)
        pushed, applied = self.pushed.setdefault(stick, []), self.applied.setdefault(stick, [])
        at_rest = not pushed
        (pushed.append if on else pushed.remove)(way)
        waits = next(
            (one for one in self.undecided if one.where == stick and one.sort in ("direction", "leaving")), None
        )
        between = self.between(stick).values()
        window = max([self.time(cell, "chord") for cell in between] or [self.plan.timing.chord])
        if on and at_rest and between:
            if waits:
                self.undecided.remove(waits)
            self.wait("direction", stick, later(t, window), began=t)
            if taps := self.taps(self.cell(f"{stick}.{way}")):
                taps.due = inf
        elif pushed and not on and any(one in BETWEEN for one in applied):
            self.apply(t, stick, [], t, inf)
            self.wait("leaving", stick, later(t, window), began=t)
        elif waits and waits.sort == "direction":
            self.undecided.remove(waits)
            if not pushed:
                self.apply(t, stick, [way], waits.began, waits.number)
            self.apply(t, stick, pushed, waits.began, waits.number)
        else:
            if waits:
                self.undecided.remove(waits)
            self.apply(t, stick, pushed, t, inf)

    def apply(self, t: float, stick: str, pushed: list[str], since: float, number: float) -> None:
        wanted = list(pushed)
        for name in self.between(stick):
            if BETWEEN[name] <= set(pushed):
                wanted = [name]
        applied = self.applied[stick]
        pauses = self.pauses
        for way in [way for way in applied if way not in wanted]:
            applied.remove(way)
            self.hand(t, f"{stick}.{way}", False)
            if self.pauses != pauses:
                return  # where it is pushed stays silent
        for way in [way for way in wanted if way not in applied]:
            if self.pauses != pauses:
                return
            applied.append(way)
            self.hand(t, f"{stick}.{way}", True, since, number)

    def wait(self, sort: str, where: str, due: float, **more: Any) -> Undecided:
        self.number += 1
        one = Undecided(sort, where, self.number, due, **more)
        self.undecided.append(one)
        return one

    # --- Hands ---

    def hand(self, t: float, address: str, on: bool, since: float | None = None, number: float = inf) -> None:
        if on == (address in self.hands):
            return
        if not on:
            self.hands.remove(address)
            for one in [
                one for one in self.undecided if one.sort == "together" and any(m[0] == address for m in one.members)
            ]:
                self.decide(t, one)
            burst = next((one for one in self.undecided if one.sort == "burst" and one.where == address), None)
            if burst:
                burst.presses[-1] = (burst.presses[-1][0], t)
            else:
                self.let_go(t, self.part_of.pop(address, address), t)
            self.watch(t)
            return
        self.hands.add(address)
        self.watch(t)
        touched = address.removesuffix("-touch")
        if touched != address and {touched, f"{touched}-press"} & self.hands:
            return  # silent
        if stem(address) != address and not self.bound(address):
            return  # not bound, so no press
        self.settle(t, address, number)
        since = t if since is None else since
        if self.bound(f"{address}-touch") and f"{address}-touch" in self.hands:
            self.over(t, f"{address}-touch")
        cell, groups = self.cell(address), self.groups(address)
        if groups:
            together = next(
                (one for one in self.undecided if one.sort == "together" and one.where == address.split(".")[0]), None
            )
            if together and not self.fitting(together, [address]):
                self.decide(t, together)
                together = None
            if not together:
                window = max(self.time(group, "chord") for group in groups)
                together = self.wait("together", address.split(".")[0], max(t, later(since, window)), choices=groups)
            together.members.append((address, since, cell))
            for one in self.undecided:
                if (one.sort == "tap" and one.cell == cell) or (one.sort == "burst" and one.where == address):
                    one.due = inf  # not before it is known what this press is
            fitting = self.fitting(together, [])
            if len(fitting) == 1 and len(fitting[0].members) == len(together.members):
                self.decide(t, together)
        else:
            self.alone(t, address, cell, since)

    def alone(self, t: float, address: str, cell: Cell | None, since: float) -> None:
        """A press that is no part of several at once: one of a burst, maybe."""
        bursts = self.bursts(address)
        if not bursts:
            self.press(t, address, cell, since)
            return
        burst = next((one for one in self.undecided if one.sort == "burst" and one.where == address), None)
        burst = burst or self.wait("burst", address, t, cell=cell, choices=list(bursts.values()))
        burst.presses.append((since, inf))
        burst.due = max(t, later(since, max(self.time(one, "burst") for one in burst.choices)))
        if taps := self.taps(cell):
            taps.due = inf
        if len(burst.presses) == max(int(one.address[-1]) for one in burst.choices):
            self.decide(t, burst)

    def taps(self, cell: Cell | None) -> Undecided | None:
        return next((one for one in self.undecided if one.sort == "tap" and cell and one.cell == cell), None)

    def fitting(self, together: Undecided, more: list[str]) -> list[Cell]:
        pressed = {*more, *(member[0] for member in together.members)}
        return [group for group in together.choices if pressed <= set(group.members)]

    def settle(self, t: float, address: str, before: float) -> None:
        """Whatever is pressed or turned next settles what waits, the oldest first; but not what it belongs to."""
        while True:
            others = [
                one
                for one in self.undecided
                if one.number < before and one.sort != "leaving" and not self.belongs(one, address)
            ]
            if not others:
                return
            for one in sorted(others, key=lambda one: one.number):
                if any(one is other for other in self.undecided) and not self.belongs(one, address):
                    self.decide(t, one)

    def belongs(self, one: Undecided, address: str) -> bool:
        if one.sort == "direction":
            return control(address) == one.where
        if one.sort == "together":
            if any(stem(member[0]) == stem(address) for member in one.members):
                return True
            mine = self.groups(address)
            return any(group == other for group in self.fitting(one, [address]) for other in mine)
        if one.where != address:
            return stem(one.where) == stem(address)
        if one.sort == "tap":
            return self.cell(address) == one.cell
        return list(self.bursts(address).values()) == one.choices

    def decide(self, t: float, one: Undecided) -> None:
        self.undecided.remove(one)
        if one.sort in ("direction", "leaving"):
            self.apply(t, one.where, self.pushed[one.where], one.began, one.number)
        elif one.sort == "tap":
            self.settle_taps(t, one)
        elif one.sort == "together":
            rest, pauses = one.members, self.pauses
            while rest and self.pauses == pauses:
                whole = next(
                    (
                        g
                        for n in range(len(rest), 1, -1)
                        for g in one.choices
                        if set(g.members) == {m[0] for m in rest[:n]}
                    ),
                    None,
                )
                size = len(whole.members) if whole else 1
                taken, those, rest = rest[0], rest[:size], rest[size:]
                if whole:
                    for taps in [taps for taps in self.undecided if any(taps is self.taps(m[2]) for m in those)]:
                        self.decide(t, taps)
                    if self.pauses != pauses:
                        return
                    self.part_of |= {member[0]: whole.address for member in those}
                    self.press(t, whole.address, whole, taken[1])
                else:
                    self.alone(t, taken[0], taken[2], taken[1])
        else:
            whole = next((cell for cell in one.choices if int(cell.address[-1]) == len(one.presses)), None)
            last, pauses = one.presses[-1], self.pauses
            if whole:
                for taps in [taps for taps in self.undecided if taps.sort == "tap" and taps.where == one.where]:
                    self.decide(t, taps)
                if self.pauses != pauses:
                    return
                self.part_of[one.where] = whole.address
                self.press(t, whole.address, whole, one.presses[0][0])
            else:
                for since, until in one.presses[:-1]:
                    self.press(t, one.where, one.cell, since)
                    self.let_go(t, one.where, until)
                    if self.pauses != pauses:
                        return
                self.press(t, one.where, one.cell, last[0])
            if last[1] < inf:
                self.let_go(t, self.part_of.pop(one.where, one.where), last[1])

    def press(self, t: float, address: str, cell: Cell | None, since: float) -> None:
        if cell is None:
            if not self.paused and (key := self.plan.surfaces[address.split(".")[0]].passed_on(address.split(".")[1])):
                self.told.append((t, address, "press", ""))
                self.hold_keys(t, address, key)
            return
        self.number += 1
        one = Press(cell, since, self.number, self.taps(cell))
        if one.taps:
            one.taps.due = inf  # whatever a hand does elsewhere settles them
        if cell.waits:
            self.presses[address] = one
        if cell.press:
            self.start(t, cell, "press", cell.press, True)
        if self.presses.get(address) is not one:
            return
        counted = 3 if cell.triple else 2 if cell.double else 1
        if one.taps and one.count == counted > 1:
            self.undecided.remove(one.taps)
            one.taps, one.known = None, True
            gesture = "triple" if cell.triple else "double"
            self.start(t, cell, gesture, getattr(cell, gesture), False)
        elif (cell.hold or one.count > 1) and t >= later(since, self.time(cell, "hold")):
            self.is_hold(t, one)

    def settle_taps(self, t: float, taps: Undecided) -> None:
        if taps in self.undecided:
            self.undecided.remove(taps)
        assert taps.cell
        count, taps.count = taps.count, 0
        self.tapped(t, taps.cell, count)

    def is_hold(self, t: float, press: Press) -> None:
        press.known = True
        if press.taps:
            self.settle_taps(t, press.taps)
        if press.cell.hold and self.presses.get(press.cell.address) is press:
            self.start(t, press.cell, "hold", press.cell.hold, True)

    def tapped(self, t: float, cell: Cell, count: int) -> None:
        if count == 2 and cell.double:
            self.start(t, cell, "double", cell.double, False)
        elif cell.tap:
            pauses = self.pauses
            for _ in range(count):
                if self.pauses == pauses:
                    self.start(t, cell, "tap", cell.tap, False)

    def let_go(self, t: float, address: str, until: float) -> None:
        press = self.presses.get(address)
        if press and not press.known and until >= later(press.since, self.time(press.cell, "hold")):
            self.is_hold(t, press)
        for _ in range(self.holding.pop(address, 0)):
            self.told.append((t, address, "up"))
        self.set_layers(t, [on for on in self.layers if on[1] != address])
        press = self.presses.pop(address, None)
        if not press:
            return
        pauses = self.pauses
        if not press.known:
            count = press.count
            if press.taps in self.undecided:
                self.undecided.remove(press.taps)
            if count < (3 if press.cell.triple else 2 if press.cell.double else 1):
                due = max(t, later(until, self.time(press.cell, "double")))
                self.wait("tap", address, due, cell=press.cell, count=count)
            else:
                self.tapped(t, press.cell, count)
        if press.cell.release and self.pauses == pauses:
            self.start(t, press.cell, "release", press.cell.release, False)

    def over(self, t: float, address: str) -> None:
        """No hand let go, so nothing is tapped, and nothing held any longer."""
        if address in self.presses:
            self.presses[address].known = True
            if taps := self.presses[address].taps:
                self.settle_taps(t, taps)
        self.let_go(t, address, t)

    def turn(self, t: float, address: str, value: float) -> None:
        rest = self.detents.get(address, 0.0)
        rest = (rest if rest * value >= 0 else 0.0) + value
        whole = int(round(rest, 9))
        if not any(self.cell(f"{address}.{way}") for way in TURNS[address]):
            self.settle(t, address, inf)
            return
        self.detents[address] = rest - whole
        where = f"{address}.{TURNS[address][whole > 0]}"
        if whole:
            self.settle(t, where, inf)
        for _ in range(abs(whole)):
            before = self.turned.get(where, -inf)
            self.turned[where] = t
            cell = self.cell(where)
            if cell and cell.fast and t < later(before, self.time(cell, "fast")):
                self.start(t, cell, "fast", cell.fast, False)
            elif cell and cell.press:
                self.start(t, cell, "turn", cell.press, False)

    def use_plan(self, t: float, plan: Plan) -> None:
        """What waits is decided by the old desk; what is under way goes on as it began; profile and layers stay if they can."""
        self.settle(t, "", inf)
        self.plan = plan
        if not self.by_hand or self.profile not in plan.profiles:
            self.by_hand = False
            self.put_in_force(t, plan.for_window(self.focus))
        if self.profile in plan.profiles:
            self.set_layers(t, [on for on in self.layers if on[0] in plan.profiles[self.profile].layers])
        self.watch(t)

    def unplug(self, t: float, surface: str) -> None:
        def mine(address: str) -> bool:
            return address.split(".")[0] == surface

        for known in (self.ends, self.fulls, self.pushed, self.applied):
            for address in [address for address in known if mine(address)]:
                del known[address]  # type: ignore[attr-defined]
        for one in [one for one in self.undecided if mine(one.where)]:
            if one not in self.undecided:
                continue
            if one.sort == "tap" or (one.sort == "burst" and one.presses[-1][1] < inf):
                self.decide(t, one)
            else:
                self.undecided.remove(one)
        self.hands = {address for address in self.hands if not mine(address)}
        self.part_of = {cell: other for cell, other in self.part_of.items() if not mine(cell)}
        for address in dict.fromkeys([*self.holding, *self.presses]):
            if mine(address):
                self.over(t, address)
        self.set_layers(t, [on for on in self.layers if not mine(on[1])])
        self.detents = {dial: rest for dial, rest in self.detents.items() if not mine(dial)}
        self.watch(t)

    # --- Actions: one step of the few that matter here ---

    def start(self, t: float, cell: Cell, gesture: str, binding: Binding, held: bool) -> None:
        self.told.append((t, cell.address, gesture, cell.profile))
        spent = [on for on in self.layers if on[1] == "once"]
        step = binding.phrase.steps[0]
        if isinstance(step, PauseOrResume):
            self.pause(t)
        elif isinstance(step, Keys) and held:
            self.hold_keys(t, cell.address, step.keys[0])
        elif isinstance(step, TurnOnLayer) and (step.mode or held):
            on = (step.name, step.mode or cell.address)
            others = [one for one in self.layers if one != on]
            self.set_layers(t, others if step.mode == "locked" and on in self.layers else [*others, on])
        elif isinstance(step, ChangeProfile):
            self.by_name(t, step.name)
        if spent:
            self.set_layers(t, [on for on in self.layers if on not in spent])

    def hold_keys(self, t: float, address: str, key: str) -> None:
        self.holding[address] = self.holding.get(address, 0) + 1

    def by_name(self, t: float, name: str) -> None:
        if name in ("one", "two") and name not in self.plan.profiles:
            return  # an action that began with another desk
        self.by_hand = name != "auto"
        if name == "auto":
            self.set_layers(t, [on for on in self.layers if on[1] not in ("locked", "once")])
            name = self.plan.for_window(self.focus)
        names = [one for one in self.plan.profiles if one != BASE]
        if name in ("next", "previous"):
            step = 1 if name == "next" else -1
            name = (
                names[(names.index(self.profile) + step) % len(names)]
                if self.profile in names
                else names[0 if step > 0 else -1]
            )
        self.put_in_force(t, name)

    def put_in_force(self, t: float, name: str) -> None:
        if name == self.profile:
            return
        self.profile = name
        self.told.append((t, "profile", name))
        self.set_layers(t, [on for on in self.layers if on[0] in self.plan.profiles[name].layers])
        self.watch(t)

    def pause(self, t: float) -> None:
        """Everything under way is forgotten, and nothing behind it is done."""
        self.pauses += 1
        for address in list(self.holding):
            for _ in range(self.holding.pop(address)):
                self.told.append((t, address, "up"))
        self.undecided.clear()
        self.presses.clear()
        self.part_of.clear()
        self.detents.clear()
        for stick, pushed in self.pushed.items():
            self.hands -= {f"{stick}.{way}" for way in self.applied.get(stick, [])}
            self.hands |= {f"{stick}.{way}" for way in pushed}
            self.applied[stick] = list(pushed)
        self.set_layers(t, [on for on in self.layers if on[1] == "while"])
        self.watch(t)
        self.paused = not self.paused
        self.told.append((t, "pause", self.paused))

    def watch(self, t: float) -> None:
        held = {key.removeprefix("right") for key in self.keyboard} | self.hands
        layers = self.plan.profiles[self.profile].layers
        on = [name for name, layer in layers.items() if layer.held and set(layer.held) <= held]
        kept = [one for one in self.layers if one[1] != "while" or one[0] in on]
        self.set_layers(t, kept + [(name, "while") for name in on if (name, "while") not in kept])

    def set_layers(self, t: float, layers: list[tuple[str, str]]) -> None:
        before, after = {name for name, _ in self.layers}, {name for name, _ in layers}
        self.layers = layers
        self.told += [(t, "layer", name, False) for name in sorted(before - after)]
        self.told += [(t, "layer", name, True) for name in sorted(after - before)]


def _pauses(binding: Binding) -> bool:
    return any(isinstance(step, PauseOrResume) for phrase in binding.phrases for step in phrase.steps)
