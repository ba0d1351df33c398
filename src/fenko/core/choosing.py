"""Which profile fits a window, in a time that does not grow with the number of profiles that are for other programs."""

from __future__ import annotations

from collections.abc import Iterable
from itertools import chain

from fenko.core.circumstances import Circumstances, Closeness
from fenko.core.patterns import Wildcard
from fenko.core.plan import BASE, Profile


class Chooser:
    """Profiles by the programs that they are for. Those whose `when` names no program outright are looked at each time."""

    def __init__(self, profiles: Iterable[Profile]) -> None:
        self._by_app: dict[str, list[tuple[int, Profile]]] = {}
        self._others: list[tuple[int, Profile]] = []
        for order, profile in enumerate(profiles):
            apps = _apps_of(profile)
            if apps is None:
                self._others.append((order, profile))
            else:
                for app in apps:
                    self._by_app.setdefault(app, []).append((order, profile))

    def choose(self, now: Circumstances) -> str:
        """The profile that comes by itself: the one that fits most closely; among equals the first in the desk."""
        best, closest, best_order = BASE, None, 0
        windows = (now.focus,) if now.focus.owner is None else (now.focus, now.focus.owner)
        apps = {app.casefold() for window in windows for app in window.apps}
        for order, profile in chain(*(self._by_app.get(app, ()) for app in apps), self._others):
            found: Closeness | None = profile.closeness(now)
            if found is not None and (closest is None or found > closest or (found == closest and order < best_order)):
                best, closest, best_order = profile.name, found, order
        return best


def _apps_of(profile: Profile) -> set[str] | None:
    """The app ids of which one has to be in front for the profile to come; None where others may do."""
    found: set[str] = set()
    for condition in profile.conditions:
        patterns = condition.patterns.get("app")
        literals = [pattern.literal if isinstance(pattern, Wildcard) else None for pattern in patterns or ()]
        if not literals or None in literals:
            return None
        found.update(literal for literal in literals if literal is not None)
    return found
