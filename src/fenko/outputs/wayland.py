"""Keys and pointer through a Wayland compositor: a virtual keyboard and a virtual pointer of Fenko's own.

Both end with the connection, and the compositor lifts what they held down. The keyboard has the keymap of the person's own,
and keys for characters that it lacks; which of its layouts the person has in force, and Caps Lock, do not matter to it.
"""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable

from fenko.core.keys import KERNEL_KEYS, key_code
from fenko.outputs.behind import Behind
from fenko.outputs.compositor import A_LINE, HORIZONTAL, VERTICAL, CompositorPort
from fenko.outputs.gnome import open_port as gnome_port
from fenko.outputs.keys import BUTTONS, LOST, SHORTCUT, KeyPort, Typing
from fenko.outputs.kwin import FAKE_INPUT, KWinPort
from fenko.outputs.layout import CONTROL_CHARACTERS, system_layout
from fenko.outputs.port import PortError, Settings
from fenko.outputs.reading import LAST_PATIENCE
from fenko.outputs.waylandkeymap import GROUPS, MOST_AT_ONCE, OwnKeymap, is_own
from fenko.outputs.xkeymap import position
from fenko.system.desktop_windows import AnotherDesktop
from fenko.system.seat import HAS_KEYBOARD, XKB
from fenko.system.session import DisplayError
from fenko.system.wayland import Object, Wayland, content_of, memory_with
from fenko.system.xkb import KeyboardMap, NoKeymap

KEYBOARDS, POINTERS = "zwp_virtual_keyboard_manager_v1", "zwlr_virtual_pointer_manager_v1"
_FROM_A_WHEEL = 0
_MODIFIER_CODES = frozenset(KERNEL_KEYS[name] for name in ("leftshift", "leftctrl", "leftalt"))
_LETS_GO_WITHIN = 0.5
"""Seconds that the compositor has at the end to hear that everything is up."""


