"""Desktops for tests, all with the same few words: real compositors without a screen, and windows of real programs."""

from __future__ import annotations

import ast
import contextlib
import itertools
import json
import os
import pwd
import re
import shutil
import signal
import socket
import struct
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from jeepney import DBusAddress, MessageType, new_method_call
from jeepney.io.blocking import open_dbus_connection

from fenko.system.shell_extension import files
from screen import MISSING, Desktop, screen
from started import run_fenko
from support import FAILED, wait_for, without_end

KEYBOARD = Path(__file__).parent / "wayland_keyboard.py"
LISTENER = Path(__file__).parent / "qt_listener.py"
NEEDED = {"sway": ("sway", "sway"), "kwin": ("kwin_wayland", "kwin-wayland"), "gnome": ("gnome-shell", "gnome-shell"),
    "weston": ("weston", "weston"), "cage": ("cage", "cage"),
}  # fmt: skip
"""By desktop: the command without which it cannot be had, and its Debian package."""


class Compositor(Desktop):
    """One Wayland compositor, and what runs on it. Everything started on it ends with it."""

    def __init__(self) -> None:
        self.processes: list[subprocess.Popen[bytes]] = []
        # Short, for the path of a socket has about a hundred characters; and a compositor's, which may not be root's.
        self.folder = Path(tempfile.mkdtemp(prefix="fenko-wl-"))
        self.windows: dict[str, subprocess.Popen[bytes]] = {}
        self._files: list[Path] = []
        self.start()

    # --- What differs ---

    def start(self) -> None:
        """Starts the compositor, also anew after `stop`."""
        raise NotImplementedError

    def raise_window(self, window: str) -> None:
        """Puts a window in front and waits until it is."""
        raise NotImplementedError

    # --- What is the same ---

    @property
    def environment(self) -> dict[str, str]:
        """The environment of a program on this desktop."""
        without = {name: value for name, value in os.environ.items() if name not in ("DISPLAY", "WAYLAND_DISPLAY")}
        return without | self.named | {
            "XDG_RUNTIME_DIR": str(self.folder), "LC_ALL": "C.UTF-8", "XDG_SESSION_TYPE": "wayland",
            "QT_QPA_PLATFORM": "wayland", "GDK_BACKEND": "wayland",
        }  # fmt: skip

    named: dict[str, str]
    """Where the compositor is."""

    def ask(self, *command: str) -> subprocess.CompletedProcess[str]:
        """Runs a short command on the desktop."""
        return subprocess.run(command, env=self.environment, capture_output=True, text=True, check=False, timeout=60)

    def call(self, to: tuple[str, str, str], method: str, signature: str = "", *arguments: Any) -> tuple[Any, ...]:
        """What an object on the session's bus (bus name, path, interface) says; nothing where nobody answers."""
        message = new_method_call(DBusAddress(to[1], to[0], to[2]), method, signature or None, arguments)
        try:
            with open_dbus_connection(self.named["DBUS_SESSION_BUS_ADDRESS"]) as bus:
                answer = bus.send_and_get_reply(message, timeout=60)
        except OSError:
            return ()
        return tuple(answer.body) if answer.header.message_type is MessageType.method_return else ()

    def spawn(self, *command: str, **more: str) -> subprocess.Popen[bytes]:
        """Starts a program on the desktop."""
        process = subprocess.Popen(
            command, env=self.environment | more, start_new_session=True, stdin=subprocess.PIPE, stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )  # fmt: skip
        self.processes.append(process)
        return process

    def terminal(self, app: str, title: str, writes: Path) -> str:
        """Opens a window of that app that appends each typed line to a file; returns its name."""
        name = f"{app}-{len(self.windows)}"
        self._files.append(writes)
        self.windows[name] = self.spawn("/usr/bin/python3", str(LISTENER), app, title, str(writes))
        self.appears(app)
        return name

    def appears(self, app: str) -> None:
        """Waits for a window of that app."""
        wait_for(lambda: app in self.apps(), f"a window of {app}", 60)

    def listen(self, folder: Path) -> None:
        """Has somebody hear keys: a window in front."""
        self.raise_window(self.terminal("listener", "Hears", folder / f"heard-{len(self.windows)}"))

    program = Path("/usr/bin/python3").resolve().name
    """Whose windows `terminal` opens."""

    def brief(self, app: str) -> subprocess.Popen[bytes]:
        """Opens a window of that app that closes at once."""
        return self.spawn("foot", "-a", app, "true")

    def _tree(self) -> list[dict[str, Any]]:
        """Every window, as the compositor itself tells them: `id`, `app`, `title`, `pid`, `front`."""
        raise NotImplementedError

    def listed(self) -> list[tuple[str, str, bool]]:
        """Every window, its app id, and whether it is in front."""
        return [(window["id"], window["app"], window["front"]) for window in self._tree()]

    def apps(self) -> list[str]:
        """The app ids of all windows."""
        return [window["app"] for window in self._tree()]

    def titles(self) -> list[str]:
        """The titles of all windows."""
        return [window["title"] or "" for window in self._tree()]

    def in_front(self, pid: int) -> bool:
        """Whether a window of that process is in front."""
        return any(window["front"] and window["pid"] == pid for window in self._tree())

    def set_title(self, window: str, title: str) -> None:
        """Gives a window another title."""
        pipe = self.windows[window].stdin
        assert pipe is not None
        pipe.write(f"{title}\n".encode())
        pipe.flush()

    @contextmanager
    def titles_without_end(self, window: str) -> Iterator[None]:
        """Gives a window another title all the while."""
        number = itertools.count()
        with without_end(lambda: self.set_title(window, f"Reel {next(number)}")):
            yield

    def lock_group(self, group: int) -> None:
        """Puts a layout group in force, as a person's own switching does."""
        self.use_layout(self._layout, group)

    _layout = "us"

    def tidy(self) -> None:
        """Ends what that test has started on it, and waits until no window is left."""
        self.windows.clear()
        self._files.clear()
        super().tidy()

    def use_layout(self, layout: str, group: int = 0) -> None:
        """Puts another keyboard layout in force: a keyboard with it is used."""
        self._layout = layout
        self._keyboard = subprocess.Popen(
            [sys.executable, str(KEYBOARD), layout, str(group)], env=self.environment, stdin=subprocess.PIPE, stdout=subprocess.PIPE,
            start_new_session=True,
        )  # fmt: skip
        self.processes.append(self._keyboard)
        self.press(202)

    def hold(self, *codes: int) -> None:
        """Strikes several keys of the person's own keyboard together."""
        self._strike("+".join(map(str, codes)))

    def press(self, *codes: int) -> None:
        """Strikes keys of the person's own keyboard."""
        self._strike(" ".join(map(str, codes)))

    def _strike(self, words: str) -> None:
        self.worn = True
        assert self._keyboard.stdin is not None and self._keyboard.stdout is not None
        self._keyboard.stdin.write(f"{words}\n".encode())
        self._keyboard.stdin.flush()
        assert self._keyboard.stdout.readline() == b"done\n"

    def find(self, process: subprocess.Popen[bytes], title: str) -> str:
        """The window of a program, by a part of its title."""
        name = f"{title}-{len(self.windows)}"
        self.windows[name] = process
        wait_for(lambda: any(title in one.lower() for one in self.titles()), f"the window of {process.args}", 60)
        return name

    def keys_down(self) -> list[int]:
        """The key codes that windows hold to be down."""
        down: set[int] = set()
        for file in self._files:
            with contextlib.suppress(FileNotFoundError):
                down |= set(ast.literal_eval(Path(f"{file}.down").read_text()))
        return sorted(down)

    def stop(self) -> None:
        """Ends the compositor hard, as a crash would."""
        self.worn = True
        os.killpg(self.server.pid, signal.SIGKILL)
        self.server.wait()
        for trace in self.folder.glob("wayland-*"):
            trace.unlink()

    def close(self) -> None:
        """Ends everything."""
        for process in self.processes:
            if process.poll() is None:
                os.killpg(process.pid, signal.SIGKILL)
            process.wait()
        self.stop()
        shutil.rmtree(self.folder, ignore_errors=True)


