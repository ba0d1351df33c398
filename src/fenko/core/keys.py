"""Key names: one table from the kernel's key names and codes to the words of the phrase language.

A key in a phrase is one of three things, and each has one spelling that the rest of Fenko uses:

- a symbol, one printable character such as ``z`` or ``ü``: the keyboard layout decides which key makes it;
- a named key such as ``f13``, ``kp7`` or ``ctrl``: always the kernel key of that name;
- a position such as ``@z``: the key where the kernel has ``z``, whatever the layout prints on it. This is how an
  unbound key of a taken-over keyboard is handed on unchanged.
"""

from __future__ import annotations

import unicodedata

from fenko.core.words import nearest

# Names in the order of their codes, 1 to 248 (linux/input-event-codes.h); `-` where the kernel has no key.
_IN_CODE_ORDER = """
esc 1 2 3 4 5 6 7 8 9 0 minus equal backspace tab q w e r t y u i o p leftbrace rightbrace enter leftctrl a s d f g
h j k l semicolon apostrophe grave leftshift backslash z x c v b n m comma dot slash rightshift kpasterisk leftalt
space capslock f1 f2 f3 f4 f5 f6 f7 f8 f9 f10 numlock scrolllock kp7 kp8 kp9 kpminus kp4 kp5 kp6 kpplus kp1 kp2 kp3
kp0 kpdot - zenkakuhankaku 102nd f11 f12 ro katakana hiragana henkan katakanahiragana muhenkan kpjpcomma kpenter
rightctrl kpslash sysrq rightalt linefeed home up pageup left right end down pagedown insert delete macro mute
volumedown volumeup power kpequal kpplusminus pause scale kpcomma hangeul hanja yen leftmeta rightmeta compose stop
again props undo front copy open paste find cut help menu calc setup sleep wakeup file sendfile deletefile xfer
prog1 prog2 www msdos coffee direction cyclewindows mail bookmarks computer back forward closecd ejectcd
ejectclosecd nextsong playpause previoussong stopcd record rewind phone iso config homepage refresh exit move edit
scrollup scrolldown kpleftparen kprightparen new redo f13 f14 f15 f16 f17 f18 f19 f20 f21 f22 f23 f24 - - - - -
playcd pausecd prog3 prog4 all-applications suspend close play fastforward bassboost print hp camera sound question
email chat search connect finance sport shop alterase cancel brightnessdown brightnessup media switchvideomode
kbdillumtoggle kbdillumdown kbdillumup send reply forwardmail save documents battery bluetooth wlan uwb unknown
video-next video-prev brightness-cycle brightness-auto display-off wimax rfkill micmute
""".split()

KERNEL_KEYS: dict[str, int] = {name: code for code, name in enumerate(_IN_CODE_ORDER, 1) if name != "-"}
"""Kernel key name (KEY_…, lower case, hyphens) to its code."""

# Modifiers, and the kernel's names that a phrase cannot use because they are verbs there.
_RENAMED = {
    "leftctrl": "ctrl",
    "leftalt": "alt",
    "leftshift": "shift",
    "leftmeta": "super",
    "rightmeta": "rightsuper",
    "pause": "break",
    "open": "open-key",
    "close": "close-key",
    "front": "front-key",
    "sound": "sound-key",
}
_VERBS = frozenset(name for name, other in _RENAMED.items() if other == f"{name}-key" or name == "pause")

MODIFIERS = ("ctrl", "alt", "shift", "super", "rightctrl", "rightalt", "rightshift", "rightsuper")

# Words for characters that are awkward to write in a phrase; the printer uses them for `+` and `"` only.
_CHARACTER_WORDS = {
    "plus": "+", "minus": "-", "equal": "=", "comma": ",", "dot": ".", "slash": "/", "semicolon": ";",
    "apostrophe": "'", "grave": "`", "backslash": "\\", "leftbrace": "[", "rightbrace": "]", "quote": '"',
}  # fmt: skip
_WORD_FOR_CHARACTER = {"+": "plus", '"': "quote"}

