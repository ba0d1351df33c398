"""Requests to a real web server, and MQTT with a real broker; certificates, passwords, and ends that go away."""

from __future__ import annotations

import contextlib
import http.server
import json
import socket
import ssl
import subprocess
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from ends import MakeFar, far, free_port, needed, program, there
from support import wait_for

__all__ = ["far"]


class Server:
    """A web server that writes down what it is asked; it takes `slow` seconds to answer, with `status`."""

    def __init__(self, context: ssl.SSLContext | None = None) -> None:
        self.asked: list[dict[str, Any]] = []
        self.slow = 0.0
        self.status = 200
        owner = self

        class Handler(http.server.BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                body = self.rfile.read(int(self.headers.get("Content-Length") or 0))
                owner.asked.append(
                    {"method": self.command, "path": self.path, "headers": dict(self.headers), "body": body.decode()}
                )
                time.sleep(owner.slow)
                with contextlib.suppress(OSError):
                    self.send_response(owner.status)
                    self.send_header("Content-Length", "9")
                    self.end_headers()
                    self.wfile.write(b"no such \x1b")

            do_GET = do_PUT = do_POST

            def log_message(self, *words: object) -> None:
                pass

        class Quiet(http.server.ThreadingHTTPServer):
            def handle_error(self, *words: object) -> None:
                pass

        self.server = Quiet(("127.0.0.1", 0), Handler)
        if context is not None:
            self.server.socket = context.wrap_socket(self.server.socket, server_side=True)
        self.port = self.server.server_address[1]
        threading.Thread(target=self.server.serve_forever, daemon=True).start()


@pytest.fixture(scope="module")
def authority(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder with a certificate authority, and what it signed for this machine: `ca.pem`, `server.pem`, `server.key`."""
    import trustme

    folder = tmp_path_factory.mktemp("ca")
    ca = trustme.CA()
    ca.cert_pem.write_to_path(folder / "ca.pem")
    trustme.CA().cert_pem.write_to_path(folder / "other.pem")
    signed = ca.issue_cert("localhost")
    signed.private_key_pem.write_to_path(folder / "server.key")
    for blob in signed.cert_chain_pems:
        blob.write_to_path(folder / "server.pem", append=True)
    return folder


def requests(*tables: str) -> str:
    names = [table.split("]")[0].split(".")[1] for table in tables]
    controls = ("south", "east", "north", "west")
    bound = "".join(f'{control} = "request {name}"\n' for control, name in zip(controls, names, strict=False))
    return "\n".join(tables) + f"\n[profile.base.on.pad]\n{bound}"


def test_a_request_with_all_that_it_can_have(far: MakeFar, tmp_path: Path) -> None:
    server = Server()
    secret = tmp_path / "token"
    secret.write_text("s3cret\n")
    secret.chmod(0o600)
    url = f"http://127.0.0.1:{server.port}"
    hands = far(
        requests(
            f'[request.scene]\nurl = "{url}/scene?name=wide"\njson = {{ on = true, level = 0.5 }}\n'
            f'headers = {{ Authorization = {{ file = "{secret}", before = "Bearer " }}, X-Desk = {{ env = "FENKO_TEST" }} }}',
            f'[request.look]\nurl = "{url}/look"',
            f'[request.text]\nurl = "{url}"\nmethod = "PUT"\nbody = "Größe"',
        ),
        {"FENKO_TEST": "bench"},
    )
    for control in ("south", "east", "north"):
        hands.tap(control)
        number = len(server.asked)
        hands.until(lambda n=number: len(server.asked) > n)
    scene, look, text = server.asked
    assert (scene["method"], scene["path"]) == ("POST", "/scene?name=wide")
    assert json.loads(scene["body"]) == {"on": True, "level": 0.5}
    assert scene["headers"]["Authorization"] == "Bearer s3cret"
    assert scene["headers"]["X-Desk"] == "bench"
    assert scene["headers"]["Content-Type"] == "application/json"
    assert (look["method"], look["path"]) == ("GET", "/look")
    assert (text["method"], text["path"], text["body"]) == ("PUT", "/", "Größe")
    assert hands.notes == []


def test_answers_that_say_no_and_answers_that_do_not_come(far: MakeFar) -> None:
    server = Server()
    slow = Server()
    slow.slow = 10.0
    server.status = 404
    hands = far(
        requests(
            f'[request.missing]\nurl = "http://127.0.0.1:{server.port}/x"',
            f'[request.slow]\nurl = "http://127.0.0.1:{slow.port}/x"\nlimit = "300ms"',
            f'[request.nobody]\nurl = "http://127.0.0.1:{free_port()}/x"',
            '[request.secret]\nurl = "http://127.0.0.1:1/x"\nheaders = { A = { env = "FENKO_NOT_SET" } }',
        )
    )
    hands.tap("south")
    hands.said("missing: the server says 404: no such")
    assert all("\x1b" not in note for note in hands.notes)
    hands.tap("east")
    hands.said("slow: no answer within its time")
    hands.tap("north")
    hands.said("nobody: connection refused")
    hands.tap("west")
    hands.said("the environment has no FENKO_NOT_SET")


def test_of_slow_requests_so_many_and_no_more_are_under_way(far: MakeFar) -> None:
    server = Server()
    server.slow = 3.0
    hands = far(requests(f'[request.slow]\nurl = "http://127.0.0.1:{server.port}/"\nlimit = "5s"'))
    for _ in range(10):
        hands.tap("south")
        hands.look(0.05)
    hands.said("slow is left out: 8 others wait for their answers")
    hands.until(lambda: len(server.asked) == 8)


def test_a_redirection_is_not_followed(far: MakeFar) -> None:
    server = Server()
    server.status = 302
    hands = far(requests(f'[request.moved]\nurl = "http://127.0.0.1:{server.port}/"'))
    hands.tap("south")
    hands.said("moved: the server says 302")
    assert len(server.asked) == 1


def test_a_server_that_drips_is_hung_up_on(far: MakeFar) -> None:
    """The limit is for the whole answer, not for each piece of it."""
    line = socket.create_server(("127.0.0.1", 0))

    def drip() -> None:
        with contextlib.suppress(OSError):
            peer, _ = line.accept()
            peer.recv(4096)
            peer.sendall(b"HTTP/1.1 200 OK\r\n")
            while True:
                peer.sendall(b"X-Drip: 1\r\n")
                time.sleep(0.05)

    threading.Thread(target=drip, daemon=True).start()
    hands = far(requests(f'[request.drip]\nurl = "http://127.0.0.1:{line.getsockname()[1]}/"\nlimit = "500ms"'))
    hands.tap("south")
    hands.said("drip: no answer within its time")
    line.close()


def test_a_wrong_certificate_is_refused(far: MakeFar, authority: Path) -> None:
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(authority / "server.pem", authority / "server.key")
    server = Server(context)
    hands = far(
        requests(
            f'[request.good]\nurl = "https://localhost:{server.port}/"\nca = "{authority}/ca.pem"',
            f'[request.system]\nurl = "https://localhost:{server.port}/"',
            f'[request.other]\nurl = "https://localhost:{server.port}/"\nca = "{authority}/other.pem"',
            f'[request.name]\nurl = "https://127.0.0.1:{server.port}/"\nca = "{authority}/ca.pem"',
        )
    )
    hands.tap("south")
    hands.until(lambda: len(server.asked) == 1)
    for control, name in (("east", "system"), ("north", "other"), ("west", "name")):
        hands.tap(control)
        hands.said(f"{name}: the server is not who it should be")
    assert len(server.asked) == 1, "nothing was sent to who is not who it should be"


def test_a_secret_that_others_can_read_is_none(far: MakeFar, tmp_path: Path) -> None:
    server = Server()
    secret = tmp_path / "token"
    secret.write_text("s3cret")
    secret.chmod(0o644)
    hands = far(
        requests(f'[request.a]\nurl = "http://127.0.0.1:{server.port}"\nheaders = {{ A = {{ file = "{secret}" }} }}')
    )
    hands.tap("south")
    hands.said("can be read by others")
    assert not server.asked
    assert all("s3cret" not in note for note in hands.notes)


# --- MQTT ---


@contextlib.contextmanager
def broker(folder: Path, port: int, authority: Path | None = None, password: str = "") -> Iterator[None]:
    """A real broker on that port."""
    lines = [f"listener {port} 127.0.0.1", "user root", f"allow_anonymous {'false' if password else 'true'}"]
    if authority is not None:
        lines += [f"cafile {authority}/ca.pem", f"certfile {authority}/server.pem", f"keyfile {authority}/server.key"]
    if password:
        (folder / "passwords").write_text("")
        subprocess.run(["mosquitto_passwd", "-b", str(folder / "passwords"), "bench", password], check=True)
        lines.append(f"password_file {folder}/passwords")
    (folder / "broker.conf").write_text("\n".join(lines) + "\n")
    with program("mosquitto", "-c", str(folder / "broker.conf")):

        def answers() -> bool:
            socket.create_connection(("127.0.0.1", port), timeout=1).close()
            return True

        wait_for(there(answers), "the broker")
        yield


@contextlib.contextmanager
def listening(port: int, file: Path, *more: str) -> Iterator[Path]:
    """What its own client hears on every topic, a line each."""
    with file.open("wb") as out:
        command = ["mosquitto_sub", "-h", "localhost", "-p", str(port), "-v", "-t", "#", *more]
        with program(*command, stdout=out):
            time.sleep(0.3)
            yield file


MQTT = """
[mqtt.bench]
url = "{url}"
{more}
range = {{ "stage/lamp" = [0, 255] }}
[profile.base.on.pad]
south = 'publish "stage/state" "on"'
east = 'publish "stage/state" "Größe 東"'
north = 'publish "stage/lamp" to 50%'
west = 'publish "stage/lamp" by +10'
trigger-right = {{ do = 'publish "stage/fader" follow 0 to 1', spring = true }}
"""
mqtt_needed = needed("mosquitto", "mosquitto_sub", "mosquitto_passwd")


@mqtt_needed
def test_texts_and_numbers_arrive_at_a_broker_with_tls_and_a_password(
    far: MakeFar, tmp_path: Path, authority: Path
) -> None:
    port = free_port()
    secret = tmp_path / "password"
    secret.write_text("b3nch\n")
    secret.chmod(0o600)
    more = f'user = "bench"\npassword = {{ file = "{secret}" }}\nca = "{authority}/ca.pem"'
    heard = tmp_path / "heard"
    as_bench = ("-u", "bench", "-P", "b3nch", "--cafile", str(authority / "ca.pem"))
    with broker(tmp_path, port, authority, "b3nch"), listening(port, heard, *as_bench):
        hands = far(MQTT.format(url=f"mqtts://localhost:{port}", more=more))
        for number, control in enumerate(("south", "east", "north", "west"), 1):
            hands.tap(control)
            hands.until(lambda n=number: heard.read_text().count("\n") == n)
        for place in (0.1, 0.4, 0.25):
            hands.feed(("pad.trigger-right", place))
        hands.until(lambda: heard.read_text().endswith("stage/fader 0.25\n"))
        lines = heard.read_text().splitlines()
        assert lines[:4] == ["stage/state on", "stage/state Größe 東", "stage/lamp 127.5", "stage/lamp 137.5"]
        assert hands.notes == []


@mqtt_needed
@pytest.mark.parametrize(
    ("ca", "password", "said"),
    [("other.pem", "b3nch", "is not who it should be"), ("ca.pem", "wrong", "does not let Fenko in")],
)
def test_a_broker_that_is_another_and_one_that_says_no(
    far: MakeFar, tmp_path: Path, authority: Path, ca: str, password: str, said: str
) -> None:
    port = free_port()
    more = f'user = "bench"\npassword = "{password}"\nca = "{authority}/{ca}"'
    with broker(tmp_path, port, authority, "b3nch"):
        hands = far(MQTT.format(url=f"mqtts://localhost:{port}", more=more))
        hands.tap("south")
        hands.said(said)


@mqtt_needed
@pytest.mark.parametrize("keep", [True, False])
def test_the_broker_keeps_the_last_of_each_topic_if_it_is_asked_to(far: MakeFar, tmp_path: Path, keep: bool) -> None:
    port = free_port()
    with broker(tmp_path, port):
        with listening(port, tmp_path / "first"):
            hands = far(MQTT.format(url=f"mqtt://127.0.0.1:{port}", more=f"keep = {str(keep).lower()}"))
            hands.tap("south")
            hands.until(lambda: (tmp_path / "first").read_text() == "stage/state on\n")
        with listening(port, tmp_path / "later"):
            hands.tap("north")
            hands.until(lambda: "stage/lamp" in (tmp_path / "later").read_text())
            assert ("stage/state on" in (tmp_path / "later").read_text()) == keep


@mqtt_needed
def test_a_broker_that_goes_and_comes_back(far: MakeFar, tmp_path: Path) -> None:
    port = free_port()
    heard = tmp_path / "heard"
    with broker(tmp_path, port):
        hands = far(MQTT.format(url=f"mqtt://127.0.0.1:{port}", more=""))
        with listening(port, heard):
            hands.tap("south")
            hands.until(lambda: heard.read_text() == "stage/state on\n")
    hands.said("`bench` is gone")
    for place in range(200):
        hands.feed(("pad.trigger-right", place / 200))
    for _ in range(50):
        hands.tap("south")
    hands.look(1.2)
    with broker(tmp_path, port), listening(port, heard):
        hands.said("back again")
        hands.tap("east")
        hands.until(lambda: "Größe" in heard.read_text())
        lines = heard.read_text().splitlines()
        assert "stage/state on" not in lines, "nothing old"
        assert len([line for line in lines if line.startswith("stage/fader")]) <= 1
