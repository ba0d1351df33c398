"""The legend as a page, in a real browser; and who may not see it."""

from __future__ import annotations

import http.client
import json
import os
import re
import signal
import socket
import statistics
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from browsers import chromium, needs_browser
from fenko.client import RunningDesk
from screen import Screen, needs_screen, screen
from started import Started, run_fenko
from support import MakeDesk, Run, wait_for
from test_legend import DESK, started


@pytest.fixture
def shown() -> Iterator[Screen]:
    with screen() as one:
        yield one


class Served:
    """`fenko legend --web`, at work."""

    def __init__(self, one: Screen, folder: Path, *arguments: str) -> None:
        self._said = folder / "web"
        self.process = Started(["legend", "--web", "--port", "0", *arguments], self._said, env=one.environment)
        one.processes.append(self.process)
        self.address: str = wait_for(
            lambda: next(iter(re.findall(r"http://\S+/", self._said.read_text())), ""), "address"
        )
        self.host, _, self.secret = self.address.removeprefix("http://").strip("/").partition("/")
        self.port = int(self.host.rpartition(":")[2])

    def asked(self, path: str, **headers: str) -> tuple[int, str]:
        """What comes of asking: the status and the text."""
        line = http.client.HTTPConnection("127.0.0.1", self.port, timeout=10)
        line.request(
            "GET", path, headers={"Host": self.host} | {name.replace("_", "-"): v for name, v in headers.items()}
        )
        answer = line.getresponse()
        text = answer.read().decode() if "stream" not in answer.getheader("content-type", "") else ""
        line.close()
        return answer.status, text

    def end(self) -> int:
        self.process.send_signal(signal.SIGINT)
        return self.process.wait(10)


@pytest.fixture(scope="module")
def browser() -> Iterator[Any]:
    with chromium() as one:
        yield one


def opened(browser: Any, address: str, wide: int = 1280, high: int = 800) -> Any:
    page = browser.new_page(viewport={"width": wide, "height": high})
    page.faults = []
    page.on("console", lambda message: page.faults.append(message.text) if message.type != "log" else None)
    page.on("pageerror", lambda error: page.faults.append(str(error)))
    page.goto(address)
    page.wait_for_selector("section li", timeout=30_000)
    return page


def so(page: Any, what: str) -> None:
    """Waits until it is so in the page, whose own rules forbid that it looks for itself."""
    wait_for(lambda: page.evaluate(what), what, 30)


@needs_screen
@needs_browser
def test_the_page_shows_what_is_so(shown: Screen, browser: Any, make_desk: MakeDesk, tmp_path: Path) -> None:
    running = started(shown, tmp_path, make_desk(DESK), (1.0, "cross", 1))
    served = Served(shown, tmp_path)
    page = opened(browser, served.address)
    page.wait_for_selector("li.lit", timeout=15_000)
    lit = page.locator("li.lit")
    assert lit.get_attribute("data-control") == "cross" and "Undo" in lit.inner_text() and "↶" in lit.inner_text()
    assert page.locator("#profile").inner_text() == "base"
    assert (
        "start+select" in page.locator("body").inner_text() or "select+start: Save" in page.locator("body").inner_text()
    )
    with RunningDesk() as desk:
        desk.switch("frames")
        so(page, "document.getElementById('profile').textContent === 'frames'")
        assert "Lantern" in page.locator("main").inner_text() and "by hand" in page.locator("#why").inner_text()
        make_desk(DESK.replace("Lantern", "<b>Moth</b> & 東"))
        so(page, "document.querySelector('main').textContent.includes('<b>Moth</b> & 東')")
    assert running.end() == 0
    so(page, "document.getElementById('nobody').textContent.includes('No desk is running')")
    again = started(shown, tmp_path, make_desk(DESK.replace("Undo", "Back")))
    so(page, "document.querySelector('main').textContent.includes('Back')")
    assert served.end() == 0
    so(page, "document.getElementById('nobody').textContent.includes('does not answer')")
    assert [fault for fault in page.faults if "ERR_" not in fault] == []
    assert again.end() == 0