def _as_somebody() -> list[str]:
    """Some compositors refuse to run as root."""
    if os.geteuid():
        return []
    nobody = pwd.getpwnam("nobody")
    return ["setpriv", "--reuid", str(nobody.pw_uid), "--regid", str(nobody.pw_gid), "--clear-groups"]


class Sway(Compositor):
    """The tiling compositor; it tells of windows, and lets programs make keyboards, by the protocols of its family."""

    # Programs of the tests may be root's, and the X server behind is another user's.
    config = "output HEADLESS-1 resolution 1280x800\ndefault_border none\nexec 'xhost +local: >/dev/null; env > {folder}/env'\n"

    def start(self) -> None:
        """Starts the compositor, also anew after `stop`."""
        (self.folder / "config").write_text(self.config.format(folder=self.folder))
        (self.folder / "env").unlink(missing_ok=True)
        if not os.geteuid():
            shutil.chown(self.folder, "nobody")
        environment = {name: value for name, value in os.environ.items() if name not in ("DISPLAY", "WAYLAND_DISPLAY")}
        self.server = subprocess.Popen(
            [*_as_somebody(), "sway", "-c", str(self.folder / "config")],
            env=environment | {
                "XDG_RUNTIME_DIR": str(self.folder), "HOME": str(self.folder), "WLR_BACKENDS": "headless",
                "WLR_RENDERER": "pixman", "WLR_LIBINPUT_NO_DEVICES": "1",
            },
            start_new_session=True, stdout=(self.folder / "log").open("wb"), stderr=subprocess.STDOUT,
        )  # fmt: skip
        wait_for(lambda: "SWAYSOCK" in self._said(), f"sway: {(self.folder / 'log').read_text()}", 60)
        said = dict(line.split("=", 1) for line in self._said().splitlines() if "=" in line)
        self.named = {name: said[name] for name in ("WAYLAND_DISPLAY", "SWAYSOCK", "DISPLAY")}
        self.use_layout("us")  # a seat without any keyboard is nobody's

    def _said(self) -> str:
        path = self.folder / "env"
        return path.read_text() if path.exists() and path.read_text().endswith("\n") else ""

    def _say(self, kind: int, words: str = "") -> Any:
        """What it answers to a message of its own protocol (`man sway-ipc`); None once it has gone."""
        with socket.socket(socket.AF_UNIX) as sway:
            sway.settimeout(60)
            try:
                sway.connect(self.named["SWAYSOCK"])
                sway.sendall(b"i3-ipc" + struct.pack("=II", len(words.encode()), kind) + words.encode())
                with sway.makefile("rb") as said:
                    (length,) = struct.unpack("=6xI4x", said.read(14))
                    return json.loads(said.read(length))
            except (OSError, struct.error):
                return None

    def _tree(self) -> list[dict[str, Any]]:
        def windows(node: dict[str, Any]) -> Iterator[dict[str, Any]]:
            if node.get("pid"):
                yield node
            for inner in (*node["nodes"], *node["floating_nodes"]):
                yield from windows(inner)

        said = self._say(4)
        return [
            {"id": str(node["id"]), "app": node["app_id"] or node["window_properties"].get("class") or "",
             "title": node["name"], "pid": node["pid"], "front": node["focused"]}
            for node in windows(said)
        ] if said else []  # fmt: skip

    def raise_window(self, window: str) -> None:
        """Puts a window in front and waits until it is."""
        pid = self.windows[window].pid

        def raised() -> bool:
            self._say(0, f"[pid={pid}] focus")
            return self.in_front(pid)

        wait_for(raised, f"{window} in front")

    def pixels(self, colour: int) -> int:
        """How many pixels of the screen have a colour (0xRRGGBB)."""
        raw = subprocess.run(["grim", "-t", "ppm", "-"], env=self.environment, capture_output=True, check=True).stdout
        red, green, blue = np.frombuffer(raw.split(b"\n", 3)[3], np.uint8).reshape(-1, 3).T.astype(np.uint32)
        return int(np.count_nonzero(red << 16 | green << 8 | blue == colour))

    def cursor(self, *what: str) -> None:
        """Moves the person's pointer, or presses and releases its buttons."""
        self.worn = True
        (done,) = self._say(0, f"seat seat0 cursor {' '.join(what)}")
        assert done["success"], (what, done)


