"""One output's worker with its queue and its thread, and the way on which it tells the desk things."""

from __future__ import annotations

import threading
import time
from collections.abc import Mapping, Sequence
from math import inf
from typing import Any

from fenko.core.backlog import Backlog, queued_as
from fenko.core.changes import Effect
from fenko.core.flow import Sent, summed_up
from fenko.core.registration import Output
from fenko.outputs.messages import (
    AllReported,
    ControlsChanged,
    Ended,
    Fact,
    NeedsDesk,
    Note,
    NumberIs,
    SetByPeer,
    SurfacePresent,
    TookOver,
    WorkerMessage,
)
from fenko.system.parent_process import ParentProcess
from fenko.system.trouble import described, ignore_errors
from fenko.workers.worker import FIRST_PAUSE, Away, Desk, Worker

BEHIND = 0.005
"""Seconds after which a worker that is still at something is behind, so that of what moves only the newest waits for it."""
LAST_WORDS = 2.0
"""Seconds that a worker has to end things, when the desk is gone or another one takes its place."""
_AGAIN = 10.0  # seconds in which the same note is not told again
_MOST_TOLD = 1000
_MOST_CHANGES = 4000


class Line:
    """The way back to the desk. Never waits: what does not fit is left out, but for the newest of each fact."""

    def __init__(self, parent: ParentProcess) -> None:
        self._parent = parent
        self._lock = threading.Lock()
        self._wake = threading.Event()
        self._waiting: dict[Any, WorkerMessage] = {}
        self._order = 0
        threading.Thread(target=self._run, daemon=True).start()

    def put(self, key: Any, what: WorkerMessage) -> None:
        """This is told; of a key only the newest."""
        with self._lock:
            if key is None:
                self._order += 1
                key = self._order
                if len(self._waiting) > _MOST_TOLD:
                    return
            self._waiting.pop(key, None)
            self._waiting[key] = what
        self._wake.set()

    def put_each(self, what: WorkerMessage) -> None:
        """This is told whatever happens, in its place."""
        with self._lock:
            self._order += 1
            self._waiting[self._order] = what
        self._wake.set()

    def put_changes(self, surface: str, changes: Sequence[Sent]) -> None:
        """Changes of a surface: together with those that wait and nothing has come in between. Where the desk does not read, what
        waits is summed up."""
        with self._lock:
            last = next(reversed(self._waiting.values()), None)
            if isinstance(last, ControlsChanged) and last.surface == surface:
                last.changes.extend(changes)
                if len(last.changes) > _MOST_CHANGES:
                    last.changes[:] = summed_up(last.changes)
            else:
                self._order += 1
                self._waiting[self._order] = ControlsChanged(surface, list(changes))
        self._wake.set()

    def _run(self) -> None:
        while True:
            self._wake.wait()
            with self._lock:
                self._wake.clear()
                waiting, self._waiting = list(self._waiting.values()), {}
            for what in waiting:
                try:
                    try:
                        self._parent.send(what)
                    except (
                        ValueError,
                        OverflowError,
                        TypeError,
                    ) as why:  # another program says more than can be passed on
                        about = type(what).__name__
                        self._parent.send(Note(f"what `{about}` tells cannot be passed on: {described(why)}"))
                except OSError:
                    return  # the desk is gone; the reader sees it too


class Telling(Desk):
    """What one output tells the desk."""

    def __init__(self, out: str, line: Line) -> None:
        self._out = out
        self._line = line
        self._said: dict[str, float] = {}

    def note(self, text: str) -> None:
        """One line for the person."""
        now = time.monotonic()
        if now - self._said.get(text, -inf) >= _AGAIN:
            self._said = {said: at for said, at in self._said.items() if now - at < _AGAIN} | {text: now}
            self._line.put(None, Note(text))

    def number(self, name: str, number: float) -> None:
        """A number of this output."""
        self._line.put(("number", self._out, name), NumberIs(self._out, name, number))

    def fact(self, name: str, what: Mapping[str, Any] | None) -> None:
        """How something stands."""
        self._line.put(("fact", self._out, name), Fact(self._out, name, dict(what) if what is not None else None))

    def ended(self, effects: Sequence[Effect]) -> None:
        """These were done; what they ended has ended."""
        keys = [queued.key for effect in effects if (queued := queued_as(effect)).how == "end"]
        if keys:
            self._line.put_each(Ended(self._out, keys))

    def took(self, begun: Sequence[Effect]) -> None:
        """What another worker had begun has ended."""
        self._line.put_each(TookOver(self._out))
        self._line.put_each(Ended(self._out, [queued_as(effect).key for effect in begun]))

    def watch(self, seconds: float) -> None:
        """It has to hear that the desk is at work."""
        self._line.put(("watch", self._out), NeedsDesk(seconds))

    def heard(self, kind: str, name: str, number: float) -> None:
        """The other end sets something of the desk."""
        self._line.put(("heard", kind, name), SetByPeer(kind, name, number))

    def changes(self, surface: str, changes: Sequence[Sent]) -> None:
        """Controls have changed."""
        self._line.put_changes(surface, changes)

    def here(self, surface: str, link: str, what: Mapping[str, Any] | None) -> None:
        """A surface is there, or gone."""
        self._line.put_each(SurfacePresent(surface, link, dict(what) if what is not None else None))

    def until(self, surface: str, t: float) -> None:
        """All has been told."""
        self._line.put(("until", surface), AllReported(surface, t))


