"""A virtual screen for tests: Xvfb with a window manager, and windows of real programs."""

from __future__ import annotations

import contextlib
import itertools
import os
import shutil
import signal
import struct
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np
import pytest
import xcffib
import xcffib.xkb
import xcffib.xproto
import xcffib.xtest

from support import wait_for, without_end

NEEDED = {"Xvfb": "xvfb", "openbox": "openbox", "xterm": "xterm", "xprop": "x11-utils", "xdotool": "xdotool"}
MISSING = [package for command, package in NEEDED.items() if shutil.which(command) is None]
needs_screen = pytest.mark.skipif(bool(MISSING), reason=f"needs a virtual screen: apt-get install {' '.join(MISSING)}")


def _traces(number: int) -> tuple[Path, Path]:
    """The files by which an X server is known."""
    return Path(f"/tmp/.X11-unix/X{number}"), Path(f"/tmp/.X{number}-lock")


def _atom(connection: xcffib.Connection, name: str) -> int:
    """The server's number for a name."""
    return int(connection.core.InternAtom(False, len(name), name).reply().atom)


def _root(connection: xcffib.Connection) -> int:
    """The window behind all others."""
    return int(connection.get_setup().roots[0].root)


class Desktop:
    """What every desktop of tests has: a server that may hang, and programs that end with the test that has started them."""

    server: subprocess.Popen[bytes]
    processes: list[subprocess.Popen[bytes]]
    worn = False
    """Whether a test has changed more of it than which windows there are, so that the next one has to have another."""
    _own = 0
    _there: set[str]

    def lend(self) -> None:
        """From now on a test has it."""
        self._own = len(self.processes)
        self._there = {window for window, _, _ in self.listed()}
        self.worn = False

    def tidy(self) -> None:
        """Ends what that test has started on it, and waits until none of its windows is left."""
        while len(self.processes) > self._own:
            process = self.processes.pop()
            with contextlib.suppress(ProcessLookupError):
                os.killpg(process.pid, signal.SIGKILL)
            process.wait()
        try:
            wait_for(lambda: {window for window, _, _ in self.listed()} <= self._there, "its windows to go")
        except AssertionError as late:
            raise AssertionError(f"{late}: {self.listed()}; before it: {self._there}") from None
        assert self.server.poll() is None, "the desktop's server has ended during this test"

    def listed(self) -> list[tuple[str, str, bool]]:
        """Every window, its app, and whether it is in front."""
        raise NotImplementedError

    @contextmanager
    def hung(self) -> Iterator[None]:
        """Has it stand still, as if it hung."""
        self.worn = True
        self.server.send_signal(signal.SIGSTOP)
        try:
            yield
        finally:
            self.server.send_signal(signal.SIGCONT)