class KWin(Compositor):
    """Plasma's compositor; it tells scripts of windows."""

    locks = ("--no-lockscreen",)
    """Whether its screen can be locked."""

    def start(self) -> None:
        """Starts the compositor, also anew after `stop`."""
        program = self.folder / "kwin_wayland"  # the installed one wants a right that not every machine gives
        shutil.copy(shutil.which("kwin_wayland") or "", program)
        bus = self.folder / "bus"
        self.named = {"WAYLAND_DISPLAY": "wayland-9", "DBUS_SESSION_BUS_ADDRESS": f"unix:path={bus}"}
        if not bus.exists():
            self.spawn("dbus-daemon", "--session", f"--address=unix:path={bus}", "--nofork")
            wait_for(bus.exists, "the bus")
        first = self.folder / "first"
        first.write_text(f"#!/bin/sh\nxhost +local: >/dev/null\nenv > {self.folder}/env\n")
        first.chmod(0o755)
        self.server = subprocess.Popen(
            [program, "--virtual", "--width", "1280", "--height", "800", "--socket", "wayland-9", *self.locks, "--xwayland", str(self.folder / "first")],
            env=self.environment | {
                "KWIN_WAYLAND_NO_PERMISSION_CHECKS": "1", "KWIN_COMPOSE": "Q", "XDG_CONFIG_HOME": str(self.folder),
                "XDG_CACHE_HOME": str(self.folder), "QT_LOGGING_RULES": "js.debug=true;kwin_scripting.debug=true",
                "QT_QPA_PLATFORM": "",
            },
            start_new_session=True, stdout=(self.folder / "log").open("wb"), stderr=subprocess.STDOUT,
        )  # fmt: skip
        wait_for(
            lambda: (
                self.call(("org.freedesktop.DBus", "/", "org.freedesktop.DBus"), "NameHasOwner", "s", "org.kde.KWin")
                == (True,)
            ),
            "KWin",
            60,
        )
        env = self.folder / "env"
        found = wait_for(
            lambda: env.exists() and re.search(r"^DISPLAY=(.*)", env.read_text(), re.M), "the X server", 60
        )
        self.named["DISPLAY"] = found[1]
        super().use_layout("us")

    def _script(self, text: str) -> str:
        """What a script that the window manager runs has printed."""
        self._number = getattr(self, "_number", 0) + 1
        mark = f"said-{self._number}:"
        file = self.folder / f"script-{self._number}.js"
        file.write_text(f'print({json.dumps(mark)} + JSON.stringify((function () {{ {text} }})()) + ":end");')
        scripting = ("org.kde.KWin", "/Scripting", "org.kde.kwin.Scripting")
        self.call(scripting, "loadScript", "ss", str(file), f"test{self._number}")
        self.call(scripting, "start")

        def said() -> str:
            found = re.search(f"{mark}(.*):end", (self.folder / "log").read_text(errors="replace"))
            return found[1] if found else ""

        return str(wait_for(said, f"a script: {(self.folder / 'log').read_text(errors='replace')[-500:]}"))

    def _tree(self) -> list[dict[str, Any]]:
        text = """var list = workspace.clientList(), said = [];
            for (var n = 0; n < list.length; ++n) {
                var w = list[n];
                said.push({ id: String(w.internalId), app: String(w.resourceClass), title: String(w.caption), pid: Number(w.pid),
                            front: w === workspace.activeClient });
            }
            return said;"""
        found: list[dict[str, Any]] = json.loads(self._script(text))
        return found

    def raise_window(self, window: str) -> None:
        """Puts a window in front and waits until it is."""
        pid = self.windows[window].pid

        def raised() -> bool:
            self._script(f"""var list = workspace.clientList();
                for (var n = 0; n < list.length; ++n) if (list[n].pid === {pid}) workspace.activeClient = list[n];
                return 1;""")
            return self.in_front(pid)

        wait_for(raised, f"{window} in front")

    def use_layout(self, layout: str, group: int = 0) -> None:
        """Puts another keyboard layout in force."""
        if layout != self._layout:
            (self.folder / "kxkbrc").write_text(f"[Layout]\nLayoutList={layout}\nUse=true\n")
            self.ask("dbus-send", "--session", "--type=signal", "/Layouts", "org.kde.keyboard.reloadConfig")
        self.call(("org.kde.keyboard", "/Layouts", "org.kde.KeyboardLayouts"), "setLayout", "u", group)
        super().use_layout(layout, group)


