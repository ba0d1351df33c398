"""Takes the ordinary keyboard for a moment and hears what is performed on it, through the X server or the compositor."""

from __future__ import annotations

import time
from typing import Any

from fenko.core.keys import KEY_FOR_CODE, NAMED_KEYS
from fenko.core.macros import Stroke
from fenko.system.seat import told_keymap
from fenko.system.session import DisplayError
from fenko.system.wayland import Wayland, memory_with
from fenko.system.xkb import X_KEYCODE_OFFSET, KeyboardMap, character_of
from fenko.system.xserver import open_display

_OVER_ALL, _EXCLUSIVE, _ARGB = 3, 1, 0

_ASYNC, _CURRENT_TIME = 1, 0
_GROUP_SHIFT = 13
_CORE_KEYBOARD, _DETECTABLE_REPEAT = 0x100, 1


class X11Capture:
    """While it is open, every key goes to Fenko alone, also those that the desktop keeps for itself. Raises
    DisplayError where there is no X server, or somebody else has the keyboard."""

    def __init__(self) -> None:
        self._display = open_display()
        core = self._core = self._display.connection.core
        xkb = self._display.extension("xkb")
        self._display.ask(xkb.UseExtension, 1, 0)
        # A key that repeats is to be told from one that is struck again.
        self._display.ask(xkb.PerClientFlags, _CORE_KEYBOARD, _DETECTABLE_REPEAT, _DETECTABLE_REPEAT, 0, 0, 0)
        self.down: set[int] = set()
        for _ in range(40):
            reply = self._display.ask(core.GrabKeyboard, False, self._display.root, _CURRENT_TIME, _ASYNC, _ASYNC)
            if reply.status == 0:
                break
            time.sleep(0.025)
        else:
            self._display.close()
            raise DisplayError("another program has taken the keyboard over; type a phrase instead")
        self._symbols: dict[int, Any] = {}
        # The key that began all this may still be down; it is not a part of it.
        keys = self._display.ask(core.QueryKeymap).keys
        self._before = {8 * byte + bit for byte, bits in enumerate(keys) for bit in range(8) if bits >> bit & 1}

    @property
    def fd(self) -> int:
        """Becomes readable when a key has changed; then call `read`."""
        return self._display.fd

    def read(self) -> list[Stroke]:
        """What has been performed since the last time, with the times at which it was read."""
        x = self._display.x
        found: list[Stroke] = []
        for event in self._display.events():
            if isinstance(event, x.KeyPressEvent | x.KeyReleaseEvent):
                on = not isinstance(event, x.KeyReleaseEvent)
                if event.detail in self._before:
                    self._before -= set() if on else {event.detail}
                    continue
                (self.down.add if on else self.down.discard)(event.detail)
                found.append((event.time / 1000, self._key(event.detail, event.state), on))
        return found

    def _key(self, keycode: int, state: int) -> str:
        """The key as a phrase spells it: by its name, or by what the layout in force prints on it."""
        name = KEY_FOR_CODE.get(keycode - X_KEYCODE_OFFSET, f"@{keycode}")
        if name in NAMED_KEYS:
            return name
        if keycode not in self._symbols:
            self._symbols[keycode] = list(self._display.ask(self._core.GetKeyboardMapping, keycode, 1).keysyms)
        row = self._symbols[keycode]
        column = 2 if (state >> _GROUP_SHIFT) & 3 and len(row) > 2 and row[2] else 0
        character = character_of(row[column]) if row else None
        return character.lower() if character and len(character.lower()) == 1 and character != " " else name

    def close(self) -> None:
        """Gives the keyboard back."""
        self._display.close()


class WaylandCapture:
    """The same through a Wayland compositor that lets a program put a surface above all others (layer shell): one of a single
    pixel, which has the keyboard as long as it is there. Raises DisplayError where there is none."""

    def __init__(self) -> None:
        self._line = Wayland()
        self._strokes: list[Stroke] = []
        self._before: set[int] = set()
        self._keymap: KeyboardMap | None = None
        self._group = 0
        try:
            self._open()
        except DisplayError:
            self._line.close()
            raise

    def _open(self) -> None:
        line = self._line
        seat, compositor, shm = line.bind("wl_seat", 5), line.bind("wl_compositor", 4), line.bind("wl_shm", 1)
        shell = line.bind("zwlr_layer_shell_v1", 3)
        if seat is None or compositor is None or shm is None or shell is None:
            raise DisplayError("the compositor lends nobody its keyboard")
        self._entered = False
        seat.tell("get_keyboard").hears = {
            "keymap": self._mapped, "enter": self._enter, "key": self._moved,
            "modifiers": lambda serial, depressed, latched, locked, group: setattr(self, "_group", group),
        }  # fmt: skip
        surface = compositor.tell("create_surface")
        layer = shell.tell("get_layer_surface", surface, None, _OVER_ALL, "fenko")
        configured: list[int] = []
        layer.hears = {"configure": lambda serial, width, height: configured.append(serial), "closed": self._closed}
        layer.tell("set_size", 1, 1)
        layer.tell("set_keyboard_interactivity", _EXCLUSIVE)
        inhibitors = line.bind("zwp_keyboard_shortcuts_inhibit_manager_v1", 1)
        if inhibitors is not None:  # also what the desktop keeps for itself
            inhibitors.tell("inhibit_shortcuts", surface, seat)
        surface.tell("commit")
        line.settle()
        if not configured:
            raise DisplayError("the compositor does not show what would have the keyboard")
        layer.tell("ack_configure", configured[-1])
        pool = shm.tell("create_pool", memory_with(bytes(4)), 4)
        surface.tell("attach", pool.tell("create_buffer", 0, 1, 1, 4, _ARGB), 0, 0)
        surface.tell("commit")
        for _ in range(20):
            line.settle()
            if self._entered:
                return
            time.sleep(0.025)
        raise DisplayError("the compositor does not lend its keyboard")

    def _closed(self) -> None:
        raise DisplayError("the compositor has taken the keyboard back")

    def _mapped(self, form: int, fd: int, size: int) -> None:
        self._keymap = told_keymap(form, fd, size) or self._keymap

    def _enter(self, serial: int, surface: int, keys: bytes) -> None:
        self._entered = True
        # The key that began all this may still be down; it is not a part of it.
        self._before = set(memoryview(keys[: len(keys) // 4 * 4]).cast("I"))

    def _moved(self, serial: int, t: int, code: int, state: int) -> None:
        if code in self._before:
            self._before -= set() if state else {code}
            return
        self._strokes.append((t / 1000, self._key(code), bool(state)))

    def _key(self, code: int) -> str:
        """The key as a phrase spells it: by its name, or by what the layout in force prints on it."""
        name = KEY_FOR_CODE.get(code, f"@{code + X_KEYCODE_OFFSET}")
        if name in NAMED_KEYS or self._keymap is None:
            return name
        groups = self._keymap.groups
        table = groups[min(self._group, len(groups) - 1)]
        character = next((one for one, codes in table.items() if codes == (code,)), "")
        return character.lower() if len(character.lower()) == 1 and character != " " else name

    @property
    def fd(self) -> int:
        """Becomes readable when a key has changed; then call `read`."""
        return self._line.fd

    def read(self) -> list[Stroke]:
        """What has been performed since the last time."""
        self._line.read()
        self._line.flush()
        found, self._strokes = self._strokes, []
        return found

    def close(self) -> None:
        """Gives the keyboard back."""
        self._line.close()
