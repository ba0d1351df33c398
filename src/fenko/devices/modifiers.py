"""Which modifiers are held on the person's ordinary keyboards, and nothing else of what they type.

The X server keeps a state of modifiers for each keyboard, and tells when one changes. So Fenko hears of Shift, and never
of a letter; and what Fenko itself sends comes from a keyboard of its own, which is left out.
"""

from __future__ import annotations

from collections.abc import Iterable
from itertools import islice
from typing import Any

from fenko.core.controls import BUTTON_CODES
from fenko.core.keys import KERNEL_KEYS
from fenko.system.xserver import MODIFIER_BITS, NoWindow, open_display

MODIFIER_CODES: dict[int, str] = {
    KERNEL_KEYS[f"{side}{name}"]: modifier
    for name, modifier in (("ctrl", "ctrl"), ("alt", "alt"), ("shift", "shift"), ("meta", "super"))
    for side in ("left", "right")
}
"""The kernel's codes of modifier keys."""

_MODIFIER_FOR_KEY = {BUTTON_CODES[code]: modifier for code, modifier in MODIFIER_CODES.items()}
_OWN = ("XTEST", "Fenko keys")
_SLAVE_KEYBOARD, _ALL_DEVICES = 4, 0
_HIERARCHY_CHANGED = 1 << 11
_STATE_NOTIFY, _BASE_CHANGED = 1 << 2, 1 << 1
_AT_ONCE = 500
"""Events that are heard before it is looked what is held."""


class X11Modifiers:
    """Reads them from the X server, which needs no permission for any device. Raises DisplayError when it is gone."""

    def __init__(self) -> None:
        self._display = open_display()
        self._xkb: Any = self._display.extension("xkb")
        self._devices: Any = self._display.extension("xinput")
        self._keyboards: set[int] = set()
        self._display.ask(self._xkb.UseExtension, 1, 0)
        self._display.ask(self._devices.XIQueryVersion, 2, 2)
        from xcffib.xinput import EventMask, HierarchyEvent

        self._moved = HierarchyEvent
        mask = EventMask.synthetic(_ALL_DEVICES, 1, [_HIERARCHY_CHANGED])
        self._display.tell(self._devices.XISelectEvents, self._display.root, 1, [mask])
        self._find_keyboards()

    @property
    def fd(self) -> int:
        """Becomes readable when something may have changed; then call `read` until it returns None."""
        return self._display.fd

    def read(self) -> tuple[str, ...] | None:
        """The modifiers that are held after the events that have come; None once there are no more.

        Asking the server reads further events in passing, which no descriptor will announce again."""
        events = list(islice(self._display.events(), _AT_ONCE))
        if any(isinstance(event, self._moved) for event in events):
            self._find_keyboards()
        return self.held() if events else None

    def _find_keyboards(self) -> None:
        """Listens to every keyboard that a person can type on."""
        found = set()
        for device in self._display.ask(self._devices.XIQueryDevice, _ALL_DEVICES).infos:
            name = device.name.to_string()
            if device.type == _SLAVE_KEYBOARD and not any(own in name for own in _OWN):
                found.add(device.deviceid)
        for device in found - self._keyboards:
            details = [_BASE_CHANGED, _BASE_CHANGED]
            self._display.tell(self._xkb.SelectEvents, device, _STATE_NOTIFY, 0, 0, 0, 0, details)
        self._keyboards = found

    def held(self) -> tuple[str, ...]:
        """The modifiers that are held now."""
        mask = 0
        for device in self._keyboards:
            try:
                mask |= self._display.ask(self._xkb.GetState, device).baseMods
            except NoWindow:
                continue  # it has just been unplugged
        return tuple(name for bit, name in MODIFIER_BITS.items() if mask & bit)

    def close(self) -> None:
        """Stops listening."""
        self._display.close()


def held_modifiers(down: Iterable[str]) -> tuple[str, ...]:
    """The modifiers among kernel key names that are down."""
    held = {_MODIFIER_FOR_KEY.get(key) for key in down}
    return tuple(name for name in MODIFIER_BITS.values() if name in held)
