"""OSC against a real sound engine, which answers, over UDP and TCP."""

from __future__ import annotations

import contextlib
import socket
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ends import MakeFar, far, free_port, jack, needed, program
from fenko.core.phrase import parse_phrase
from fenko.desk.load import load_desk
from fenko.desk.problems import DeskError
from fenko.integrations.osc.worker import Unslip, bundle, message, slip

__all__ = ["far", "jack"]
engine_needed = needed("scsynth", "jackd")

DESK = """
[value.loudness]
range = [0, 1]
[osc.engine]
to = "{to}"
range = {{ "/far" = [-10, 10] }}
hears = {{ "/c_set" = "value loudness", "/n_set" = "state pad.mode" }}
first = ["osc /notify 1"]
[profile.base.on.pad]
south = "osc /c_set 3 0.25"
east = "osc /c_set 3 0.5 then osc /c_set 4 1.0"
north = "osc /c_get 3"
start = "osc /status"
select = 'osc /every 1 1.5 "a b" true false nil'
west = "osc /far by +1"
trigger-right = {{ do = "osc /c_set 5 follow 0 to 2", spring = true }}
mode = {{ in-turn = ["osc /one", "osc /two"], states = ["One", "Two"] }}
"""


class Ear:
    """A listener of this test's own, which takes packets apart by the library's own reader."""

    def __init__(self) -> None:
        self.line = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.line.bind(("127.0.0.1", 0))
        self.port: int = self.line.getsockname()[1]
        self.packets: list[bytes] = []
        self.sender: Any = None
        threading.Thread(target=self._run, daemon=True).start()

    def _run(self) -> None:
        with contextlib.suppress(OSError):
            while True:
                data, self.sender = self.line.recvfrom(65536)
                self.packets.append(data)

    @property
    def heard(self) -> list[tuple[str, list[Any]]]:
        """Address and arguments of every message."""
        from pythonosc.osc_packet import OscPacket

        return [(one.message.address, one.message.params) for data in self.packets for one in OscPacket(data).messages]

    def say(self, address: str, *arguments: Any) -> None:
        """Answers."""
        self.line.sendto(message(address, arguments), self.sender)


@pytest.fixture
def ear() -> Iterator[Ear]:
    """A listener."""
    found = Ear()
    yield found
    found.line.close()


@contextlib.contextmanager
def sound_engine(env: dict[str, str], *where: str) -> Iterator[None]:
    """A real sound engine on a JACK that plays to nobody."""
    with program("scsynth", *where, "-B", "127.0.0.1", "-i", "0", "-o", "2", "-R", "0", "-l", "4", env=env):
        yield


def asked(port: int, address: str, *arguments: Any) -> Any:
    """What the engine answers to this test, by a line of the test's own."""
    from pythonosc.osc_packet import OscPacket

    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as line:
        line.settimeout(0.5)
        line.connect(("127.0.0.1", port))
        line.send(message(address, arguments))
        return OscPacket(line.recv(65536)).messages[0].message.params


@engine_needed
def test_a_sound_engine_takes_what_is_sent_and_what_it_answers_is_heard(jack: dict[str, str], far: MakeFar) -> None:
    port = free_port(socket.SOCK_DGRAM)
    with sound_engine(jack, "-u", str(port)):
        hands = far(DESK.format(to=f"udp 127.0.0.1:{port}"), jack)
        hands.until(lambda: asked(port, "/status"), "the engine answers")
        hands.tap("east")
        hands.until(lambda: asked(port, "/c_get", 3)[-1] == 0.5 and asked(port, "/c_get", 4)[-1] == 1.0)
        for place in (0.2, 0.9, 0.75):
            hands.feed(("pad.trigger-right", place))
        hands.until(lambda: asked(port, "/c_get", 5)[-1] == 1.5)
        hands.tap("south")
        hands.tap("north")
        hands.until(lambda: hands.engine.values["value", "loudness"] == 0.25, "the answer sets a value")
    # The engine is gone, and back.
    hands.tap("south")
    hands.tap("south")
    hands.said("nobody listens for `engine`")
    with sound_engine(jack, "-u", str(port)):
        hands.until(lambda: asked(port, "/status"), "it is back")
        hands.tap("south")
        hands.until(lambda: asked(port, "/c_get", 3)[-1] == 0.25)


@engine_needed
def test_the_same_over_tcp(jack: dict[str, str], far: MakeFar) -> None:
    """The engine frames messages by their length, so this test puts a converter between that speaks SLIP to Fenko."""
    port = free_port()
    server = socket.create_server(("127.0.0.1", port))
    heard: list[bytes] = []
    lines: list[socket.socket] = []

    def serve() -> None:
        with contextlib.suppress(OSError):
            while True:
                line, _ = server.accept()
                lines.append(line)
                frames = Unslip()
                while data := line.recv(4096):
                    heard.extend(frames.of(data))

    threading.Thread(target=serve, daemon=True).start()
    hands = far(DESK.format(to=f"tcp 127.0.0.1:{port}"), jack)
    hands.tap("south")
    hands.until(lambda: message("/c_set", (3, 0.25)) in heard)
    assert message("/notify", (1,)) in heard, "what is said first"
    lines[0].sendall(slip(message("/c_set", (3, 0.625))))
    hands.until(lambda: hands.engine.values["value", "loudness"] == 0.625, "answers come back the same way")
    lines[0].sendall(b"\xc0\xc0rubbish\xc0" + bytes(100_000) + b"\xc0" + slip(message("/c_set", ("x", True, 1.0))))
    hands.until(lambda: hands.engine.values["value", "loudness"] == 1, "rubbish before it does no harm")
    lines[0].shutdown(socket.SHUT_RDWR)
    lines[0].close()
    hands.said("has hung up")
    hands.until(lambda: len(lines) == 2, "reached again by itself")
    hands.tap("south")
    hands.until(lambda: heard.count(message("/c_set", (3, 0.25))) == 2)
    server.close()


