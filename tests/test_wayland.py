"""The client of Wayland: its tables against the protocols' own XML, compositors that say anything, and keymaps that lend."""

from __future__ import annotations

import array
import contextlib
import os
import random
import socket
import struct
import tempfile
import threading
import xml.etree.ElementTree as ET
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from desktops import desktop
from fenko.outputs.lentsymbols import LentSymbols
from fenko.outputs.waylandkeymap import GROUPS, MOST_AT_ONCE, OwnKeymap, is_own
from fenko.system.seat import keymap_in_force
from fenko.system.session import DisplayError
from fenko.system.sway import SwayWindows
from fenko.system.toplevels import Toplevels
from fenko.system.wayland import Wayland
from fenko.system.wayland_tables import INTERFACES
from fenko.system.xkb import KeyboardMap, keysym_of
from support import tries

XML = [
    Path("/usr/share/wayland/wayland.xml"),
    Path("/usr/share/wayland-protocols/unstable/keyboard-shortcuts-inhibit/keyboard-shortcuts-inhibit-unstable-v1.xml"),
    *(Path(f"/usr/share/plasma-wayland-protocols/{name}.xml") for name in ("fake-input", "keystate")),
]


@pytest.mark.parametrize("path", XML, ids=lambda path: path.stem)
def test_the_tables_are_those_of_the_protocols(path: Path) -> None:
    if not path.exists():
        pytest.skip(
            "needs the protocols' XML: apt-get install libwayland-dev wayland-protocols plasma-wayland-protocols"
        )
    known = 0
    for element in ET.parse(path).getroot().iter("interface"):
        ours = INTERFACES.get(element.attrib["name"])
        if ours is None:
            continue
        known += 1
        for kind, mine in (("request", tuple(ours.requests.values())), ("event", ours.events)):
            theirs = [(one.attrib["name"], _arguments(one)) for one in element.iter(kind)][: len(mine)]
            assert [(one.name, (one.arguments, one.makes)) for one in mine] == theirs, element.attrib["name"]
    assert known


def _arguments(message: ET.Element) -> tuple[tuple[str, ...], str]:
    kinds, makes = [], ""
    for argument in message.iter("arg"):
        kind = argument.attrib["type"]
        if kind == "new_id":
            makes = argument.attrib.get("interface", "")
            kind = "new" if makes else "any"
        kinds.append(kind)
    return tuple(kinds), makes


class Anything:
    """A compositor that answers with whatever it is given, and descriptors besides."""

    def __init__(self, folder: Path, answers: list[bytes], stays: bool = False) -> None:
        self._answers = answers
        self._stays = stays
        self._socket = socket.socket(socket.AF_UNIX)
        self._socket.bind(str(folder / "anything"))
        self._socket.listen()
        self._serving = threading.Thread(target=self._serve, daemon=True)
        self._serving.start()

    def _serve(self) -> None:
        while True:
            try:
                line, _ = self._socket.accept()
            except OSError:
                return
            with line:
                try:
                    line.recv(65536)
                    for raw in self._answers:
                        with open(os.devnull, "rb") as null:
                            passed = [(socket.SOL_SOCKET, socket.SCM_RIGHTS, array.array("i", [null.fileno()]))]
                            line.sendmsg([raw or b"\0"], passed)
                    while self._stays and line.recv(65536):
                        pass
                except OSError:
                    continue

    def close(self) -> None:
        self._socket.shutdown(socket.SHUT_RDWR)
        self._serving.join(20)
        self._socket.close()


def _nulls() -> int:
    """Descriptors of this process as those that `Anything` passes."""
    found = 0
    for fd in os.listdir("/proc/self/fd"):
        with contextlib.suppress(OSError):
            found += os.readlink(f"/proc/self/fd/{fd}") == os.devnull
    return found


_HEAD = st.builds(
    lambda number, size, event, rest: struct.pack("=II", number, (size if size else 8 + len(rest)) << 16 | event) + rest,
    st.sampled_from([0, 1, 2, 3, 4, 5, 6, 0xFF000000, 0xFFFFFFFF]), st.sampled_from([0, 0, 0, 0, 3, 8, 12, 4096]),
    st.integers(0, 12), st.binary(max_size=48).map(lambda raw: raw + bytes(-len(raw) % 4)),
)  # fmt: skip
_GLOBALS = [
    struct.pack("=IIII", 2, (8 + 4 + 4 + len(name) + 4) << 16, number, 32) + name + struct.pack("=I", 9)
    for number, name in enumerate(
        text.encode().ljust(32, b"\0")[:32] for text in ("wl_seat", "zwlr_foreign_toplevel_manager_v1")
    )
]


