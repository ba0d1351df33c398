"""The way to everything that can wait for somebody else: a process of workers, which is never waited for.

What is sent is put into a queue that is bounded whatever happens, and goes out when the event at hand is dealt with. If that
process ends, it is started again, with growing pauses, and told what had been begun."""

from __future__ import annotations

import contextlib
import os
import select
import signal
import socket
import time
from collections.abc import Callable, Hashable, Iterable, Mapping, Sequence
from math import inf, isfinite
from typing import Any

from fenko.core.backlog import Backlog
from fenko.core.changes import Effect, Moving
from fenko.core.flow import Sent
from fenko.core.inputs import Raw
from fenko.core.registration import Resolver
from fenko.core.verbs import ACTS, OUTPUTS
from fenko.outputs.port import Descriptor, Port, Settings
from fenko.system.beside import started
from fenko.system.packets import Packets, packed

FIRST_PAUSE, LONGEST_PAUSE = 0.1, 30.0
"""Seconds before ended workers are started again: at first, and, doubled each time, at last."""
MOVES_APART = 0.004
"""Seconds from one time that numbers are told which move on and on to the next; the first of them goes at once."""
BEATS_APART = 0.02
"""Seconds from one sign of life to the next, for workers that move things."""
_TALKS = {"workers": "what talks to other programs", "surfaces": "what talks to surfaces"}
_STEADY = 60.0  # seconds after which the pauses begin anew
_PATIENCE = 3.0  # seconds in which workers have to end


def _hashable(key: Any) -> Hashable:
    """A key as it was before it was sent."""
    return tuple(map(_hashable, key)) if isinstance(key, list) else key


class Begun:
    """What workers were told to begin, until one has told that it ended it. A worker may die before it does what it was told,
    and the next one too."""

    def __init__(self) -> None:
        self._effects: dict[tuple[str, Hashable], Effect] = {}
        self._held: set[tuple[str, Hashable]] = set()
        self._ending: dict[tuple[str, Hashable], int] = {}  # how many ends are on their way

    def __bool__(self) -> bool:
        return bool(self._effects)

    def begin(self, item: tuple[str, Hashable], effect: Effect) -> None:
        """It is to begin."""
        self._effects[item] = effect
        self._held.add(item)

    def end(self, item: tuple[str, Hashable]) -> None:
        """It is to end."""
        if item in self._effects:
            self._held.discard(item)
            self._ending[item] = self._ending.get(item, 0) + 1

    def ended(self, item: tuple[str, Hashable]) -> None:
        """A worker has ended it once."""
        if self._ending.get(item, 0) > 1:
            self._ending[item] -= 1
        elif self._ending.pop(item, 0) and item not in self._held:
            self._effects.pop(item, None)

    def left_over(self) -> list[Effect]:
        """All of it, for a worker that ends it."""
        self._held.clear()
        self._ending = dict.fromkeys(self._effects, 1)
        return list(self._effects.values())

    def keep(self, outs: Iterable[str]) -> None:
        """The workers of all other outs are gone, and have ended what was theirs."""
        kept = frozenset(outs)
        self._effects = {item: effect for item, effect in self._effects.items() if item[0] in kept}


class Hearer:
    """Whom a port of workers tells what comes back. Of what it does not take up, nothing comes."""

    def number(self, out: str, name: str, number: float) -> None:
        """A number at another end is that now."""

    def fact(self, out: str, name: str, fact: dict[str, Any]) -> None:
        """How something stands at another end."""

    def heard(self, kind: str, name: str, number: float) -> None:
        """Another end sets a `value` of the desk, or the `state` of a control."""

    def changes(self, surface: str, changes: list[Sent]) -> None:
        """Controls of a surface, by their usual names, have changed."""

    def here(self, surface: str, link: str, what: dict[str, Any] | None) -> None:
        """A surface is there by that link, which says that it is this; None if it is not any more."""

    def until(self, surface: str, t: float) -> None:
        """All that happened on a surface before that time has been told."""

    def ended(self) -> None:
        """The workers' process has ended, and with it everything that was there by them."""


