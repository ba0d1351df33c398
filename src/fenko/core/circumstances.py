"""What decides which profile comes by itself: windows, programs that run, surfaces that are there, states of machines; and how
closely they fit."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, NamedTuple

from msgspec import Struct

from fenko.core.patterns import Pattern, Wildcard


class Focus(Struct, frozen=True):
    """The window in front. Empty strings where nothing is known. A dialog has an `owner`: the window that it belongs to."""

    app: str = ""
    title: str = ""
    program: str = ""
    path: str = ""
    arguments: str = ""
    owner: Focus | None = None
    also: tuple[str, ...] = ()
    """What else its program is called on other desktops, as far as that is known."""

    @property
    def apps(self) -> tuple[str, ...]:
        """All that `app` of a `when` may fit, the desktop's own name first."""
        return (self.app, *(name for name in (self.program, *self.also) if name and name != self.app))

    def as_data(self) -> dict[str, Any]:
        """The same as plain data."""
        said: dict[str, Any] = {name: getattr(self, name) for name in FOCUS_FIELDS}
        said |= {"also": list(self.also)} if self.also else {}
        return said | ({"owner": self.owner.as_data()} if self.owner is not None else {})


FOCUS_FIELDS: tuple[str, ...] = tuple(name for name in Focus.__struct_fields__ if name not in ("owner", "also"))
AROUND_FIELDS = ("running", "surface", "machine")
"""What else than the window in front a profile's `when` can ask for."""


class Circumstances(Struct, frozen=True):
    """What decides which profile comes by itself: the window in front, the names of programs that run, the surfaces that are
    there, and machines with their states (`rail alarm`)."""

    focus: Focus = Focus()
    running: frozenset[str] = frozenset()
    surfaces: frozenset[str] = frozenset()
    machines: frozenset[str] = frozenset()

    def texts(self, field: str, focus: Focus) -> Iterable[str]:
        """All that a field of a `when` may fit."""
        match field:
            case "running":
                return self.running
            case "surface":
                return self.surfaces
            case "machine":
                return self.machines
            case "app":
                return focus.apps
        return (getattr(focus, field),)


class Closeness(NamedTuple):
    """How closely a `when` fits; the larger one comes. In this order: how much of the window in front it names, how much
    else, how much that must not be, whether it is met by the window itself and not by the one that it belongs to, and how much
    is named in full."""

    window: int
    around: int
    denied: int
    own: bool
    exact: int


class Condition(Struct, frozen=True):
    """One `when`: of each field any of its patterns has to be found, and none of `denied` may hold."""

    patterns: dict[str, tuple[Pattern, ...]]
    denied: tuple[Condition, ...] = ()

    def closeness(self, now: Circumstances) -> Closeness | None:
        """How closely it fits, for the window in front or for the one that it belongs to; None if it does not hold."""
        owner = now.focus.owner
        windows = (now.focus,) if owner is None else (now.focus, owner)
        if any(one.holds(now, window) for one in self.denied for window in windows):
            return None
        for window in windows:
            exact = self._exact(now, window)
            if exact is not None:
                return self._closeness(exact, window is now.focus)
        return None

    def holds(self, now: Circumstances, focus: Focus) -> bool:
        """Whether it does for this window itself."""
        return self._exact(now, focus) is not None and not any(one.holds(now, focus) for one in self.denied)

    def _exact(self, now: Circumstances, focus: Focus) -> int | None:
        """How many fields are named in full; None if one is not met."""
        exact = 0
        for name, patterns in self.patterns.items():
            texts = now.texts(name, focus)
            texts = tuple(texts)
            found = [pattern for pattern in patterns if any(map(pattern.fits, texts))]
            if not found:
                return None
            if name == "app":  # another name of the program is less close than the one that the desktop has for it
                found = [pattern for pattern in found if pattern.fits(texts[0])]
            exact += any(isinstance(pattern, Wildcard) and pattern.literal is not None for pattern in found)
        return exact

    def _closeness(self, exact: int, own: bool) -> Closeness:
        window = sum(name in FOCUS_FIELDS for name in self.patterns)
        denied = sum(len(one.patterns) for one in self.denied)
        return Closeness(window, len(self.patterns) - window, denied, own, exact)

    @property
    def asks_for_running(self) -> frozenset[str]:
        """The patterns of programs of which it matters whether they run."""
        own = frozenset(pattern.text for pattern in self.patterns.get("running", ()))
        return own.union(*(one.asks_for_running for one in self.denied))
