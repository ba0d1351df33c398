"""What is in force: the profile, its layers, and whether Fenko is paused. Every change of it is an effect.

Layers that are on stand in a list, newest last, each with what keeps it on: a held cell, a lock, the next action, or what
its `while` names.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Set

from msgspec import structs

from fenko.core.changes import Effect
from fenko.core.choosing import Chooser
from fenko.core.circumstances import Circumstances, Focus
from fenko.core.plan import BASE, Plan, Profile
from fenko.core.stack import Stack

LOCKED, ONCE, WHILE = "locked", "once", "while"
"""What keeps a layer on, where it is not a cell."""


class Situation:
    """`stack` is all that is in force. `out` takes the effects. `leaves` is called before another profile comes,
    `changed` after each change, with whether it is another profile, and `visits` with the profile that goes, if the plan still has
    it, and the one that comes, unless Fenko is paused: then when it is not any more."""

    def __init__(
        self,
        plan: Plan,
        out: list[Effect],
        leaves: Callable[[float], None],
        changed: Callable[[float, bool], None],
        visits: Callable[[float, Profile | None, Profile], None],
    ) -> None:
        self.plan = plan
        self._chooser = Chooser(plan.profiles.values())
        self.now = Circumstances(surfaces=frozenset(plan.surfaces))
        """What decides, while nobody does so by hand."""
        self._program = ("", "")
        """The last program that was in front."""
        self.keyboard: tuple[str, ...] = ()
        self.paused = False
        self.by_hand = False
        self.profile: Profile = plan.profiles[BASE]
        self._out = out
        self._leaves = leaves
        self._visits = visits
        self._visited = BASE
        self._changed = changed
        self._on: list[tuple[str, str]] = []
        self.spends = False
        """Whether a layer is on for the next action only."""
        self._plain: dict[str, Stack] = {}
        self.stack = self._stack_now()

    @property
    def layers(self) -> tuple[str, ...]:
        """The layers that are on, newest last."""
        return tuple(dict.fromkeys(name for name, _ in reversed(self._on)))[::-1]

    # --- Layers ---

    def turn_on(self, t: float, name: str, by: str) -> None:
        """Puts a layer on top; one that is locked already is lifted by locking it again."""
        on = (name, by)
        others = [other for other in self._on if other != on]
        self._set(t, others if on in self._on and by == LOCKED else [*others, on])

    def lock(self, t: float, name: str) -> None:
        """Puts a layer on top until it is lifted."""
        self._set(t, [*(on for on in self._on if on != (name, LOCKED)), (name, LOCKED)])

    def once_layers(self) -> list[tuple[str, str]]:
        """What is on for the next action only."""
        return [on for on in self._on if on[1] == ONCE]

    def end(self, t: float, ended: Callable[[tuple[str, str]], bool]) -> None:
        """Ends the layers of which `ended` (name, what keeps it on) says so."""
        if self._on and any(map(ended, self._on)):
            self._set(t, [on for on in self._on if not ended(on)])

    def let_go(self, t: float, cell: str) -> None:
        """Ends the layers that this cell held."""
        self.end(t, lambda on: on[1] == cell)

    def watch(self, t: float, down: Set[str]) -> None:
        """Layers that are on while something is held: modifiers, or cells that are `down`."""
        if not self._on and not any(layer.held for layer in self.profile.layers.values()):
            return
        held = {key.removeprefix("right") for key in self.keyboard} | {*self.keyboard} | down
        on = [name for name, layer in self.profile.layers.items() if layer.held and held.issuperset(layer.held)]
        kept = [one for one in self._on if one[1] != WHILE or one[0] in on]
        new = [(name, WHILE) for name in on if (name, WHILE) not in kept]
        if new or len(kept) != len(self._on):
            self._set(t, kept + new)

    def _set(self, t: float, layers: list[tuple[str, str]]) -> None:
        before = self.layers
        self._on = layers
        self.spends = any(by == ONCE for _, by in layers)
        after = self.layers
        if before == after:
            return
        self._out.extend((t, "fenko", "layer", name, False) for name in before if name not in after)
        self._out.extend((t, "fenko", "layer", name, True) for name in after if name not in before)
        self.stack = self._stack_now()
        self._changed(t, False)

    # --- Profiles and pause ---

    @property
    def focus(self) -> Focus:
        """The window in front, of those that count."""
        return self.now.focus

    def focus_on(self, t: float, focus: Focus) -> None:
        """This window is in front."""
        if self.plan.ignores(focus):
            return
        program = (focus.app, focus.program)
        if program != ("", ""):
            if program != self._program and self.plan.hand_until_focus:
                self.by_hand = False
            self._program = program
        self._come_to(t, structs.replace(self.now, focus=focus))

    def run_on(self, t: float, running: Iterable[str]) -> None:
        """Of the programs that the desk asks for, these run."""
        self._come_to(t, structs.replace(self.now, running=frozenset(running)))

    def machines_on(self, t: float, machines: Iterable[str]) -> None:
        """These are the machines, with their states."""
        now = frozenset(machines)
        if now != self.now.machines:
            self._come_to(t, structs.replace(self.now, machines=now))

    def plug(self, t: float, surface: str, there: bool) -> None:
        """A surface has come, or gone."""
        surfaces = self.now.surfaces | {surface} if there else self.now.surfaces - {surface}
        if surfaces != self.now.surfaces:
            self._come_to(t, structs.replace(self.now, surfaces=surfaces))

    def _come_to(self, t: float, now: Circumstances) -> None:
        self.now = now
        if not self.by_hand:
            self._put_in_force(t, self._chooser.choose(now), "focus")

    def by_name(self, t: float, name: str) -> None:
        """Puts a profile in force by hand, or the `next` or `previous` one; with `auto` the focus decides again. Nothing
        happens if there is none of that name: an action that began before a reload may name one that is gone."""
        if name not in self.plan.profiles and name not in ("next", "previous", "auto"):
            return
        self.by_hand = name != "auto"
        if name == "auto":
            # The way back from everything: what was locked ends too.
            self.end(t, lambda on: on[1] in (LOCKED, ONCE))
            self._put_in_force(t, self._chooser.choose(self.now), "focus")
            return
        steps = {"next": 1, "previous": -1}
        if name in steps:
            name = self.plan.neighbour(self.profile.name, steps[name])
        self._put_in_force(t, name, "hand")

    def _put_in_force(self, t: float, name: str, by: str) -> None:
        if name == self.profile.name:
            return
        self._leaves(t)
        self.profile = self.plan.profiles[name]
        self._out.append((t, "fenko", "profile", name, by))
        self.end(t, lambda on: on[0] not in self.profile.layers)
        self.stack = self._stack_now()
        self._changed(t, True)
        self._visit(t)

    def _visit(self, t: float) -> None:
        if not self.paused and self._visited != self.profile.name:
            before, self._visited = self._visited, self.profile.name
            self._visits(t, self.plan.profiles.get(before), self.profile)

    def use_plan(self, t: float, plan: Plan) -> None:
        """Another plan is in force; profile and layers stay as far as it has them."""
        self.plan = plan
        self._chooser = Chooser(plan.profiles.values())
        self._plain.clear()
        name = self.profile.name
        if not self.by_hand or name not in plan.profiles:
            self.by_hand = False
            name = self._chooser.choose(self.now)
        if name != self.profile.name:
            self._put_in_force(t, name, "focus")
        else:
            self.profile = plan.profiles[name]
            self.end(t, lambda on: on[0] not in self.profile.layers)
        self.stack = self._stack_now()
        self._changed(t, False)

    def toggle_pause(self, t: float) -> None:
        """Stops Fenko, or starts it again."""
        self.paused = not self.paused
        self.stack = self._stack_now()
        self._out.append((t, "fenko", "pause", self.paused))
        self._changed(t, False)
        self._visit(t)

    def _stack_now(self) -> Stack:
        """The levels in force. Those of a profile without layers are kept, with what has been looked up in them."""
        profile = self.profile
        layers = [name for name in self.layers if name in profile.layers]
        if not layers and not self.paused:
            known = self._plain.get(profile.name)
            if known is None:
                known = self._plain[profile.name] = Stack(profile.levels, self.plan.surfaces, self.plan.watched)
            return known
        above = (level for name in layers for level in profile.layers[name].levels)
        return Stack((*profile.levels, *above), self.plan.surfaces, self.plan.watched, self.paused)
