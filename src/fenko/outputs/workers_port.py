"""The port to the workers: a child process that does everything that can wait for a program, a device or a network.

Effects go into a bounded queue and are sent when the current event has been handled. When the child ends, it is started again and
told what its predecessor had begun."""

from __future__ import annotations

import time
from collections.abc import Hashable, Iterable, Mapping, Sequence
from math import inf
from typing import Any

from fenko.core.backlog import Backlog
from fenko.core.changes import Effect
from fenko.core.registration import Resolver
from fenko.core.verbs import ACTS, OUTPUTS
from fenko.outputs.begun import Begun
from fenko.outputs.messages import (
    ActiveProgram,
    AtWork,
    Do,
    Ended,
    Fact,
    FromWorkers,
    LeftOver,
    NeedsDesk,
    Note,
    Release,
    TookOver,
    UseDesk,
)
from fenko.outputs.port import Descriptor, Port, Settings
from fenko.system.child_process import ChildProcess, ended
from fenko.system.pauses import Pauses

FIRST_PAUSE, LONGEST_PAUSE = 0.1, 30.0
"""Seconds before workers that ended are started again: at first, and at most."""
MOVES_APART = 0.004
"""Seconds between two messages with nothing but effects that move; the first one is sent at once."""
BEATS_APART = 0.02
"""Seconds between two `AtWork` messages."""
_TITLES = {"workers": "what talks to other programs", "surfaces": "what talks to surfaces"}


class WorkersListener:
    """Receives what a port of workers does not handle itself."""

    def on_message(self, message: FromWorkers) -> None:
        """A worker sent this."""

    def on_exit(self) -> None:
        """The process has ended, and with it the connection to every surface."""


