"""Which port a desk gets for its keys, and how a display that was lost is found again."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

import pytest

from ends import TurnedLoop
from fenko.core.remedies import Remedy
from fenko.desk.compiled import Compiled, compiled
from fenko.desk.load import load_desk
from fenko.live import returning, wiring
from fenko.live.returning import Returning
from fenko.live.wiring import Chosen, open_ports
from fenko.outputs.port import Port, PortError, Settings
from support import MakeDesk, wait_for

PAD = '[surface.pad]\nkind = "gamepad"\n[profile.base.on.pad]\nsouth = "a"\n'


class _Keys(Port):
    name = "keys"
    outs = frozenset(("keys", "pointer"))

    def __init__(self, name: str) -> None:
        self.name = name
        self.why = ""

    def send(self, effects: object) -> None:
        """Nothing is sent here."""

    def close(self) -> None:
        """Nothing was opened."""


class Ports:
    """What each port says when it is to be opened: it opens, but for those that fail."""

    def __init__(self, monkeypatch: pytest.MonkeyPatch) -> None:
        self.failing: dict[str, PortError] = {}
        self.asked: list[str] = []
        self._patch = monkeypatch
        monkeypatch.setattr(wiring, "open_port", self._open)
        self.session()

    def session(self, **variables: str) -> None:
        for name in ("DISPLAY", "WAYLAND_DISPLAY", "WAYLAND_SOCKET", "XDG_SESSION_TYPE"):
            self._patch.delenv(name, raising=False)
        for name, value in variables.items():
            self._patch.setenv(name, value)

    def _open(self, name: str, settings: Settings) -> Port:
        self.asked.append(name)
        if name in self.failing:
            raise self.failing[name]
        return _Keys(name)


@pytest.fixture
def ports(monkeypatch: pytest.MonkeyPatch) -> Ports:
    return Ports(monkeypatch)


@pytest.fixture
def desk(make_desk: MakeDesk) -> Callable[[str], Compiled]:
    def made(text: str = "") -> Compiled:
        return compiled(load_desk(make_desk(text + PAD)))

    return made


def opened(desk: Compiled, chosen: Chosen | None = None, open_now: tuple[str, ...] = ()) -> list[Port]:
    return open_ports(desk, lambda text: None, None, open_now, chosen=chosen)


@pytest.mark.parametrize(
    ("variables", "order"),
    [
        ({}, ["kernel"]),
        ({"DISPLAY": ":7"}, ["x11", "kernel"]),
        ({"WAYLAND_DISPLAY": "wayland-7"}, ["wayland", "kernel"]),
        ({"WAYLAND_DISPLAY": "wayland-7", "DISPLAY": ":7"}, ["wayland", "kernel"]),
    ],
)
def test_the_session_decides_what_is_tried(
    ports: Ports, desk: Callable[[str], Compiled], variables: dict[str, str], order: list[str]
) -> None:
    ports.session(**variables)
    (port,) = opened(desk(""))
    assert (port.name, ports.asked) == (order[0], order[:1])
    ports.asked.clear()
    ports.failing = {name: PortError(f"{name} is not there") for name in order[:-1]}
    (port,) = opened(desk(""))
    assert (port.name, ports.asked) == ("kernel", order)
    if len(order) > 1:
        assert port.why == f"because {order[0]} is not there"


def test_what_the_desk_names_is_taken_and_nothing_else(ports: Ports, desk: Callable[[str], Compiled]) -> None:
    ports.session(WAYLAND_DISPLAY="wayland-7", DISPLAY=":7")
    named = desk('[output]\nkeys = "x11"\n')
    assert opened(named)[0].name == "x11"
    ports.failing = {"x11": PortError("the server is gone")}
    with pytest.raises(PortError, match=r"^the server is gone$"):
        opened(named)
    assert ports.asked == ["x11", "x11"]


def test_where_nothing_opens_every_reason_and_remedy_is_said(ports: Ports, desk: Callable[[str], Compiled]) -> None:
    ports.session(DISPLAY=":7")
    ports.failing = {
        "x11": PortError("no server"),
        "kernel": PortError("no module", Remedy(modules=("uinput",))),
    }
    with pytest.raises(PortError, match="no server; no module") as why:
        opened(desk(""))
    assert why.value.remedy.modules == ("uinput",)


def test_no_other_port_takes_the_place_of_one_that_is_away(ports: Ports, desk: Callable[[str], Compiled]) -> None:
    ports.session(DISPLAY=":7")
    chosen = Chosen()
    (port,) = opened(desk(""), chosen)
    assert dict(chosen) == {"keys": "x11", "pointer": "x11"} and port.name == "x11"
    ports.failing = {"x11": PortError("gone")}
    with pytest.raises(PortError, match="gone"):
        opened(desk(""), chosen)
    ports.failing = {}
    assert opened(desk(""), chosen)[0].name == "x11"
    assert "kernel" not in ports.asked


def test_what_is_open_is_not_opened_again(ports: Ports, desk: Callable[[str], Compiled]) -> None:
    assert opened(desk(""), open_now=("keys", "pointer")) == [] and ports.asked == []


def _display(
    monkeypatch: pytest.MonkeyPatch, sockets: Path, every: float, later: float = returning._LOOK_EVERY
) -> None:
    """The session's display is the X server 7, whose socket belongs into that folder; how often it is tried at first, and later."""
    monkeypatch.setattr(returning, "SOCKETS", sockets)
    monkeypatch.setattr(returning, "_TRY_EVERY", every)
    monkeypatch.setattr(returning, "_LOOK_EVERY", later)
    monkeypatch.delenv("WAYLAND_DISPLAY", raising=False)
    monkeypatch.setenv("DISPLAY", ":7")


