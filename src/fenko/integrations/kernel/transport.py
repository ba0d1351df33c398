"""A kernel device, as far as it can be answered: force feedback, lamps, and the speaker that some have. What hands do on it is heard
elsewhere. The kernel takes back what was uploaded when it is closed, however that happens; lamps are put out here."""

from __future__ import annotations

import contextlib
import errno
import time
from collections.abc import Callable, Mapping
from math import inf
from typing import Any

from fenko.core.flow import Sent
from fenko.core.words import reason
from fenko.integrations.feedback.spec import KERNEL_LAMPS
from fenko.system.kernel import open_device
from fenko.system.things import Node, list_nodes
from fenko.workers.transport import Way

_EV_LED, _EV_SND, _EV_FF = 0x11, 0x12, 0x15
_FF_RUMBLE, _FF_GAIN, _SND_TONE = 0x50, 0x60, 0x02
_FULL = 0xFFFF


class _Opened:
    """A node that can be answered, and the effect that rumbles on it."""

    def __init__(self, node: Node) -> None:
        self.path = node.path
        self.device = open_device(node.path)
        can = self.device.capabilities()
        self.lamps = {int(code) for code in can.get(_EV_LED, ())}
        self.rumbles = _FF_RUMBLE in can.get(_EV_FF, ())
        self.sounds = _SND_TONE in can.get(_EV_SND, ())
        self.lit: set[int] = set()
        self.effect = -1


class KernelWay(Way):
    """Every node of a surface that has lamps, motors or a speaker."""

    def __init__(
        self, link: str, entry: Mapping[str, Any], wake: Callable[[], None], note: Callable[[str], None]
    ) -> None:
        super().__init__(link, entry, wake, note)
        self._links = [str(one) for one in entry["links"]]
        self._nodes: list[_Opened] = []
        self._tone_until = inf
        self._said: set[str] = set()

    def open(self) -> None:
        """Nothing is opened before it is used."""

    def _find(self) -> list[_Opened]:
        """The nodes that are there now; those that were open stay."""
        there = {node.path: node for node in list_nodes() if any(map(node.matches, self._links))}
        for opened in [opened for opened in self._nodes if opened.path not in there]:
            self._drop(opened)
        for path, node in there.items():
            if all(opened.path != path for opened in self._nodes):
                self._open(node)
        return self._nodes

    def _open(self, node: Node) -> None:
        try:
            opened = _Opened(node)
        except OSError as why:
            if node.path not in self._said:
                self._said.add(node.path)
                self.note(f"{node.path} cannot be answered: {reason(why)}")
            return
        if opened.lamps or opened.rumbles or opened.sounds:
            self._nodes.append(opened)
        else:
            opened.device.close()

    def _drop(self, opened: _Opened) -> None:
        self._nodes.remove(opened)
        with contextlib.suppress(OSError):
            opened.device.close()

    def hear(self, now: float) -> list[Sent]:
        """Nothing is heard here; a tone ends."""
        if now >= self._tone_until:
            self._tone(0)
        self.due = self._tone_until
        return []

    def do(self, act: str, values: tuple[Any, ...]) -> None:
        """Tells every node that can do such a thing."""
        if act not in ("rumble", "lamp", "tone"):
            return
        for opened in list(self._find()):
            try:
                self._tell(opened, act, values)
            except OSError as why:
                if why.errno not in (errno.ENODEV, errno.ENOENT) and act not in self._said:
                    self._said.add(act)
                    self.note(f"{opened.path} does not {act}: {reason(why)}")
                self._drop(opened)
        if act == "tone":
            self.due = self._tone_until = time.monotonic() + float(values[1])

    def _tell(self, opened: _Opened, act: str, values: tuple[Any, ...]) -> None:
        if act == "rumble" and opened.rumbles:
            self._rumble(opened, float(values[0]), float(values[1]))
        elif act == "lamp" and values[0] in KERNEL_LAMPS:
            code = KERNEL_LAMPS.index(values[0])
            if code in opened.lamps:
                on = values[1] != "off"
                (opened.lit.add if on else opened.lit.discard)(code)
                opened.device.write(_EV_LED, code, int(on))
                opened.device.syn()
        elif act == "tone" and opened.sounds:
            opened.device.write(_EV_SND, _SND_TONE, int(values[0]))
            opened.device.syn()

    def _rumble(self, opened: _Opened, level: float, seconds: float) -> None:
        """Plays the one effect that is uploaded, anew: there are few places for them."""
        from evdev import ff

        motors = ff.Rumble(strong_magnitude=round(level * _FULL), weak_magnitude=round(level * _FULL))
        effect = ff.Effect(
            _FF_RUMBLE,
            opened.effect,
            0,
            ff.Trigger(0, 0),
            ff.Replay(round(seconds * 1000), 0),
            ff.EffectType(ff_rumble_effect=motors),
        )
        opened.effect = opened.device.upload_effect(effect)
        opened.device.write(_EV_FF, opened.effect, 1)

    def _tone(self, hertz: int) -> None:
        self._tone_until = inf
        for opened in [opened for opened in self._nodes if opened.sounds]:
            with contextlib.suppress(OSError):
                opened.device.write(_EV_SND, _SND_TONE, hertz)
                opened.device.syn()

    def dark(self) -> None:
        """Lamps go out, and motors stand still."""
        self._tone(0)
        for opened in self._nodes:
            with contextlib.suppress(OSError):
                for code in opened.lit:
                    opened.device.write(_EV_LED, code, 0)
                    opened.device.syn()
                opened.lit.clear()
                if opened.effect >= 0:
                    opened.device.write(_EV_FF, opened.effect, 0)

    def close(self) -> None:
        """Every node is closed, and with it the effects are erased."""
        self.dark()
        for opened in list(self._nodes):
            self._drop(opened)