class Lane:
    """One worker with its queue and its thread, which begins when those `before` it, whose place it takes, have ended."""

    def __init__(self, output: Output, worker: Worker, telling: Telling, before: Sequence[Lane] = ()) -> None:
        self._before = before
        self.output = output
        self.worker = worker
        self._telling = telling
        self._backlog = Backlog()
        self._changed = threading.Condition()
        self._left: tuple[list[Effect], dict[str, Any]] | None = None
        self._releases = False
        self._woken = False
        self._ends = False
        self._failure: Exception | None = None
        self._open = False
        self._busy_since = inf
        self._away = ""
        self._was_away = False
        worker.wake = self._wake
        self._thread = threading.Thread(target=self._run, name=output.name, daemon=True)
        self._thread.start()

    def put(self, effects: Sequence[Effect]) -> None:
        """These are to be done."""
        with self._changed:
            now = time.monotonic()
            behind = not self._open or now - self._busy_since > BEHIND
            for effect in effects:
                self._backlog.put(effect, now, behind)
            self._changed.notify()

    def _wake(self) -> None:
        with self._changed:
            self._woken = True
            self._changed.notify()

    def take_over(self, begun: list[Effect], facts: dict[str, Any]) -> None:
        """This was begun by somebody who is gone."""
        with self._changed:
            self._left = (begun, facts)
            self._changed.notify()

    def release(self) -> None:
        """What was begun is ended."""
        with self._changed:
            self._releases = True
            self._changed.notify()

    def fail(self, why: Exception) -> None:
        """The worker failed in another thread: it begins again as after any other error."""
        with self._changed:
            self._failure = why
            self._woken = True
            self._changed.notify()

    def end(self) -> None:
        """The same, and the thread ends."""
        with self._changed:
            self._ends = True
            self._changed.notify()

    def join(self, seconds: float) -> None:
        """Waits until it has ended, so long at most."""
        self._thread.join(seconds)

    @property
    def at_work(self) -> bool:
        """Whether it has not ended yet."""
        return self._thread.is_alive()

    def _run(self) -> None:
        for lane in self._before:
            lane.join(LAST_WORDS)
        self._before = ()
        pause = FIRST_PAUSE
        due = 0.0 if self.worker.eager else inf
        while True:
            with self._changed:
                self._busy_since = inf
                while (
                    not (self._backlog or self._ends or self._releases or self._left or self._woken)
                    and due > time.monotonic()
                ):
                    self._changed.wait(None if due == inf else min(3600.0, due - time.monotonic()))
                ends, releases, left = self._ends, self._releases, self._left
                self._releases = self._woken = False
                self._busy_since = time.monotonic()
                effects = self._backlog.take() if self._open or ends else []
                failure, self._failure = self._failure, None
            try:
                if failure is not None:
                    raise failure
                if releases and self._open:
                    self.worker.release()
                if ends:
                    self._finish(effects)
                    return
                if not self._open:
                    self.worker.open()
                    self._open = True
                    pause = FIRST_PAUSE
                    effects = self._take(old=not self._was_away)
                    left = self._left  # what was begun has come before them, maybe while this was being opened
                    if self._away:
                        self._telling.note(f"{self.output.title}: back again")
                    self._away, self._was_away = "", False
                if left is not None:
                    self.worker.left_over(*left)
                    self._left = None
                    self._telling.took(left[0])
                if effects:
                    self.worker.send(effects)
                    self._telling.ended(effects)
                after = self.worker.watch()
                due = inf if after is None else time.monotonic() + after
            except Exception as why:  # reported; this lane begins again
                # Nobody is there; or a worker, or what it talks to, is wrong, and the others go on.
                if ends:
                    return
                self._lost(str(why) if isinstance(why, Away) else f"unexpected error: {described(why)}", effects)
                due = self._wait(pause)
                pause = min(self.worker.longest_pause, pause * 2)

    def _finish(self, effects: list[Effect]) -> None:
        """The last things are done, if anybody is there, and everything that was begun ends."""
        try:
            if effects and not self._open and not self._was_away:
                self.worker.open()
                self._open = True
            if self._open:
                self.worker.send(effects)
                self._telling.ended(effects)
        finally:
            self._close()

    def _take(self, old: bool) -> list[Effect]:
        """What waits; also what is `old`, or only what is still wanted."""
        with self._changed:
            if not old:
                self._backlog.forget_old(time.monotonic())
            return self._backlog.take()

    def _lost(self, why: str, effects: list[Effect]) -> None:
        """The way is closed; what has to come whatever happens waits on."""
        self._close()
        self._was_away = True
        if why != self._away:
            self._telling.note(f"{self.output.title}: {why}")
            self._away = why
        with self._changed:
            now = time.monotonic()
            self._backlog.put_back(effects, now)
            self._backlog.forget_old(now)

    def _wait(self, pause: float) -> float:
        """Waits for a while, whatever comes; when it is to be tried again. Ends are heard at once."""
        until = time.monotonic() + pause
        with self._changed:
            while not self._ends and (left := until - time.monotonic()) > 0:
                self._changed.wait(left)
            waits = bool(self._backlog) or self.worker.eager
        return 0.0 if waits else inf

    def _close(self) -> None:
        self._open = False
        ignore_errors(self.worker.close)