@needs_screen
@needs_browser
@pytest.mark.parametrize("wide", [320, 768, 1280, 1920])
def test_it_fits_and_can_be_read_by_everybody(
    shown: Screen, browser: Any, make_desk: MakeDesk, tmp_path: Path, wide: int
) -> None:
    from axe_playwright_python.sync_playwright import Axe

    long = "Undo three steps, and then some more of them, 東京の長い言葉, שלום"
    desk = make_desk(DESK.replace('label = "Undo"', f'label = "{long}"').replace('icon = "↶"', 'icon = "mic-off"'))
    running = started(shown, tmp_path, desk)
    served = Served(shown, tmp_path)
    page = opened(browser, served.address, wide)
    assert page.evaluate("document.documentElement.scrollWidth") <= wide
    overflowing = """[...document.querySelectorAll('.plan li')].filter((item) => {
        const box = item.getBoundingClientRect();
        return [...item.querySelectorAll('.seen > *')].some((one) => {
            const inside = one.getBoundingClientRect();
            return inside.left < box.left - 1 || inside.right > box.right + 1 || inside.top < box.top - 1 || inside.bottom > box.bottom + 1;
        });
    }).map((item) => item.dataset.control)"""
    assert page.evaluate(overflowing) == []
    assert long in page.locator("main").inner_text().replace("\n", " ")
    if wide >= 480:
        assert page.locator('[data-control="cross"] svg path').count() <= 1
    found = Axe().run(page)
    assert found.response["violations"] == [], found.generate_report()
    tree = page.locator("body").aria_snapshot()
    assert ("heading" in tree and "list" in tree and f"cross, {long}" in tree.replace('"', "")) or wide < 480
    # By the keyboard alone: the one thing that can be pressed is reached at once, and turns the plan into a list and back.
    before = page.locator("ul.list").count()
    page.keyboard.press("Tab")
    assert page.evaluate("document.activeElement.id") == "way"
    page.keyboard.press("Enter")
    assert page.locator("ul.list").count() != before
    assert Axe().run(page).response["violations"] == []
    for query in ("?theme=dark", "?background=transparent&surface=pad"):
        page.goto(served.address + query)
        page.wait_for_selector("section li")
        assert Axe().run(page).response["violations"] == [] or "transparent" in query
    assert page.evaluate("getComputedStyle(document.body).backgroundColor") == "rgba(0, 0, 0, 0)"
    assert page.faults == []
    assert (served.end(), running.end()) == (0, 0)


@needs_screen
@needs_browser
def test_it_changes_soon_after_the_desk(shown: Screen, browser: Any, make_desk: MakeDesk, tmp_path: Path) -> None:
    """From the switch to what stands in the page; how soon on a quiet machine stands in the benchmark."""
    running = started(shown, tmp_path, make_desk(DESK))
    served = Served(shown, tmp_path)
    page = opened(browser, served.address)
    page.evaluate("""window.seen = []; new MutationObserver(() => window.seen.push(
        [document.getElementById('profile').textContent, Date.now()])).observe(document.getElementById('profile'), {childList: true})""")
    began = []
    with RunningDesk() as desk:
        for number in range(10):
            began.append(time.time() * 1000)
            desk.switch(("frames", "base")[number % 2])
            so(page, f"window.seen.length > {number}")
    seen = page.evaluate("window.seen")
    assert [name for name, _ in seen] == ["frames", "base"] * 5
    took = [at - start for (_, at), start in zip(seen, began, strict=True)]
    assert statistics.median(took) < 500, took
    assert (served.end(), running.end()) == (0, 0)


