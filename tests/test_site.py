"""The site: built without a warning, every link leads somewhere, and in a browser, at the width of a telephone and of a screen, nothing is cut off,
everything can be reached with the keyboard alone, and the accessibility checker has nothing to say."""

from __future__ import annotations

import re
import subprocess
import sys
from collections.abc import Iterator
from html.parser import HTMLParser
from pathlib import Path
from typing import Any
from urllib.parse import unquote

import pytest

from browsers import chromium, needs_browser

ROOT = Path(__file__).parent.parent
WIDTHS = (400, 1280)


@pytest.fixture(scope="module")
def site(tmp_path_factory: pytest.TempPathFactory) -> Path:
    out = tmp_path_factory.mktemp("site")
    command = [sys.executable, "-m", "sphinx", "-q", "-W", "-b", "html", str(ROOT / "docs"), str(out)]
    done = subprocess.run(command, capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
    return out


def test_the_reference_is_that_of_the_code(tmp_path: Path) -> None:
    subprocess.run([sys.executable, str(ROOT / "tools/reference.py"), str(tmp_path)], check=True)
    for page in tmp_path.iterdir():
        assert page.read_text() == (ROOT / "docs/reference" / page.name).read_text(), "run `make site`"


class _Page(HTMLParser):
    """The links of a page, and what they may lead to in it."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.links: list[str] = []
        self.ids: set[str] = set()
        self.feed(text)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        for name, value in attrs:
            if name == "id" and value:
                self.ids.add(value)
            if value and ((name == "href" and tag == "a") or (name == "src" and tag == "img")):
                self.links.append(value)


@pytest.mark.long
def test_every_link_leads_somewhere(site: Path) -> None:
    pages = {path: _Page(path.read_text()) for path in site.glob("**/*.html")}
    assert len(pages) > 30
    for path, page in pages.items():
        for link in page.links:
            if re.match(r"[a-z]+:", link):
                continue
            target, _, part = unquote(link).partition("#")
            there = (path.parent / target).resolve() if target else path
            assert there.exists(), (path.name, link)
            if part and there in pages:
                assert part in pages[there].ids, (path.name, link)


@pytest.mark.long
def test_every_page_is_in_the_contents(site: Path) -> None:
    listed = {link.partition("#")[0] for link in _Page((site / "index.html").read_text()).links}
    for page in (ROOT / "docs").glob("**/*.md"):
        name = str(page.relative_to(ROOT / "docs").with_suffix(".html"))
        assert name in listed or name == "index.html", name


@pytest.fixture(scope="module")
def browser() -> Iterator[Any]:
    with chromium() as one:
        yield one


@pytest.mark.long
@needs_browser
@pytest.mark.parametrize("width", WIDTHS)
@pytest.mark.parametrize(
    "name",
    [
        "index",
        "tutorials/drawing",
        "reference/commands",
        "desk",
    ],
)
def test_it_can_be_read_and_used(site: Path, browser: Any, name: str, width: int) -> None:
    from axe_playwright_python.sync_playwright import Axe

    page = browser.new_page(viewport={"width": width, "height": 800})
    page.goto((site / f"{name}.html").as_uri())
    assert page.evaluate("document.documentElement.scrollWidth") <= width
    found = Axe().run(page)
    worth = [one for one in found.response["violations"] if one["impact"] in ("serious", "critical")]
    assert worth == [], [(one["id"], [node["html"] for node in one["nodes"]][:3]) for one in worth]
    page.close()


@pytest.mark.long
@needs_browser
@pytest.mark.parametrize("width", WIDTHS)
def test_the_keyboard_alone_is_enough(site: Path, browser: Any, width: int) -> None:
    page = browser.new_page(viewport={"width": width, "height": 800})
    page.goto((site / "index.html").as_uri())
    page.keyboard.press("Tab")
    assert "Skip" in page.evaluate("document.activeElement.textContent")
    seen = []
    for _ in range(150):
        page.keyboard.press("Tab")
        seen.append(page.evaluate("(document.activeElement.getAttribute('href') || document.activeElement.name || '')"))
        if seen[-1].endswith("tutorials/film.html"):
            break
    assert seen[-1].endswith("tutorials/film.html"), seen
    page.keyboard.press("Enter")
    page.wait_for_url("**/tutorials/film.html")
    assert "Film" in page.title()
    page.close()
