"""How soon the legend shows that another profile is in force: on the screen, and in a browser."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

from bench.rows import Row, median_and_late
from fenko.client import RunningDesk

CHANGES = 60
DEMO = Path(__file__).parent.parent / "src/fenko/data/demo"
FENKO = [sys.executable, "-m", "fenko"]


def measure() -> list[Row]:
    """Both rows; none without Xvfb."""
    if shutil.which("Xvfb") is None:
        return [Row("the legend", "could not be measured here: Xvfb is missing", "", False)]
    with tempfile.TemporaryDirectory(prefix="fenko-") as name:
        display = f":{4000 + os.getpid() % 1000}"
        env = os.environ | {"DISPLAY": display, "XDG_RUNTIME_DIR": name, "XDG_STATE_HOME": f"{name}/state"}
        os.environ["XDG_RUNTIME_DIR"] = name
        take = Path(name) / "take.jsonl"
        take.write_text(
            '{"take": 1, "name": "x", "surfaces": {"pad": "gamepad"}}\n{"t": 900, "surface": "pad", "control": "south", "value": 0}\n'
        )
        started: list[subprocess.Popen[bytes]] = []

        def start(*command: str, **more: Any) -> subprocess.Popen[bytes]:
            quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
            started.append(subprocess.Popen(command, env=env, **{**quiet, **more}))
            return started[-1]

        try:
            start("Xvfb", display, "-screen", "0", "1280x800x24", "-nolisten", "tcp")
            _until(lambda: Path(f"/tmp/.X11-unix/X{display[1:]}").exists())
            desk = Path(name) / "desk"
            shutil.copytree(DEMO, desk)
            text = (desk / "desk.toml").read_text().replace("[output]\n", '[output]\nkeys = "x11"\n', 1)
            (desk / "desk.toml").write_text(text)
            start(*FENKO, "run", "--desk", str(desk), "--play", str(take), "--play-focus")
            _until(_runs)
            rows = [_window(display, start)]
            if (chromium := shutil.which("chromium")) is not None:
                rows.append(_page(chromium, start, Path(name)))
            return rows
        finally:
            for process in reversed(started):
                process.terminate()
                process.wait()


def _until(what: Any, seconds: float = 30) -> Any:
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        if found := what():
            return found
        time.sleep(0.05)
    raise RuntimeError("this takes too long")


def _runs() -> bool:
    try:
        with RunningDesk():
            return True
    except Exception:
        return False


def _window(display: str, start: Any) -> Row:
    import xcffib.xproto

    connection = xcffib.connect(display)
    root = connection.get_setup().roots[0].root

    def seen() -> bytes:
        # A part of the page's first line, where the name of the profile stands.
        found = connection.core.GetImage(2, root, 600, 100, 40, 600, 0xFFFFFFFF).reply().data.buf()
        return bytes(found[:: 4 * 7])

    start(*FENKO, "legend", "--window")
    _until(lambda: any(seen()))
    time.sleep(3)  # everything has been drawn once
    took = []
    with RunningDesk() as desk:
        for number in range(CHANGES):
            time.sleep(0.15)
            before, began = seen(), time.perf_counter()
            desk.switch(("frames", "sound", "stream")[number % 3])
            while seen() == before:
                time.sleep(0.001)
            took.append(time.perf_counter() - began)
    median, late = median_and_late(took)
    return Row("another profile → drawn in the legend's window, six surfaces, median", f"{median * 1000:.0f} ms (99th percentile {late * 1000:.0f} ms)",
               "≤ 50 ms", median <= 0.05)  # fmt: skip


def _page(chromium: str, start: Any, folder: Path) -> Row:
    from playwright.sync_api import sync_playwright

    with (folder / "said").open("wb") as said:
        start(*FENKO, "legend", "--web", "--port", "0", stdout=said)
    address = _until(lambda: (folder / "said").read_text().strip())
    took = []
    with sync_playwright() as tools, RunningDesk() as desk:
        browser = tools.chromium.launch(
            executable_path=chromium, args=["--no-sandbox", "--disable-gpu", "--disable-quic"]
        )
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(address)
        page.wait_for_selector("section li")
        page.evaluate("""window.seen = []; new MutationObserver(() => window.seen.push(Date.now())).observe(
            document.getElementById('surfaces'), {childList: true})""")
        for number in range(CHANGES):
            time.sleep(0.15)
            began = time.time() * 1000
            desk.switch(("frames", "sound", "stream")[number % 3])
            _until(lambda wanted=number: page.evaluate("window.seen.length") > wanted)
            took.append((page.evaluate("window.seen")[-1] - began) / 1000)
        browser.close()
    median, late = median_and_late(took)
    return Row("another profile → it stands in the legend's page, median", f"{median * 1000:.0f} ms (99th percentile {late * 1000:.0f} ms)",
               "≤ 50 ms", median <= 0.05)  # fmt: skip
