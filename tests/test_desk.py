"""Desk files: what they mean, and what is said when something is wrong with them."""

from __future__ import annotations

import json
import tomllib
from pathlib import Path

import jsonschema
import msgspec
import pytest
from click.testing import CliRunner
from hypothesis import given, settings
from hypothesis import strategies as st

from fenko.cli import cli
from fenko.core.phrase import parse_phrase
from fenko.core.rehearsal import rehearse
from fenko.core.stack import stack_of
from fenko.desk.judging import judge
from fenko.desk.load import load_desk
from fenko.desk.locate import line_and_column, locate
from fenko.desk.problems import DeskError, Problem
from fenko.desk.schema import desk_schema
from hands import key_names, phrases
from support import DEMO, MakeDesk, Run, tries

SURFACES = """
[surface.pad]
kind = "gamepad"
[surface.keypad]
kind = "keypad"
names = { kp5 = "stop" }
"""


def problems(folder: Path) -> list[Problem]:
    with pytest.raises(DeskError) as error:
        load_desk(folder)
    return error.value.problems


# Text, then the line, column and length of the only problem, a word of its message, and the name that is proposed.
@pytest.mark.parametrize(
    ("text", "line", "column", "length", "message", "nearest"),
    [
        ("nam = 'x'", 1, 1, 3, "unknown setting `nam`", "name"),
        ("format = 2", 1, 10, 1, "not known here", None),
        ("name = 3", 1, 8, 1, "expected a text, not a whole number", None),
        ('[surface.pad]\nkind = "gampad"', 2, 8, 8, "not known here", "gamepad"),
        ("[surface.Pad]", 1, 10, 3, "cannot be a name", None),
        ('[surface.pad]\nlinks = ["usb 1209:4d50", "usb 12"]', 2, 27, 8, "cannot stand here", None),
        ('[surface.a]\nlinks = ["usb 1209:4d50"]\n[surface.b]\nlinks = ["usb 1209:4d50"]', 4, 10, 15, "already belongs to surface `a`", None),
        ('[surface.k]\nkind = "keypad"\nnames = { kp55 = "x" }', 3, 11, 4, "no control `kp55`", "kp5"),
        ('[surface.k]\nkind = "keypad"\nnames = { kp5 = "x", kp4 = "x" }', 3, 28, 3, "already the name", None),
        ("[timing]\nhold = '10ms'", 2, 8, 6, "out of range", None),
        ("[timing]\nhold = 220", 2, 8, 3, "a text with its unit", None),
        ("[output]\nkeys = 'x12'", 2, 8, 5, "not known here", "x11"),
        ("[profile.next]", 1, 10, 4, "meaning of its own", None),
        ("[profile.base]\nwhen = { app = 'x' }", 2, 1, 4, "base", None),
        ("[profile.a]\nwhen = { titel = 'x' }", 2, 10, 5, "unknown setting `titel`", "title"),
        ("[profile.a]\nwhen = {}", 2, 8, 2, "never holds", None),
        ("[profile.a]\nwhen = { app = '~(' }", 2, 16, 4, "not a regular expression", None),
        ("[profile.a]\nextends = 'b'\n[profile.bb]", 2, 11, 3, "unknown profile `b`", "bb"),
        ("[profile.a]\nextends = 'a'", 2, 11, 3, "extends itself", None),
        (SURFACES + "[profile.a.on.padd]\nsouth = 'x'", 7, 15, 4, "unknown surface `padd`", "pad"),
        (SURFACES + "[profile.a.on.pad]\nsuoth = 'x'", 8, 1, 5, "unknown control `suoth`", "south"),
        (SURFACES + "[profile.a.on.pad]\nkp5 = 'x'", 8, 1, 3, "a gamepad has no control `kp5`", None),
        (SURFACES + "[profile.a.on.keypad]\nkp5 = 'x'\nstop = 'y'", 9, 1, 4, "bound twice", None),
        (SURFACES + "[profile.a.on.pad]\nsouth = 5", 8, 9, 1, "binds nothing", None),
        (SURFACES + "[profile.a.on.pad]\nsouth = {}", 8, 9, 2, "binds nothing", "nothing"),
        (SURFACES + "[profile.a.on.pad]\nsouth.hodl = 'x'", 8, 7, 4, "unknown gesture `hodl`", "hold"),
        (SURFACES + "[profile.a.on.pad]\nsouth = { lable = 'x', do = 'x' }", 8, 11, 5, "unknown setting", "label"),
        (SURFACES + "[profile.a.on.pad]\nsouth = { label = 'x' }", 8, 1, 5, "`do` is missing", None),
        (SURFACES + "[profile.a.on.pad]\nhat = 'x'", 8, 7, 3, "bound by direction", None),
        (SURFACES + "[profile.a.on.pad]\nhat.upp = 'x'", 8, 5, 3, "no direction `upp`", "up"),
        (SURFACES + "[profile.a.on.pad]\nsouth = 'ctrl+shfit+z'", 8, 15, 5, "unknown key `shfit`", "shift"),
        (SURFACES + '[profile.a.on.pad]\nsouth = "type \\"a\\" then f55"', 8, 26, 3, "unknown key `f55`", "f5"),
        (SURFACES + "[profile.frames]\n[profile.a.on.pad]\nsouth = 'profile fra'", 9, 18, 3, "unknown profile `fra`", "frames"),
        (SURFACES + "[profile.a.on.pad]\n'south+eats' = 'x'", 8, 1, 12, "unknown control `eats`", "east"),
        (SURFACES + "[profile.a.on.pad]\n'south+hat' = 'x'", 8, 1, 11, "cannot be a part of several", None),
        (SURFACES + "[profile.a.on.pad]\n'south+south' = 'x'", 8, 1, 13, "together with itself", None),
        (SURFACES + "[profile.a.on.pad]\n'south+east' = 'x'\n'east+south' = 'y'", 9, 1, 12, "bound twice", None),
        (SURFACES + "[profile.a.on.pad]\ntrigger-left.hafl = 'x'", 8, 14, 4, "unknown gesture `hafl`", "half"),
        (SURFACES + "[profile.a.on.pad]\nhat.up-lft = 'x'", 8, 5, 6, "no direction `up-lft`", "up-left"),
        (SURFACES + "[profile.a.on.keypad]\nkp55-x2 = 'x'", 8, 1, 7, "unknown control `kp55-x2`", "kp5"),
        (SURFACES + "[profile.a.on.pad]\nsouth = 'layer trim'", 8, 16, 4, "unknown layer `trim`", None),
        (SURFACES + "[profile.a.layer.trim]\n[profile.a.on.pad]\nsouth.tap = 'layer trim'", 9, 14, 10, "nothing would hold the layer", None),
        (SURFACES + "[profile.a.on.pad]\nsouth.tap = 'a every 90ms'", 8, 16, 5, "over at once", None),
        (SURFACES + "[profile.a.on.pad]\nsouth = { in-turn = ['a'] }", 8, 21, 5, "expected 2 values, not 1", None),
        (SURFACES + "[profile.a.on.pad]\nsouth = { in-turn = ['a', 'shfit'] }", 8, 28, 5, "unknown key `shfit`", "shift"),
        (SURFACES + "[profile.a.on.pad]\nsouth = { do = 'a', at-random = ['a', 'b'] }", 8, 1, 5, "two different things", None),
        (SURFACES + "[profile.a.on.pad]\nsouth = { in-turn = ['a', 'b'], states = ['on'] }", 8, 42, 6, "leads to one state", None),
        (SURFACES + "[profile.a.on.pad]\nsouth = { tap = 'a', timing = { hold = '9s' } }", 8, 40, 4, "out of range", None),
        (SURFACES + "[profile.a.on.pad]\nsouth = { tap = 'a', timing = { settle = '90ms' } }", 8, 33, 6, "unknown setting `settle`", None),
        (SURFACES + "[profile.a.layer.trim]\nwhile = 'shft'", 8, 9, 6, "cannot be held", "shift"),
        (SURFACES + "[profile.a.layer.trim]\nwhile = ['shift', 'pad.hat']", 8, 19, 9, "cannot be held", None),
        (SURFACES + "[profile.a.layer.once]", 7, 18, 4, "meaning of its own", None),
        ("[surface.pad]\ndebounce = '2s'", 2, 12, 4, "out of range", None),
        ("[surface.pad\n", 1, 13, 1, "not TOML", None),
        ("a = 1\na = 2\n", 2, 1, 5, "`a` is set already in line 1", None),
    ],
)  # fmt: skip
def test_says_what_is_wrong_and_where(
    make_desk: MakeDesk, text: str, line: int, column: int, length: int, message: str, nearest: str | None
) -> None:
    (found,) = problems(make_desk(text))
    assert (found.line, found.column, found.length, found.nearest) == (line, column, length, nearest), found.render()
    assert message in found.message
    rendered = found.render().splitlines()
    assert rendered[0].startswith(f"{found.file}:{line}:{column}: error: ")
    if found.source is not None:
        assert rendered[2].count("^") == length


