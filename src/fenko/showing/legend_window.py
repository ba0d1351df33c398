"""The legend in a window over all others. What is held shows it at once, for everything is ready but its picture."""

from __future__ import annotations

import contextlib
import select
import time
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

import msgspec
import platformdirs
from msgspec import Struct

from fenko.client import NobodyThere, RunningDesk
from fenko.desk.problems import DeskError
from fenko.drawing.board import LARGEST, LEAST, Block, board
from fenko.drawing.painter import measure, pixels
from fenko.drawing.plans import DARK, Look
from fenko.drawing.scene import Page
from fenko.showing.legend import Legend, in_force, why
from fenko.system.files import whole_file
from fenko.system.opening import open_overlay
from fenko.system.overlay import Gesture
from fenko.system.parent_process import ParentProcess
from fenko.system.session import DisplayError
from fenko.system.talking import Talk
from fenko.system.xpicture import Picture
from fenko.system.xserver import NoWindow

_WIDE = 190.0
"""Its width at first, in mm of a screen with the usual number of dots."""
_WIDE_HELD = 320.0
"""The same of one that is only shown for a moment, to be read."""
_NARROWEST = 110.0
"""So much of it has to be seen, however large it is wanted."""
_HIGHEST = 0.7  # of the screen's height, if that can be
_STEP, _SMALLEST, _GREATEST = 1.1, 0.4, 4.0
_AGAIN = 1.0  # seconds after which a desk is looked for again


class Spot(Struct):
    """Where the window is, kept from one time to the next: how far from the nearest edges of the screen (pixels, negative from the
    right or the bottom), and how large."""

    x: int = -25
    y: int = -25
    scale: float = 1.0

    def place(self, screen: tuple[int, int], size: tuple[int, int]) -> tuple[int, int]:
        """Its left upper corner, on the screen whatever has become of that."""
        left = self.x if self.x >= 0 else screen[0] + self.x + 1 - size[0]
        top = self.y if self.y >= 0 else screen[1] + self.y + 1 - size[1]
        return max(0, min(left, screen[0] - size[0])), max(0, min(top, screen[1] - size[1]))

    def move(self, place: tuple[int, int], screen: tuple[int, int], size: tuple[int, int]) -> None:
        """It has been moved; what is nearer to the right stays as far from there when it grows."""
        right, bottom = screen[0] - place[0] - size[0], screen[1] - place[1] - size[1]
        self.x = max(0, place[0]) if place[0] <= right else -max(0, right) - 1
        self.y = max(0, place[1]) if place[1] <= bottom else -max(0, bottom) - 1


def _spot_file() -> Path:
    return Path(platformdirs.user_state_dir("fenko")) / "legend-window.json"


def _kept_spot() -> Spot:
    try:
        spot = msgspec.json.decode(_spot_file().read_bytes(), type=Spot)
    except (OSError, msgspec.DecodeError):
        return Spot()
    spot.scale = min(_GREATEST, max(_SMALLEST, spot.scale))
    return spot


