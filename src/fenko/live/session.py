"""A desk that runs: what changes is fed to the engine, what the engine says is sent, and time passes."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from math import inf

from fenko.core.changes import FOCUS, KEYBOARD, Change, Effect
from fenko.core.engine import Engine
from fenko.core.plan import Focus, Report
from fenko.core.words import shortened
from fenko.desk.load import Desk
from fenko.focus.x11 import X11Focus
from fenko.live.keyboard import Keyboard
from fenko.live.loop import Loop
from fenko.live.registry import DeskRegistry
from fenko.live.returning import Returning
from fenko.live.surfaces import Surfaces
from fenko.live.wiring import Output
from fenko.outputs.keys import KeyOutput, OutputError
from fenko.outputs.x11 import X11Output
from fenko.system.xserver import DisplayError, display_name, on_wayland, open_display


class Session:
    """One run of a desk, from the first device to the last key lifted.

    `say` gets a line for every thing that a person wants to know; `reopen` makes the output anew after a display came
    back; `told` hears of all that is sent."""

    def __init__(
        self,
        desk: Desk,
        loop: Loop,
        output: Output,
        reopen: Callable[[], Output],
        say: Callable[[str], None],
        report: Report | None = None,
        told: Callable[[Sequence[Effect]], None] | None = None,
    ) -> None:
        self._desk = desk
        self._say = say
        self.loop = loop
        self.engine = Engine(desk.plan, report, seed=time.time_ns())
        self._output: Output | None = output
        self._reopen = reopen
        self._told = told
        # On the way of every event, so decided once.
        self._send: Callable[[Sequence[Effect]], None] = self._send_plainly if told is None else self._send_and_tell
        self.held_back = False
        """Whether nothing is sent for the moment."""
        self._surfaces: Surfaces | None = None
        self._focus: X11Focus | None = None
        self._follows_focus = False
        self._keyboard: Keyboard | None = None
        self._watches_keyboard = False
        self._settling: Focus | None = None
        self._profile = self.engine.profile
        self._announced = False
        self._paused = False
        self._plays = False
        self._take: list[Change] = []
        self._take_at = 0
        self._take_start = 0.0
        self._returning = Returning(self.loop, self._try_display)
        self._deadline = inf
        self._settle_timer = loop.timer(self._settle)
        self._take_timer = loop.timer(self._play_on)
        self._engine_timer = loop.timer(self._advance)
        self._output_timer = loop.timer(self._output_goes_on)

    # --- Wiring ---

    def use_devices(self, share: bool = False) -> None:
        """Takes changes from the desk's devices; with `share`, without keeping them from other programs."""
        registry = DeskRegistry(self._desk, share)
        self._surfaces = Surfaces(registry, self.loop, self.feed, self._pass_motion, self._say)
        self._surfaces.start()

    def use_focus(self) -> None:
        """Follows the window in front, where there is an X server that tells."""
        self._follows_focus = True
        try:
            self._open_focus()
        except DisplayError as why:
            self._say(f"focus: unknown, profiles change by hand only ({why})")

    def _open_focus(self) -> None:
        focus = X11Focus()
        if not focus.managed():
            self._say("focus: no window manager tells which window is in front yet")
        self._focus = focus
        self.loop.add(focus.fd, self._focus_readable)
        current = focus.current()
        self._say(f"focus: followed on display {display_name()}; in front is {_shown(current)}")
        self.feed([(time.monotonic(), FOCUS, current)])
        self._focus_readable()  # what came while the server was asked

    def pretend_focus(self, focus: Focus) -> None:
        """Behaves as if this window were in front, whatever is."""
        self.feed([(time.monotonic(), FOCUS, focus)])

    def use_keyboard(self) -> None:
        """Follows the modifiers of the ordinary keyboard, where a layer is on while one is held."""
        self._watches_keyboard = self._desk.plan.watches_keyboard
        if not self._watches_keyboard:
            return
        try:
            self._open_keyboard(bool(display_name()) and not on_wayland())
        except DisplayError:
            self._open_keyboard(False)

    def _open_keyboard(self, by_display: bool) -> None:
        self._keyboard = Keyboard(self._desk, self.loop, self._modifiers_changed, self._lose_display, by_display)
        where = f"display {display_name()}" if by_display else "the kernel"
        if self._keyboard.start():
            self._say(f"keyboard: which modifiers are held is told by {where}")
        else:
            self._say("keyboard: none may be read, so layers with `while` on a modifier stay off (`fenko ready` helps)")

    def _modifiers_changed(self, t: float, held: tuple[str, ...]) -> None:
        self.feed([(t, KEYBOARD, held)])

    def _close_keyboard(self) -> None:
        if self._keyboard is not None:
            self._keyboard.close()
            self._keyboard = None

    def announce(self) -> None:
        """Says which profile is in force, and from now on each that comes."""
        self._announced = True
        self._say(f"profile: {self._profile.name}; {self._desk.name} is running, Ctrl-C ends it")

    def hold_back(self, held_back: bool) -> None:
        """Lifts everything, and sends nothing any more, until it is called again with False."""
        if held_back != self.held_back:
            if held_back:
                self._send(self.engine.release_all(time.monotonic()))
            self.held_back = held_back

    def listen_to_output(self) -> None:
        """Lets the X11 output hear of changed layouts, and notice when its display goes away."""
        if isinstance(self._output, KeyOutput):
            self._output.wake = self._output_timer.set
        if isinstance(self._output, X11Output):
            self.loop.add(self._output.fd, self._output_readable)

    def play(self, changes: Sequence[Change]) -> None:
        """Plays a take in its own time from now; the session ends some time after its last change."""
        self._plays = True
        self._take = list(changes)
        self._take_start = time.monotonic()
        self._take_timer.set(self._take_due())
        self._end_of_take()

    # --- Changes ---

    def feed(self, changes: Sequence[Change]) -> None:
        """Feeds changes and sends what comes of them."""
        engine = self.engine
        if self._settling is not None and self._settling != _NOTHING and any(map(engine.acts, changes)):
            # Something was pressed: its keys go to the window that is in front now, settled or not. A moment in which
            # the window manager names none is no such window.
            self._settle(changes[0][0])
        for change in changes:
            effects = engine.feed(change)
            if effects:
                self._send(effects)
        if engine.deadline != self._deadline:
            self._deadline = engine.deadline
            self._engine_timer.set(engine.deadline)

    def _advance(self, now: float) -> None:
        effects = self.engine.advance(now)
        if effects:
            self._send(effects)
        self._deadline = self.engine.deadline
        self._engine_timer.set(self._deadline)
        self._end_of_take()

    def _send_and_tell(self, effects: Sequence[Effect]) -> None:
        """The same for who wants to hear of it, or nothing while everything is held back."""
        assert self._told is not None
        if not self.held_back:
            self._told(effects)
            self._send_plainly(effects)

    def _send_plainly(self, effects: Sequence[Effect]) -> None:
        output = self._output
        if output is not None:
            try:
                output.send(effects)
            except DisplayError:
                self._lose_display()
        if self.engine.profile is not self._profile or self.engine.paused != self._paused:
            self._state_changed()

    def _output_goes_on(self, now: float) -> None:
        """What had to wait can be sent now, or some of it."""
        if isinstance(self._output, KeyOutput):
            try:
                self._output.go_on(now)
            except DisplayError:
                self._lose_display()
        self._end_of_take()

    def _pass_motion(self, raw: bytes) -> None:
        if self._output is not None:
            try:
                self._output.pass_motion(raw)
            except DisplayError:
                self._lose_display()

    def _state_changed(self) -> None:
        if self.engine.profile is not self._profile:
            self._profile = self.engine.profile
            if self._announced:
                how = "by hand" if self.engine.by_hand else f"in front is {_shown(self.engine.focus)}"
                self._say(f"profile: {self._profile.name} ({how})")
        if self.engine.paused != self._paused:
            self._paused = self.engine.paused
            if self._surfaces is not None:
                (self._surfaces.lend if self._paused else self._surfaces.take_back)()
            self._say("paused: other programs have the surfaces" if self._paused else "running again")

    # --- Takes ---

    def _take_due(self) -> float:
        if self._take_at < len(self._take):
            return self._take_start + self._take[self._take_at][0]
        return inf

    def _play_on(self, now: float) -> None:
        while self._take_due() <= now:
            t, address, value = self._take[self._take_at]
            self._take_at += 1
            self.feed([(self._take_start + t, address, value)])
        self._take_timer.set(self._take_due())
        self._end_of_take()

    def _end_of_take(self) -> None:
        if self._plays and self._take_at == len(self._take) and self._settling is None:
            waits = isinstance(self._output, KeyOutput) and self._output.busy
            if not waits and not self.engine.under_way:
                self.loop.stop()

    # --- Focus ---

    def _focus_readable(self) -> None:
        assert self._focus is not None
        try:
            focus = self._focus.read()
        except DisplayError:
            self._lose_display()
            return
        if focus is None:
            return
        if focus == self.engine.focus:
            self._settling = None  # it only flickered
            self._settle_timer.set(inf)
            self._end_of_take()
        elif focus != self._settling:
            if self._settling is None:
                self._settle_timer.set(time.monotonic() + self._desk.plan.timing.settle)
            self._settling = focus

    def _settle(self, now: float) -> None:
        focus, self._settling = self._settling, None
        self._settle_timer.set(inf)
        if focus is not None:
            self.feed([(now, FOCUS, focus)])
        self._end_of_take()

    # --- Displays that go and come back ---

    def _output_readable(self) -> None:
        assert isinstance(self._output, X11Output)
        try:
            self._output.listen()
        except DisplayError:
            self._lose_display()

    def _lose_display(self) -> None:
        """Releases everything, says it once, and waits for the display to come back."""
        if self._returning.waiting:
            return
        self._returning.wait()
        self._say(f"display {display_name()} is gone; Fenko waits for it to come back")
        if self._focus is not None:
            self.loop.remove(self._focus.fd)
            self._focus.close()
            self._focus = None
        self._close_keyboard()
        if isinstance(self._output, X11Output):
            self.loop.remove(self._output.fd)
            self._output_timer.set(inf)
            self._output.close()
            self._output = None
        self._settling = None
        self._settle_timer.set(inf)
        now = time.monotonic()
        self._send(self.engine.release_all(now))
        self.feed([(now, KEYBOARD, ()), (now, FOCUS, Focus())])

    def _try_display(self) -> bool:
        """One attempt to open the display again; True if it worked."""
        try:
            open_display().close()
            if self._output is None:
                self._output = self._reopen()
                self.listen_to_output()
            if self._follows_focus and self._focus is None:
                self._open_focus()
            if self._watches_keyboard and self._keyboard is None:
                self._open_keyboard(not on_wayland())
        except (DisplayError, OutputError):
            return False
        self._say(f"display {display_name()} is back")
        return True

    # --- The end ---

    def close(self) -> None:
        """Lifts everything, gives the devices back and closes the output."""
        try:
            effects = self.engine.release_all(time.monotonic())
            if self._output is not None:
                if isinstance(self._output, KeyOutput) and (lost := self._output.give_up()):
                    self._say(lost)
                self._output.send(effects)
        except DisplayError:
            pass  # nothing can be down on a display that is gone
        finally:
            if self._surfaces is not None:
                self._surfaces.close()
            if self._focus is not None:
                self._focus.close()
            self._close_keyboard()
            if self._output is not None:
                self._output.close()


_NOTHING = Focus()


def _shown(focus: Focus) -> str:
    """A window in words."""
    name = focus.app or focus.program
    title = f' "{shortened(focus.title)}"' if focus.title else ""
    return f"{name}{title}".strip() or "nothing"