def test_every_type_arrives(far: MakeFar, ear: Ear) -> None:
    hands = far(DESK.format(to=f"udp 127.0.0.1:{ear.port}"))
    hands.tap("select")
    hands.until(lambda: ("/every", [1, 1.5, "a b", True, False, None]) in ear.heard)


def test_what_then_joins_is_one_bundle(far: MakeFar, ear: Ear) -> None:
    hands = far(DESK.format(to=f"udp 127.0.0.1:{ear.port}"))
    hands.tap("east")
    hands.until(lambda: any(packet.startswith(b"#bundle\0") for packet in ear.packets))
    assert ear.heard[-2:] == [("/c_set", [3, 0.5]), ("/c_set", [4, 1.0])]


def test_a_step_goes_on_from_its_range(far: MakeFar, ear: Ear) -> None:
    hands = far(DESK.format(to=f"udp 127.0.0.1:{ear.port}"))
    for _ in range(3):
        hands.tap("west")
        hands.look(0.05)
    hands.until(lambda: [message for message in ear.heard if message[0] == "/far"][-1] == ("/far", [-7.0]))


def test_answers_at_a_port_of_their_own(far: MakeFar, ear: Ear) -> None:
    listen = free_port(socket.SOCK_DGRAM)
    hands = far(DESK.format(to=f'udp 127.0.0.1:{ear.port}"\nlisten = {listen}\nnote = "x'))
    hands.tap("start")
    hands.until(lambda: ear.heard)
    ear.line.sendto(message("/c_set", (3, 0.5)), ("127.0.0.1", listen))
    hands.until(lambda: hands.engine.values["value", "loudness"] == 0.5)
    assert hands.facts["osc"]["engine /c_set"] == {"value": 0.5}


def test_an_answer_sets_where_a_binding_has_come_to(far: MakeFar, ear: Ear) -> None:
    hands = far(DESK.format(to=f"udp 127.0.0.1:{ear.port}"))
    hands.tap("mode")
    hands.until(lambda: ("/one", []) in ear.heard)
    ear.say("/n_set", 1)
    hands.look(0.3)
    hands.tap("mode")
    hands.until(lambda: ear.heard.count(("/one", [])) == 2, "two was the last, so one is next")


def test_not_a_number_and_beyond_all_numbers_set_nothing(far: MakeFar, ear: Ear) -> None:
    hands = far(DESK.format(to=f"udp 127.0.0.1:{ear.port}"))
    hands.tap("start")
    hands.until(lambda: ear.heard)
    for number in (float("nan"), float("inf"), -float("inf")):
        ear.say("/c_set", number)
    ear.say("/c_set", "text")
    ear.say("/c_set", 0.5)
    hands.until(lambda: hands.engine.values["value", "loudness"] == 0.5)


@given(st.lists(st.binary(min_size=1, max_size=50)), st.integers(1, 20))
def test_slip_comes_whole_however_it_is_cut(packets: list[bytes], size: int) -> None:
    data = b"".join(map(slip, packets))
    frames = Unslip()
    found = [one for at in range(0, len(data), size) for one in frames.of(data[at : at + size])]
    assert found == packets


def test_bundles_are_those_of_the_standard() -> None:
    """The bytes of the specification's own form: `#bundle`, the time tag that means at once, sizes before parts."""
    part = message("/a", (1,))
    assert part == b"/a\0\0,i\0\0\0\0\0\1"
    assert bundle([part]) == b"#bundle\0" + bytes(7) + b"\1" + b"\0\0\0\x0c" + part


@pytest.mark.parametrize(
    ("phrase", "wrong"),
    [
        ("osc grain", "no address"),
        ("osc /a*", "no address"),
        ("osc /a b", "no argument"),
        ("osc /a 99999999999", "no argument"),
        (f"osc /a {'9' * 5000}", "no argument"),
        ("osc /a to", "needs a name"),
        ("osc /a by 1", "says which way"),
    ],
)
def test_what_cannot_be_sent_is_said_so(phrase: str, wrong: str) -> None:
    with pytest.raises(ValueError, match=wrong):
        parse_phrase(phrase)


def test_a_peer_that_the_desk_does_not_know(tmp_path: Path) -> None:
    (tmp_path / "desk.toml").write_text(
        'format = 1\n[surface.pad]\nkind = "gamepad"\n[osc.engine]\nto = "udp 127.0.0.1:1"\n'
        '[profile.base.on.pad]\nsouth = "osc /a to engin"\n'
    )
    with pytest.raises(DeskError) as error:
        load_desk(tmp_path)
    (problem,) = error.value.problems
    assert "unknown osc `engin`" in problem.message
    assert problem.nearest == "engine"
    assert (problem.line, problem.column) == (7, 20)