class LegendWindow:
    """The window, following the desk that runs, and the next one. With a `parent` process, it is visible while that wants it."""

    def __init__(
        self,
        legend: Legend | None,
        wanted: tuple[str, ...],
        note: Callable[[str], None],
        parent: ParentProcess | None = None,
    ) -> None:
        self._legend = legend
        self._wanted = wanted
        self._note = note
        self._parent = parent
        self._visible = parent is None
        self._status: dict[str, Any] = {}
        self._ends = False
        self._ahead: list[str] = []
        self._spot = _kept_spot()
        self._look = Look(DARK, measure, (LEAST, LARGEST))

    def run(self) -> int:
        """Shows it until it is closed, or Ctrl-C."""
        try:
            self._overlay = open_overlay("Fenko: legend", solid=self._parent is None)
        except DisplayError as lost:
            self._note(str(lost))
            return 1
        try:
            self._dots, self._screen = self._overlay.dots, self._overlay.screen
            with contextlib.suppress(KeyboardInterrupt), contextlib.closing(self._overlay):
                while not self._ends:
                    self._follow()
        except (DisplayError, NoWindow) as lost:
            self._note(str(lost) or "the window is gone")
            return 1
        return 0

    def _follow(self) -> None:
        """One desk, until it ends."""
        try:
            with RunningDesk() as running:
                if self._legend is None:
                    self._legend = Legend(running)
                self._legend.use(running)
                with contextlib.closing(running.listen("status")) as told:
                    while not self._ends:
                        self._wait(told, None)
        except (NobodyThere, DeskError):
            self._status = {}
            self._draw()
            until = time.monotonic() + _AGAIN
            while not self._ends and time.monotonic() < until:
                self._wait(None, until)

    def _wait(self, told: Talk | None, until: float | None) -> None:
        """Takes what comes next, from the desk, from a hand, from whoever started this."""
        before = self._spot.scale
        self._overlay.read(self._gesture)  # first, for what came while something was sent is announced by no descriptor
        if before != self._spot.scale:
            self._draw()
        if self._ends or before != self._spot.scale:
            return
        sources: list[Any] = [
            self._overlay.fd,
            *([told] if told is not None else ()),
            *([self._parent] if self._parent is not None else ()),
        ]
        due = [one for one in (self._overlay.due, until) if one is not None]
        wait = max(0.0, min(due) - time.monotonic()) if due else None
        if self._ahead:
            wait = 0.0
        ready = select.select(sources, [], [], wait)[0]
        if self._ahead and not ready:
            self._prepare(self._ahead.pop())
        draws = False
        if told is not None and told in ready and (heard := told.arrived()):
            # Only the newest is drawn, when they come faster than that.
            if self._legend is not None and self._status.get("version") != heard[-1]["version"]:
                self._ahead = list(self._legend.desk.plan.profiles)
            self._status, draws = heard[-1], True
        if self._parent is not None and self._parent in ready:
            draws = self._obey(self._parent) or draws
        if self._overlay.due is not None and self._overlay.due <= time.monotonic():
            self._overlay.rise()
        if draws:
            self._draw()

    def _obey(self, parent: ParentProcess) -> bool:
        """Handle messages of the parent; return whether there is something to draw now."""
        messages = parent.receive()
        self._ends = messages is None
        if messages:
            self._visible = messages[-1].visible
            if not self._visible:
                self._overlay.hide()
        return self._visible

    def _gesture(self, gesture: Gesture) -> None:
        match gesture:
            case "close":
                self._ends = True
                return
            case "grow":
                self._spot.scale = min(_GREATEST, self._spot.scale * _STEP)
            case "shrink":
                self._spot.scale = max(_SMALLEST, self._spot.scale / _STEP)
            case _:
                self._spot.move(self._overlay.place, self._overlay.screen, self._overlay.size)
        # What cannot be kept is where it is for as long as it is there.
        with contextlib.suppress(OSError):
            _spot_file().parent.mkdir(parents=True, exist_ok=True)
            with whole_file(_spot_file(), 0o600) as file:
                file.write(msgspec.json.encode(self._spot))

    def _draw(self) -> None:
        if not self._visible or (self._parent is not None and not self._status):
            self._overlay.hide()
            return
        picture = self._picture(self._status)
        self._overlay.show(picture, self._spot.place(self._screen, (picture.wide, picture.high)))

    def _picture(self, status: Mapping[str, Any]) -> Picture:
        per_mm = min(self._dots / 25.4 * self._spot.scale, self._screen[0] / _NARROWEST)
        return pixels(self._page(status, self._screen[0] / per_mm, self._screen[1] / per_mm), per_mm)

    def _prepare(self, profile: str) -> None:
        """Draws what is not in force, for nobody: so all its letters have been measured and shaped when it comes."""
        if self._status and self._legend is not None:
            self._picture({**self._status, "profile": profile, "layers": []})

    def _page(self, status: Mapping[str, Any], wide: float, high: float) -> Page:
        """What there is to see on a screen so large (mm)."""
        if not status or self._legend is None:
            return board("no desk is running", "", (), min(_WIDE / 2, wide), high, self._look)
        blocks = [
            Block(view.name, view.body, tuple(one.label for one in view.shown), view.together)
            for view in self._legend.doing(status, self._wanted)
        ]
        paused = "paused" if status["paused"] else why(status)
        most = _WIDE_HELD if self._parent is not None else _WIDE
        return board(in_force(status), paused, blocks, min(most, wide * 0.9), high * _HIGHEST, self._look)
