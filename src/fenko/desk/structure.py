"""Checks raw TOML data against the definitions in `model`, and notes every difference, not only the first."""

from __future__ import annotations

from functools import cache
from types import UnionType
from typing import Annotated, Any, Literal, TypeVar, Union, get_args, get_origin

import msgspec
from msgspec import Meta, Struct, UnsetType

from fenko.core.reader import NAME
from fenko.core.words import nearest
from fenko.desk.locate import KeyPath
from fenko.desk.sources import Sources

T = TypeVar("T", bound=Struct)

_KIND_WORDS: dict[type, str] = {
    str: "a text",
    bool: "true or false",
    int: "a whole number",
    float: "a number",
    list: "a list",
    dict: "a table",
}


def read(sources: Sources, path: KeyPath, value: Any, struct: type[T]) -> T | None:
    """`value` as a `struct`; None, with everything that is wrong noted, if it is none."""
    try:
        return msgspec.convert(value, struct)
    except msgspec.ValidationError as why:
        # The converter stops at the first difference; a person wants to see them all.
        if check(sources, path, value, struct):
            sources.add(path, f"{why}")
        return None


@cache
def fields(struct: type[Struct]) -> dict[str, Any]:
    """The settings of a definition and their types."""
    return {field.encode_name: field.type for field in msgspec.structs.fields(struct)}


@cache
def _required(struct: type[Struct]) -> frozenset[str]:
    return frozenset(field.encode_name for field in msgspec.structs.fields(struct) if field.required)


@cache
def _alternatives(kind: Any) -> tuple[Any, ...]:
    """The types that a value may have, with annotations, without UNSET."""
    if get_origin(kind) is Annotated and get_origin(get_args(kind)[0]) in (Union, UnionType):
        return _alternatives(get_args(kind)[0])
    if get_origin(kind) in (Union, UnionType):
        return tuple(part for option in get_args(kind) if option is not UnsetType for part in _alternatives(option))
    return (kind,)


def _bare(kind: Any) -> Any:
    return _bare(get_args(kind)[0]) if get_origin(kind) is Annotated else kind


def _is_struct(kind: Any) -> bool:
    return isinstance(kind, type) and issubclass(kind, Struct)


def check(sources: Sources, path: KeyPath, value: Any, kind: Any) -> bool:
    """Notes what is wrong with `value` as a `kind`; True if nothing is."""
    options = _alternatives(kind)
    for option in options:
        bare = _bare(option)
        if _is_struct(bare) and isinstance(value, dict):
            return _check_table(sources, path, value, bare)
        if get_origin(bare) is dict and isinstance(value, dict):
            # A list, not a generator: every entry is looked at, also after the first bad one.
            return all([_check_entry(sources, (*path, key), entry, get_args(bare)[1]) for key, entry in value.items()])
        if get_origin(bare) is list and isinstance(value, list) and _is_struct(_bare(get_args(bare)[0])):
            return all([check(sources, (*path, i), entry, get_args(bare)[0]) for i, entry in enumerate(value)])
    try:
        msgspec.convert(value, Union[options] if len(options) > 1 else options[0])  # noqa: UP007
    except msgspec.ValidationError:
        _say_leaf(sources, path, value, options)
        return False
    return True


def _check_table(sources: Sources, path: KeyPath, value: dict[str, Any], struct: type[Struct]) -> bool:
    known = fields(struct)
    good = True
    for key, entry in value.items():
        if key not in known:
            sources.add(
                (*path, key),
                f"unknown setting `{key}`",
                at_key=True,
                expected=_list(known),
                nearest=nearest(key, known),
            )
            good = False
        elif known[key] is not Any:
            good = check(sources, (*path, key), entry, known[key]) and good
    for missing in _required(struct) - value.keys():
        sources.add(path, f"`{missing}` is missing", at_key=True)
        good = False
    return good


def _check_entry(sources: Sources, path: KeyPath, value: Any, kind: Any) -> bool:
    name = str(path[-1])
    good = True
    if _is_struct(_bare(kind)) and NAME.fullmatch(name) is None:
        sources.add(path, f"`{name}` cannot be a name", at_key=True, expected="lower-case letters, digits, - and _")
        good = False
    return check(sources, path, value, kind) and good


def _say_leaf(sources: Sources, path: KeyPath, value: Any, options: tuple[Any, ...]) -> None:
    shown = str(value)
    for option in options:
        bare = _bare(option)
        meta = next((extra for extra in get_args(option)[1:] if isinstance(extra, Meta)), None)
        if get_origin(bare) is Literal:
            choices = [choice for choice in get_args(bare) if isinstance(choice, str)]
            if not choices:
                sources.add(path, f"`{shown}` is not known here", expected=_list(map(str, get_args(bare))))
            else:
                sources.add(
                    path,
                    f"`{shown}` is not known here",
                    expected=_list(choices),
                    nearest=nearest(shown, choices),
                )
            return
        if get_origin(bare) is list and isinstance(value, list):
            inner = get_args(bare)[0]
            good = all([check(sources, (*path, number), entry, inner) for number, entry in enumerate(value)])
            if good and meta is not None and meta.min_length:
                sources.add(
                    path, f"expected {meta.min_length} value{'s' if meta.min_length > 1 else ''}, not {len(value)}"
                )
            return
        if bare is str and isinstance(value, str) and meta is not None and (meta.pattern or meta.max_length):
            if meta.max_length and len(value) > meta.max_length:
                sources.add(path, f"this text is longer than {meta.max_length} characters")
                return
            example = f", such as {meta.examples[0]}" if meta.examples else ""
            what = (meta.description or "a text of another form").rstrip(".")
            sources.add(path, f"`{shown}` cannot stand here", expected=f"{what[0].lower()}{what[1:]}{example}")
            return
        above = meta.gt if meta is not None else None
        if bare is float and above is not None and isinstance(value, int | float) and not isinstance(value, bool):
            sources.add(path, f"`{shown}` is too little", expected=f"more than {above:g}")
            return
    if (
        any(_bare(option) is str for option in options)
        and _is_number(value)
        and ("timing" in path or path[-1] in _TIMES)
    ):
        sources.add(path, f"a time is a text with its unit, not `{shown}`", expected=f'`{path[-1]} = "{shown}ms"`')
        return
    wanted = " or ".join(dict.fromkeys(kind_word(_bare(option)) for option in options))
    sources.add(path, f"expected {wanted}, not {kind_word(type(value))}")


_TIMES = ("debounce", "latest", "stroke", "gap")


def _is_number(value: Any) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool)


def kind_word(kind: Any) -> str:
    """What sort of value it is, in words."""
    origin = get_origin(kind) or kind
    if origin is Literal:
        return "a text"
    return "a table" if _is_struct(origin) else _KIND_WORDS.get(origin, "something else")


def _list(words: Any) -> str:
    words = list(words)
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} or {words[-1]}"