class WaylandPort(CompositorPort):
    """A keyboard and a pointer that the compositor makes for Fenko."""

    name = "the compositor's virtual keyboard"

    def __init__(self, warn: Callable[[str], None], line: Wayland) -> None:
        super().__init__(warn, line)
        try:
            self._begin()
        except (DisplayError, NoKeymap) as why:
            self._line.close()
            raise PortError(str(why)) from why

    def _begin(self) -> None:
        self._behind = Behind()
        self._buttons: set[str] = set()
        self._group = 0
        self._state = (0, 0, 0, 0)
        self._theirs = b""
        self._making = False
        self._begun = False
        self._keymap = OwnKeymap(KeyboardMap.named(*system_layout()[:2]))  # until the seat says which one is in force
        self._persons: Object | None = None
        seat = self._line.bind("wl_seat", 5)
        keyboards, pointers = self._line.bind(KEYBOARDS, 1), self._line.bind(POINTERS, 2)
        if seat is None or keyboards is None or pointers is None:
            raise DisplayError(f"the compositor of {self._line.name} lets nobody send keys ({KEYBOARDS} is missing)")
        self._seat = seat
        seat.hears = {"capabilities": self._able}
        self._line.settle()  # what the seat can
        self._line.settle()  # the keymap that is in force
        self._pointer = pointers.tell("create_virtual_pointer", seat)
        self._keyboard = keyboards.tell("create_virtual_keyboard", seat)
        self._begun = True
        self._upload()
        self._making = (
            True  # some compositors give a new keyboard a keymap of their own until it has one, and tell of that
        )
        self._line.settle()
        self._making = False

    # --- What the compositor says ---

    def _able(self, capabilities: int) -> None:
        if capabilities & HAS_KEYBOARD and self._persons is None:
            self._persons = self._seat.tell("get_keyboard")
            self._persons.hears = {"keymap": self._mapped}
        elif not capabilities & HAS_KEYBOARD:
            self._persons = None

    def _mapped(self, form: int, fd: int, size: int) -> None:
        """The seat has another keymap: that of the keyboard that was used last, which may be Fenko's own."""
        text = content_of(fd, size)
        if form != XKB or self._making or is_own(text) or text == self._theirs:
            return
        base = _persons(text)
        if base is None:
            return
        self._theirs = text
        if not self._begun:
            self._keymap = OwnKeymap(base)
            return
        self._keymap = OwnKeymap(base)
        self._known.clear()
        self._upload()

    # --- Keys ---

    def _upload(self) -> None:
        text = self._keymap.text + b"\0"
        self._keyboard.tell("keymap", XKB, memory_with(text), len(text))
        self._tell_state()

    def _tell_state(self) -> None:
        depressed, latched, locked, group = self._state
        self._keyboard.tell("modifiers", depressed, latched, locked, self._group or group)

    def _codes(self, key: str) -> tuple[int, ...] | None:
        if len(key) > 1:
            code = key_code(key)
            return None if code is None else (code,)
        codes = self._keymap.codes(key)
        if codes is not None:
            return codes
        if not SHORTCUT.isdisjoint(self._made):
            # Programs look for a shortcut where its letter is, not for a key that has nothing but the letter.
            codes = position(key)
        return codes or self._lend([key]).get(key)

    def _lend(self, characters: list[str]) -> dict[str, tuple[int, ...]]:
        if self._keymap.lend(characters, self._down):
            self._upload()
        found = {character: self._keymap.codes(character) for character in characters}
        return {character: codes for character, codes in found.items() if codes is not None}

    def _press(self, code: int) -> None:
        if code >= GROUPS:
            self._group = code - GROUPS
            self._tell_state()
        else:
            self._key(code, True)

    def _release(self, code: int) -> None:
        if code >= GROUPS:
            self._group = 0
            self._tell_state()
            return
        self._key(code, False)
        if code not in self._keymap.base.modifiers:
            self._released[code] = time.monotonic()

    def _key(self, code: int, down: bool) -> None:
        self._keyboard.tell("key", _now(), code, int(down))
        if code in self._keymap.base.modifiers:
            self._state = self._keymap.base.moved(code, down)
            self._tell_state()

    def _type(self, text: str) -> Typing:
        """Each character as it is: locks that are on, and modifiers that are held, are not for texts."""
        text = yield from self._behind.as_taken(text)
        at = 0
        while at < len(text):
            piece = _piece(text, at)
            codes = self._lend([character for character in piece if character not in CONTROL_CHARACTERS])
            before, self._state = self._state, (self._state[0], 0, 0, 0)
            self._tell_state()
            try:
                for character in piece:
                    yield CONTROL_CHARACTERS.get(character) or codes[character]
            finally:
                self._state = (self._state[0], *before[1:])
                self._tell_state()
            at += len(piece)

    # --- Pointer ---

    def _move(self, dx: int, dy: int) -> None:
        self._pointer.tell("motion", _now(), dx, dy)
        self._pointer.tell("frame")

    def _scroll(self, dx: float, dy: float) -> None:
        for counter, lines, axis in zip(self._scrolled, (dx, dy), (HORIZONTAL, VERTICAL), strict=True):
            whole = counter.turn(lines)
            if whole:
                self._pointer.tell("axis_source", _FROM_A_WHEEL)
                self._pointer.tell("axis_discrete", _now(), axis, whole * A_LINE, whole)
                self._pointer.tell("frame")

    def _button(self, button: str, on: bool) -> None:
        (self._buttons.add if on else self._buttons.discard)(button)
        self._pointer.tell("button", _now(), BUTTONS[button], int(on))
        self._pointer.tell("frame")

    def close(self) -> None:
        """Lifts everything, and takes keyboard and pointer away."""
        with contextlib.suppress(*LOST):  # with the compositor gone nothing is down any more
            for code in sorted(self._down, reverse=True):
                self._release(code)
            for button in list(self._buttons):
                self._button(button, False)
            self._keyboard.tell("modifiers", 0, 0, 0, 0)
            self._line.settle(_LETS_GO_WITHIN)
            if self._keymap.lends:
                self._behind.typed()
                self._behind.wait(LAST_PATIENCE)
        self._line.close()


def open_port(settings: Settings) -> KeyPort:
    """The port to the compositor of this session, by whatever it offers. Raises PortError."""
    try:
        line = Wayland()
    except DisplayError as why:
        raise PortError(str(why)) from why
    port: WaylandPort | KWinPort
    if KEYBOARDS in line.globals:
        port = WaylandPort(settings.warn, line)
    elif FAKE_INPUT in line.globals:
        port = KWinPort(settings.warn, line, settings.memory)
    else:
        line.close()
        try:
            return gnome_port(settings.warn)
        except PortError as why:
            if isinstance(why.__cause__, AnotherDesktop):
                raise PortError(f"the compositor of {line.name} lets nobody send keys") from why
            raise
    port.why = f"Wayland display {line.name}"
    return port


def _persons(text: bytes) -> KeyboardMap | None:
    """A keymap, if it is one that somebody types with: other programs make keyboards too, with a few keys at odd places."""
    try:
        keymap = KeyboardMap.written(text)
    except NoKeymap:
        return None
    return keymap if keymap.modifiers >= _MODIFIER_CODES else None


def _piece(text: str, start: int) -> str:
    """As much of a text from there on as can be typed with one keymap."""
    seen: set[str] = set()
    for at in range(start, len(text)):
        seen.add(text[at])
        if len(seen) > MOST_AT_ONCE:
            return text[start:at]
    return text[start:]


def _now() -> int:
    """Milliseconds, as events of Wayland have them."""
    return int(time.monotonic() * 1000)
