"""Which profile fits a window, in a time that does not grow with the number of profiles that are for other programs."""

from __future__ import annotations

from collections.abc import Iterable
from itertools import chain

from fenko.core.patterns import Wildcard
from fenko.core.plan import BASE, Focus, Profile


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

    def choose(self, focus: Focus) -> str:
        """The profile for this focus: the one with most conditions met; among equals the first in the desk."""
        best, best_fit, best_order = BASE, 0, 0
        for order, profile in chain(self._by_app.get(focus.app.casefold(), ()), self._others):
            fit = profile.fits(focus)
            if fit > best_fit or (fit == best_fit > 0 and order < best_order):
                best, best_fit, best_order = profile.name, fit, order
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
