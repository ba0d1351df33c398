"""Links: ways by which a surface can be there otherwise than as a kernel device. Each integration declares its own."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from msgspec import Struct

from fenko.core.lazy import load_named
from fenko.core.words import slug_of


class FarThing(Struct, frozen=True):
    """Something that is connected and could be a surface: what it is called, the link by which a desk has it, and why it cannot
    be used, if it cannot."""

    name: str
    link: str
    kind: str
    problem: str | None = None

    @property
    def slug(self) -> str:
        """A name for the surface."""
        return slug_of(self.name)


class LinkKind(Struct, frozen=True):
    """Links that begin with `word`; the rest of a link is what stands behind it. The kind without a word is that of kernel devices."""

    word: str
    transport: str
    """The `module:class` (of `fenko.workers.transport.Way`) that keeps such a link open."""
    form: str = ""
    """How people write it: `serial DEVICE`."""
    pattern: str = ""
    """The regular expression of a whole link."""
    surface_kind: str = "other"
    """The kind of a surface of which a desk says nothing."""
    title: Callable[[str], str] | None = None
    """What a thing is called, of the rest; None if such a thing can only be used by a desk that has it."""
    find: str = ""
    """The `module:function` that returns every `FarThing` of this kind that is connected now. It opens none of them."""
    heard_unasked: bool = False
    """Whether commands may open those of them that nobody has named."""
    fits: Callable[[str, str], bool] = lambda rest, name: False
    """Whether the rest, where it is a pattern, means the thing of this name."""
    lets_in: Callable[[str, Mapping[str, Any]], str] = lambda rest, tables: ""
    """Of the rest and the desk's tables: what it lets somebody elsewhere do, in words before `press what is bound on …`."""
    ready: str = ""
    """The `module:function` that says for `fenko ready`, of a surface's name, the rest and the desk's tables: good or not, what
    is so, what helps."""
    checks: str = ""
    """The `module:function` that judges a whole desk (`fenko.core.review.DeskReview`) for `fenko check`."""
    place: int = 100
    """Its place among the kinds, in lists and messages."""


LINKS: dict[str, LinkKind] = {}
"""Every kind, by its word, in the order of their places."""


def register_links(kinds: list[LinkKind]) -> None:
    """Make these known."""
    LINKS.update((kind.word, kind) for kind in sorted(kinds, key=lambda kind: kind.place))


def kind_of(link: str) -> tuple[LinkKind, str]:
    """Return a link's kind and its rest; what has no word of its own is a kernel device."""
    word, _, rest = link.partition(" ")
    return LINKS.get(word, LINKS[""]), rest


def is_far(link: str) -> bool:
    """Return whether a surface is no kernel device by that link."""
    return bool(kind_of(link)[0].word)


def far_things(unasked: bool = False) -> list[FarThing]:
    """Return everything of every kind that is connected now; with `unasked` only what may be opened without having been named."""
    found: list[FarThing] = []
    for kind in LINKS.values():
        if kind.find and (kind.heard_unasked or not unasked):
            found += load_named(kind.find)()
    return found


def far_thing(link: str) -> FarThing:
    """Return the thing that a link means which a person wrote. Raises ValueError where it is none."""
    kind, rest = kind_of(link)
    if kind.title is None or not rest:
        *forms, last = (f"`{one.form}`" for one in LINKS.values() if one.title is not None)
        raise ValueError(f"`{link}` is no link of that sort: {', '.join(forms)} or {last}")
    return FarThing(kind.title(rest), link, kind.surface_kind)


def means(link: str, thing: FarThing) -> bool:
    """Return whether a link, which may be a pattern, means that thing."""
    kind, rest = kind_of(link)
    return link == thing.link or (kind is kind_of(thing.link)[0] and kind.fits(rest, thing.name))
