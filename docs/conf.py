"""The site: `make site` builds it from these pages, with Sphinx."""

from __future__ import annotations

import sys
from pathlib import Path

HERE = Path(__file__).parent
sys.path[:0] = [str(HERE.parent / "src"), str(HERE.parent / "tools")]

from fenko import __version__  # noqa: E402

project = "Fenko"
author = "The founders of Fenko"
copyright = "the founders of Fenko"
release = version = __version__
extensions = ["myst_parser"]
exclude_patterns = ["_build"]
myst_heading_anchors = 3
myst_enable_extensions = ["colon_fence"]
suppress_warnings = ["misc.highlighting_failure"]  # plans drawn with characters, and pieces of TOML that stand alone
html_theme = "furo"
html_title = "Fenko"
html_show_sphinx = False
html_copy_source = False
html_static_path: list[str] = []
html_theme_options = {"footer_icons": []}


def _reachable(app: object, failed: Exception | None) -> None:
    """What the theme leaves out: of which level the captions of the contents are, and that what scrolls can be scrolled with the keyboard."""
    if failed is None:
        for page in Path(app.outdir).glob("**/*.html"):  # type: ignore[attr-defined]
            text = page.read_text(encoding="utf-8")
            new = text.replace(
                'class="caption" role="heading"', 'class="caption" role="heading" aria-level="2"'
            ).replace("<pre>", '<pre tabindex="0">')
            if new != text:
                page.write_text(new, encoding="utf-8")


def setup(app: object) -> None:
    """Called by Sphinx."""
    app.connect("build-finished", _reachable)  # type: ignore[attr-defined]
