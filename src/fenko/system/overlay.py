"""A window over all others that shows a picture, never has the keyboard, and is not the window manager's business: on an X
server, or as a layer of a Wayland compositor that has layers."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any, Literal, Protocol

from fenko.system.xpicture import Backdrop, Picture
from fenko.system.xserver import open_display

_RAISED = 0.25  # seconds; two windows that both want to be on top would not come to rest otherwise
_CLASS = b"fenko-legend\0fenko-legend\0"
_USUAL_DOTS = 96.0


Gesture = Literal["grow", "shrink", "close", "moved"]
"""What a hand does with the window, or has done."""
_BUTTONS: dict[int, Gesture] = {3: "close", 4: "grow", 5: "shrink"}


class Overlay(Protocol):
    """The window, not yet to be seen. Everything raises DisplayError when the display goes away."""

    size: tuple[int, int]
    place: tuple[int, int]
    seen: bool
    due: float | None
    """When it has to rise again (monotonic seconds), with `rise`."""

    @property
    def fd(self) -> int:
        """Becomes readable when something has come; then call `read`."""

    @property
    def screen(self) -> tuple[int, int]:
        """Width and height of the whole display, in pixels."""

    @property
    def dots(self) -> float:
        """Pixels an inch, as the desktop wants them."""

    def show(self, picture: Picture, place: tuple[int, int]) -> None:
        """Shows this picture at a place; on top of all."""

    def hide(self) -> None:
        """It is not to be seen."""

    def read(self, told: Callable[[Gesture], None]) -> None:
        """Takes what has come, and tells what a hand does."""

    def rise(self) -> None:
        """It is over all others again."""

    def close(self) -> None:
        """It is gone."""


class XOverlay:
    """The window, not yet to be seen. Raises DisplayError when there is no X server, or it goes away.

    Where `solid`, it can be dragged and takes clicks; else the pointer reaches what lies beneath it."""

    def __init__(self, title: str, solid: bool) -> None:
        self._display = open_display()
        display, x = self._display, self._display.x
        core = self._core = display.connection.core
        self._screen = display.connection.get_setup().roots[display.connection.pref_screen]
        self._window = display.connection.generate_id()
        mask = x.EventMask
        wanted = mask.VisibilityChange | mask.ButtonPress | mask.ButtonRelease | mask.Button1Motion
        display.tell(
            core.CreateWindow, self._screen.root_depth, self._window, self._screen.root, 0, 0, 1, 1, 0, 1,
            self._screen.root_visual, x.CW.OverrideRedirect | x.CW.EventMask, [1, wanted if solid else mask.VisibilityChange],
        )  # fmt: skip
        self._property("WM_CLASS", 31, 8, _CLASS)
        self._property("WM_NAME", 31, 8, title.encode("latin-1", "replace"))
        self._property("_NET_WM_NAME", display.atom("UTF8_STRING"), 8, title.encode())
        self._property("_NET_WM_WINDOW_TYPE", 4, 32, [display.atom("_NET_WM_WINDOW_TYPE_NOTIFICATION")])
        # Of hints only that it wants no input.
        self._property("WM_HINTS", display.atom("WM_HINTS"), 32, [1, 0, 0, 0, 0, 0, 0, 0, 0])
        display.tell(core.ChangeWindowAttributes, display.root, x.CW.EventMask, [mask.PropertyChange])
        self._stacking = display.atom("_NET_CLIENT_LIST_STACKING")
        self._backdrop = Backdrop(display, self._window)
        if not solid:
            self._let_through()
        self.size = (1, 1)
        self.place = (0, 0)
        self.seen = False
        self._raised = 0.0
        self.due: float | None = None
        self._grip: tuple[int, int] | None = None
        display.flush()

    def _property(self, name: str, kind: int, bits: int, value: Any) -> None:
        self._display.tell(
            self._core.ChangeProperty, self._display.x.PropMode.Replace, self._window, self._display.atom(name), kind, bits,
            len(value), value,
        )  # fmt: skip

    def _let_through(self) -> None:
        """Where the pointer is concerned, the window is nowhere."""
        shape = self._display.extension("shape")
        self._display.tell(shape.Rectangles, 0, 2, 0, self._window, 0, 0, 0, [])  # SET, INPUT, no order

    @property
    def fd(self) -> int:
        """Becomes readable when something has come; then call `read`."""
        return self._display.fd

    @property
    def screen(self) -> tuple[int, int]:
        """Width and height of the whole display, in pixels."""
        found = self._display.ask(self._core.GetGeometry, self._display.root)
        return found.width, found.height

    @property
    def dots(self) -> float:
        """Pixels an inch, as the desktop wants them."""
        for line in self._display.text_property(self._display.root, "RESOURCE_MANAGER").splitlines():
            name, _, value = line.partition(":")
            if name.strip() == "Xft.dpi":
                try:
                    return min(400.0, max(50.0, float(value)))
                except ValueError:
                    break
        return _USUAL_DOTS

    def show(self, picture: Picture, place: tuple[int, int]) -> None:
        """Shows this picture at a place; on top of all."""
        display, x = self._display, self._display.x
        self.size, self.place = (picture.wide, picture.high), place
        where = x.ConfigWindow
        display.tell(
            self._core.ConfigureWindow, self._window, where.X | where.Y | where.Width | where.Height | where.StackMode,
            [*place, *self.size, x.StackMode.Above],
        )  # fmt: skip
        self._backdrop.show(picture)
        display.tell(self._core.MapWindow, self._window)
        self.seen = True
        display.flush()

    def hide(self) -> None:
        """It is not to be seen."""
        self.seen = False
        self._grip = None
        self._display.tell(self._core.UnmapWindow, self._window)
        self._display.flush()

    def read(self, told: Callable[[Gesture], None]) -> None:
        """Takes what has come, and tells what a hand does."""
        x = self._display.x
        for event in self._display.events():
            if isinstance(event, x.VisibilityNotifyEvent):
                if event.state != x.Visibility.Unobscured:
                    self._rise_soon()
            elif isinstance(event, x.PropertyNotifyEvent):
                if event.atom == self._stacking:
                    self._rise_soon()
            elif isinstance(event, x.ButtonReleaseEvent):  # before the press, which it is a kind of
                if event.detail == 1 and self._grip is not None:
                    self._grip = None
                    told("moved")
            elif isinstance(event, x.ButtonPressEvent):
                self._pressed(event, told)
            elif isinstance(event, x.MotionNotifyEvent) and self._grip is not None:
                self._move(event.root_x - self._grip[0], event.root_y - self._grip[1])

    def _pressed(self, event: Any, told: Callable[[Gesture], None]) -> None:
        if event.detail == 1:
            self._grip = (event.event_x, event.event_y)
        elif event.detail in _BUTTONS:
            told(_BUTTONS[event.detail])

    def _move(self, left: int, top: int) -> None:
        where = self._display.x.ConfigWindow
        self.place = (left, top)
        self._display.tell(self._core.ConfigureWindow, self._window, where.X | where.Y, [left, top])
        self._display.flush()

    def _rise_soon(self) -> None:
        if self.seen and self.due is None:
            self.due = max(time.monotonic(), self._raised + _RAISED)

    def rise(self) -> None:
        """It is over all others again."""
        self.due, self._raised = None, time.monotonic()
        if self.seen:
            x = self._display.x
            self._display.tell(self._core.ConfigureWindow, self._window, x.ConfigWindow.StackMode, [x.StackMode.Above])
            self._display.flush()

    def close(self) -> None:
        """It is gone."""
        self._display.close()