def test_says_everything_at_once(make_desk: MakeDesk) -> None:
    found = problems(
        make_desk(SURFACES + "[profile.a]\nwen = 1\n[profile.a.on.pad]\nsoth = 'x'\nhat.upp = 'y'\neast = 'z+'")
    )
    assert [problem.line for problem in found] == [8, 10, 11, 12]


def test_includes_are_one_desk_and_errors_name_their_file(make_desk: MakeDesk) -> None:
    folder = make_desk(
        'include = ["more.toml", "desk.toml"]' + SURFACES + "[profile.frames.on.pad]\nsouth = 'a'",
        more="[profile.frames]\nwhen = { app = 'snipwell' }\n[profile.frames.on.keypad]\nstop = 'b'",
    )
    desk = load_desk(folder)
    assert set(stack_of(desk.plan, "frames").table()) == {"pad.south", "keypad.stop"}
    (folder / "more.toml").write_text("[profile.frames.on.pad]\nsouth = 'b'\nest = 'b'")
    found = problems(folder)
    assert [(Path(p.file).name, p.line, p.column) for p in found] == [("more.toml", 2, 1), ("more.toml", 3, 1)]
    assert "already set in" in found[0].message and f"{folder / 'desk.toml'}:8:1" in found[0].message


@pytest.mark.parametrize("pattern", ["gone.toml", "../*.toml", "/etc/*.conf", "", "[", "**", "a\\u0000b"])
def test_includes_that_cannot_be(make_desk: MakeDesk, pattern: str) -> None:
    folder = make_desk(f'include = ["{pattern}"]')
    (folder.parent / "outside.toml").write_text("")
    assert all(problem.line == 1 for problem in problems(folder))


