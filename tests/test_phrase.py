"""The phrase language: what it reads, what it prints, and how it says that something is wrong."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fenko.core.keys import KERNEL_KEYS, NAMED_KEYS, canonical_key, format_key, key_code, position_key
from fenko.core.phrase import Phrase, parse_phrase
from fenko.core.reader import PhraseError
from fenko.core.verbs import VERBS
from fenko.core.verbs.keys import Command, Keys, Lift, Press
from fenko.core.verbs.text import Type
from fenko.core.verbs.waiting import Wait
from fenko.core.words import format_time, parse_time
from hands import key_names, phrases
from support import tries


@pytest.mark.parametrize(
    ("text", "steps"),
    [
        ("ctrl+shift+z", (Keys(("ctrl", "shift", "z")),)),
        ("ctrl+z x3", (Keys(("ctrl", "z"), 3),)),
        ("leftctrl+minus", (Keys(("ctrl", "-")),)),
        ("ctrl+plus  then\twait 1.5s then f5", (Keys(("ctrl", "+")), Wait(1.5), Keys(("f5",)))),
        ('type "Reel \\"2\\"\\n" then enter', (Type('Reel "2"\n'), Keys(("enter",)))),
        ("type 'x'", (Type("x"),)),
        ('type "👩\u200d🚀 می\u200cخواهم"', (Type("👩\u200d🚀 می\u200cخواهم"),)),
        ("@z", (Keys(("@z",)),)),
        ("break", (Keys(("break",)),)),
        ("é", (Keys(("é",)),)),
        ("'", (Keys(("'",)),)),
        ("snipwell: Split  all", (Command("snipwell", "Split all"),)),
        ("snipwell: Zoom x2 every 90ms then f5", (Command("snipwell", "Zoom", 2, 0.09), Keys(("f5",)))),
        ('a-b: "Zoom then x2" x3', (Command("a-b", "Zoom then x2", 3),)),
        ("press shift then right x3 then lift shift", (Press(("shift",)), Keys(("right",), 3), Lift(("shift",)))),
    ],
)
def test_reads(text: str, steps: tuple[object, ...]) -> None:
    assert parse_phrase(text).steps == steps


@pytest.mark.parametrize(
    ("text", "offset", "length", "hint"),
    [
        ("", 0, 1, "nothing"),
        ("ctlr+z", 0, 4, "ctrl"),
        ("ctrl+shfit+z", 5, 5, "shift"),
        ("ctrl+", 4, 1, None),
        ("ctrl++", 5, 1, None),
        ("ctrl+Z", 5, 1, "z"),
        ("ctrl+ctrl", 5, 4, None),
        ("cmd+z", 0, 3, "super"),
        ("ctrl+z x0", 7, 2, None),
        ("ctrl+z x1000", 7, 5, None),
        ("x3", 0, 2, None),
        ("ctrl+z the f5", 7, 3, "then"),
        ("ctrl+z then", 10, 1, None),
        ("wait", 4, 1, None),
        ("wait 5", 5, 1, None),
        ("wait 0ms", 5, 3, "1ms"),
        ("wait 2h", 5, 2, None),
        ('type "x', 5, 2, None),
        ('type "\\x"', 6, 2, None),
        ("type x", 5, 1, '"x"'),
        ("profile", 7, 1, None),
        ("profile A!", 8, 2, None),
        ("paus", 0, 4, "pause"),
        ("@zz", 0, 3, "@z"),
        ("snipwell:", 9, 1, None),
        ("snipwell: x2", 10, 2, None),
        ("snipwell:split all", 0, 14, "snipwell: split"),
        ('snipwell: ""', 10, 2, None),
        ("a then snipwell: split\x07", 22, 1, None),
        ("space every 1ms", 6, 5, "5ms"),
        ("press", 5, 1, None),
        ("button lefft", 7, 5, "left"),
    ],
)
def test_says_where_it_is_wrong(text: str, offset: int, length: int, hint: str | None) -> None:
    with pytest.raises(PhraseError) as error:
        parse_phrase(text)
    assert (error.value.offset, error.value.length, error.value.hint) == (offset, length, hint), str(error.value)


@settings(max_examples=tries(500))
@given(phrases(key_names))
def test_what_is_printed_reads_back_the_same(phrase: Phrase) -> None:
    assert parse_phrase(str(phrase)) == phrase
    assert str(parse_phrase(str(phrase))) == str(phrase)


_PIECES = st.sampled_from(
    [
        *VERBS,
        "snipwell:",
        "every",
        "button",
        "left",
        "then",
        "ctrl",
        "+",
        "z",
        "x3",
        "x",
        " ",
        '"',
        "'",
        "\\",
        "200ms",
        "@",
        "ü",
        "Ω",
        "\t",
    ]
)


@settings(max_examples=tries(500))
@given(st.one_of(st.text(max_size=40), st.lists(_PIECES, max_size=12).map("".join)))
def test_nothing_but_its_own_error_comes_out(text: str) -> None:
    try:
        phrase = parse_phrase(text)
    except PhraseError as error:
        assert 0 <= error.offset <= len(text)
        assert error.length >= 1
    else:
        assert parse_phrase(str(phrase)) == phrase


def test_every_verb_reads_its_own_example() -> None:
    for verb in VERBS.values():
        (step,) = parse_phrase(verb.example).steps
        assert isinstance(step, verb.said)
        assert str(parse_phrase(verb.example)) == verb.example


def test_every_kernel_key_has_one_spelling() -> None:
    for name, code in KERNEL_KEYS.items():
        key = position_key(name)
        assert canonical_key(key) == key
        assert key_code(key) == code
    assert len(set(NAMED_KEYS.values())) == len(NAMED_KEYS)
    assert canonical_key(format_key("+")) == "+"


@given(st.integers(1, 3_600_000))
def test_times_read_back_the_same(milliseconds: int) -> None:
    seconds = milliseconds / 1000
    assert parse_time(format_time(seconds)) == pytest.approx(seconds, abs=1e-12)


@pytest.mark.parametrize("text", ["", "5", "5 ms", "-1ms", "1e3ms", "3601s", "1m"])
def test_other_times_are_refused(text: str) -> None:
    with pytest.raises(ValueError, match=r"not a time|longer than"):
        parse_time(text)
