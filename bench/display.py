"""From a change that comes in to the key that an X client sees: the whole way on a virtual screen, against a bare loop that
reads the same bytes and sends the key by XTEST."""

from __future__ import annotations

import os
import select
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from bench.child import key_report
from bench.rows import Row, median_and_late

PRESSES = 1500
KEY_A = 38  # the X key code of `a`
BARE = """
import os
import xcffib, xcffib.xproto, xcffib.xtest
connection = xcffib.connect()
fake = connection(xcffib.xtest.key).FakeInput
os.write(1, b"r")
while True:
    data = os.read(0, 1536)
    fake(2 if data[20] else 3, 38, 0, 0, 0, 0, 0)
    connection.flush()
"""
FENKO = """
import sys
from bench.child import serve
from fenko.outputs.x11 import X11Port

serve(sys.argv[1], {(1, 0x130): "pad.south"}, lambda: X11Port(print))
"""


class _Client:
    """A window that has the keyboard, and says when a key has come."""

    def __init__(self, display: str) -> None:
        import xcffib
        import xcffib.xproto

        x = xcffib.xproto
        self.connection = xcffib.connect(display)
        self._x = x
        core, root = self.connection.core, self.connection.get_setup().roots[0].root
        window = self.connection.generate_id()
        mask = [x.EventMask.KeyPress | x.EventMask.KeyRelease]
        core.CreateWindow(0, window, root, 0, 0, 50, 50, 0, 1, 0, x.CW.EventMask, mask)
        core.MapWindow(window)
        self.connection.flush()
        time.sleep(0.5)
        core.SetInputFocus(x.InputFocus.PointerRoot, window, 0)
        self.connection.flush()
        self._fd = self.connection.get_file_descriptor()

    def wait(self) -> None:
        while True:
            event = self.connection.poll_for_event()
            if isinstance(event, self._x.KeyPressEvent | self._x.KeyReleaseEvent) and event.detail == KEY_A:
                return
            if event is None:
                select.select([self._fd], [], [], 5)


def measure() -> list[Row]:
    """Median and 99th percentile, press by press in turn."""
    if shutil.which("Xvfb") is None:
        return [Row("a change in → the key seen by an X client", "needs Xvfb", "", False)]
    display = f":{7000 + os.getpid() % 2000}"
    environment = os.environ | {"DISPLAY": display}
    server = subprocess.Popen(["Xvfb", display, "-noreset"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    sides: list[subprocess.Popen[bytes]] = []
    try:
        time.sleep(1)
        client = _Client(display)
        with tempfile.TemporaryDirectory() as name:
            text = '[surface.pad]\nkind = "gamepad"\n[profile.base.on.pad]\nsouth = "a"\n'
            (Path(name) / "desk.toml").write_text(text)
            for code, more in ((BARE, []), (FENKO, [name])):
                command = [sys.executable, "-c", code, *more]
                process = subprocess.Popen(
                    command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, bufsize=0, env=environment
                )
                assert process.stdout is not None
                process.stdout.read(1)
                sides.append(process)
            times = _times(sides, client)
    finally:
        for process in (*sides, server):
            process.kill()
            process.wait()
    bare, ours = map(median_and_late, times)
    median, late = ours[0] / bare[0], ours[1] / bare[1]
    return [
        Row("a change in → the key seen by an X client, median", f"{median:.2f} × ({ours[0] * 1e6:.0f} µs against {bare[0] * 1e6:.0f} µs)",
            "≤ 1.5 × a bare loop with XTEST", median <= 1.5),
        Row("the same, 99th percentile", f"{late:.2f} × ({ours[1] * 1e6:.0f} µs against {bare[1] * 1e6:.0f} µs)", "≤ 2 ×", late <= 2),
    ]  # fmt: skip


def _times(sides: list[subprocess.Popen[bytes]], client: _Client) -> list[list[float]]:
    times: list[list[float]] = [[], []]
    for number in range(PRESSES):
        for side, process in enumerate(sides):
            for value in (1, 0):
                raw = key_report(0x130, value)
                assert process.stdin is not None
                start = time.perf_counter()
                os.write(process.stdin.fileno(), raw)
                client.wait()
                if number > 20 and value:
                    times[side].append(time.perf_counter() - start)
            time.sleep(0.0025)  # longer than a key has to stay up
    return times
