"""Links: the ways by which a surface can be connected other than as a kernel device. Each integration declares its own."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from msgspec import Struct

from fenko.core.lazy import load_named
from fenko.core.words import slug_of


class LinkedDevice(Struct, frozen=True):
    """A connected device that can be a surface: its name, its link, the kind of surface, and why it cannot be used, if so."""

    name: str
    link: str
    kind: str
    problem: str | None = None

    @property
    def slug(self) -> str:
        """A name for the surface."""
        return slug_of(self.name)


class LinkKind(Struct, frozen=True):
    """All links that begin with `word`. `rest` below is the part of a link after its word. The kind with an empty word is that of
    kernel devices."""

    word: str
    transport: str
    """The `module:class` (of `fenko.workers.transport.Way`) that opens the link."""
    form: str = ""
    """How a user writes the link: `serial DEVICE`."""
    pattern: str = ""
    """The regular expression of a whole link."""
    surface_kind: str = "other"
    """The kind of a surface that no desk describes."""
    title: Callable[[str], str] | None = None
    """Return the device's name from `rest`; None if only a desk can use such a device."""
    find: str = ""
    """The `module:function` that returns every connected `LinkedDevice` of this kind. It opens none of them."""
    heard_unasked: bool = False
    """Whether a command may open devices of this kind that the user has not named."""
    fits: Callable[[str, str], bool] = lambda rest, name: False
    """Return whether `rest`, as a pattern, matches the name of a device."""
    lets_in: Callable[[str, Mapping[str, Any]], str] = lambda rest, tables: ""
    """Return whom the link lets in, of `rest` and the desk's tables: `lets HOST:PORT`, before `press what is bound on …`. Empty for
    devices of this computer."""
    ready: str = ""
    """The `module:function` for `fenko ready`: of the surface's name, `rest` and the desk's tables, whether it is ready, what was
    found, how to fix it."""
    checks: str = ""
    """The `module:function` that reviews a whole desk (`fenko.core.review.DeskReview`) for `fenko check`."""
    place: int = 100
    """Its place in lists and messages; lower numbers come first."""


LINKS: dict[str, LinkKind] = {}
"""Every kind by its word, in the order of `place`."""


def register_links(kinds: list[LinkKind]) -> None:
    """Register these kinds."""
    LINKS.update((kind.word, kind) for kind in sorted(kinds, key=lambda kind: kind.place))


def kind_of(link: str) -> tuple[LinkKind, str]:
    """Return the kind of a link and its rest; a link without a registered word is that of a kernel device."""
    word, _, rest = link.partition(" ")
    return LINKS.get(word, LINKS[""]), rest


def has_transport(link: str) -> bool:
    """Return whether an integration brings the surface, so that it is no kernel device."""
    return bool(kind_of(link)[0].word)


def linked_devices(unasked: bool = False) -> list[LinkedDevice]:
    """Return every connected device of every kind; with `unasked` only those that a command may open without having been asked."""
    found: list[LinkedDevice] = []
    for kind in LINKS.values():
        if kind.find and (kind.heard_unasked or not unasked):
            found += load_named(kind.find)()
    return found


def linked_device(link: str) -> LinkedDevice:
    """Return the device of a link that a user has written. Raises ValueError for a link that cannot be used without a desk."""
    kind, rest = kind_of(link)
    if kind.title is None or not rest:
        *forms, last = (f"`{one.form}`" for one in LINKS.values() if one.title is not None)
        raise ValueError(f"`{link}` is no link of that sort: {', '.join(forms)} or {last}")
    return LinkedDevice(kind.title(rest), link, kind.surface_kind)


def matches(link: str, device: LinkedDevice) -> bool:
    """Return whether a link, which may be a pattern, is one of that device."""
    kind, rest = kind_of(link)
    return link == device.link or (kind is kind_of(device.link)[0] and kind.fits(rest, device.name))
