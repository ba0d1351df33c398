"""What it costs that a surface is on another computer: two Fenkos and a broker with TLS between them, all on this machine;
`python -m bench.lend` prints the figures.

A board at a terminal, which this program plays, is heard once by a desk that has its line, and once by a desk that takes it from
`fenko lend`."""

from __future__ import annotations

import contextlib
import os
import pty
import select
import shutil
import subprocess
import sys
import tempfile
import time
import tty
from collections.abc import Iterator
from pathlib import Path

from bench.rows import Row, median_and_late
from fenko.desk.compiled import compiled
from fenko.desk.load import load_desk
from fenko.outputs.messages import ControlsChanged, FromWorkers, SurfacePresent
from fenko.outputs.port import Settings
from fenko.outputs.workers_port import WorkersListener, WorkersPort

PRESSES = 400
APART = 0.05
"""Seconds from one press to the next, as a fast hand has them."""
SAYS = b"board 1 bench\nhas red button\nready\n"
BOARD = """
format = 1
{more}
[surface.bench]
kind = "board"
links = ["{link}"]
[surface.bench.control.red]
sort = "button"
"""
BROKER = """
[mqtt.house]
url = "mqtts://localhost:{port}"
ca = "{folder}/ca.pem"
"""


class Taker(WorkersListener):
    """A desk's port of surfaces, and when it was told what."""

    def __init__(self, folder: Path, text: str) -> None:
        folder.mkdir()
        (folder / "desk.toml").write_text(text)
        desk = compiled(load_desk(folder))
        self.here_now = False
        self.told: list[float] = []
        self.port = WorkersPort(desk.far, Settings(desk.tables, lambda line: None, None, desk.folder), "surfaces")
        self.port.listener = self
        self.port.wake = lambda due: None

    def on_message(self, message: FromWorkers) -> None:
        """It has come, or a press has arrived."""
        if isinstance(message, SurfacePresent):
            self.here_now = message.description is not None
        elif isinstance(message, ControlsChanged):
            self.told += [time.monotonic()] * len(message.changes)

    def look(self, seconds: float) -> None:
        """What a loop does, for so long, or until something has come."""
        (descriptor,) = self.port.descriptors()
        until = time.monotonic() + seconds
        while (left := until - time.monotonic()) > 0:
            more = descriptor.writable is not None and descriptor.writable()
            if select.select([descriptor.fd], [descriptor.fd] if more else [], [], left)[0]:
                descriptor.readable()
                return


def _presses(taker: Taker, line: int) -> list[float]:
    """Seconds from a press on the board to the desk."""
    times = []
    for number in range(PRESSES):
        taker.told.clear()
        began = time.monotonic()
        os.write(line, b"is red %d\n" % ((number + 1) % 2))
        while not taker.told and time.monotonic() < began + 5:
            taker.look(0.5)
        times.append(taker.told[0] - began)
        end = began + APART
        while time.monotonic() < end:
            taker.look(end - time.monotonic())
    return times


@contextlib.contextmanager
def _board() -> Iterator[tuple[int, str]]:
    ours, theirs = pty.openpty()
    tty.setraw(theirs)
    try:
        yield ours, os.ttyname(theirs)
    finally:
        os.close(ours)
        os.close(theirs)


def _comes(taker: Taker, line: int) -> None:
    """The board says what it is whenever it is asked, until the desk has it."""
    end = time.monotonic() + 20
    while not taker.here_now and time.monotonic() < end:
        if select.select([line], [], [], 0)[0] and b"fenko" in os.read(line, 4096):
            os.write(line, SAYS)
        taker.look(0.05)
    assert taker.here_now, "it does not come"


def measured(folder: Path) -> tuple[list[float], list[float]]:
    """The same presses by the board's own line, and lent."""
    import trustme

    with _board() as (line, device):
        taker = Taker(folder / "own", BOARD.format(more="", link=f"serial {device}"))
        _comes(taker, line)
        own = _presses(taker, line)
        taker.port.close()
    authority = trustme.CA()
    server = authority.issue_cert("localhost")
    authority.cert_pem.write_to_path(str(folder / "ca.pem"))
    server.private_key_pem.write_to_path(str(folder / "server.key"))
    server.cert_chain_pems[0].write_to_path(str(folder / "server.pem"))
    import socket

    with socket.create_server(("127.0.0.1", 0)) as free:
        port = free.getsockname()[1]
    (folder / "broker.conf").write_text(
        f"listener {port} 127.0.0.1\nuser root\nallow_anonymous true\ncafile {folder}/ca.pem\ncertfile {folder}/server.pem\n"
        f"keyfile {folder}/server.key\n"
    )
    with _board() as (line, device), contextlib.ExitStack() as stack:
        broker = subprocess.Popen(["mosquitto", "-c", folder / "broker.conf"], stderr=subprocess.DEVNULL)
        stack.callback(broker.kill)
        time.sleep(1)
        more = BROKER.format(port=port, folder=folder)
        (folder / "lender").mkdir()
        (folder / "lender/desk.toml").write_text(BOARD.format(more=more, link=f"serial {device}"))
        command = [sys.executable, "-m", "fenko", "lend", "bench", "--to", "house", "--desk", folder / "lender"]
        lender = subprocess.Popen(command, stderr=subprocess.DEVNULL)
        stack.callback(lender.kill)
        taker = Taker(folder / "taker", BOARD.format(more=more, link="mqtt fenko/bench"))
        _comes(taker, line)
        lent = _presses(taker, line)
        taker.port.close()
    return own, lent


def measure() -> list[Row]:
    """What being lent adds."""
    if shutil.which("mosquitto") is None:
        return [Row("a lent surface", "could not be measured here: no mosquitto", "", False)]
    folder = Path(tempfile.mkdtemp())
    try:
        own, lent = measured(folder)
    finally:
        shutil.rmtree(folder, ignore_errors=True)
    (middle, late), (far, far_late) = median_and_late(own), median_and_late(lent)
    return [
        Row("a board's line → the desk, median", f"{middle * 1e3:.2f} ms (99th percentile {late * 1e3:.2f} ms)", "≤ 5 ms", middle <= 0.005),
        Row("the same, lent through a broker with TLS: added, median", f"{(far - middle) * 1e3:.2f} ms (99th percentile {(far_late - late) * 1e3:.2f} ms)",
            "≤ 10 ms", far - middle <= 0.01),
    ]  # fmt: skip


if __name__ == "__main__":
    for row in measure():
        print(f"{row.what}: {row.seen} (aim {row.aim})")
