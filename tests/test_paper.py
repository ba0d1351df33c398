"""Sheets and key labels on paper, read back with a PDF reader that nobody here wrote; and text that is fitted into its room."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import pdfplumber
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fenko.core.controls import KINDS
from fenko.core.stack import stack_of
from fenko.desk.load import load_desk
from fenko.desk.meanings import rows
from fenko.drawing.cutouts import TEST, Cutout, Group, cutout_pages
from fenko.drawing.labels import Label, labels
from fenko.drawing.lettering import LEADING, SMALL, fitting, pieces, squeezed, wrapped
from fenko.drawing.painter import measure, pixels, write_pdf
from fenko.drawing.plans import PAPER, PAPERS, Look, fitted, plan
from fenko.drawing.scene import POINT, Box, Page, Words
from fenko.drawing.svg import svg
from fenko.showing.sheets import binding_profiles, parts
from fenko.showing.shown import Surfaces
from fenko.system import icons
from support import DEMO, MakeDesk, Run, tries

LOOK = Look(PAPER, measure)
LONG = "Donaudampfschifffahrtsgesellschaftskapitän"
SCRIPTS = [
    LONG,
    "東京の長い言葉とても長い",
    "مرحبا بالعالم هنا",
    "שלום עולם ועוד",
    "🎬🎧 take",
    "สวัสดีชาวโลก",
    "Größe ✓ 東",
    "a\nb\x00c",
    "👩‍🎤é",
]


def mm(points: float) -> float:
    return float(points) * POINT


def boxes(page: Any) -> list[tuple[float, float]]:
    """Widths and heights of the rectangles of a page, in mm."""
    return [(mm(one["width"]), mm(one["height"])) for one in page.rects]


# --- Text in its room ---


def broken_again(lines: list[str]) -> str:
    return re.sub(r"\s+", "", "".join(lines))


@given(st.text(st.characters(codec="utf-8"), max_size=60) | st.sampled_from(SCRIPTS), st.floats(2, 40))
def test_nothing_is_lost_when_text_is_broken(text: str, wide: float) -> None:
    assert "".join(pieces(text)) == text
    for anywhere in (False, True):
        lines = wrapped(text, True, wide, measure, anywhere)
        if lines is not None:
            assert broken_again(lines) == re.sub(r"\s+", "", text)
            assert all(
                measure(line, True).wide <= wide or len(line) < 3 or len(list(pieces(line))) == 1 for line in lines
            )
        assert lines is not None or not anywhere


@settings(max_examples=tries(60))
@given(
    st.sampled_from(SCRIPTS) | st.text(max_size=40),
    st.lists(st.sampled_from(SCRIPTS), max_size=3),
    st.floats(3, 80),
    st.floats(2, 40),
)
def test_fitted_text_is_within_its_room(title: str, small: list[str], wide: float, high: float) -> None:
    found = squeezed(title, small, wide, high, 5.0, measure)
    assert found.high <= high + 1e-6
    for text, bold, size, long, above, below in found.lines:
        assert abs(long - measure(text, bold).wide * size) < 1e-6
        assert long <= wide + 1e-6 or len(text) < 4, (text, long, wide)
        assert above + below >= LEADING * size - 1e-6
        assert size <= 5.0 and (bold or size <= 5.0 * SMALL + 1e-9)
    larger = fitting(title, small, wide, high, (1.0, 5.0), measure)
    if larger is not None:
        assert larger.high <= high + 1e-6 and all(line[3] <= wide + 1e-6 for line in larger.lines)
        assert fitting(title, small, wide * 1.5, high * 1.5, (1.0, 5.0), measure) is not None


def test_a_picture_is_what_was_measured() -> None:
    """No ink outside the room that a text was given, in any script, at any size."""
    for text in (text for text in SCRIPTS if "ว" not in text):  # for which there may be no font
        for size in (1.7, 4.0):
            room = measure(text, True)
            words = Words(10, 10 + room.above * size, text, size, room.wide * size, "#000000", True, middle=False)
            picture = pixels(Page(120, 30, "#ffffff", (words,)), 10)
            ink = [
                (x, y)
                for y in range(picture.high)
                for row in [picture.rows[y * picture.stride : y * picture.stride + picture.wide * 4]]
                if set(row) != {255}
                for x in range(picture.wide)
                if row[x * 4 : x * 4 + 3] != b"\xff\xff\xff"
            ]
            assert ink, text
            left, right = min(x for x, _ in ink) / 10, max(x for x, _ in ink) / 10
            top, bottom = min(y for _, y in ink) / 10, max(y for _, y in ink) / 10
            spare = size * 0.25  # letters reach out of their own widths a little
            assert 10 - spare <= left and right <= 10 + room.wide * size + spare, (text, left, right)
            assert 10 - spare <= top and bottom <= 10 + (room.above + room.below) * size + spare, (text, top, bottom)


# --- Plans ---


@pytest.mark.parametrize("profile", [*load_desk(DEMO).plan.profiles])
def test_every_word_of_a_plan_is_on_the_page_and_in_its_box(profile: str) -> None:
    desk = load_desk(DEMO)
    surfaces = Surfaces(desk)
    for surface in desk.plan.surfaces.values():
        shown = surfaces.shown(surface, stack_of(desk.plan, profile))
        body = surfaces.described(surface).body
        for area in ((10.0, 10.0, 270.0, 180.0), (5.0, 5.0, 60.0, 50.0)):
            found = fitted([one.label for one in shown], body, area, LOOK)
            written = "".join(item.text for item in found.items if isinstance(item, Words))
            for one in shown:
                for text in (one.label.title, *one.label.small) if one.label.bound else ():
                    assert re.sub(r"\s+", "", text) in re.sub(r"\s+", "", written), (text, area)
            for item in found.items:
                if isinstance(item, Words):
                    left = item.x - item.wide / 2 if item.middle else item.x
                    assert left >= area[0] - 0.5 and left + item.wide <= area[0] + area[2] + 0.5, item


def test_labels_of_a_plan_do_not_touch() -> None:
    desk = load_desk(DEMO)
    surface = desk.plan.surfaces["pad"]
    shown = [one.label for one in Surfaces(desk).shown(surface, stack_of(desk.plan, "frames"))]
    words = [item for item in plan(shown, (170.0, 124.0), 0, 0, 1.4, LOOK).items if isinstance(item, Words)]
    placed = [
        (one.x - one.wide / 2, one.y - one.size * 0.7, one.x + one.wide / 2, one.y)
        for one in words
        if not one.text.startswith("#")
    ]
    for number, one in enumerate(placed):
        for other in placed[number + 1 :]:
            apart = one[2] <= other[0] or other[2] <= one[0] or one[3] <= other[1] or other[3] <= one[1]
            assert apart, (words[number], other)


# --- Sheets ---


def test_sheets_say_everything_in_every_form(fenko: Run, tmp_path: Path) -> None:
    desk = load_desk(DEMO)
    found = list(parts(desk, ["frames", "sound"], list(desk.plan.surfaces)))
    wanted = {row.title for part in found for row in part.rows}
    assert {"Note for both", "Save a version", "Cut one frame earlier", "Undo three steps"} <= wanted
    for form in ("pdf", "svg", "png", "md", "html"):
        done = fenko("sheet", "frames", "sound", "--desk", DEMO, "--out", f"all.{form}")
        assert done.returncode == 0, done.stderr
    with pdfplumber.open(tmp_path / "all.pdf") as book:
        pages = [page.extract_text(x_tolerance=1) for page in book.pages]
        assert all((round(mm(page.width)), round(mm(page.height))) == (297, 210) for page in book.pages)
    text = re.sub(r"\W+", "", "".join(pages))
    html = (tmp_path / "all.html").read_text()
    markdown = (tmp_path / "all.md").read_text()
    plain = re.sub(
        r"\W+",
        "",
        re.sub(r"<[^>]+>", "", html).replace("&quot;", "").replace("&amp;", "").replace("&lt;", "").replace("&gt;", ""),
    )
    for title in wanted:
        letters = re.sub(r"\W+", "", title)
        assert letters in text and letters in plain and letters in re.sub(r"\W+", "", markdown.replace("\\", "")), title
    assert html.count("<svg") == len(found) == markdown.count("\n## ") + markdown.startswith("## ")
    svgs = sorted(tmp_path.glob("all-*.svg"))
    assert len(svgs) == len(pages) == len(list(tmp_path.glob("all-*.png")))
    for file in svgs:
        ElementTree.parse(file)
    listed = json.loads(fenko("sheet", "frames", "sound", "--desk", DEMO, "--format", "json").stdout)
    assert {row["title"] for part in listed for row in part["does"]} == wanted
    shown = fenko("sheet", "frames", "--surface", "pad", "--desk", DEMO).stdout
    assert "Larger steps while held" in shown and "frames, layer trim" in shown and "keypad" not in shown


def test_a_layer_says_what_is_its_own(make_desk: MakeDesk) -> None:
    desk = load_desk(DEMO)
    found = {
        (part.profile, part.layer, part.surface.name): part for part in parts(desk, ["frames"], ["pad", "dial", "jog"])
    }
    assert ("frames", "trim", "pad") in found and ("frames", "trim", "dial") not in found
    assert {row.title for row in found["frames", "trim", "pad"].rows} >= {"Trim to here", "Cut one frame later"}
    assert "Undo three steps" not in {row.title for row in found["frames", "trim", "pad"].rows}
    assert binding_profiles(desk.plan)[0] == "base" and "titles" in binding_profiles(desk.plan)
    for part in found.values():
        stack = stack_of(desk.plan, part.profile, *((part.layer,) if part.layer else ()))
        names = Surfaces(desk).controls(part.surface)
        assert set(part.rows) <= set(rows(stack, part.surface, names))


def test_hostile_names_stay_text(fenko: Run, make_desk: MakeDesk, tmp_path: Path) -> None:
    name = '</text><script>alert(1)</script> | `x` *y* "& \\u0007'
    desk = make_desk(
        '[surface.pad]\nkind = "gamepad"\n[profile.base.on.pad]\n'
        f'south = {{ do = "a", label = \'{name[:58]}\', note = \'<img src=x>\' }}\nnorth = {{ do = "b", label = "{LONG} {LONG[:15]}" }}\n'
    )
    for form in ("svg", "html", "md", "pdf"):
        done = fenko("sheet", "--desk", desk, "--out", f"x.{form}")
        assert done.returncode == 0, done.stderr
    pages = sorted(tmp_path.glob("x-*.svg")) or [tmp_path / "x.svg"]
    assert all(one.tag.rpartition("}")[2] != "script" for file in pages for one in ElementTree.parse(file).iter())
    html = (tmp_path / "x.html").read_text()
    assert "<script" not in html and "<img" not in html and "&lt;script" in html
    assert "\\<script" in (tmp_path / "x.md").read_text() and "\\|" in (tmp_path / "x.md").read_text()


def test_a_huge_desk_is_printed(fenko: Run, make_desk: MakeDesk, tmp_path: Path) -> None:
    controls = sorted(KINDS["keyboard"] - {"dial", "wheel"})[:80]
    bound = "\n".join(
        f'{name} = {{ do = "ctrl+b", label = "What key {number} does here" }}' for number, name in enumerate(controls)
    )
    desk = make_desk(f'[surface.board]\nkind = "keyboard"\n[profile.base.on.board]\n{bound}\n')
    done = fenko("sheet", "--desk", desk, "--out", "huge.pdf")
    assert done.returncode == 0, done.stderr
    with pdfplumber.open(tmp_path / "huge.pdf") as book:
        text = re.sub(r"\s", "", "".join(page.extract_text() for page in book.pages))
    assert all(f"Whatkey{number}doeshere" in text for number in range(80))


# --- Labels ---

KEYS = """
description = 1
name = "Test board"
kind = "macro-pad"
body = [200, 120]
[controls]
f13 = { at = [10, 10], size = [19.05, 19.05] }
f14 = { at = [40, 10], size = [15, 7.5] }
f15 = { at = [80, 10], size = [32.4, 17.3] }
f16 = { at = [120, 10], size = [11, 11], form = "round" }
f17 = { at = [150, 10], size = [4, 4] }
"""
LABELLED = """
[surface.board]
kind = "macro-pad"
description = "test-board"
[profile.base.on.board]
f13 = { do = "a", label = "%s", colour = "#0072b2", icon = "mic-off" }
f14 = { do = "b", label = "東京の長い言葉とても長い" }
f15 = { tap = { do = "c", label = "שלום עולם" }, hold = { do = "d", label = "🎬 take" } }
f16 = { do = "e", icon = "🎧", label = "In" }
f17 = { do = "f", label = "A name that is far too long for such a key" }
"""


@pytest.mark.parametrize("paper", ["a4", "letter"])
def test_labels_are_as_large_as_the_keys(fenko: Run, make_desk: MakeDesk, tmp_path: Path, paper: str) -> None:
    desk = make_desk(LABELLED % LONG)
    (desk / "devices").mkdir()
    (desk / "devices/test-board.toml").write_text(KEYS)
    done = fenko("sheet", "--labels", "board", "--desk", desk, "--copies", "3", "--paper", paper, "--out", "keys.pdf")
    assert done.returncode == 0, done.stderr
    assert "hard to read" in done.stderr and "f17" in done.stderr and "f15" not in done.stderr
    with pdfplumber.open(tmp_path / "keys.pdf") as book:
        page = book.pages[0]
        assert (round(mm(page.width), 1), round(mm(page.height), 1)) == PAPERS[paper]
        found = [size for one in book.pages for size in boxes(one)]
        for wide, high in ((19.05, 19.05), (15, 7.5), (32.4, 17.3), (4, 4)):
            exact = [size for size in found if abs(size[0] - wide) < 0.1 and abs(size[1] - high) < 0.1]
            assert len(exact) == 3, (wide, high, found)
        assert [size for size in found if abs(size[0] - TEST) < 0.1 and abs(size[1] - TEST) < 0.1]
        rounds = [one for sheet in book.pages for one in sheet.curves if abs(mm(one["width"]) - 11) < 0.1]
        assert len(rounds) == 3 and all(abs(mm(one["height"]) - 11) < 0.1 for one in rounds)
        # What is written on a key lies within its outline.
        for sheet in book.pages:
            for rect in sheet.rects:
                for letter in sheet.chars:
                    inside = (
                        rect["x0"] < (letter["x0"] + letter["x1"]) / 2 < rect["x1"]
                        and rect["top"] < letter["top"] < rect["bottom"]
                    )
                    if inside and mm(rect["width"]) < 40:
                        assert rect["x0"] - 0.3 <= letter["x0"] and letter["x1"] <= rect["x1"] + 0.3, letter["text"]


def test_cut_marks_and_labels_do_not_overlap() -> None:
    surface = load_desk(DEMO).plan.surfaces["knots"]
    spots = labels(Surfaces(load_desk(DEMO)).described(surface), surface)
    cutouts = tuple(Cutout(Label(one.spot, "Name", (), "button"), one.title) for one in spots for _ in range(6))
    pages, small = cutout_pages("Labels", [Group("knots", cutouts)], 2, LOOK, "letter")
    assert small == [] and len(pages) > 1
    for page in pages:
        rects = [item for item in page.items if isinstance(item, Box) and item.fill == PAPER.page]
        for number, one in enumerate(rects):
            assert one.x > 0 and one.x + one.wide < page.wide and one.y > 0 and one.y + one.high < page.high
            for other in rects[number + 1 :]:
                apart = max(
                    other.x - one.x - one.wide,
                    one.x - other.x - other.wide,
                    other.y - one.y - one.high,
                    one.y - other.y - other.high,
                )
                assert apart >= 4.4, (one, other)  # both marks


def test_a_label_larger_than_the_paper(fenko: Run, make_desk: MakeDesk) -> None:
    desk = make_desk(
        '[surface.board]\nkind = "macro-pad"\ndescription = "test-board"\n[profile.base.on.board]\nf13 = "a"\n'
    )
    (desk / "devices").mkdir()
    (desk / "devices/test-board.toml").write_text(KEYS.replace("[19.05, 19.05]", "[400, 20]"))
    done = fenko("sheet", "--labels", "board", "--desk", desk, "--out", "x.pdf")
    assert (done.returncode, "larger than the paper" in done.stderr) == (1, True), done.stderr


# --- Icons ---


def test_icons_are_found_and_drawn(fenko: Run, tmp_path: Path) -> None:
    found = json.loads(fenko("sheet", "--icons", "mute", "--format", "json").stdout)
    names = [one["name"] for one in found]
    assert "mic-off" in names and all(
        "mute" in one["name"] or any("mute" in word for word in one["words"]) for one in found
    )
    assert "mic-off" in fenko("sheet", "--icons", "mute", "microphone").stdout
    assert fenko("sheet", "--icons", "mute", "--out", "icons.pdf").returncode == 0
    assert len(list(icons.search(()))) > 1500
    for name, _ in icons.search(("arrow",)):
        for letter, numbers in icons.moves(name):
            assert len(numbers) == {"M": 2, "L": 2, "C": 6, "Z": 0}[letter]
            assert all(-1 <= number <= 25 for number in numbers), name
    licence = Path(icons.__file__).parent.parent / "data/icons/LICENSE"
    assert "ISC" in licence.read_text()


def test_an_icon_that_there_is_not(fenko: Run, make_desk: MakeDesk) -> None:
    desk = make_desk(
        '[surface.pad]\nkind = "gamepad"\n[profile.base.on.pad]\nsouth = { do = "a", icon = "mic-of" }\neast = { do = "b", icon = "◐" }\n'
    )
    done = fenko("check", "--desk", desk)
    assert (
        done.returncode == 2 and "there is no icon `mic-of`" in done.stdout and "did you mean `mic-off`" in done.stdout
    )
    assert "◐" not in done.stdout


@given(st.text(max_size=20), st.floats(0.5, 9), st.booleans())
def test_an_svg_is_xml_whatever_is_written(text: str, size: float, bold: bool) -> None:
    words = Words(1, 2, text, size, 3.0, "#000000", bold)
    found = ElementTree.fromstring(svg(Page(10, 10, "#ffffff", (words,), text)))
    assert found.attrib["width"] == "10mm"


def test_the_same_desk_is_the_same_file(tmp_path: Path) -> None:
    for name in ("a.pdf", "b.pdf"):
        write_pdf(tmp_path / name, [Page(100, 50, "#ffffff", (Words(5, 5, "x", 3, 2, "#000000"),))], "x")
    assert (tmp_path / "a.pdf").read_bytes() == (tmp_path / "b.pdf").read_bytes()
