"""The window over all others on a Wayland compositor that has layers (wlr-layer-shell): a surface in the uppermost one."""

from __future__ import annotations

from collections.abc import Callable

from fenko.system.overlay import Gesture
from fenko.system.session import DisplayError
from fenko.system.wayland import Object, Wayland, memory_with
from fenko.system.xpicture import Picture

SHELL = "zwlr_layer_shell_v1"
_OVER_ALL, _TOP_LEFT, _WHEREVER = 3, 1 | 4, -1
_NO_ALPHA = 1  # four bytes a pixel, of which the last says nothing
_LEFT, _RIGHT, _VERTICAL = 0x110, 0x111, 0
_HAS_POINTER = 1
_CURRENT_MODE = 1
_DOTS = 96.0


class LayerOverlay:
    """The window, not yet to be seen. Raises DisplayError when the compositor has no layers, or goes away."""

    def __init__(self, solid: bool) -> None:
        self._line = line = Wayland()
        self._solid = solid
        self._screen, self._scale = (1280, 720), 1
        compositor, shm = line.bind("wl_compositor", 4), line.bind("wl_shm", 1)
        shell, seat, output = line.bind(SHELL, 3), line.bind("wl_seat", 5), line.bind("wl_output", 2)
        if compositor is None or shm is None or shell is None:
            line.close()
            raise DisplayError(f"the compositor of {line.name} puts nothing over all windows ({SHELL} is missing)")
        self._compositor, self._shm, self._shell, self._seat = compositor, shm, shell, seat
        if output is not None:
            output.hears = {"mode": self._mode, "scale": lambda scale: setattr(self, "_scale", max(1, scale))}
        self._pointer: Object | None = None
        if seat is not None and solid:
            seat.hears = {"capabilities": self._able}
        self._surface: Object | None = None
        self._layer: Object | None = None
        self._picture: Picture | None = None
        self._ready = False
        self.size, self.place = (1, 1), (0, 0)
        self.seen = False
        self.due: float | None = None
        self._at = (0.0, 0.0)
        self._grip: tuple[float, float] | None = None
        self._told: list[Gesture] = []
        line.settle()

    def _mode(self, flags: int, wide: int, high: int, refresh: int) -> None:
        if flags & _CURRENT_MODE:
            self._screen = wide, high

    def _able(self, capabilities: int) -> None:
        if capabilities & _HAS_POINTER and self._pointer is None and self._seat is not None:
            self._pointer = self._seat.tell("get_pointer")
            self._pointer.hears = {
                "enter": lambda serial, surface, x, y: setattr(self, "_at", (x, y)),
                "motion": self._moved, "button": self._pressed, "axis": self._turned,
            }  # fmt: skip
        elif not capabilities & _HAS_POINTER:
            self._pointer = None

    @property
    def fd(self) -> int:
        """Becomes readable when something has come; then call `read`."""
        return self._line.fd

    @property
    def screen(self) -> tuple[int, int]:
        """Width and height of the first screen, as programs count its pixels."""
        return self._screen[0] // self._scale, self._screen[1] // self._scale

    @property
    def dots(self) -> float:
        """Pixels an inch: what the compositor makes larger, it makes larger by itself."""
        return _DOTS

    def show(self, picture: Picture, place: tuple[int, int]) -> None:
        """Shows this picture at a place; on top of all."""
        self._picture = picture
        self.size, self.place = (picture.wide, picture.high), place
        if self._surface is None or self._layer is None:
            self._surface = self._compositor.tell("create_surface")
            if not self._solid:
                region = self._compositor.tell("create_region")
                self._surface.tell("set_input_region", region)
                region.forget()
            self._layer = self._shell.tell("get_layer_surface", self._surface, None, _OVER_ALL, "fenko-legend")
            self._layer.hears = {"configure": self._configured, "closed": self._closed}
            self._layer.tell("set_anchor", _TOP_LEFT)
            self._layer.tell("set_exclusive_zone", _WHEREVER)
        self._layer.tell("set_size", *self.size)
        self._put()
        if self._ready:
            self._draw()
        else:
            self._surface.tell("commit")
        self.seen = True
        self._line.flush()

    def _put(self) -> None:
        if self._layer is not None:
            self._layer.tell("set_margin", self.place[1], 0, 0, self.place[0])

    def _configured(self, serial: int, wide: int, high: int) -> None:
        if self._layer is not None:
            self._layer.tell("ack_configure", serial)
            self._ready = True
            self._draw()

    def _closed(self) -> None:
        """Its screen is gone; the next picture is shown anew."""
        self.hide()

    def _draw(self) -> None:
        if self._picture is None or self._surface is None:
            return
        rows, wide, high, stride = self._picture
        pool = self._shm.tell("create_pool", memory_with(rows), len(rows))
        buffer = pool.tell("create_buffer", 0, wide, high, stride, _NO_ALPHA)
        buffer.hears = {"release": buffer.forget}
        pool.forget()
        self._surface.tell("attach", buffer, 0, 0)
        self._surface.tell("damage", 0, 0, wide, high)
        self._surface.tell("commit")

    def hide(self) -> None:
        """It is not to be seen."""
        self.seen = self._ready = False
        self._grip = None
        if self._layer is not None:
            self._layer.forget()
        if self._surface is not None:
            self._surface.forget()
        self._layer = self._surface = None
        self._line.flush()

    def read(self, told: Callable[[Gesture], None]) -> None:
        """Takes what has come, and tells what a hand does."""
        self._line.read()
        self._line.flush()
        gestures, self._told = self._told, []
        for gesture in gestures:
            told(gesture)

    def _moved(self, t: int, x: float, y: float) -> None:
        self._at = x, y
        if self._grip is None or self._surface is None:
            return
        # The surface goes along, so the hand is where it was on it.
        self.place = round(self.place[0] + x - self._grip[0]), round(self.place[1] + y - self._grip[1])
        self._put()
        self._surface.tell("commit")

    def _pressed(self, serial: int, t: int, button: int, state: int) -> None:
        if button == _LEFT and state:
            self._grip = self._at
        elif button == _LEFT and self._grip is not None:
            self._grip = None
            self._told.append("moved")
        elif button == _RIGHT and state:
            self._told.append("close")

    def _turned(self, t: int, axis: int, value: float) -> None:
        if axis == _VERTICAL and value:
            self._told.append("grow" if value < 0 else "shrink")

    def rise(self) -> None:
        """It is over all others anyway."""
        self.due = None

    def close(self) -> None:
        """It is gone."""
        self._line.close()