@pytest.mark.parametrize("tries", [1, 3])
def test_a_display_is_tried_when_its_socket_is_there(
    tries: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    _display(monkeypatch, tmp_path, every=0.01)
    loop, attempts = TurnedLoop(), list[bool]()
    descriptors = len(os.listdir("/proc/self/fd"))

    def attempt() -> bool:
        attempts.append(len(attempts) + 1 == tries)
        return attempts[-1]

    back = Returning(loop, attempt)
    back.wait()
    (tmp_path / "X8").touch()  # another one
    loop.turn(0.1)
    assert back.waiting and not attempts
    (tmp_path / "X7").touch()
    wait_for(lambda: loop.turn(0.02) or not back.waiting, "the display to be back")
    loop.turn(0.1)
    assert attempts == [*[False] * (tries - 1), True]
    assert len(os.listdir("/proc/self/fd")) == descriptors, "nothing watches any more"
    loop.close()


def test_a_server_that_does_not_answer_is_asked_again_as_long_as_its_socket_is_there(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    _display(monkeypatch, tmp_path, every=0.001, later=0.01)
    socket = tmp_path / "X7"
    socket.touch()
    loop, attempts = TurnedLoop(), list[int]()
    back = Returning(loop, lambda: bool(attempts.append(1)))  # type: ignore[func-returns-value]
    back.wait()
    wait_for(lambda: loop.turn(0.05) or len(attempts) > 50, "more than the first tries")
    socket.unlink()
    loop.turn(0.1)
    so_far = len(attempts)
    loop.turn(0.2)
    assert len(attempts) == so_far and back.waiting
    socket.touch()
    wait_for(lambda: loop.turn(0.05) or len(attempts) > so_far, "another try")
    loop.close()


def test_where_nothing_can_be_watched_a_display_is_tried_without_end(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    _display(monkeypatch, tmp_path / "no such folder", every=0.001, later=0.001)
    loop, attempts = TurnedLoop(), list[bool]()
    enough = 2 * returning._TRIES

    def attempt() -> bool:
        attempts.append(len(attempts) + 1 == enough)
        return attempts[-1]

    back = Returning(loop, attempt)
    back.wait()
    wait_for(lambda: loop.turn(0.05) or not back.waiting, "the display to be back")
    loop.turn(0.1)
    assert len(attempts) == enough
    loop.close()