def test_an_own_name_is_the_controls_name(make_desk: MakeDesk) -> None:
    for control in ("kp5", "stop"):
        desk = load_desk(make_desk(SURFACES + f"[profile.base.on.keypad]\n{control} = 'k'", name=control))
        assert set(stack_of(desk.plan, "base").table()) == {"keypad.stop"}


def test_extends_lies_between_base_and_the_profile(make_desk: MakeDesk) -> None:
    text = "\n".join(
        f"[profile.{name}]\n{'extends = ' + repr(parent) if parent else ''}\n[profile.{name}.on.pad]\n{bindings}"
        for name, parent, bindings in (
            ("base", "", "south = 'a'\neast = 'a'\nwest = 'a'\nnorth = 'a'"),
            ("low", "", "east = 'b'\nwest = 'b'"),
            ("middle", "low", "west = 'c'"),
            ("top", "middle", "north = 'd'"),
        )
    )
    table = stack_of(load_desk(make_desk(SURFACES + text)).plan, "top").table()
    assert {address[4:]: cell.press.title for address, cell in table.items() if cell.press} == {
        "south": "a", "east": "b", "west": "c", "north": "d",
    }  # fmt: skip


def test_the_folder_must_hold_a_desk(fenko: Run, tmp_path: Path) -> None:
    (tmp_path / "empty").mkdir()
    for arguments, message in (
        (("--desk", "nowhere"), "there is no such folder"),
        (("--desk", "empty"), "this folder has no desk.toml"),
        ((), "there is no such folder"),
    ):
        done = fenko("check", *arguments)
        assert done.returncode == 2
        assert message in done.stdout


