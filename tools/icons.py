"""Makes the icons that Fenko ships from an unpacked package of Lucide: `tools/icons.py FOLDER`. Needs fontTools (`pip install
fonttools`), and the package lucide-static of the npm registry (`npm pack lucide-static`)."""

from __future__ import annotations

import gzip
import json
import re
import shutil
import sys
from pathlib import Path

from fontTools.pens.recordingPen import DecomposingRecordingPen
from fontTools.svgLib import SVGPath

LEFT_OUT = ("airplay", "bluetooth")
"""Icons with these in their names, which are trademarks, are left out; so are words that are."""
NAMES = re.compile(
    r"\b(macos|mac os|ios|iphone|apple|android|google|amazon|alexa|siri|microsoft|windows|netflix|spotify|youtube|facebook|"
    r"instagram|twitter|github|gitlab|slack|discord|figma|adobe|photoshop|whatsapp|telegram|tesla|nasa|lego|uber|tinder|"
    r"airbnb|minecraft|nintendo|playstation|xbox|sony|pokemon|pokémon|airplay|bluetooth|chromecast|notion|wikipedia)\b",
    re.IGNORECASE,
)

OUT = Path(__file__).parent.parent / "src/fenko/data/icons"


def number(value: float) -> str:
    """A coordinate, as short as it can be at a hundredth."""
    return f"{value:.2f}".rstrip("0").rstrip(".").replace("-0.", "-.") or "0"


def outline(path: Path) -> str:
    """The strokes of an icon of 24 by 24, as moves, lines and cubic curves in absolute coordinates."""
    pen = DecomposingRecordingPen({})
    SVGPath.fromstring(path.read_bytes()).draw(pen)
    letters = {"moveTo": "M", "lineTo": "L", "curveTo": "C", "closePath": "Z", "endPath": ""}
    found = []
    for name, points in pen.value:
        if name == "qCurveTo":
            (start,) = found[-1][1:]
            (control, end) = points
            points = (
                *(tuple(a + 2 / 3 * (c - a) for a, c in zip(one, control, strict=True)) for one in (start, end)),
                end,
            )
            name = "curveTo"
        flat = " ".join(number(value) for point in points for value in point)
        found.append((letters[name] + flat, points[-1] if points else None))
    return re.sub(r"\s+", " ", "".join(text for text, _ in found))


def main(package: Path) -> None:
    """Writes all of them into one file, with the words by which they are found, and their licence beside."""
    tags = json.loads((package / "tags.json").read_text())
    names = [
        path for path in sorted((package / "icons").glob("*.svg")) if not any(one in path.stem for one in LEFT_OUT)
    ]
    icons = {
        path.stem: [outline(path), [tag for tag in tags.get(path.stem, []) if not NAMES.search(tag)]] for path in names
    }
    text = json.dumps(icons, ensure_ascii=False, separators=(",", ":"))
    (OUT / "icons.json.gz").write_bytes(gzip.compress(text.encode(), 9, mtime=0))
    shutil.copy(package / "LICENSE", OUT / "LICENSE")
    print(f"{len(icons)} icons, {(OUT / 'icons.json.gz').stat().st_size // 1000} kB")


if __name__ == "__main__":
    main(Path(sys.argv[1]))
