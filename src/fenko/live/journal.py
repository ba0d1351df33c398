"""What of a running desk comes into its journal: which binding, gesture, profile and program, when; never what was typed, no titles,
nothing of keys that no binding has. A process beside the desk writes it, once a second at most."""

from __future__ import annotations

import time
from collections.abc import Callable
from math import inf
from typing import Any

from fenko.core.circumstances import Focus
from fenko.core.engine import Engine
from fenko.core.plan import Binding, Cell, Profile, Timed
from fenko.desk.compiled import Compiled
from fenko.desk.times import days_of
from fenko.live.loop import Loop
from fenko.services.messages import AddUses, JournalState, KeepJournal
from fenko.system import journal
from fenko.system.child_process import ChildProcess, ended

EVERY = 1.0
"""Seconds in which what was used is handed over."""
MOST = 1000
"""Uses in that time; hands do not do more, and what does is left out."""
_MOST_WAITING = 1 << 20
"""Bytes that wait for the other end; while it does not read, later uses are lost."""
_ENDS_WITHIN = 2.0
"""Seconds in which the rest is written before the desk ends without waiting any longer."""
_AGAIN = 5.0
"""Seconds from one start of the process that writes to the next, at least."""
_Row = tuple[float, str, str, str, Binding | float, Focus, Profile]
"""When, the address of the cell, the gesture, the level, the binding or how long it took, the window in front, the profile in force."""


class Journalling:
    """Hands a journal what the engine tells, while the desk wants one. `note` hears when that fails."""

    def __init__(self, desk: Compiled, engine: Engine, loop: Loop, note: Any) -> None:
        self._engine = engine
        self._note = note
        self._loop = loop
        self._child = self._new_child()
        self._rows: list[_Row] = []
        self._more: dict[int, int] = {}
        """Of detents in a row only the first is a row; how many more there were."""
        self._timer = loop.timer(self._hand_over)
        self._keep, self._timed = self._note_taker()
        self._started = -inf
        self._layers: dict[str, float] = {}
        self._folder, self._days = desk.folder, 0.0
        self._words: dict[int, tuple[Binding, tuple[str, bool]]] = {}
        self.wrong = ""
        """Why nothing is written; empty while all is well."""
        self.use_desk(desk)

    @property
    def on(self) -> bool:
        """Whether a journal is kept."""
        return self._days > 0

    def use_desk(self, desk: Compiled) -> None:
        """Another desk is in force, which may want none."""
        self._words.clear()  # bindings of the desk before
        days = days_of(desk.tables.get("journal", {}).get("keep", "nothing"))
        if (desk.folder, days) == (self._folder, self._days):
            return
        self._hand_over_rest()
        self._child.leave()
        self._child = self._new_child()
        self._folder, self._days = desk.folder, days
        self._started = -inf
        self._engine.tell(self._keep if days else None, self._timed if days else None)

    # --- On an event's way: as little as can be ---

    def _note_taker(self) -> tuple[Callable[..., None], Timed]:
        """What the engine tells: two functions that look up next to nothing."""
        situation, rows, more, set_in = self._engine.situation, self._rows, self._more, self._timer.set_in

        def keep(t: float, address: str, gesture: str, level: str, what: Any) -> None:
            number = len(rows)
            if gesture == "turn" and number and rows[-1][4] is what and rows[-1][1] == address:
                more[number - 1] = more.get(number - 1, 0) + 1  # one detent after the other
            elif what is not None and number < MOST:
                rows.append((t, address, gesture, level, what, situation.now.focus, situation.profile))
                if not number:
                    set_in(EVERY)

        def timed(t: float, cell: Cell, which: str, seconds: float) -> None:
            keep(t, cell.address, f"time {which}", cell.profile, seconds)

        return keep, timed

    def look(self, now: float) -> None:
        """The layers that are on may have changed."""
        if not self.on:
            return
        layers = self._engine.profile.layers
        on = {layers[name].levels[-1].name for name in self._engine.layers if name in layers}
        for level in [level for level in self._layers if level not in on]:
            self._keep(now, "", "layer", level, max(now - self._layers.pop(level), 0.0))
        for level in on:
            self._layers.setdefault(level, now)

    # --- Handing over ---

    def _hand_over(self, now: float) -> None:
        uses = self._uses(time.time() - time.monotonic())
        if not uses or self._child.unsent > _MOST_WAITING:
            return
        if not self._child.running:
            if now < self._started + _AGAIN:
                return  # a child that ends again and again is not started for each use: these are lost
            self._started = now
            self._child.try_start()
        self._child.send(AddUses(uses))

    def _uses(self, clock: float) -> list[journal.Use]:
        """What has come since the last time."""
        uses: list[journal.Use] = []
        for number, (t, address, gesture, level, what, focus, profile) in enumerate(self._rows):
            if isinstance(what, float):
                binding, lasted = journal.Binding(level, address, gesture), what
            else:
                binding, lasted = journal.Binding(level, address, gesture, *self._does(what)), -1.0
            count = 1 + self._more.get(number, 0)
            uses.append(journal.Use(t + clock, binding, focus.app or focus.program, profile.name, lasted, count))
        self._rows.clear()
        self._more.clear()
        return uses

    def _does(self, binding: Binding) -> tuple[str, bool]:
        """What a binding does, in words, without what it types; and whether it takes something back."""
        known = self._words.get(id(binding))
        if known is None or known[0] is not binding:
            if len(self._words) > 5000:
                self._words.clear()
            known = self._words[id(binding)] = (binding, (journal.words_of(binding), journal.undoes(binding)))
        return known[1]

    # --- The other end ---

    def _new_child(self) -> ChildProcess:
        return ChildProcess(
            "fenko.services.journalling",
            JournalState,
            self._on_message,
            self._on_exit,
            loop=self._loop,
            on_start=lambda: self._child.send(KeepJournal(str(journal.journal_file(self._folder)), self._days)),
        )

    def _on_message(self, message: JournalState) -> None:
        if message.error:
            self._fails(message.error)
        elif self.wrong:
            self.wrong = ""
            self._note("the journal is written again")

    def _fails(self, why: str) -> None:
        if not self.wrong:
            self._note(f"the journal is not written: {why}")
        self.wrong = why

    def _on_exit(self, reason: str) -> None:
        self._fails(ended("the process that writes it", reason))

    def close(self) -> None:
        """Hands over the rest and ends it."""
        self._hand_over_rest()
        self._child.finish(_ENDS_WITHIN, kill=False)

    def _hand_over_rest(self) -> None:
        if self.on and self._rows:
            self._hand_over(time.monotonic())
        self._timer.set(inf)
        self._layers.clear()
