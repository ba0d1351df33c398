"""Takes the ordinary keyboard for a moment and hears what is performed on it, through the X server."""

from __future__ import annotations

import time
from typing import Any

from fenko.core.keys import KEY_FOR_CODE, NAMED_KEYS
from fenko.core.macros import Stroke
from fenko.system.session import DisplayError
from fenko.system.xkb import X_KEYCODE_OFFSET, character_of
from fenko.system.xserver import open_display

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
