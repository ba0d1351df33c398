"""Judgements on profiles: which never come, which get in each other's way, which have no way back."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from fenko.core.circumstances import AROUND_FIELDS, FOCUS_FIELDS, Circumstances, Focus
from fenko.core.patterns import sample_of
from fenko.core.plan import BASE, Cell, Profile, control_of
from fenko.core.stack import stack_of
from fenko.core.verbs.desk import ChangeProfile, PauseOrResume
from fenko.desk.conditions import DENIED
from fenko.desk.judging.case import Case, all_steps, own_name
from fenko.desk.locate import KeyPath


class _When(Struct, frozen=True):
    """One `when` of a profile: its texts by field, a text that fits each, and the app ids where they are all literal."""

    profile: str
    place: KeyPath
    fields: dict[str, list[str]]
    samples: dict[str, str]
    apps: frozenset[str] | None


def unreached(case: Case) -> dict[str, KeyPath]:
    """Notes profiles that nothing brings; returns those that a phrase names, with the place of one of them."""
    named: dict[str, KeyPath] = {}
    all_reached = False
    for path, step in case.steps():
        if isinstance(step, ChangeProfile):
            all_reached = all_reached or step.name in ("next", "previous")
            named.setdefault(step.name, path)
    table = case.desk.sources.data.get("profile", {})
    extended = {entry.get("extends") for entry in table.values()}
    for profile in case.plan.profiles.values():
        name = profile.name
        if name == BASE or profile.conditions or name in named or all_reached:
            continue
        if name not in extended:
            case.note(
                "profiles that never come", ("profile", name),
                f"nothing ever puts `{name}` in force: it has no `when`, and no phrase names it", "warning",
                f"a `when`, or a binding with `profile {name}`",
            )  # fmt: skip
            continue
        users = [one for one in case.plan.profiles.values() if one is not profile and _uses(one, name)]
        for control, cells in case.levels[name].controls.items():
            if users and all(_above(user, name, control) for user in users):
                case.note(
                    "bindings that every profile hides", case.place_of(cells),
                    f"never fires: every profile that extends `{name}` binds `{own_name(control)}` itself", "warning",
                )  # fmt: skip
    return named


def _uses(profile: Profile, name: str) -> bool:
    return any(level.name == name for level in profile.levels)


def _above(profile: Profile, name: str, control: str) -> bool:
    """Whether a level of the profile above `name` owns the control."""
    names = [level.name for level in profile.levels]
    return any(control in level.controls for level in profile.levels[names.index(name) + 1 :])


def ambiguous(case: Case) -> None:
    """Profiles that fit the same window equally well."""
    whens = list(_whens(case))
    for number, one in enumerate(whens):
        for first in whens[:number]:
            if one.apps is not None and first.apps is not None and one.apps.isdisjoint(first.apps):
                continue
            if one.profile == first.profile or len(one.fields) != len(first.fields):
                continue
            now = _common(one, first)
            if now is not None:
                _ambiguous_pair(case, first, one, now)


def _ambiguous_pair(case: Case, first: _When, one: _When, now: Circumstances) -> None:
    profiles = case.plan.profiles
    if profiles[one.profile].closeness(now) != profiles[first.profile].closeness(now):
        return
    if one.fields == first.fields:
        case.note(
            "profiles with the same `when`", one.place,
            f"`{one.profile}` never comes by itself: `{first.profile}` has the same `when` and stands first", "warning",
        )  # fmt: skip
        return
    shown = ", ".join(
        f'{field} "{text}"' for field in (*FOCUS_FIELDS, *AROUND_FIELDS) for text in now.texts(field, now.focus) if text
    )
    case.note(
        "profiles that fit the same window", one.place,
        f"`{one.profile}` and `{first.profile}` fit {shown} equally well; `{first.profile}` comes, "
        "for it stands first", "warning", "one more condition in the one that should come",
    )  # fmt: skip


def _whens(case: Case) -> Iterator[_When]:
    """Every `when` of which a window that fits can be made up."""
    for name, entry in case.desk.sources.data.get("profile", {}).items():
        when = entry.get("when")
        for number, one in enumerate(when if isinstance(when, list) else [when] if when else []):
            if DENIED in one:
                continue  # what is left over may be told apart by that
            place: KeyPath = ("profile", name, "when", number) if isinstance(when, list) else ("profile", name, "when")
            fields = {field: texts if isinstance(texts, list) else [texts] for field, texts in one.items()}
            samples = {field: next(filter(None, map(sample_of, texts)), "") for field, texts in fields.items()}
            apps = fields.get("app")
            literal = apps is not None and not any("*" in text or "?" in text or text[:1] == "~" for text in apps)
            if all(samples.values()):
                literals = frozenset(text.casefold() for text in apps) if apps and literal else None
                yield _When(name, place, fields, samples, literals)


def no_way_back(case: Case, named: dict[str, KeyPath]) -> None:
    """Profiles that are put in force by hand, and that nothing leads out of."""
    if case.plan.hand_until_focus:
        return  # the next program in front does
    for name, path in named.items():
        profile = case.plan.profiles.get(name)
        if profile is None:
            continue
        steps = (step for cell in stack_of(case.plan, profile.name).table().values() for step in all_steps(cell))
        if not any(isinstance(step, ChangeProfile) and step.name != name for step in steps):
            case.note(
                "profiles without a way back", path,
                f"nothing in `{name}` leads to another profile again, also not to what the focus asks for", "warning",
                "a binding with `profile auto` in it or in base", key=False,
            )  # fmt: skip


def pause_hidden(case: Case) -> None:
    """Profiles that hide what pauses Fenko below them, and have nothing that does."""
    for profile in case.plan.profiles.values():
        below = (level.cell(address) for level in profile.levels for address in case.pausing)
        lost = [cell for cell in below if cell is not None and _pauses(cell)]
        in_force = map(stack_of(case.plan, profile.name).cell, case.pausing)
        if not lost or any(cell is not None and _pauses(cell) for cell in in_force):
            continue
        control = control_of(lost[0].address)
        owner = next(level for level in reversed(profile.levels) if control in level.controls)
        if owner.name != profile.name:
            continue  # said where it is hidden
        case.note(
            "profiles that cannot pause", case.place_of(owner.controls[control]),
            f"hides `pause` of `{lost[0].profile}`: in `{profile.name}` nothing stops Fenko any more", "warning",
        )  # fmt: skip


def _pauses(cell: Cell) -> bool:
    return any(isinstance(step, PauseOrResume) for step in all_steps(cell))


def _common(one: _When, other: _When) -> Circumstances | None:
    """Circumstances that may fit both; None where one field clearly tells them apart."""
    found: dict[str, str] = {}
    for field in {**one.fields, **other.fields}:
        mine, theirs = one.samples.get(field), other.samples.get(field)
        if mine is None or theirs is None or mine == theirs:
            found[field] = mine or theirs or ""
        elif not any("*" in text or "?" in text for text in (*one.fields[field], *other.fields[field])):
            both = {text.casefold() for text in one.fields[field]} & {text.casefold() for text in other.fields[field]}
            if not both:
                return None
            found[field] = both.pop()
        else:
            found[field] = mine if len(mine) >= len(theirs) else theirs
    app, title, program, path, arguments = (found.get(field, "") for field in FOCUS_FIELDS)
    focus = Focus(app, title, program, path, arguments)
    running, surfaces, machines = (frozenset({found[field]} if field in found else ()) for field in AROUND_FIELDS)
    return Circumstances(focus, running, surfaces, machines)