def test_a_file_that_is_not_text_says_where(fenko: Run, make_desk: MakeDesk) -> None:
    folder = make_desk("")
    (folder / "desk.toml").write_bytes('name = "ü"\nname2 = "\xff"'.encode("latin-1").replace(b"\xfc", b"\xc3\xbc"))
    done = fenko("check", "--desk", folder)
    assert done.returncode == 2
    assert "desk.toml:2:10: error: the byte 0xff is not UTF-8" in done.stdout


def test_the_schema_accepts_good_desks_and_refuses_bad_ones(fenko: Run) -> None:
    schema = json.loads(fenko("check", "--schema").stdout)
    jsonschema.Draft202012Validator.check_schema(schema)
    validator = jsonschema.Draft202012Validator(schema)
    for path in DEMO.rglob("*.toml"):
        validator.validate(tomllib.loads(path.read_text()))
    for bad in (
        "nam = 1",
        "[surface.pad]\nkind = 'x'",
        "[profile.a.on.pad]\nsouth = 5",
        "[profile.a.on.pad]\nsouth.hodl = 'x'",
    ):
        assert not validator.is_valid(tomllib.loads(bad)), bad


def test_check_speaks_json(fenko: Run, make_desk: MakeDesk) -> None:
    bound = SURFACES + '[profile.base.on]\npad.south = "a"\nkeypad.stop = "b"\n'
    good = json.loads(fenko("check", "--desk", make_desk(bound, name="good"), "--format", "json").stdout)
    assert good == {"usable": True, "problems": []}
    done = fenko("check", "--desk", make_desk("nam = 1"), "--format", "json")
    assert done.returncode == 2
    (problem,) = json.loads(done.stdout)["problems"]
    assert (problem["line"], problem["column"], problem["nearest"]) == (1, 1, "name")


def test_check_says_what_the_layout_cannot_type(fenko: Run, make_desk: MakeDesk) -> None:
    text = (
        SURFACES
        + '[output]\nkeys = "kernel"\nlayout = "LAYOUT"\n[profile.base.on.pad]\nsouth = "ctrl+ö then type \\"aß東\\""'
    )
    done = fenko("check", "--desk", make_desk(text.replace("LAYOUT", "us"), name="us"))
    assert done.returncode == 1
    assert "the key `ö` cannot be pressed" in done.stdout and "`ß東` cannot be typed" in done.stdout
    done = fenko("check", "--desk", make_desk(text.replace("LAYOUT", "de"), name="de"))
    assert "`東` cannot be typed" in done.stdout and "`ö`" not in done.stdout


@given(st.recursive(
    st.one_of(st.integers(), st.booleans(), st.text(max_size=5), st.just(1.5)),
    lambda inner: st.one_of(st.lists(inner, max_size=3), st.dictionaries(st.text(st.characters(exclude_characters="\x7f", min_codepoint=32, max_codepoint=0x2FF), max_size=4), inner, max_size=3)),
))  # fmt: skip
def test_every_entry_of_a_toml_text_is_located(value: object) -> None:
    text = "\n" + _as_toml({"top": value, "table": {"k": value}})
    places = locate(text)

    def walk(path: tuple[str | int, ...], entry: object) -> None:
        if path:
            place = places[path]
            written = text[place.value.start : place.value.start + place.value.length]
            if not (isinstance(entry, dict) and len(path) == 1 and path[0] == "table"):
                assert tomllib.loads(f"x = {written}")["x"] == entry
        for key, inner in (
            entry.items() if isinstance(entry, dict) else enumerate(entry) if isinstance(entry, list) else ()
        ):
            walk((*path, key), inner)

    walk((), tomllib.loads(text))


