"""Every setting of a desk file by its name, with what it does: read from the definitions that loading uses."""

from __future__ import annotations

from collections.abc import Iterator
from types import UnionType
from typing import Annotated, Any, Literal, Union, get_args, get_origin

from msgspec import Meta, Struct, UnsetType

from fenko.desk.model import BindingFile, desk_file
from fenko.desk.structure import fields, kind_word

_NAMED = "NAME"


class Setting(Struct, frozen=True):
    """One setting: its name with NAME for what a person chooses, what may stand there, and what it does. Default and
    range are empty where there are none."""

    name: str
    takes: str
    does: str
    default: str = ""
    range: str = ""


def settings() -> list[Setting]:
    """All settings, in the order of the definitions."""
    bindings = f"profile.{_NAMED}.on.SURFACE.CONTROL"
    return [*_settings("", desk_file()), *_settings(f"{bindings}.", BindingFile)]


def find_settings(name: str) -> list[Setting]:
    """The settings that a person may mean by a name: all of it, or its end; `surface.pad.kind` is `surface.NAME.kind`."""
    known = settings()
    words = name.strip(".").split(".")
    return [one for one in known if one.name == name] or [one for one in known if _fits(words, one.name.split("."))]


def _fits(words: list[str], parts: list[str]) -> bool:
    end = parts[-len(words) :]
    return (
        len(end) == len(words)
        and end[-1] == words[-1]
        and all(part in (word, _NAMED) or part.isupper() for word, part in zip(words, end, strict=True))
    )


def _settings(before: str, struct: type[Struct]) -> Iterator[Setting]:
    for key, kind in fields(struct).items():
        meta = _meta(kind)
        text = (meta.description or "") if meta is not None else ""
        said = (meta.extra or {}) if meta is not None else {}
        inner = _inner(kind)
        if text or not inner:
            yield Setting(
                f"{before}{key}", _takes(kind), said.get("does", text), said.get("default", ""), said.get("range", "")
            )
        for suffix, part in inner:
            yield from _settings(f"{before}{key}{suffix}.", part)


def _options(kind: Any) -> list[Any]:
    bare = get_args(kind)[0] if get_origin(kind) is Annotated else kind
    if get_origin(bare) in (Union, UnionType):
        return [part for option in get_args(bare) if option is not UnsetType for part in _options(option)]
    return [bare]


def _meta(kind: Any) -> Meta | None:
    """The outermost annotation: what is said of the setting, not of the sort of value that it takes."""
    if get_origin(kind) in (Union, UnionType):
        return next((found for option in get_args(kind) if (found := _meta(option)) is not None), None)
    metas = _metas(kind)
    return metas[-1] if metas else None


def _metas(kind: Any) -> list[Meta]:
    """What is said of a kind of value: first of the sort, last of this use of it."""
    if get_origin(kind) is not Annotated:
        return []
    return [extra for extra in get_args(kind)[1:] if isinstance(extra, Meta)]


def _inner(kind: Any) -> list[tuple[str, type[Struct]]]:
    """The tables that a setting consists of, with what stands between its name and theirs."""
    found: dict[type[Struct], str] = {}
    for bare in _options(kind):
        if isinstance(bare, type) and issubclass(bare, Struct):
            found[bare] = ""
        elif get_origin(bare) is dict:
            for part in _options(get_args(bare)[1]):
                if isinstance(part, type) and issubclass(part, Struct):
                    found[part] = f".{_NAMED}"
        elif get_origin(bare) is list:
            for part in _options(get_args(bare)[0]):
                if isinstance(part, type) and issubclass(part, Struct):
                    found.setdefault(part, "")
    return [(suffix, part) for part, suffix in found.items()]


def _takes(kind: Any) -> str:
    metas = [meta for option in get_args(kind) or (kind,) for meta in _metas(option)] or _metas(kind)
    sort = (metas[0].description or "").rstrip(".") if len(metas) > 1 else ""
    sort = f"{sort[:1].lower()}{sort[1:]}"
    if sort and metas[0].pattern:
        return sort
    words: list[str] = []
    for bare in _options(kind):
        if get_origin(bare) is Literal:
            words += [str(choice) for choice in get_args(bare)]
        else:
            words.append(kind_word(bare))
    found = " or ".join(dict.fromkeys(words))
    return f"{found}; {sort}" if sort else found