class Gnome(Compositor):
    """GNOME's shell, with Fenko's extension in its place."""

    _LOCK = 2
    """Clutter's bit for Caps Lock."""

    extension = True

    def start(self) -> None:
        """Starts the compositor, also anew after `stop`."""
        places = {
            "XDG_DATA_HOME": str(self.folder / "share"), "XDG_CONFIG_HOME": str(self.folder / "config"),
            "GSETTINGS_BACKEND": "keyfile",
        }  # fmt: skip
        self.named = {"WAYLAND_DISPLAY": "wayland-9"} | places
        for name, variable in (("bus", "DBUS_SESSION_BUS_ADDRESS"), ("system", "DBUS_SYSTEM_BUS_ADDRESS")):
            path = self.folder / name
            self.named[variable] = f"unix:path={path}"
            if not path.exists():
                self.spawn("dbus-daemon", "--session", f"--address=unix:path={path}", "--nofork")
                wait_for(path.exists, "the bus")
        if self.extension:
            done = run_fenko("ready", "--extension", "on", "--yes", env=self.environment)
            assert "in its place" in done.stdout + done.stderr, done
        else:
            self.ask("gsettings", "set", "org.gnome.shell", "welcome-dialog-last-shown-version", "99")
        self.server = subprocess.Popen(
            ["gnome-shell", "--headless", "--virtual-monitor", "1280x800", "--wayland-display", "wayland-9", "--unsafe-mode"],
            env=self.environment | {"HOME": str(self.folder)},
            start_new_session=True, stdout=(self.folder / "log").open("wb"), stderr=subprocess.STDOUT,
        )  # fmt: skip
        wait_for(lambda: self.script("Main.layoutManager._startingUp") == "false", "the shell", 60)
        self.script("Main.overview.hide()")
        found = re.search(r"public X11 display (:\d+)", (self.folder / "log").read_text())
        self.named["DISPLAY"] = found[1] if found else ""
        self.named["XAUTHORITY"] = str(next(self.folder.glob(".mutter-Xwaylandauth.*"), ""))

    def script(self, script: str) -> Any:
        """What a script within the shell says, as JSON."""
        said = self.call(("org.gnome.Shell", "/org/gnome/Shell", "org.gnome.Shell"), "Eval", "s", script)
        return said[1] if said and said[0] else ""

    def _tree(self) -> list[dict[str, Any]]:
        said = self.script(
            # One that has not been shown yet comes in front when it is.
            "global.get_window_actors().filter(a => a.visible).map(a => a.meta_window).map(w => ({ id: `${w.get_id()}`, app: w.get_wm_class() || '', title: w.get_title(),"
            " pid: w.get_pid(), front: w === global.display.focus_window }))"
        )
        return json.loads(said) if said else []

    def raise_window(self, window: str) -> None:
        """Puts a window in front and waits until it is."""
        pid = self.windows[window].pid

        def raised() -> bool:
            self.script(
                f"Main.activateWindow(global.get_window_actors().map(a => a.meta_window).find(w => w.get_pid() === {pid}))"
            )
            return self.in_front(pid)

        wait_for(raised, f"{window} in front")

    def tidy(self) -> None:
        """Ends what that test has started on it, and has the keyboard as it was: starting the shell takes long."""
        if self._layout != "us":
            self.use_layout("us")
        if int(self.script("global.get_pointer()[2]")) & self._LOCK:
            self.press(66)
        super().tidy()

    def use_layout(self, layout: str, group: int = 0) -> None:
        """Puts another keyboard layout in force."""
        sources = ", ".join(f"('xkb', '{name}')" for name in layout.split(","))
        self.ask("gsettings", "set", "org.gnome.desktop.input-sources", "sources", f"[{sources}]")
        manager = "imports.ui.status.keyboard.getInputSourceManager()"
        wanted = layout.split(",")[group]

        def used() -> bool:
            self.script(f"Object.values({manager}.inputSources).find(s => s.id === '{wanted}').activate(true)")
            return str(self.script(f"{manager}.currentSource.id")).strip('"') == wanted

        wait_for(used, f"the layout {wanted}")
        self._layout = layout

    def press(self, *codes: int) -> None:
        """Strikes keys of the person's own keyboard."""
        make = "get_default_seat().create_virtual_device(imports.gi.Clutter.InputDeviceType.KEYBOARD_DEVICE)"
        self.script(f"global.persons = global.persons || imports.gi.Clutter.get_default_backend().{make}; 1")
        for code in codes:
            for state in ("PRESSED", "RELEASED"):
                state = f"imports.gi.Clutter.KeyState.{state}"
                self.script(f"global.persons.notify_key(imports.gi.GLib.get_monotonic_time(), {code - 8}, {state}); 1")