class Screen(Desktop):
    """One X server. Everything started on it ends with it."""

    def __init__(self) -> None:
        self.processes: list[subprocess.Popen[bytes]] = []
        # Numbers of processes differ, so tests that run side by side take different displays.
        free = (number for number in range(100 + os.getpid() % 5000, 9999) if not _traces(number)[0].exists())
        self.number = next(free)
        self.display = f":{self.number}"
        self.start()

    def start(self) -> None:
        """Starts the server, also anew after `stop`."""
        self.server = subprocess.Popen(
            ["Xvfb", self.display, "-screen", "0", "1280x800x24", "-nolisten", "tcp", "-noreset"],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        wait_for(self._answers, "the X server")

    def _answers(self) -> bool:
        with contextlib.suppress(xcffib.ConnectionException), self.connected():
            return True
        return False

    @contextmanager
    def connected(self) -> Iterator[xcffib.Connection]:
        """A connection to the server."""
        connection = xcffib.connect(self.display)
        try:
            yield connection
        finally:
            connection.disconnect()

    def _said(self, window: int, name: str) -> bytes:
        """What a property of a window says; nothing where there is no such window or property."""
        with self.connected() as connection, contextlib.suppress(xcffib.xproto.WindowError):
            of_any_type = xcffib.xproto.GetPropertyType.Any
            said = connection.core.GetProperty(False, window, _atom(connection, name), of_any_type, 0, 1 << 20).reply()
            return b"".join(said.value)
        return b""

    def _named(self, name: str) -> list[int]:
        """The windows that a property of the root window names."""
        with self.connected() as connection:
            root = _root(connection)
        return [window for (window,) in struct.iter_unpack("=I", self._said(root, name))]

    @property
    def environment(self) -> dict[str, str]:
        """The environment of a program on this screen."""
        # The window manager, and every program, reads a table of 600 KB at its start; the first one at each change of a key, too.
        return os.environ | {"DISPLAY": self.display, "LC_ALL": "C.UTF-8", "XCOMPOSEFILE": "/dev/null"}

    def ask(self, *command: str) -> subprocess.CompletedProcess[str]:
        """Runs a short command on the screen."""
        return subprocess.run(command, env=self.environment, capture_output=True, text=True, check=False)

    def spawn(self, *command: str) -> subprocess.Popen[bytes]:
        """Starts a program on the screen."""
        process = subprocess.Popen(
            command, env=self.environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True
        )
        self.processes.append(process)
        return process

    def manage(self) -> None:
        """Starts the window manager. It says that it is there before it takes charge of all windows: one is shown to it until it does."""
        self.spawn("openbox")
        kinds = xcffib.xproto.WindowClass
        with self.connected() as connection:
            window, root = connection.generate_id(), connection.get_setup().roots[0]
            place = (0, 0, 9, 9, 0)
            connection.core.CreateWindow(
                root.root_depth, window, root.root, *place, kinds.InputOutput, root.root_visual, 0, []
            )

            def managed() -> bool:
                connection.core.MapWindow(window, is_checked=True).check()
                return window in self._named("_NET_CLIENT_LIST")

            wait_for(managed, "openbox")
        wait_for(lambda: window not in self._named("_NET_CLIENT_LIST"), "openbox")

    def terminal(self, app: str, title: str, writes: Path) -> str:
        """Opens an xterm of that class that appends each typed line to a file; returns its window."""
        script = f"while IFS= read -r line; do printf '%s\\n' \"$line\" >>'{writes}'; done"
        self.spawn("xterm", "-class", app, "-T", title, "-u8", "-e", "bash", "-c", script)
        # The window manager decides who is in front when it takes charge of a window; the test goes on after that.
        found = wait_for(
            lambda: [one for one, name, _ in self.listed() if name == app], f"the {app} window to be managed"
        )
        return str(found[-1])

    def raise_window(self, window: str) -> None:
        """Puts a window in front and waits until it is; a window manager that is busy is asked again."""

        def raised() -> bool:
            with self.connected() as connection:
                name = "_NET_ACTIVE_WINDOW"
                # A ClientMessage, as a pager sends it.
                words = struct.pack("=BBHII5I", 33, 32, 0, int(window), _atom(connection, name), 2, 0, 0, 0, 0)
                listening = xcffib.xproto.EventMask.SubstructureRedirect | xcffib.xproto.EventMask.SubstructureNotify
                connection.core.SendEvent(False, _root(connection), listening, words, is_checked=True).check()
            return int(window) in self._named(name)

        wait_for(raised, "the window in front")

    def listen(self, folder: Path) -> None:
        """Has somebody hear keys; the X server itself does."""

    program = "xterm"
    """Whose windows `terminal` opens."""

    def brief(self, app: str) -> subprocess.Popen[bytes]:
        """Opens a window of that class that closes at once. The window manager may believe for ever that it is there."""
        self.worn = True
        return self.spawn("xterm", "-class", app, "-e", "true")

    def set_title(self, window: str, title: str) -> None:
        """Gives a window another title."""
        with self.connected() as connection:
            for name, kind in (("WM_NAME", "STRING"), ("_NET_WM_NAME", "UTF8_STRING")):
                words = title.encode()
                atoms = _atom(connection, name), _atom(connection, kind)
                connection.core.ChangeProperty(0, int(window), *atoms, 8, len(words), words, is_checked=True).check()

    @contextmanager
    def titles_without_end(self, window: str) -> Iterator[None]:
        """Gives a window another title all the while, as fast as the window manager keeps up with: one that lags brings no other
        window to the front, whoever asks for it."""
        number = itertools.count()
        kind = xcffib.xproto.Atom

        def another() -> None:
            title = f"Reel {next(number)}".encode()
            connection.core.ChangeProperty(0, int(window), kind.WM_NAME, kind.STRING, 8, len(title), title)
            connection.flush()
            if title.endswith(b"00"):
                wait_for(lambda: self._said(int(window), "_NET_WM_VISIBLE_NAME") == title, "the window manager")

        with self.connected() as connection, without_end(another):
            yield

    @contextmanager
    def grabbed(self, window: str) -> Iterator[None]:
        """Gives a window another title, and at once has the server listen to nobody else, as menus, window managers and
        pictures of the screen may have it."""
        kind = xcffib.xproto.Atom
        with self.connected() as connection:
            connection.core.ChangeProperty(0, int(window), kind.WM_NAME, kind.STRING, 8, 6, b"Reel 3")
            connection.core.GrabServer(is_checked=True).check()
            yield
            connection.core.UngrabServer(is_checked=True).check()

    def pixels(self, colour: int, area: tuple[int, int, int, int] = (0, 0, 1280, 800)) -> int:
        """How many pixels of an area of the screen (left, top, width, height) have a colour (0xRRGGBB)."""
        with self.connected() as connection:
            data = connection.core.GetImage(2, _root(connection), *area, 0xFFFFFFFF).reply().data.buf()
        return int(np.count_nonzero(np.frombuffer(data, "<u4") & 0xFFFFFF == colour))

    def keys_down(self) -> list[int]:
        """The key codes that the server holds down, by its own keymap."""
        with self.connected() as connection:
            keys = connection.core.QueryKeymap().reply().keys
        return [8 * byte + bit for byte, bits in enumerate(keys) for bit in range(8) if bits >> bit & 1]

    def use_layout(self, layout: str) -> None:
        """Puts another keyboard layout in force."""
        self.worn = True
        self.ask("setxkbmap", layout)

    def find(self, process: subprocess.Popen[bytes], title: str) -> str:
        """The window of a program, by a part of its title."""

        def found() -> str:
            for window in reversed(self._named("_NET_CLIENT_LIST")):
                if any(title.encode() in self._said(window, name).lower() for name in ("WM_NAME", "_NET_WM_NAME")):
                    return str(window)
            return ""

        return str(wait_for(found, f"the window of {process.args}", 60))

    def listed(self) -> list[tuple[str, str, bool]]:
        """Every window that the window manager knows, its class, and whether it is in front. One that has gone, of which it has not
        heard yet, has no class any more."""
        front = self._named("_NET_ACTIVE_WINDOW")
        names = {window: self._said(window, "WM_CLASS").split(b"\0") for window in self._named("_NET_CLIENT_LIST")}
        return [(f"{window}", said[1].decode() if said[1:] else "", window in front) for window, said in names.items()]

    def lock_group(self, group: int) -> None:
        """Puts a layout group in force, as a person's own switching does."""
        self.worn = True
        with self.connected() as connection:
            keyboard = connection(xcffib.xkb.key)
            keyboard.UseExtension(1, 0).reply()
            keyboard.LatchLockState(0x100, 0, 0, True, group, 0, False, 0, is_checked=True).check()

    def press(self, *codes: int) -> None:
        """Strikes keys by their codes, as a keyboard does: whatever group is in force stays so."""
        self._fake(*[(kind, code) for code in codes for kind in (2, 3)])

    def hold(self, *codes: int) -> None:
        """Strikes several keys together."""
        self._fake(*[(2, code) for code in codes], *[(3, code) for code in reversed(codes)])

    def _fake(self, *moves: tuple[int, int]) -> None:
        self.worn = True
        with self.connected() as connection:
            keyboard = connection(xcffib.xtest.key)
            for kind, code in moves:
                keyboard.FakeInput(kind, code, 0, 0, 0, 0, 0)
            connection.core.GetInputFocus().reply()

    def stop(self) -> None:
        """Ends the server hard, as a crash would."""
        self.worn = True
        self.server.kill()
        self.server.wait()
        for trace in _traces(self.number):
            trace.unlink(missing_ok=True)

    def close(self) -> None:
        """Ends everything."""
        for process in self.processes:
            if process.poll() is None:
                os.killpg(process.pid, signal.SIGKILL)
                process.wait()
        self.stop()


@contextmanager
def screen() -> Iterator[Screen]:
    """A screen with a window manager."""
    one = Screen()
    try:
        one.manage()
        yield one
    finally:
        one.close()