@settings(max_examples=tries(150), deadline=None)
@given(st.lists(st.one_of(st.binary(max_size=64), _HEAD), max_size=12), st.booleans())
def test_a_compositor_that_says_anything_breaks_nothing(answers: list[bytes], offers: bool) -> None:
    with tempfile.TemporaryDirectory() as folder, pytest.MonkeyPatch.context() as patch:
        patch.setenv("XDG_RUNTIME_DIR", folder)
        patch.setenv("WAYLAND_DISPLAY", "anything")
        server = Anything(Path(folder), [*(_GLOBALS if offers else []), *answers])
        before = _nulls()
        for ask in (Wayland, Toplevels):
            with contextlib.suppress(DisplayError):  # and nothing else; what is said may be right by chance
                ask().close()
        keymap_in_force()
        server.close()
        assert _nulls() == before, "no descriptor that was passed is kept"


@pytest.mark.parametrize(
    "said", [b"", b"i3-ipc", b"i3-ipc" + b"\xff" * 8, b"nonsense" * 9, b"i3-ipc" + struct.pack("=II", 2, 4) + b"[]"]
)
def test_a_sway_that_says_anything(said: bytes, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    server = Anything(tmp_path, [said], stays=said.endswith(b"[]"))
    monkeypatch.setenv("SWAYSOCK", str(tmp_path / "anything"))
    if said.endswith(b"[]"):
        SwayWindows().close()  # an empty answer is one
    else:
        with pytest.raises(OSError):
            SwayWindows()
    server.close()


_BASES = {name: KeyboardMap.named(name, "") for name in ("us", "de", "us,ru", "gr")}
_STRANGE = st.characters(categories=("L", "N", "P", "S"), max_codepoint=0xFFFF)


@settings(max_examples=tries(60), deadline=None)
@given(st.sampled_from(sorted(_BASES)), st.lists(st.lists(_STRANGE, min_size=1, max_size=40), min_size=1, max_size=5))
def test_what_is_lent_is_what_the_keymap_says(base: str, texts: list[list[str]]) -> None:
    """Compiled by libxkbcommon, every character of every text is where it is said to be."""
    keymap = OwnKeymap(_BASES[base])
    for text in texts:
        keymap.lend(text, down=())
        assert is_own(keymap.text)
        compiled = KeyboardMap.written(keymap.text)
        for character in text:
            codes = keymap.codes(character)
            assert codes is not None, character
            group = next((code - GROUPS for code in codes if code >= GROUPS), 0)
            level = sum({42: 1, 100: 2}.get(code, 0) for code in codes[:-1])
            found = compiled._symbols(codes[-1], group, level)
            assert [chr(one & 0xFFFFFF) if one >> 24 == 1 else _named(one) for one in found] == [character]


def _named(symbol: int) -> str:
    from fenko.system.xkb import character_of

    return character_of(symbol) or ""


def test_more_than_can_be_lent_gives_way_to_the_newest() -> None:
    keymap = OwnKeymap(_BASES["de"])
    luck = random.Random(7)
    for _ in range(6):
        text = [chr(luck.randrange(0x4E00, 0x9FFF)) for _ in range(MOST_AT_ONCE // 2)]
        keymap.lend(text, down=())
        assert all(keymap.codes(character) for character in text)
    held = keymap.codes(text[0])
    assert held is not None
    for _ in range(6):
        keymap.lend([chr(luck.randrange(0x4E00, 0x9FFF)) for _ in range(MOST_AT_ONCE)], down=[held[-1]])
    assert keymap.codes(text[0]) == held, "what is down keeps its key"


@settings(max_examples=tries(25), deadline=None)
@given(
    st.sampled_from([("us", ""), ("de", ""), ("ru", ""), ("fr", "oss")]),
    st.lists(_STRANGE, min_size=1, max_size=80, unique=True),
)
def test_a_layout_of_our_own_has_what_was_lent(layout: tuple[str, str], text: list[str]) -> None:
    with tempfile.TemporaryDirectory() as folder, pytest.MonkeyPatch.context() as patch:
        patch.setenv("XDG_CONFIG_HOME", folder)
        base = KeyboardMap.named(*layout)
        lacking = [character for character in text if character not in base.groups[0]]
        lent = LentSymbols(*layout, base)
        lent.lend(lacking)
        lent.write()
        compiled = KeyboardMap.named("fenko", "")
        for character in lacking:
            codes = lent.codes(character)
            assert codes is not None
            assert compiled._symbols(codes[-1], 0, len(codes) - 1) == [keysym_of(character)], character
        assert {key: codes for key, codes in compiled.groups[0].items() if key in base.groups[0]} == base.groups[0]


def test_no_descriptor_stays_behind(monkeypatch: pytest.MonkeyPatch) -> None:
    with desktop("sway") as one:
        for name, value in one.environment.items():
            monkeypatch.setenv(name, value)
        Toplevels().close()
        before = len(os.listdir("/proc/self/fd"))
        for _ in range(30):
            Toplevels().close()
            assert keymap_in_force() is not None
        assert len(os.listdir("/proc/self/fd")) == before