class Weston(Compositor):
    """A compositor that offers nothing of all this."""

    def start(self) -> None:
        """Starts it."""
        self.named = {"WAYLAND_DISPLAY": "wayland-9"}
        self.server = self.spawn("weston", "--backend=headless-backend.so", "--socket=wayland-9")
        self.processes.remove(self.server)
        wait_for((self.folder / "wayland-9").exists, "weston")


class Cage(Compositor):
    """A compositor for one program, of the same library as sway, that offers little."""

    def start(self) -> None:
        """Starts it with a terminal in it, and no shell in that: who runs it may have none."""
        if not os.geteuid():
            shutil.chown(self.folder, "nobody")
        self.named = {"WAYLAND_DISPLAY": "wayland-0"}
        environment = {
            "WLR_BACKENDS": "headless", "WLR_RENDERER": "pixman", "WLR_LIBINPUT_NO_DEVICES": "1", "HOME": str(self.folder),
        }  # fmt: skip
        self.server = self.spawn(*_as_somebody(), "cage", "foot", "cat", WAYLAND_DISPLAY="", **environment)
        self.processes.remove(self.server)
        found = wait_for(lambda: [one for one in self.folder.glob("wayland-?") if one.is_socket()], "cage")
        self.named["WAYLAND_DISPLAY"] = found[0].name