def _as_toml(value: dict[str, object]) -> str:
    def inline(entry: object) -> str:
        if isinstance(entry, dict):
            return "{" + ", ".join(f"{_quote(key)} = {inline(inner)}" for key, inner in entry.items()) + " }"
        if isinstance(entry, list):
            return "[ # a comment ] here\n" + ",\n".join(map(inline, entry)) + "\n]"
        return _quote(entry) if isinstance(entry, str) else json.dumps(entry)

    table = value["table"]
    assert isinstance(table, dict)
    return f"top = {inline(value['top'])} # with ] a comment\n[table]\n" + "\n".join(
        f"{key}\t= {inline(entry)}" for key, entry in table.items()
    )


def _quote(text: str) -> str:
    return (
        "'" + text + "'"
        if text and text.isprintable() and "'" not in text
        else msgspec.json.encode(text).decode().replace("\x7f", "\\u007F")
    )


def _broken_desk(folder: Path, data: st.DataObject) -> None:
    folder.mkdir(exist_ok=True)
    good = (DEMO / "desk.toml").read_bytes().replace(b'include = ["profiles/*.toml"]', b"") + (
        DEMO / "profiles/frames.toml"
    ).read_bytes()
    (folder / "desk.toml").write_bytes(data.draw(st.one_of(_mutated_bytes(good), _mutated_tree(good))))


@settings(max_examples=tries(300))
@given(st.data())
def test_broken_desks_are_told_and_nothing_else(tmp_path_factory: pytest.TempPathFactory, data: st.DataObject) -> None:
    folder = tmp_path_factory.getbasetemp() / "broken"
    _broken_desk(folder, data)
    try:
        found = judge(load_desk(folder))
    except DeskError as error:
        found = error.problems
        assert found
    for problem in found:
        assert problem.render() and problem.as_json()


@settings(max_examples=tries(20))
@given(st.data())
def test_broken_desks_never_make_a_traceback(tmp_path_factory: pytest.TempPathFactory, data: st.DataObject) -> None:
    folder = tmp_path_factory.getbasetemp() / "broken"
    _broken_desk(folder, data)
    for form in ("text", "json"):
        done = CliRunner().invoke(cli, ["check", "--desk", str(folder), "--format", form])
        assert done.exception is None or isinstance(done.exception, SystemExit), done.exc_info
        assert done.exit_code in (0, 1, 2)
        assert done.output


def _mutated_bytes(good: bytes) -> st.SearchStrategy[bytes]:
    at = st.integers(0, len(good))
    return st.builds(
        lambda a, b, new: good[: min(a, b)] + new + good[max(a, b) :], at, at.map(lambda n: n), st.binary(max_size=6)
    )


_LEAVES = st.one_of(
    st.integers(-5, 5), st.booleans(), st.just(1e400), st.sampled_from(["", "ctrl+", "~(", "usb 1:2", "220ms", "base", "x" * 90]),
    st.text(max_size=12), phrases(key_names).map(str), st.just([]), st.just({}), st.lists(st.sampled_from(["a", "usb 1209:4d50"]), max_size=2),
)  # fmt: skip


@st.composite
def _mutated_tree(draw: st.DrawFn, good: bytes) -> bytes:
    tree = tomllib.loads(good.decode())
    for _ in range(draw(st.integers(1, 3))):
        node = tree
        while True:
            key = draw(st.sampled_from([*node, "extra"]))
            if isinstance(node.get(key), dict) and node[key] and draw(st.integers(0, 3)):
                node = node[key]
                continue
            node[key] = draw(_LEAVES)
            break
    return _nested(tree).encode()


def _nested(tree: dict[str, object]) -> str:
    def inline(entry: object) -> str:
        if isinstance(entry, dict):
            return "{" + ", ".join(f"{json.dumps(key)} = {inline(inner)}" for key, inner in entry.items()) + "}"
        if isinstance(entry, list):
            return "[" + ", ".join(map(inline, entry)) + "]"
        return "inf" if entry == 1e400 else json.dumps(entry)

    return "\n".join(f"{json.dumps(key)} = {inline(value)}" for key, value in tree.items())


def test_deep_nesting_is_an_error_and_not_a_crash(make_desk: MakeDesk) -> None:
    (found,) = problems(make_desk("a = " + "[" * 5000 + "]" * 5000))
    assert "nested too deeply" in found.message


