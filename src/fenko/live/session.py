"""A desk that runs: sources put changes into the inbox, the engine decides, the router sends."""

from __future__ import annotations

import os
import signal
import time
from collections import deque
from collections.abc import Callable, Collection, Sequence
from math import inf
from typing import Any

from fenko.core.changes import FOCUS, KEYBOARD, Change, Effect
from fenko.core.circumstances import Focus
from fenko.core.engine import Engine
from fenko.core.plan import Level, Report
from fenko.desk.compiled import Compiled
from fenko.live.display import Displays
from fenko.live.far import FarEnds, far_ends
from fenko.live.focus import shown_focus
from fenko.live.inbox import Inbox
from fenko.live.journal import Journalling
from fenko.live.keeping import Keeping, kept_file
from fenko.live.lamps import Lamps
from fenko.live.linked import Linked
from fenko.live.loop import Loop
from fenko.live.notifying import Notifier
from fenko.live.playing import TakeSource
from fenko.live.rereading import Compiling, Found, Rereading, Settings, Told
from fenko.live.router import Router
from fenko.live.source import Source, Surroundings, make_source
from fenko.live.state import state_of, status_of
from fenko.live.talk import TalkServer
from fenko.live.telling import Telling
from fenko.outputs.port import Port, PortError
from fenko.services.compiling import Broken
from fenko.system.talking import Doorway
from fenko.system.trouble import described

REMEMBERED = 30
"""Things that it has said, for who asks later."""
_SENT_WITHIN, _LOOK_EVERY = 1.0, 0.01  # seconds before it is stopped (Ctrl-Z), and between two looks
REOPENS_FIRST, REOPENS_LAST = 0.5, 30.0
"""Seconds after which an output that was lost is opened again: at first, and, doubled each time, at last."""
OpenPorts = Callable[[Compiled, Collection[str]], list[Port]]
"""Opens the ports of a desk, but for these outs, which have one."""


