"""A small X window that takes keys for real and says which ones arrived."""

from __future__ import annotations

from msgspec import Struct

from fenko.system.xpicture import Backdrop, Picture
from fenko.system.xserver import MODIFIER_BITS, open_display

WIDTH, HEIGHT = 760, 460
_APP_ID = b"fenko-try\0fenko-try\0"


class Arrived(Struct, frozen=True):
    """A key that came to the window: its X key code, the modifiers that were down before it, and the keysyms that it has
    without Shift and with it."""

    keycode: int
    modifiers: tuple[str, ...]
    plain: int
    shifted: int


class KeyWindow:
    """Opens in front. Raises DisplayError when there is no X server, or it goes away."""

    def __init__(self, title: str) -> None:
        self._display = open_display()
        display, x = self._display, self._display.x
        core = self._core = display.connection.core
        screen = display.connection.get_setup().roots[display.connection.pref_screen]
        self._window = display.connection.generate_id()
        mask = x.EventMask
        wanted = mask.KeyPress | mask.KeyRelease | mask.StructureNotify | mask.FocusChange
        values = [screen.white_pixel, wanted]
        display.tell(
            core.CreateWindow, screen.root_depth, self._window, screen.root, 60, 60, WIDTH, HEIGHT, 0, 1,
            screen.root_visual, x.CW.BackPixel | x.CW.EventMask, values,
        )  # fmt: skip
        self._text_property("WM_CLASS", _APP_ID)
        self._text_property("WM_NAME", title.encode("latin-1", "replace"))
        self._protocols = display.atom("WM_PROTOCOLS")
        self._delete = display.atom("WM_DELETE_WINDOW")
        atom_type = 4  # ATOM, predefined
        display.tell(
            core.ChangeProperty, x.PropMode.Replace, self._window, self._protocols, atom_type, 32, 1, [self._delete]
        )
        self._backdrop = Backdrop(display, self._window)
        display.tell(core.MapWindow, self._window)
        display.flush()
        self._symbols: dict[int, tuple[int, int]] = {}
        self.in_front = False
        self._grabbed = False
        self.closed = False

    def _text_property(self, name: str, text: bytes) -> None:
        atom, string = self._display.atom(name), 31  # STRING, predefined
        x = self._display.x
        self._display.tell(
            self._core.ChangeProperty, x.PropMode.Replace, self._window, atom, string, 8, len(text), text
        )

    @property
    def fd(self) -> int:
        """Becomes readable when something has come; then call `read`."""
        return self._display.fd

    def read(self) -> list[Arrived] | None:
        """The keys that have come; None if nothing has. Call it until then: asking reads further events in passing,
        which no descriptor will announce again."""
        x = self._display.x
        found: list[Arrived] = []
        any_event = False
        for event in self._display.events():
            any_event = True
            if isinstance(event, x.KeyReleaseEvent):
                continue  # which xcffib derives from the press
            if isinstance(event, x.KeyPressEvent):
                modifiers = tuple(name for bit, name in MODIFIER_BITS.items() if event.state & bit)
                found.append(Arrived(event.detail, modifiers, *self._keysyms(event.detail)))
            elif isinstance(event, x.FocusInEvent | x.FocusOutEvent):
                # While somebody else has the keyboard, our window has the focus and hears nothing.
                self._grabbed = event.mode == x.NotifyMode.Grab or (self._grabbed and event.mode != x.NotifyMode.Ungrab)
                focus = self._display.ask(self._core.GetInputFocus).focus
                self.in_front = focus == self._window and not self._grabbed
            elif isinstance(event, x.MappingNotifyEvent):
                self._symbols.clear()
            elif isinstance(event, x.DestroyNotifyEvent):
                self.closed = True
            elif isinstance(event, x.ClientMessageEvent) and event.type == self._protocols:
                self.closed = self.closed or event.data.data32[0] == self._delete
        return found if any_event else None

    def _keysyms(self, keycode: int) -> tuple[int, int]:
        if keycode not in self._symbols:
            row = list(self._display.ask(self._core.GetKeyboardMapping, keycode, 1).keysyms)
            self._symbols[keycode] = (row[0] if row else 0, row[1] if len(row) > 1 else 0)
        return self._symbols[keycode]

    def show(self, picture: Picture) -> None:
        """Shows this."""
        self._backdrop.show(picture)

    def close(self) -> None:
        """Closes the window."""
        self._display.close()