@needs_screen
def test_who_may_not_see_it_is_refused(shown: Screen, make_desk: MakeDesk, tmp_path: Path) -> None:
    running = started(shown, tmp_path, make_desk(DESK))
    served = Served(shown, tmp_path)
    root = f"/{served.secret}/"
    status, text = served.asked(root)
    assert status == 200 and "<script src=" in text
    assert served.asked(root, Origin=f"http://{served.host}", Sec_Fetch_Site="same-origin")[0] == 200
    assert served.asked(root, Host=f"localhost:{served.port}")[0] == 200
    refused = {
        "Host": ["rail.example", f"rail.example:{served.port}", "127.0.0.1", f"127.0.0.1:{served.port + 1}", ""],
        "Origin": ["http://rail.example", f"https://{served.host}", "null", f"http://127.0.0.1:{served.port + 1}"],
        "Sec_Fetch_Site": ["cross-site"],
    }
    for header, values in refused.items():
        for value in values:
            for path in (root, f"{root}events", f"{root}legend.js"):
                status, text = served.asked(path, **{header: value})
                assert status in (400, 403, 421) and "Undo" not in text, (header, value, status)
    for path in (
        "/",
        "/wrong/",
        f"/{served.secret[:-1]}/",
        f"/{served.secret}x/events",
        "//",
        "/%00/",
        f"/{served.secret}",
    ):
        assert served.asked(path)[0] in (403, 404), path
    for path in ("nothing", "../desk.toml", "%2e%2e/icons/icons.json.gz", "icons.json.gz", "legend.js/"):
        assert served.asked(root + path)[0] == 404, path
    # The address is the same next time, for whoever keeps it, and another one when it is to be.
    secret = served.secret
    kept = Path(os.environ["XDG_STATE_HOME"]) / "fenko/legend-address"
    assert kept.stat().st_mode & 0o077 == 0
    assert served.end() == 0
    assert Served(shown, tmp_path).secret == secret
    assert Served(shown, tmp_path, "--new-address").secret != secret
    assert running.end() == 0


@needs_screen
def test_slow_and_many_readers_hold_up_nobody(shown: Screen, make_desk: MakeDesk, tmp_path: Path) -> None:
    running = started(shown, tmp_path, make_desk(DESK))
    served = Served(shown, tmp_path)
    lines = []
    for number in range(40):
        line = socket.create_connection(("127.0.0.1", served.port))
        asked = f"GET /{served.secret}/events HTTP/1.1\r\nHost: {served.host}\r\n"
        line.sendall((asked + ("\r\n" if number else "X-Long: ")).encode())  # the first never ends asking
        lines.append(line)
    lines[1].settimeout(20)
    told = bytearray()
    with RunningDesk() as desk:
        for number in range(300):  # nobody but one reads
            desk.switch(("frames", "base")[number % 2])
        desk.pause()
        wait_for(
            lambda: b'"paused":true' in told or not told.__iadd__(lines[1].recv(1 << 16)), "the one that reads hears it"
        )
    status = {line.recv(12) for line in lines[2:] if not line.settimeout(5)}
    assert status == {b"HTTP/1.1 200", b"HTTP/1.1 503"}
    memory = int(Path(f"/proc/{served.process.pid}/statm").read_text().split()[1]) * 4 // 1024
    assert memory < 150, f"{memory} MB"
    for line in lines:
        line.close()
    wait_for(lambda: served.asked(f"/{served.secret}/events")[0] == 200, "room for others again", 30)
    assert (served.end(), running.end()) == (0, 0)


@pytest.mark.parametrize(
    ("arguments", "status", "message"),
    [
        (("--web", "--window"), 2, "do not go together"),
        (("--port", "5"), 2, "go with --web"),
        (("--web",), 1, "no desk is running"),
    ],
)
def test_what_does_not_go(fenko: Run, arguments: tuple[str, ...], status: int, message: str) -> None:
    done = fenko("legend", *arguments)
    assert (done.returncode, message in done.stderr, "Traceback" in done.stderr) == (status, True, False), done.stderr


@needs_screen
def test_an_address_that_cannot_be_had(shown: Screen, make_desk: MakeDesk, tmp_path: Path) -> None:
    running = started(shown, tmp_path, make_desk(DESK))
    with socket.create_server(("127.0.0.1", 0)) as taken:
        port = str(taken.getsockname()[1])
        for arguments, status, message in (
            (("--port", port), 1, "cannot be had: address already in use"),
            (("--listen", "198.51.100.7"), 1, "cannot be had"),
            (("--listen", "tablet"), 2, "no address of this machine"),
        ):
            done = run_fenko("legend", "--web", *arguments, env=shown.environment, timeout=30)
            assert (done.returncode, message in done.stderr) == (status, True), done.stderr
    served = Served(shown, tmp_path, "--listen", "0.0.0.0")
    assert served.asked(f"/{served.secret}/", Host=f"127.0.0.1:{served.port}")[0] == 200
    assert served.asked(f"/{served.secret}/", Host="tablet.example")[0] == 421
    assert json.loads(json.dumps(served.address)).startswith("http://")
    assert (served.end(), running.end()) == (0, 0)