# What people try first, with the word that Fenko uses.
_OTHER_WORDS = {
    "control": "ctrl", "option": "alt", "altgr": "rightalt", "meta": "super", "win": "super", "cmd": "super",
    "command": "super", "return": "enter", "escape": "esc", "del": "delete", "ins": "insert", "pgup": "pageup",
    "pgdn": "pagedown", "pgdown": "pagedown", "spacebar": "space", "bksp": "backspace",
    "click": "button left", "mouse": "button left", "mousebutton": "button left", "run": "start", "launch": "start",
    "exec": "start", "execute": "start", "app": "start", "text": "type", "write": "type", "sleep": "wait", "delay": "wait",
}  # fmt: skip

_PRINTING = frozenset(
    name for name in KERNEL_KEYS if len(name) == 1 or name in _CHARACTER_WORDS or name in ("102nd", "yen", "ro")
)

NAMED_KEYS: dict[str, int] = {
    _RENAMED.get(name, name): code for name, code in KERNEL_KEYS.items() if name not in _PRINTING
}
"""Keys that print nothing, by the word a phrase uses, with their kernel codes."""


MOUSE_BUTTONS = ("left", "right", "middle", "side", "extra", "forward", "back", "task")
"""The kernel's names of mouse buttons."""


class UnknownKey(ValueError):
    """A word that names no key. `hint` is what the person probably meant, or None."""

    def __init__(self, message: str, hint: str | None) -> None:
        super().__init__(message)
        self.hint = hint


def canonical_key(word: str) -> str:
    """The one spelling of the key that `word` means. Raises UnknownKey."""
    if word in NAMED_KEYS:
        return word
    if word in _CHARACTER_WORDS:
        return _CHARACTER_WORDS[word]
    if word in _RENAMED and word not in _VERBS:
        return _RENAMED[word]
    if word.startswith("@") and len(word) > 1:
        if word[1:] in KERNEL_KEYS:
            return position_key(word[1:])
        raise UnknownKey(f"the kernel has no key called `{word[1:]}`", _at(nearest(word[1:], KERNEL_KEYS)))
    character = unicodedata.normalize("NFC", word)
    if len(character) == 1:
        if character == "+":
            raise UnknownKey("a `+` here joins nothing", "plus")
        if unicodedata.category(character)[0] in "CZM":
            raise UnknownKey(f"U+{ord(character):04X} is not a character that a key can make", None)
        lower = character.lower()
        if lower != character and len(lower) == 1:
            raise UnknownKey(f"keys are written in lower case: `{lower}`, or `shift+{lower}`", lower)
        return character
    lower = word.lower()
    if lower != word and (lower in NAMED_KEYS or lower in _RENAMED or lower in _OTHER_WORDS):
        raise UnknownKey(f"unknown key `{word}`", _OTHER_WORDS.get(lower, _RENAMED.get(lower, lower)))
    hint = _OTHER_WORDS.get(word) or nearest(lower, [*NAMED_KEYS, *_CHARACTER_WORDS, *_OTHER_WORDS], 0.7)
    raise UnknownKey(f"unknown key `{word}`", _OTHER_WORDS.get(hint, hint) if hint else None)


def other_words() -> dict[str, str]:
    """Words that people and programs use for keys and modifiers, with Fenko's."""
    return {**_RENAMED, **_OTHER_WORDS}


def _at(name: str | None) -> str | None:
    return f"@{name}" if name else None


def position_key(kernel_name: str) -> str:
    """The canonical key for the kernel key of that name: ``kp7`` is itself, ``z`` is ``@z``."""
    return f"@{kernel_name}" if kernel_name in _PRINTING else _RENAMED.get(kernel_name, kernel_name)


KEY_FOR_CODE: dict[int, str] = {code: position_key(name) for name, code in KERNEL_KEYS.items()}
"""Kernel code to the canonical key that is always that one."""


def key_code(key: str) -> int | None:
    """The kernel code of a canonical named key or position; None for a symbol, whose key the layout decides."""
    code = NAMED_KEYS.get(key)
    if code is None and len(key) > 1:
        return KERNEL_KEYS[key[1:]]
    return code


def format_key(key: str) -> str:
    """How a phrase spells a canonical key."""
    return _WORD_FOR_CHARACTER.get(key, key)