class FarPort(Port):
    """Sends effects to the workers of `outs`, which share a process of that name."""

    def __init__(
        self, outs: Iterable[str], settings: Settings, name: str = "workers", hears_only: bool = False
    ) -> None:
        """With `hears_only` the workers are at work for what they hear, and nothing is sent to them."""
        self.name = name
        self._at_work = frozenset(outs)
        self._hears_only = hears_only
        self._closing = False
        self.outs = frozenset() if hears_only else self._at_work
        self.why = f"for {', '.join(sorted(OUTPUTS[out].title for out in self._at_work))}"
        self.facts: dict[str, dict[str, Any]] = {}
        """How things stand at the other ends, by output and name."""
        self.hearer = Hearer()
        self._warn = settings.warn
        self._tables = settings.tables
        self._folder = settings.folder
        self._agreed = settings.agreed
        self._refused: set[str] = set()
        self._told_tables: Mapping[str, Any] = {}
        self._risks = {out: OUTPUTS[out].risk for out in self.outs if OUTPUTS[out].risk is not None}
        self._watched = {(out, act): row.watched for (out, act), row in ACTS.items() if row.watched}
        self._resolvers: dict[str, tuple[Any, Resolver]] = {}
        self._backlog = Backlog()
        self._out = bytearray()
        self._begun = Begun()
        self._left: dict[str, dict[str, Any]] = {}
        self._focus: tuple[str, str] | None = None
        self._packets = Packets()
        self._pid = 0
        self._started = -inf
        self._pause = FIRST_PAUSE
        self._again = self._next_move = self._next_beat = inf
        self._beats_until = -inf
        self._moved_at = -inf
        self._line: socket.socket | None = None
        self._silence: socket.socket | None = None
        self._fd = -1
        self._use_resolvers()
        self._start()

    @property
    def _talks(self) -> str:
        return _TALKS.get(self.name, f"the process `{self.name}` of an output")

    # --- The process ---

    def _start(self) -> None:
        self._pid, ours = started("fenko.workers")
        if self._fd < 0:
            self._fd, self._line = ours.fileno(), ours
        else:
            # The loop goes on listening at the same number.
            os.dup2(ours.fileno(), self._fd, inheritable=False)
            ours.close()
            self._line = socket.socket(fileno=self._fd)
        self._started = time.monotonic()
        self._again = inf
        self._packets = Packets()
        self._out.clear()
        self._tell_desk()
        if self._focus is not None:
            self._say("focus", *self._focus)
        # What an earlier process had begun, and how things stood, is told again until a worker has dealt with it.
        for out, facts in self.facts.items():
            self._left[out] = self._left.get(out, {}) | facts
        self.facts = {}
        if self._left or self._begun:
            self._say("begun", self._begun.left_over(), self._left)

    def _tell_desk(self) -> None:
        self._told_tables = self._allowed()
        self._say("desk", self._folder, sorted(self._at_work), dict(self._told_tables))

    def _allowed(self) -> Mapping[str, Any]:
        """What the desk says, without what the person has not agreed to."""
        tables = self._tables
        for out in sorted(self._at_work):
            allows = OUTPUTS[out].allows
            if allows is not None and self._agreed is not None:
                tables, refused = allows(tables, self._agreed)
                for what in refused:
                    self._refuse(what)
        return tables

    def look_again(self) -> None:
        """The person may have agreed to more."""
        self._refused.clear()
        if self._allowed() != self._told_tables:
            self._tell_desk()

    def _refuse(self, what: str) -> None:
        """Says once what is not done."""
        if what not in self._refused:
            self._refused.add(what)
            self._warn(f"not done, for nobody has agreed to it: {what}; `fenko trust` shows it and asks")

    def use_desk(self, folder: str, outs: Iterable[str], tables: Mapping[str, Any]) -> None:
        """Another desk is in force; `outs` are those of it that have workers."""
        self._at_work = frozenset(outs)
        self.outs = frozenset() if self._hears_only else self._at_work
        self._risks = {out: OUTPUTS[out].risk for out in self.outs if OUTPUTS[out].risk is not None}
        self._folder, self._tables = folder, tables
        self._begun.keep(self._at_work)
        self._left = {out: facts for out, facts in self._left.items() if out in self._at_work}
        self._refused.clear()
        self._use_resolvers()
        self._tell_desk()

    def _use_resolvers(self) -> None:
        """Those of outputs whose tables are the same go on with what they know."""
        found: dict[str, tuple[Any, Resolver]] = {}
        for out in self.outs:
            makes = OUTPUTS[out].resolver
            if makes is not None:
                read = {name: self._tables.get(name) for name in OUTPUTS[out].tables}
                known = self._resolvers.get(out)
                found[out] = known if known is not None and known[0] == read else (read, makes(self._tables))
        self._resolvers = found

    def focus_on(self, app: str, program: str) -> None:
        """The window in front is of this program."""
        if (app, program) != self._focus:
            self._focus = (app, program)
            self._say("focus", app, program)

    def release(self) -> None:
        """Everything that plays by itself ends."""
        self._say("release")

    def _ended(self) -> None:
        """The process is gone: its things are ended when it is there again."""
        line, self._line = self._line, None
        with contextlib.suppress(ProcessLookupError, ChildProcessError):
            os.kill(self._pid, signal.SIGKILL)  # it has closed its end, so it ends anyway
            os.waitpid(self._pid, 0)
        if line is not None:
            # The number stays taken, by something that never says anything, until it is started again.
            ours, theirs = socket.socketpair()
            os.dup2(ours.fileno(), self._fd, inheritable=False)
            line.detach()
            ours.close()
            self._silence = theirs
        if time.monotonic() - self._started > _STEADY:
            self._pause = FIRST_PAUSE
        self._warn(f"{self._talks} has ended; it is started again")
        self.hearer.ended()
        self._again = time.monotonic() + self._pause
        self._pause = min(LONGEST_PAUSE, self._pause * 2)
        self._set_wake()

    def _set_wake(self) -> None:
        self.wake(min(self._again, self._next_move, self._next_beat))

    def go_on(self, now: float) -> None:
        """Starts it again, or says that the desk is at work."""
        if now >= self._next_move:
            self._next_move = inf
        if now >= self._next_beat:
            self._beat()
        if self._line is None and now >= self._again:
            try:
                self._start()
            except OSError as why:
                self._warn(f"{self._talks} cannot be started: {why.strerror or why}")
                self._again = now + self._pause
                self._pause = min(LONGEST_PAUSE, self._pause * 2)
        self._set_wake()

    def _watch_for(self, seconds: float) -> None:
        """From now on, and for so long, somebody has to know that the desk is at work."""
        now = time.monotonic()
        self._beats_until = max(self._beats_until, now + seconds)
        if self._next_beat == inf:
            self._next_beat = now
            self._set_wake()

    def _beat(self) -> None:
        """A sign of life, behind everything that was decided before it. What does not go out at once is none."""
        now = time.monotonic()
        if self._line is not None and not self._out:
            if self._backlog:
                self._moved_at = now
                self._say_effects()
            self._say("alive", now)
        self._next_beat = now + BEATS_APART if now < self._beats_until else inf

    # --- Sending ---

    def send(self, effects: Sequence[Effect]) -> None:
        """Puts effects into the queue."""
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
                self._watch_for(self._watched[effect[1:3]])
            now = now or time.monotonic()
            how, key = self._backlog.put(effect, now, behind=self._line is None or bool(self._out))
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

    def _say(self, word: str, *what: Any) -> None:
        self._out += packed([word, *what])

    def _say_effects(self) -> None:
        """All that waits, and which of it moves."""
        effects = self._backlog.take()
        self._say("effects", effects, [n for n, effect in enumerate(effects) if isinstance(effect, Moving)])

    @property
    def busy(self) -> bool:
        """Whether something waits to be sent."""
        return bool(self._out) or bool(self._backlog)

    def _write(self) -> bool:
        """Sends what the socket takes; whether there is more."""
        if self._line is None:
            return False
        if not self._out and self._backlog:
            now = time.monotonic()
            if now < self._moved_at + MOVES_APART and not self._backlog.urgent:
                # A device may tell a thousand times a second where it is; nobody at the other end is that fast.
                self._next_move = self._moved_at + MOVES_APART
                self._set_wake()
                return False
            self._moved_at = now
            self._say_effects()
        if not self._out:
            return False
        try:
            sent = self._line.send(self._out)
        except BlockingIOError:
            return True
        except OSError:
            return False  # reading says so too
        del self._out[:sent]
        return self.busy

    def descriptors(self) -> Iterable[Descriptor]:
        """The socket to the workers."""
        return (Descriptor(self._fd, self._readable, self._write),)

    def _readable(self) -> None:
        if self._line is None:
            return
        try:
            data = self._line.recv(1 << 16)
        except BlockingIOError:
            return
        except OSError:
            data = b""
        if not data:
            self._ended()
            return
        try:
            packets = list(self._packets.of(data))
        except ValueError as why:
            self._broken(str(why))
            return
        for packet in packets:
            try:
                word, what = packet[0], packet[1:]
                told = _TOLD[word](*what)
            except (ValueError, TypeError, KeyError, IndexError) as why:
                self._broken(f"{type(why).__name__}: {why}")
                return
            if told:
                self._heard(word, what)

    def _broken(self, why: str) -> None:
        """The process says what no worker says."""
        self._warn(f"{self._talks} sends what cannot be read ({why})")
        with contextlib.suppress(ProcessLookupError):
            os.kill(self._pid, signal.SIGKILL)
        self._ended()

    def _heard(self, word: str, what: list[Any]) -> None:
        match word:
            case "note":
                self._warn(what[0])
            case "fact":
                out, name, fact = what
                if fact is None:
                    self.facts.get(out, {}).pop(name, None)
                else:
                    self.facts.setdefault(out, {})[name] = fact
                    self.hearer.fact(out, name, fact)
            case "ended":
                out, keys = what
                for key in keys:
                    self._begun.ended((out, _hashable(key)))
            case "took":
                self._left.pop(what[0], None)
            case "watch":
                self._watch_for(what[0])
            case "number":
                self.hearer.number(*what)
            case "heard":
                self.hearer.heard(*what)
            case "changes":
                surface, changes = what
                self.hearer.changes(surface, list(map(_sent, changes)))
            case "here":
                self.hearer.here(*what)
            case "until":
                self.hearer.until(*what)

    def begin_close(self) -> None:
        """What waits is sent, as far as it is taken at once; then the workers end everything, and themselves."""
        if self._line is None or self._closing:
            return
        self._closing = True
        if self._backlog:
            self._say_effects()
        with contextlib.suppress(OSError):
            del self._out[: self._line.send(self._out)]
            if not self._out:
                self._line.shutdown(socket.SHUT_WR)

    def close(self) -> None:
        """What waits is sent, everything that was begun ends, and the process with it."""
        if self._line is not None:
            self.begin_close()
            self._line.settimeout(_PATIENCE)
            with contextlib.suppress(OSError):
                self._line.sendall(self._out)
                self._line.shutdown(socket.SHUT_WR)
            _ended_within(self._pid, _PATIENCE)
            self._line.close()
        elif self._fd >= 0:
            os.close(self._fd)
        self._line, self._fd = None, -1