def test_columns_count_characters_and_carets_stand_below_wide_ones() -> None:
    problem = Problem("f", 1, 9, "m", 2, source="k = '東東 zz'")
    assert problem.render().splitlines()[2].index("^") - len("  1 | ") == 10
    assert line_and_column("a\nbü", 3) == (2, 2)


def test_the_schema_names_every_verb() -> None:
    description = desk_schema()["$defs"]["Phrase"]["description"]
    for text in ("wait 200ms", "profile next", "nothing"):
        assert parse_phrase(text)
        assert text in description


def test_all_that_a_hand_can_do_is_said_in_a_desk(make_desk: MakeDesk) -> None:
    """The whole way: a desk's text, played, does what it says."""
    desk = load_desk(
        make_desk(
            """
            [surface.pad]
            kind = "gamepad"
            debounce = "5ms"
            timing = { double = "100ms" }
            names = { shoulder-left = "left-one" }
            [surface.keypad]
            kind = "keypad"
            names = { kp0 = "zero" }
            [profile.base]
            timing = { hold = "400ms" }
            [profile.base.on.pad]
            north = { tap = "m", double = { do = "d", timing = { hold = "90ms" } }, timing = { chord = "20ms" } }
            "shoulder-left+west" = "ctrl+s"
            west = { in-turn = ["a", "b"], states = ["Muted", "Live"], label = "Microphone" }
            trigger-right.full = "f"
            hat.up-left = "u"
            east = "layer deep"
            [profile.base.on.keypad]
            zero-x2 = "z"
            [profile.base.layer.deep.on.pad]
            south = "s"
            [profile.base.layer.coarse]
            while = ["shift", "pad.left-one"]
            """
        )
    )
    table = stack_of(desk.plan, "base").table()
    north = table["pad.north"]
    assert north.timing is not None
    assert (north.timing.hold, north.timing.double, north.timing.chord) == (0.09, 0.1, 0.02)
    assert table["pad.left-one+west"].members == ("pad.left-one", "pad.west")
    assert table["pad.west"].press is not None and table["pad.west"].press.states == ("Muted", "Live")
    assert {"pad.trigger-right.full", "pad.hat.up-left"} <= set(table)
    assert stack_of(desk.plan, "base").bursts("keypad.zero")[2].address == "keypad.zero-x2"
    assert desk.plan.profiles["base"].layers["coarse"].held == ("shift", "pad.left-one")
    assert desk.plan.watched == {"pad.left-one"}
    assert desk.plan.surfaces["pad"].debounce == 0.005
    played = [
        (1.0, "pad.east", 1), (1.1, "pad.south", 1), (1.2, "pad.south", 0), (1.3, "pad.east", 0),
        (2.0, "pad.west", 1), (2.01, "pad.left-one", 1), (2.2, "pad.west", 0), (2.2, "pad.left-one", 0),
        (3.0, "keypad.zero", 1), (3.0, "keypad.zero", 0), (3.01, "keypad.zero", 1), (3.01, "keypad.zero", 0),
    ]  # fmt: skip
    sent = [effect[3] for effects in rehearse(desk.plan, played) for effect in effects if effect[2] == "down"]
    assert sent == ["s", "ctrl", "s", "z"]


def test_layers_of_what_a_profile_extends_lie_under_its_own(make_desk: MakeDesk) -> None:
    desk = load_desk(
        make_desk(
            SURFACES
            + """
            [profile.base.layer.trim]
            while = "alt"
            [profile.base.layer.trim.on.pad]
            south = "a"
            east = "b"
            [profile.frames]
            extends = "editing"
            [profile.frames.on.pad]
            north = "layer trim"
            [profile.frames.layer.trim.on.pad]
            south = "c"
            [profile.editing.layer.trim]
            while = "shift"
            """
        )
    )
    layer = desk.plan.profiles["frames"].layers["trim"]
    assert (layer.held, [level.name for level in layer.levels]) == (
        ("shift",),
        ["base/trim", "editing/trim", "frames/trim"],
    )
    assert desk.plan.profiles["base"].layers["trim"].held == ("alt",)