class Session:
    """One run of a desk, from the first device to the last key lifted.

    `note` gets a line for every thing that a person wants to know; `open_ports` opens a desk's ports, but for these outs
    that have one; `told` hears of all that is sent. Raises PortError."""

    def __init__(
        self,
        desk: Compiled,
        loop: Loop,
        open_ports: OpenPorts,
        note: Callable[[str], None],
        report: Report | None = None,
        told: Callable[[Sequence[Effect]], None] | None = None,
        share: bool = False,
    ) -> None:
        self._tell_person = note
        self._said: deque[dict[str, Any]] = deque(maxlen=REMEMBERED)
        self._since = time.time()
        self._loop = loop
        loop.trouble = self._trouble
        self._open_ports = open_ports
        self._told = told
        self.engine = Engine(desk.plan, report, seed=time.time_ns())
        self.held_back = False
        """Whether nothing is sent for the moment."""
        self.locked = False
        """Whether the screen is locked."""
        self.router = Router(loop, self._port_lost)
        ports = open_ports(desk, ())
        for port in ports:
            self.router.use(port)
        # On the way of every event, so decided once.
        self._sends = self.router.send if told is None else self._send_and_tell
        self.inbox = Inbox(self.engine, loop, self._sends, self._look_around)

        def send(effects: Sequence[Effect]) -> None:
            """What does not come of the engine goes the same way."""
            self.inbox.send(effects)

        self.inbox.failed = lambda why: self._trouble("the engine: everything was released", why)
        self._far: list[FarEnds] = []
        self.linked = Linked(desk.plan.surfaces, self.inbox.put, self._note)
        self.linked.latest = desk.latest
        self.inbox.horizon = self.linked.horizon
        self._lamps = Lamps(desk, self.inbox, loop, lambda: self._facts, send)
        self._telling = Telling(desk, self.engine, self.inbox, loop, self._raw, send)
        self.linked.came = self._lamps.came
        self.linked.moved = self._lamps.moved
        for port in ports:
            self._hear(port)
        self._displays = Displays(loop, self._note, self._display_lost)
        self._displays.depend(self)
        self.around = Surroundings(
            desk, loop, self.inbox, self.router, self._displays, self._note, self.linked, share, self.lock
        )
        self._sources: list[Source] = []
        self._profile = self.engine.profile
        self._left: frozenset[str] = frozenset()
        self._paused = False
        self._announced = False
        self._compiling = Compiling(loop)
        self._rereading = Rereading(loop, self._compiling, lambda: self.around.desk, self._take)
        self._untried: Compiled | None = None
        """The desk before a setting was tried, while one is."""
        self._trying = False
        self._trial = loop.timer(lambda now: self._trial_over())
        self._notifier = Notifier(loop)
        self._notifier.use_desk(desk)
        self._talk: TalkServer | None = None
        self._keeping: Keeping | None = None
        self._journal: Journalling | None = None
        self._old_levels: list[Level] = []
        self._forgetting = loop.timer(self._forget_old)
        self._pause = REOPENS_FIRST
        self._reopening = loop.timer(lambda now: self._reopen())
        self._stops_at = inf
        self._goes_on = False
        self._stopping = loop.timer(self._stop_here)
        self._closed = False

    def _note(self, text: str) -> None:
        self._said.append({"at": round(time.time(), 3), "text": text})
        self._tell_person(text)

    def _trouble(self, what: str, why: Exception) -> None:
        """Reports an error that nobody expected; the part goes on, or begins again after a pause."""
        self._note(f"unexpected error in {what}: {described(why)}")

    # --- Beginning ---

    def use(self, *names: str) -> None:
        """Listens to these sources."""
        for name in names:
            self._start(make_source(name, self.around))

    def pretend_focus(self, focus: Focus) -> None:
        """Behaves as if this window were in front, whatever is."""
        self.inbox.put([(time.monotonic(), FOCUS, focus)])

    def play(self, changes: Sequence[Change]) -> None:
        """Plays a take in its own time from now; the loop ends when nothing of it is under way any more."""
        self.linked.deaf = True
        self._start(TakeSource(self.around, changes))
        self._loop.before_each_wait(self._end_of_take)

    def _hear(self, port: Port) -> None:
        """Whatever comes back through a port is heard."""
        far = far_ends(port, self.engine, self.inbox, self.linked, self._loop.after_each_round)
        if far is not None:
            self._far.append(far)

    def _start(self, source: Source) -> None:
        self._sources.append(source)
        source.leave(self._left)
        source.start()

    def announce(self) -> None:
        """Says which profile is in force, and from now on each that comes."""
        self._announced = True
        self._note(f"profile: {self._profile.name}; {self.around.desk.name} is running, Ctrl-C ends it")

    # --- While it runs ---

    def _send_and_tell(self, effects: Sequence[Effect]) -> None:
        """Sends for who wants to hear of it, or does nothing while everything is held back."""
        assert self._told is not None
        if not self.held_back:
            self._told(effects)
            self.router.send(effects)

    def hold_back(self, held_back: bool) -> None:
        """Lifts everything, and sends nothing any more, until it is called again with False."""
        if held_back != self.held_back:
            if held_back:
                self.inbox.release_all(time.monotonic())
            self.held_back = held_back

    def lock(self, locked: bool) -> None:
        """The screen is locked: everything is released, nothing is sent, and other programs (which ask for the password) have the
        surfaces; or it is not any more, and all goes on."""
        if locked == self.locked:
            return
        self.locked = locked
        now = time.monotonic()
        if locked:
            self.inbox.release_all(now)
            for far in self._far:
                far.port.release()
        else:
            self.inbox.send = self._sends
            self.inbox.release_all(now)  # of what hands began meanwhile nothing was sent
            self._lamps.all_out()
        for source in self._sources:
            source.pause(locked or self.engine.paused)
        if locked:
            self.inbox.send = _nothing_sent
        self._note(
            "the screen is locked: nothing is sent" if locked else "the screen is unlocked: everything works again"
        )

    def _look_around(self) -> None:
        """Says what has changed with the last effects."""
        engine = self.engine
        if engine.profile.leaves != self._left:
            self._left = engine.profile.leaves
            for source in self._sources:
                source.leave(self._left)
            if self._left:
                self._note(f"left to the program: {', '.join(sorted(self._left))}")
        if engine.profile.name != self._profile.name:
            self._profile = engine.profile
            if self._announced:
                how = "by hand" if engine.by_hand else f"in front is {shown_focus(engine.focus)}"
                self._note(f"profile: {self._profile.name} ({how})")
                self._notifier.profile(self._profile.name, how)
        if engine.paused != self._paused:
            self._paused = engine.paused
            for source in self._sources:
                source.pause(self._paused or self.locked)
            if self._paused:
                for far in self._far:
                    far.port.release()
                self._lamps.all_out()
            self._note("paused: other programs have the surfaces" if self._paused else "running again")
        if self._journal is not None:
            self._journal.look(time.monotonic())

    def _end_of_take(self) -> None:
        under_way = self.engine.under_way or self.router.busy
        if not under_way and not any(source.busy for source in self._sources):
            self._loop.stop()

    # --- Reading the desk again ---

    def reload(self, told: Told | None = None) -> None:
        """Reads the desk again, beside what goes on. With an error nothing changes. `told` hears what came of it."""
        for far in self._far:
            far.port.look_again()
        self._rereading.ask(told or self._again)

    def _again(self, wrong: str | None, changed: bool) -> None:
        if wrong is None and not changed:
            self._note(f"{self.around.desk.name} was read again; nothing has changed")

    def watch_files(self) -> None:
        """Reads it again by itself whenever one of its files has changed."""
        self._rereading.watch()

    def _take(self, found: Found) -> None:
        if isinstance(found, Compiled) and found.digests == self.around.desk.digests:
            self._note("the desk's files are without errors again, and say what is in force")
            self._notifier.error("")
        elif isinstance(found, Compiled) and self._untried is not None and found.digests == self._untried.digests:
            self._note(f"{found.name} was read again; nothing has changed, and what is tried goes on")
        elif isinstance(found, Compiled):
            tried, self._untried = self._untried is not None, None
            self._trial.set(inf)
            self.use_desk(found)
            ended = "; what was tried is taken back" if tried else ""
            self._note(f"{found.name} has changed and is in force; profile {self.engine.profile.name}{ended}")
            if tried and self._talk is not None:
                self._talk.trial_ended()
            self._notifier.error("")
        elif isinstance(found, Broken):
            self._note("the desk has changed and has errors, so the old one stays:")
            for problem in found.problems:
                self._note(problem)
            self._notifier.error("The desk has errors, so the old one stays", "\n".join(found.problems))
        else:
            self._note(f"the desk could not be read again, so the old one stays: {found}")

    def use_desk(self, desk: Compiled) -> None:
        """Puts another desk in force between two events. What is held stays held until it is let go."""
        before, self.around.desk = self.around.desk, desk
        self.inbox.use_plan(time.monotonic(), desk.plan)
        self.linked.use(desk.plan.surfaces)
        self.linked.latest = desk.latest
        self._notifier.use_desk(desk)
        for source in self._sources:
            source.use_desk(before)
        if desk.tables.get("output") != before.tables.get("output"):
            self._note("output: other settings take effect when Fenko is started again")
        self._lamps.use_desk(desk)
        self._telling.use_desk(desk)
        if self._journal is not None:
            self._journal.use_desk(desk)
        for far in self._far:
            far.use_desk(desk)
            self.router.renew(far.port)
        if not {*desk.outs} <= {out for port in self.router.ports for out in port.outs} | {*before.outs}:
            try:
                self._open_missing()
            except PortError as why:
                self._note(f"output: {why}; it is opened as soon as that can be done")
                self._pause = REOPENS_FIRST
                self._reopening.set_in(self._pause)
        # Taking a large desk apart takes time too: level by level, events first.
        self._old_levels = list(before.plan.levels.values())
        self._forgetting.set(0.0)

    def _forget_old(self, now: float) -> None:
        if self._old_levels:
            self._old_levels.pop()
            self._forgetting.set(0.0)

    # --- Talking to other programs ---

    def listen(self, door: Doorway | None, keeps: bool = True) -> None:
        """Lets other programs of the same person ask for things; and, where it `keeps`, remembers values for the next time, and what is
        used."""
        if door is not None:
            self._talk = TalkServer(self._loop, self, door)
        if not keeps:
            return
        self._keeping = Keeping(self.engine, self._loop, kept_file(self.around.desk.folder))
        if not self.linked.deaf:  # what a take does is no use
            self._journal = Journalling(self.around.desk, self.engine, self._loop, self._note)

    @property
    def about(self) -> dict[str, Any]:
        """Which desk this is."""
        desk = self.around.desk
        return {
            "desk": desk.name, "folder": desk.folder, "profile": self.engine.profile.name, "process": os.getpid(),
            "since": round(self._since, 3), "given": desk.given, "version": desk.version,
        }  # fmt: skip

    def status(self) -> dict[str, Any]:
        """What it does, and what it has said lately."""
        facts = self._facts
        does = status_of(self.engine, self.around.desk)
        for name, fact in facts.get("feedback", {}).items():
            if name in does["surfaces"]:
                does["surfaces"][name] |= fact
        return {
            **self.about, **does, "outputs": {port.name: port.why for port in self.router.ports},
            "locked": self.locked,
            "machines": facts.get("machine", {}),
            "journal": (self._journal.wrong or "kept") if self._journal is not None and self._journal.on else "",
            "said": list(self._said),
        }  # fmt: skip

    def switch(self, name: str) -> None:
        """Puts a profile in force by hand, or the `next` or `previous` one; with `auto` what is in front decides again."""
        self.inbox.use_profile(time.monotonic(), name)

    def rest(self, paused: bool) -> None:
        """Pauses, or goes on."""
        if paused != self.engine.paused:
            self.inbox.toggle_pause(time.monotonic())

    def suspend(self) -> None:
        """Stops the process, as Ctrl-Z means it: with everything released and the devices given back first. `fg` goes on."""
        if self._stops_at < inf:
            return
        self._goes_on = not self.engine.paused
        self.rest(True)
        self._stops_at = time.monotonic() + _SENT_WITHIN
        self._stopping.set_in(_LOOK_EVERY)

    def _stop_here(self, now: float) -> None:
        if self.router.busy and now < self._stops_at:
            self._stopping.set_in(_LOOK_EVERY)
            return
        self._stops_at = inf
        os.kill(os.getpid(), signal.SIGSTOP)
        if self._goes_on:
            self.rest(False)

    def warn(self, text: str) -> None:
        """Says something that a person has to know of, wherever they look."""
        self._note(text)
        self._notifier.error("Fenko", text)

    def stop(self) -> None:
        """Ends it, as Ctrl-C does."""
        self._loop.stop()

    @property
    def profiles(self) -> Collection[str]:
        """The profiles that there are."""
        return self.around.desk.plan.profiles

    def state(self) -> dict[str, Any]:
        """Its values, and where its controls are."""
        return state_of(
            self.engine,
            self._raw,
            {out: facts for out, facts in self._facts.items() if out != "feedback"},
        )

    def _raw(self, address: str) -> str:
        """What a device itself says of an input."""
        return next(filter(None, (one.raw(address) for one in self._sources)), "") or self.linked.raw(address)

    @property
    def _facts(self) -> dict[str, dict[str, Any]]:
        """How things stand at other ends, by output."""
        return {out: facts for far in self._far for out, facts in far.facts.items()}

    def try_settings(self, settings: Settings, seconds: float, told: Callable[[str | None], None]) -> None:
        """Other settings hold for so long, and are taken back then unless they are kept."""

        def compiled(found: Found) -> None:
            self._trying = False
            if isinstance(found, Compiled):
                self._untried = self.around.desk
                self.use_desk(found)
                self._trial.set_in(seconds)
                told(None)
            else:
                told("\n".join(found.problems) if isinstance(found, Broken) else found)

        if self._untried is not None or self._trying:
            told("something is being tried already; it ends by itself, or with its client")
            return
        self._trying = True  # from now on, not only from when it has been compiled
        if not self._compiling.ask(self.around.desk.given, settings, compiled):
            self._trying = False
            told("too much is under way; try once more")

    def end_trial(self, keep: bool) -> bool:
        """What is tried stays in force, or is taken back; False if nothing is tried."""
        before, self._untried = self._untried, None
        self._trial.set(inf)
        if before is not None and not keep:
            self.use_desk(before)
        return before is not None

    def _trial_over(self) -> None:
        if self.end_trial(keep=False):
            self._note("what was tried is taken back")
            if self._talk is not None:
                self._talk.trial_ended()

    # --- What goes away, and comes back ---

    def _port_lost(self, port: Port, why: str) -> None:
        """Nothing of a lost port lasts any longer, and nothing waits for it."""
        if port.returns:
            self._displays.lose()
            return
        self._note(f"{port.name} is gone: {why}; it is opened again as soon as that can be done")
        self._notifier.error(f"{port.name} is gone", why)
        self.inbox.release_all(time.monotonic())
        self._pause = REOPENS_FIRST
        self._reopening.set_in(self._pause)

    def _reopen(self) -> None:
        """Opens what was lost; if that cannot be done, later."""
        try:
            self._open_missing()
        except PortError:
            self._pause = min(REOPENS_LAST, self._pause * 2)
            self._reopening.set_in(self._pause)
        else:
            self._notifier.error("")

    def display_lost(self) -> None:
        """The display is gone; nothing of it is asked any more."""
        for port in self.router.ports:
            if port.returns:
                self.router.drop(port)

    def _display_lost(self) -> None:
        now = time.monotonic()
        self.inbox.release_all(now)
        self.inbox.put([(now, KEYBOARD, ()), (now, FOCUS, Focus())])

    def display_back(self) -> None:
        """It is there again. Raises DisplayError or PortError if not yet."""
        self._open_missing()

    def _open_missing(self) -> None:
        open_now = {out for port in self.router.ports for out in port.outs}
        for port in self._open_ports(self.around.desk, open_now):
            self.router.use(port)
            self._hear(port)

    # --- The end ---

    def close(self) -> None:
        """Lifts everything, gives the devices back and closes the ports."""
        if self._closed:
            return
        self._closed = True
        self._reopening.set(inf)
        for lost in self.router.give_up():
            self._note(lost)
        self.inbox.release_all(time.monotonic())
        self.router.begin_close()
        for source in self._sources:
            source.close()
        if self._talk is not None:
            self._talk.close()
        if self._keeping is not None:
            self._keeping.write()
        self._rereading.close()
        self._notifier.close()
        self._compiling.close()
        self.router.close()
        if self._journal is not None:
            self._journal.close()


def _nothing_sent(effects: Sequence[Effect]) -> None:
    """While the screen is locked."""
