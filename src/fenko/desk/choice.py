"""Why a profile comes by itself and the others do not."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from fenko.core.circumstances import AROUND_FIELDS, FOCUS_FIELDS, Circumstances, Closeness, Condition, Focus
from fenko.core.plan import BASE, Profile
from fenko.desk.load import Desk

RULE = (
    "It is the one whose `when` names most of the window in front (app, title, program, path, arguments); among equals most "
    "of what else is there (running, surface, machine); then most that must not be; then the window itself and not the one that it "
    "belongs to; then most in full and not by patterns; then the first in the desk."
)
"""Which of several profiles that fit comes."""
_LESS = {
    "window": "names less of the window in front",
    "around": "asks for less of what else is there",
    "denied": "rules out less",
    "own": "is met only by the window that the one in front belongs to",
    "exact": "names less in full",
}


class Choice(Struct, frozen=True):
    """One profile: whether it comes, or fits but loses, or does not fit, and why; and where its `when` stands."""

    profile: str
    standing: str
    why: str
    where: str


def choices(desk: Desk, now: Circumstances) -> Iterator[Choice]:
    """Every profile that could come by itself: the one that does, those that lose to it, those that do not fit."""
    plan = desk.plan
    comes = plan.choose(now)
    best = plan.profiles[comes].closeness(now)
    standings: dict[str, list[Choice]] = {"comes": [], "loses": [], "does not fit": []}
    for name, profile in plan.profiles.items():
        found = profile.closeness(now)
        if name == comes:
            standing, why = "comes", _met(profile, now)
        elif name == BASE:
            standing, why = "loses", "lies under every profile, and is alone in force when none fits"
        elif found is not None and best is not None:
            standing, why = "loses", _less(found, best)
        elif profile.conditions:
            standing, why = "does not fit", "; or ".join(_missing(one, now) for one in profile.conditions)
        else:
            standing, why = "does not fit", "has no `when`: it comes by hand alone"
        standings[standing].append(Choice(name, standing, why, desk.sources.where(("profile", name, "when"))))
    for some in standings.values():
        yield from some


def _less(found: Closeness, best: Closeness) -> str:
    """Why one that fits less closely, or stands later, loses."""
    for field in Closeness._fields:
        if getattr(found, field) < getattr(best, field):
            return _LESS[field]
    return "fits as closely, and stands later in the desk"


def _met(profile: Profile, now: Circumstances) -> str:
    """What of a profile that fits is met."""
    if not profile.conditions:
        return "no other fits"
    closest = max(
        (one for one in profile.conditions if one.closeness(now) is not None), key=lambda one: one.closeness(now) or ()
    )
    fields = [f"{field} {_written(closest, field)}" for field in closest.patterns]
    denied = [f"not {field} {_written(one, field)}" for one in closest.denied for field in one.patterns]
    found = closest.closeness(now)
    by = "" if found is None or found.own else ", met by the window that the one in front belongs to"
    return ", ".join(fields + denied) + by


def _missing(condition: Condition, now: Circumstances) -> str:
    """The first thing for which a `when` does not hold."""
    for window in filter(None, (now.focus, now.focus.owner)):
        for one in condition.denied:
            if one.holds(now, window):
                return "it is " + ", ".join(f"{field} {_written(one, field)}" for field in one.patterns)
    for field, patterns in condition.patterns.items():
        texts = list(now.texts(field, now.focus))
        if any(pattern.fits(text) for pattern in patterns for text in texts):
            continue
        wanted = _written(condition, field)
        if field == "running":
            return f"{wanted} does not run"
        if field == "surface":
            return f"{wanted} is not plugged in"
        if field == "machine":
            return f"no machine is {wanted}"
        if now.focus == Focus():
            return f"nothing is in front, and not {field} {wanted}"
        return f"{field} is {_quoted(texts[0]) if texts[0] else 'not known'} and not {wanted}"
    return "it does not hold for one window as a whole"


def _written(condition: Condition, field: str) -> str:
    return " or ".join(_quoted(pattern.text) for pattern in condition.patterns[field])


def _quoted(text: str) -> str:
    return f'"{text}"'


def circumstances_from(status: dict[str, object]) -> Circumstances:
    """What a running desk says of what decides there. Raises KeyError, TypeError for what is no such thing."""
    surfaces, running = status["surfaces"], status["running"]
    if not isinstance(surfaces, dict) or not isinstance(running, list):
        raise TypeError
    there = frozenset(name for name, one in surfaces.items() if one["there"])
    machines = status.get("machines")
    states = [f"{name} {one['state']}" for name, one in machines.items()] if isinstance(machines, dict) else []
    return Circumstances(_window(status["in front"]), frozenset(running), there, frozenset(states))


def _window(data: object) -> Focus:
    if not isinstance(data, dict):
        raise TypeError
    owner = _window(data["owner"]) if "owner" in data else None
    app, title, program, path, arguments = (str(data[field]) for field in FOCUS_FIELDS)
    return Focus(app, title, program, path, arguments, owner)


def around_words(now: Circumstances) -> list[tuple[str, str]]:
    """The circumstances in words, by what they are about."""
    rows = [(field, getattr(now.focus, field)) for field in FOCUS_FIELDS if getattr(now.focus, field)]
    if now.focus.owner is not None:
        rows += [(f"of {field}", getattr(now.focus.owner, field)) for field in ("app", "title")]
    rows += [(field, ", ".join(sorted(now.texts(field, now.focus)))) for field in AROUND_FIELDS]
    return [(field, text) for field, text in rows if text]