@contextmanager
def _opened(make: Callable[[], Any]) -> Iterator[Any]:
    one = make()
    try:
        yield one
    finally:
        one.close()


class BareGnome(Gnome):
    """The same as it comes."""

    extension = False


class LaterGnome(BareGnome):
    """With the form of Fenko's extension that shells from 45 on take, in the older shell: modules give what theirs would give,
    and a layout comes into force in steps."""

    backend = """{
        __proto__: null, connect: (...told) => real.connect(...told), disconnect: id => real.disconnect(id),
        set_keymap_async: (name, variant, options, model, cancellable, done) => GLib.timeout_add(0, 30, () => {
            real.set_keymap(name, variant, options);
            done(null, null);
        }),
        set_keymap_finish: () => {},
    }"""

    def start(self) -> None:
        """Starts the compositor, also anew after `stop`."""
        super().start()
        folder = self.folder / "module"
        folder.mkdir(exist_ok=True)
        (folder / "extension.js").write_text("export class Extension {}")
        for path, name in (
            ("ui/main", "activateWindow"),
            ("misc/keyboardManager", "getKeyboardManager"),
            ("ui/status/keyboard", "getInputSourceManager"),
        ):
            module = f"export const {name} = imports.{path.replace('/', '.')}.{name};"
            (folder / f"{Path(path).name}.js").write_text(module)
        script = re.sub(r"'resource:.*?([^/]*\.js)'", rf"'file://{folder}/\1'", files(45)["extension.js"])
        assert script.count(str(folder)) == 4 and script.count("global.backend || Meta.get_backend()") == 1
        script = script.replace(
            "global.backend || Meta.get_backend()", f"(real => ({self.backend}))(Meta.get_backend())"
        )
        (folder / "desk.js").write_text(script)
        loading = f"import('file://{folder}/desk.js').then(m => (global.fenko = new m.default()).enable())"
        self.script(f"{loading}.catch(error => (global.fenko = error.message)); 1")
        wait_for(lambda: self.script("typeof global.fenko") == '"object"', self.script("`${global.fenko}`"))


