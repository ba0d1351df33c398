"""What is sent while the screen is locked: nothing, on each desktop that tells of it; and who takes the place of a port that is only
away for a moment: nobody."""

from __future__ import annotations

import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest

import desktops
import fenko.live.wiring as wiring
from boards import Board
from desktops import DESKTOPS, KWin, desktop
from ends import needed
from fenko.desk.compiled import compiled
from fenko.desk.load import load_desk
from fenko.live.wiring import Chosen, open_ports
from fenko.outputs.listing import ListingPort
from fenko.outputs.port import PortError, Settings
from running import Running
from screen import Screen, needs_screen, screen
from support import MakeDesk, wait_for


class LockableKWin(KWin):
    """With its own locker."""

    locks = ()

    def lock(self) -> None:
        self.call(("org.freedesktop.ScreenSaver", "/ScreenSaver", "org.freedesktop.ScreenSaver"), "Lock")


class MateLocker:
    """A screen of an X server that Debian's MATE locker locks."""

    def __init__(self, shown: Screen, folder: Path) -> None:
        self._shown = shown
        address = f"unix:path={folder}/bus"
        self._bus = shown.spawn("dbus-daemon", "--session", f"--address={address}", "--nofork")
        wait_for((folder / "bus").exists, "the bus")
        self.environment = shown.environment | {"DBUS_SESSION_BUS_ADDRESS": address}
        self.processes = shown.processes
        locker = subprocess.Popen(
            ["mate-screensaver", "--no-daemon"], env=self.environment | {"GSETTINGS_BACKEND": "memory"},
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True,
        )  # fmt: skip
        self.processes.append(locker)
        wait_for(lambda: "inactive" in self._ask("--query"), "the locker")

    def _ask(self, what: str) -> str:
        return subprocess.run(
            ["mate-screensaver-command", what], env=self.environment, capture_output=True, text=True
        ).stdout

    def lock(self) -> None:
        self._ask("--activate")
        self._ask("--lock")

    def unlock(self) -> None:
        self._ask("--deactivate")

    def keys_down(self) -> list[int]:
        return self._shown.keys_down()


@contextmanager
def _with_board(folder: Path, make_desk: MakeDesk, more: str = "") -> Iterator[tuple[Board, str]]:
    board = Board(folder / "board")
    board.plug_in()
    board.start()
    desk = make_desk(
        f'format = 1\n[surface.bench]\nkind = "board"\nlinks = ["serial {board.device}"]\n[surface.bench.control]\n'
        f'red.sort = "button"\ngreen.sort = "button"\n[profile.base.on.bench]\nred = "f9"\ngreen = "f8"\n{more}'
    )
    try:
        yield board, str(desk)
    finally:
        board.unplug()


def _locks(shown: Any, board: Board, running: Running, lock: Any, unlock: Any) -> None:
    """A lock in the middle of a held key; a press meanwhile; and, where it can be unlocked here, one afterwards."""
    running.says("surface bench: here now")
    board.hands(red="1")
    wait_for(shown.keys_down, "the key")
    lock()
    running.says("the screen is locked: nothing is sent")
    wait_for(lambda: not shown.keys_down(), "it is released")
    before = len(running.log.read_text())
    board.hands(red="1", green="1")
    board.hands(red="1")
    if unlock is not None:
        unlock()
        running.says("the screen is unlocked", before)
        assert not shown.keys_down()
        board.hands()
        board.hands(green="1")
        wait_for(shown.keys_down, "keys again")
        board.hands()
        wait_for(lambda: not shown.keys_down(), "it is released")
    assert not shown.keys_down()
    assert running.end() == 0


@needs_screen
@needed("mate-screensaver", "dbus-daemon")
def test_nothing_is_sent_to_a_locker_of_x11(tmp_path: Path, make_desk: MakeDesk) -> None:
    with screen() as shown, _with_board(tmp_path, make_desk) as (board, desk):
        locker = MateLocker(shown, tmp_path)
        running = Running(locker, tmp_path / "log", "--desk", desk)
        _locks(locker, board, running, locker.lock, locker.unlock)


def test_nothing_is_sent_to_the_locker_of_kwin(
    tmp_path: Path, make_desk: MakeDesk, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setitem(DESKTOPS, "kwin", lambda: desktops._opened(LockableKWin))
    with desktop("kwin") as shown, _with_board(tmp_path, make_desk) as (board, desk):
        shown.listen(tmp_path)
        _locks(shown, board, Running(shown, tmp_path / "log", "--desk", desk), shown.lock, None)


def test_nothing_is_sent_while_gnome_is_locked(tmp_path: Path, make_desk: MakeDesk) -> None:
    """The shell lets go of its extensions then, and so of Fenko's way to send keys."""
    with desktop("gnome") as shown, _with_board(tmp_path, make_desk) as (board, desk):
        shown.listen(tmp_path)
        running = Running(shown, tmp_path / "log", "--desk", desk)
        running.says("surface bench: here now")
        board.hands(red="1")
        wait_for(shown.keys_down, "the key")
        shown.script("Main.sessionMode.pushMode('unlock-dialog')")
        running.says("is gone; Fenko waits for it to come back")
        wait_for(lambda: not shown.keys_down(), "it is released")
        board.hands()
        board.hands(green="1")
        board.hands()
        before = len(running.log.read_text())
        shown.script("Main.sessionMode.popMode('unlock-dialog')")
        running.says("is back", before)
        assert "kernel" not in running.log.read_text()
        board.hands(green="1")
        wait_for(shown.keys_down, "keys again")
        board.hands()
        wait_for(lambda: not shown.keys_down(), "it is released")
        assert running.end() == 0


def test_no_other_port_takes_the_place_of_one_that_is_away(
    make_desk: MakeDesk, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The kernel's keyboard would be one that can be had at any time: its keys would go into the password."""
    desk = compiled(
        load_desk(make_desk('format = 1\n[surface.pad]\nkind = "gamepad"\n[profile.base.on.pad]\nsouth = "a"\n'))
    )
    there, opened = {"wayland", "kernel"}, list[str]()

    def opens(name: str, settings: Settings) -> ListingPort:
        if name not in there:
            raise PortError(f"{name} is away")
        opened.append(name)
        port = ListingPort(lambda effects: None)
        port.outs = frozenset(("keys", "pointer"))
        return port

    monkeypatch.setattr(wiring, "open_port", opens)
    monkeypatch.setattr(wiring, "on_wayland", lambda: True)
    chosen = Chosen()
    open_ports(desk, lambda text: None, None, (), False, chosen)
    there.remove("wayland")
    with pytest.raises(PortError, match="wayland is away"):
        open_ports(desk, lambda text: None, None, (), False, chosen)
    there.add("wayland")
    open_ports(desk, lambda text: None, None, (), False, chosen)
    assert opened == ["wayland", "wayland"]
    # Who starts while it is away takes what there is.
    there.remove("wayland")
    open_ports(desk, lambda text: None, None, (), False, Chosen())
    assert opened[-1] == "kernel"