def _is_number(number: Any) -> bool:
    return isinstance(number, int | float) and isfinite(number) and abs(number) < _MOST_NUMBER


_MOST_NUMBER = 1e15
"""Numbers from other programs are smaller; others are left out."""


def _changes_told(surface: str, changes: list[Any]) -> bool:
    return isinstance(surface, str) and all(_is_number(t) and isinstance(control, str) for t, control, *_ in changes)


_TOLD: Mapping[str, Callable[..., bool]] = {
    "note": lambda text: isinstance(text, str),
    "fact": lambda out, name, fact: isinstance(name, str) and (fact is None or isinstance(fact, dict)),
    "watch": _is_number,
    "ended": lambda out, keys: isinstance(out, str) and isinstance(keys, list),
    "took": lambda out: isinstance(out, str),
    "number": lambda out, name, number: isinstance(name, str) and _is_number(number),
    "heard": lambda kind, name, number: isinstance(name, str) and _is_number(number),
    "changes": _changes_told,
    "here": lambda surface, link, what: isinstance(surface, str) and (what is None or isinstance(what, dict)),
    "until": lambda surface, t: isinstance(surface, str) and _is_number(t),
}
"""What workers tell, and whether it can be: a number may be one that another program made up."""


def _sent(change: list[Any]) -> Sent:
    """A change as it comes from a worker: time, control, value; of an axis the value and its ends."""
    t, control, *value = change
    return (t, control, Raw(*value) if len(value) > 1 else value[0])


def _ended_within(pid: int, seconds: float) -> None:
    """Waits for a process, and kills it after so many seconds."""
    watch = os.pidfd_open(pid)
    try:
        if not select.select([watch], [], [], seconds)[0]:
            os.kill(pid, signal.SIGKILL)
        os.waitpid(pid, 0)
    except ChildProcessError:
        pass
    finally:
        os.close(watch)