OTHERS: dict[str, Callable[[], Any]] = {
    "gnome, bare": lambda: _opened(BareGnome),
    "gnome, later": lambda: _opened(LaterGnome),
}
BARE: dict[str, Callable[[], Any]] = {"weston": lambda: _opened(Weston), "cage": lambda: _opened(Cage)}
"""Compositors that offer nothing of what Fenko asks."""
DESKTOPS: dict[str, Callable[[], Any]] = {
    "X11": screen,
    "sway": lambda: _opened(Sway),
    "kwin": lambda: _opened(KWin),
    "gnome": lambda: _opened(Gnome),
}


def missing(name: str) -> list[str]:
    """The Debian packages without which this machine does not have that desktop."""
    if name == "X11":
        return MISSING
    command, package = NEEDED[name.partition(",")[0]]
    found = [] if shutil.which(command) else [package]
    if not Path("/usr/lib/python3/dist-packages/PyQt5").exists():
        found.append("python3-pyqt5")
    if not re.search("wayland", " ".join(map(str, Path("/usr/lib").glob("*/qt5/plugins/platforms/*")))):
        found.append("qtwayland5")
    return found


@contextmanager
def desktop(name: str) -> Iterator[Any]:
    """That desktop, or a skipped test where it cannot be had."""
    if lacks := missing(name):
        pytest.skip(f"needs {name}: apt-get install {' '.join(lacks)}")
    with (DESKTOPS | BARE | OTHERS)[name]() as one:
        yield one


_KEPT: dict[str, tuple[contextlib.ExitStack, Any]] = {}
"""The desktop that the last test had, if the next may have it."""


@contextmanager
def lasting(name: str, test: pytest.Item | pytest.Collector) -> Iterator[Any]:
    """That desktop, which another test may have had before: starting one takes longer than most tests. After a failure, or where
    more has been changed than windows, the next test has a new one."""
    if lacks := missing(name):
        pytest.skip(f"needs {name}: apt-get install {' '.join(lacks)}")
    if name not in _KEPT:
        end_kept()
        opened = contextlib.ExitStack()
        _KEPT[name] = opened, opened.enter_context((DESKTOPS | OTHERS)[name]())
    opened, one = _KEPT.pop(name)
    with opened:
        one.lend()
        yield one
        if not one.worn and not test.stash.get(FAILED, False):
            one.tidy()
            _KEPT[name] = opened.pop_all(), one


def end_kept() -> None:
    """No test has it any more."""
    while _KEPT:
        _KEPT.popitem()[1][0].close()


def on(*names: str) -> pytest.MarkDecorator:
    """Of a test that is about these desktops alone."""
    return pytest.mark.parametrize("shown", names, indirect=True)


@pytest.fixture(params=DESKTOPS)
def shown(request: pytest.FixtureRequest) -> Iterator[Any]:
    """Each desktop in turn."""
    with lasting(request.param, request.node) as one:
        yield one