class WorkersPort(Port):
    """Sends effects to the workers of `outs`, which share a child process named `name`. With `receive_only` the workers run for what
    they receive, and get no effects."""

    def __init__(
        self, outs: Iterable[str], settings: Settings, name: str = "workers", receive_only: bool = False
    ) -> None:
        self.name = name
        self._receive_only = receive_only
        self._tables = settings.tables
        self._folder = settings.folder
        self._resolvers: dict[str, tuple[Any, Resolver]] = {}
        self._use_outs(outs)
        self.why = f"for {', '.join(sorted(OUTPUTS[out].title for out in self._outs_at_work))}"
        self.facts: dict[str, dict[str, Any]] = {}
        """State of the outputs' items, by output and name."""
        self.listener = WorkersListener()
        self._warn = settings.warn
        self._agreed = settings.agreed
        self._refused: set[str] = set()
        self._sent_tables: Mapping[str, Any] = {}
        self._watched = {(out, act): row.watched for (out, act), row in ACTS.items() if row.watched}
        self._backlog = Backlog()
        self._begun = Begun()
        self._left: dict[str, dict[str, Any]] = {}
        self._active: tuple[str, str] | None = None
        self._next_move = self._next_beat = self._next_of_child = inf
        self._beats_until = -inf
        self._moved_at = -inf
        self.child = ChildProcess(
            "fenko.workers",
            FromWorkers,
            self._on_message,
            self._on_exit,
            on_start=self._on_start,
            pauses=Pauses(FIRST_PAUSE, LONGEST_PAUSE),
        )
        self.child.wake = self._wake_for_child
        try:
            self.child.start()
        except OSError:
            self.child.close()
            raise

    @property
    def _title(self) -> str:
        return _TITLES.get(self.name, f"the process `{self.name}` of an output")

    # --- The desk ---

    def _on_start(self) -> None:
        self._send_desk()
        if self._active is not None:
            self.child.send(ActiveProgram(*self._active))
        # What an earlier process had begun, and the last facts, are sent until a worker has handled them.
        for out, facts in self.facts.items():
            self._left[out] = self._left.get(out, {}) | facts
        self.facts = {}
        if self._left or self._begun:
            self.child.send(LeftOver(self._begun.left_over(), self._left))

    def _send_desk(self) -> None:
        self._sent_tables = self._allowed()
        self.child.send(UseDesk(self._folder, sorted(self._outs_at_work), dict(self._sent_tables)))

    def _allowed(self) -> Mapping[str, Any]:
        """Return the desk's tables without what the user has not approved."""
        tables = self._tables
        for out in sorted(self._outs_at_work):
            allows = OUTPUTS[out].allows
            if allows is not None and self._agreed is not None:
                tables, refused = allows(tables, self._agreed)
                for what in refused:
                    self._refuse(what)
        return tables

    def look_again(self) -> None:
        """The user may have approved more."""
        self._refused.clear()
        if self._allowed() != self._sent_tables:
            self._send_desk()

    def _refuse(self, what: str) -> None:
        """Report once what is not done."""
        if what not in self._refused:
            self._refused.add(what)
            self._warn(f"not done, for nobody has agreed to it: {what}; `fenko trust` shows it and asks")

    def use_desk(self, folder: str, outs: Iterable[str], tables: Mapping[str, Any]) -> None:
        """Another desk is active; `outs` are those of its outputs that have workers."""
        self._folder, self._tables = folder, tables
        self._use_outs(outs)
        self._begun.keep(self._outs_at_work)
        self._left = {out: facts for out, facts in self._left.items() if out in self._outs_at_work}
        self._refused.clear()
        self._send_desk()

    def _use_outs(self, outs: Iterable[str]) -> None:
        """Serve these outputs, with the tables of now. A resolver whose tables are the same keeps its state."""
        self._outs_at_work = frozenset(outs)
        self.outs = frozenset() if self._receive_only else self._outs_at_work
        self._risks = {out: OUTPUTS[out].risk for out in self.outs if OUTPUTS[out].risk is not None}
        found: dict[str, tuple[Any, Resolver]] = {}
        for out in self.outs:
            makes = OUTPUTS[out].resolver
            if makes is not None:
                read = {name: self._tables.get(name) for name in OUTPUTS[out].tables}
                known = self._resolvers.get(out)
                found[out] = known if known is not None and known[0] == read else (read, makes(self._tables))
        self._resolvers = found

    def set_active_program(self, app: str, program: str) -> None:
        """The active window belongs to this program."""
        if (app, program) != self._active:
            self._active = (app, program)
            self.child.send(ActiveProgram(app, program))

    def release(self) -> None:
        """Ask the workers to end everything that they began."""
        self.child.send(Release())

    # --- Time ---

    def _wake_for_child(self, due: float) -> None:
        self._next_of_child = due
        self._set_wake()

    def _set_wake(self) -> None:
        self.wake(min(self._next_of_child, self._next_move, self._next_beat))

    def go_on(self, now: float) -> None:
        """Do what is due: send moves or a sign of life, or start the child again."""
        if now >= self._next_move:
            self._next_move = inf
        if now >= self._next_beat:
            self._beat()
        if now >= self._next_of_child:
            self._next_of_child = inf
            self.child.go_on(now)
        self._set_wake()

    def _send_beats(self, seconds: float) -> None:
        """From now on, and for `seconds`, workers need to know that the desk runs."""
        now = time.monotonic()
        self._beats_until = max(self._beats_until, now + seconds)
        if self._next_beat == inf:
            self._next_beat = now
            self._set_wake()

    def _beat(self) -> None:
        """Send a sign of life after everything that was decided before it. One that cannot be sent at once is left out."""
        now = time.monotonic()
        if self.child.running and not self.child.unsent:
            if self._backlog:
                self._send_effects(now)
            self.child.send(AtWork(now))
        self._next_beat = now + BEATS_APART if now < self._beats_until else inf

    # --- Sending ---

    def send(self, effects: Sequence[Effect]) -> None:
        """Put effects into the queue."""
        now = 0.0
        for effect in effects:
            out = effect[1]
            if out not in self.outs:
                continue
            if out in self._risks and not self._may(effect):
                continue
            if out in self._resolvers:
                meant = self._resolvers[out][1](effect[2], effect[3:])
                if meant is None:
                    continue
                effect = type(effect)((*effect[:3], *meant))
            if effect[1:3] in self._watched:
                self._send_beats(self._watched[effect[1:3]])
            now = now or time.monotonic()
            how, key = self._backlog.put(effect, now, behind=not self.child.running or self.child.unsent > 0)
            if how == "begin":
                self._begun.begin((out, key), effect)
            elif how == "end":
                self._begun.end((out, key))

    def _may(self, effect: Effect) -> bool:
        risk = self._risks[effect[1]]
        what = risk(effect[2:], self._tables) if risk is not None else ""
        if not what or self._agreed is None or self._agreed(what):
            return True
        self._refuse(what)
        return False

    def _send_effects(self, now: float) -> None:
        self._moved_at = now
        self.child.send(Do.of(self._backlog.take()))

    @property
    def busy(self) -> bool:
        """Whether something has not been sent yet."""
        return self.child.unsent > 0 or bool(self._backlog)

    def write(self) -> bool:
        """Send what the queue holds, if the child has read everything before it. Nothing to wait for: the child's descriptor tells
        when it takes more."""
        if self._backlog and self.child.running and not self.child.unsent:
            now = time.monotonic()
            if now < self._moved_at + MOVES_APART and not self._backlog.urgent:
                # A device can send its position 1000 times a second; no program at the other end is that fast.
                self._next_move = self._moved_at + MOVES_APART
                self._set_wake()
            else:
                self._send_effects(now)
        return False

    def descriptors(self) -> Iterable[Descriptor]:
        """The descriptor of the child."""
        return (Descriptor(self.child.fd, self.child.readable, self.write),)

    # --- Receiving ---

    def _on_message(self, message: FromWorkers) -> None:
        if not message.plausible():
            return
        match message:
            case Note(text):
                self._warn(text)
            case Fact(out, name, None):
                self.facts.get(out, {}).pop(name, None)
            case Fact(out, name, fact):
                self.facts.setdefault(out, {})[name] = fact
                self.listener.on_message(message)
            case Ended(out, keys):
                for key in keys:
                    self._begun.ended((out, _hashable(key)))
            case TookOver(out):
                self._left.pop(out, None)
            case NeedsDesk(seconds):
                self._send_beats(seconds)
            case _:
                self.listener.on_message(message)

    def _on_exit(self, reason: str) -> None:
        self._warn(ended(self._title, reason) + ("; it is started again" if self.child.restarts else ""))
        self.listener.on_exit()

    # --- End ---

    def begin_close(self) -> None:
        """Send the queue and ask the workers to end everything, then themselves; do not wait for them."""
        if self._backlog:
            self._send_effects(time.monotonic())
        self.child.begin_finish()

    def close(self) -> None:
        """Send the queue, have the workers end everything that they began, and wait for the end of their process."""
        self.begin_close()
        self.child.finish()


def _hashable(key: Any) -> Hashable:
    """Return a key as it was before it was sent: tuples arrive as lists."""
    return tuple(map(_hashable, key)) if isinstance(key, list) else key
