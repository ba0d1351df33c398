"""Description files: what is known of a particular thing, in TOML. Where they are looked for, and how they are read.

A file's name without `.toml` is the name of the description. Those of the desk come before the user's own, and these
before the ones that ship with Fenko.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from math import isfinite
from pathlib import Path
from typing import Annotated, Literal

from msgspec import UNSET, Meta, UnsetType

from fenko.core.controls import KINDS, PLAIN_SORTS, has_control
from fenko.core.descriptions import DescribedControl, Description, burst_of, default_form, default_size
from fenko.core.words import nearest
from fenko.data import DEVICES
from fenko.data import KINDS as KIND_FILES
from fenko.desk.model import Bits, Coding, File, KindText, LinkText, NameText, described
from fenko.desk.problems import DeskError, Problem
from fenko.desk.sources import Sources
from fenko.desk.structure import read
from fenko.desk.surface_sorts import can_be

FOLDER = "devices"
"""The folder of description files, below a desk's folder and below the user's."""

_FARTHEST = 5000.0
"""Millimetres; nothing with controls is larger."""
_Pair = Annotated[list[float], Meta(min_length=2, max_length=2)]


class SpotFile(File):
    """One control of the thing."""

    at: Annotated[_Pair, Meta(description="The middle of it: mm from the left and from the top edge.")] | UnsetType = (
        UNSET
    )
    size: Annotated[_Pair, described("Width and height in mm.", "what is usual")] | UnsetType = UNSET
    form: Annotated[Literal["round", "square"], described("How it looks from above.", "what is usual")] | UnsetType = (
        UNSET
    )
    on: Annotated[str, Meta(description="The control that it is a part of, as a press is of a stick.")] | UnsetType = (
        UNSET
    )
    name: Annotated[NameText, Meta(description="A name of its own, by which desks bind it.")] | UnsetType = UNSET
    printed: Annotated[str, Meta(description="What stands on it.", max_length=20)] | UnsetType = UNSET
    sends: (
        Annotated[
            str | list[str],
            Meta(description="The control or controls that come instead of this one, or nothing."),
        ]
        | UnsetType
    ) = UNSET
    sort: (
        Annotated[
            str,
            described(
                "How it acts.",
                "what its name says, else a button",
                extra_json_schema={"enum": [*PLAIN_SORTS]},
            ),
        ]
        | UnsetType
    ) = UNSET
    coding: Coding | UnsetType = UNSET
    bits: Bits | UnsetType = UNSET
    shows_value: Annotated[bool, described("Whether it can show the value that it drives.", "false")] | UnsetType = (
        UNSET
    )
    note: Annotated[str, Meta(description="Anything worth knowing about it.")] | UnsetType = UNSET


class DescriptionFile(File):
    """A thing and its controls."""

    description: Annotated[Literal[1], Meta(description="The version of this file format.")]
    kind: Annotated[KindText, Meta(description="What sort of thing it is.")]
    name: Annotated[str, Meta(description="What it is called.", max_length=60)] | UnsetType = UNSET
    links: (
        Annotated[list[LinkText], Meta(description="Every way the thing can turn up, as `fenko devices` prints them.")]
        | UnsetType
    ) = UNSET
    body: Annotated[_Pair, Meta(description="Width and height of the whole, in mm.")] | UnsetType = UNSET
    note: Annotated[str, Meta(description="Anything worth knowing about it.")] | UnsetType = UNSET
    controls: (
        Annotated[
            dict[NameText, SpotFile],
            described("Each control by the kernel's name for it.", "what is usual for the kind"),
        ]
        | UnsetType
    ) = UNSET


def user_folder() -> Path:
    """Where Fenko keeps this user's things: the usual desk, and description files."""
    import platformdirs

    return Path(platformdirs.user_config_dir("fenko"))


def load_description(path: Path) -> Description:
    """The description in a file. Raises DeskError with everything that is wrong with it."""
    sources = Sources(path)
    sources.read()
    file = read(sources, (), sources.data, DescriptionFile) if not sources.problems else None
    if file is not None:
        description = _description(sources, path.stem, file)
        if not sources.problems:
            return description
    raise DeskError(sorted(set(sources.problems)))


def _description(sources: Sources, stem: str, file: DescriptionFile) -> Description:
    if file.controls is UNSET:
        usual = kind_description(file.kind)
        return _whole(stem, file, usual.spots, usual.body)
    spots = []
    entries = file.controls
    if file.body and not all(isfinite(number) and 0 <= number <= _FARTHEST for number in file.body):
        sources.add(("body",), "nothing is that large", expected=f"millimetres from 0 to {_FARTHEST:g}")
    known = KINDS[file.kind] | {control for control, entry in entries.items() if entry.sort}
    names: dict[str, str] = {}
    for control, entry in entries.items():
        place = ("controls", control)
        burst = burst_of(control)
        sends = _sends(entry.sends)
        if sends is None and not _has(file.kind, burst[0] if burst else control, known):
            sources.add(
                place, f"a {file.kind} has no control `{control}`", at_key=True,
                expected="a control of this kind, or `sends`, which tells what comes instead", nearest=nearest(control, known),
            )  # fmt: skip
        for one in sends or ():
            if not _has(file.kind, one, known):
                sources.add((*place, "sends"), f"a {file.kind} has no control `{one}`", nearest=nearest(one, known))
        sorts = can_be(file.kind, control)
        if entry.sort and entry.sort not in sorts:
            message = f"`{control}` cannot be a {entry.sort}"
            known_sorts = sorts or can_be(file.kind, _LIKE.get(file.kind, "axis-40"))
            expected = f"{', '.join(known_sorts)}, for {_LIKE_WORDS.get(file.kind, 'an axis such as `axis-40`')}"
            sources.add((*place, "sort"), message, expected=expected, nearest=nearest(entry.sort, known_sorts))
            continue
        for field in ("at", "size"):
            numbers = getattr(entry, field) or ()
            if not all(isfinite(number) and 0 <= number <= _FARTHEST for number in numbers):
                sources.add((*place, field), "nothing is there", expected=f"millimetres from 0 to {_FARTHEST:g}")
        if _lies_on_itself(control, entries):
            sources.add((*place, "on"), f"`{control}` lies on itself in the end")
        if entry.on and entry.on not in entries:
            sources.add((*place, "on"), f"there is no control `{entry.on}` here", nearest=nearest(entry.on, entries))
        size = entry.size or default_size(control, entry.sort or None)
        if min(size) <= 0:
            sources.add((*place, "size"), "nothing is that small", expected="two sizes in mm above 0")
        called = entry.name or control
        if called in names:
            where = (*place, "name") if entry.name else place
            sources.add(where, f"`{called}` is already the name of `{names[called]}`", at_key=not entry.name)
        names.setdefault(called, control)
        spots.append(
            DescribedControl(
                control, (entry.at[0], entry.at[1]) if entry.at else None, (size[0], size[1]),
                entry.form or default_form(control, entry.sort or None), entry.on or None, entry.name or None, entry.printed or "", sends,
                entry.note or "", entry.sort or None, entry.coding or None, entry.bits or None, bool(entry.shows_value),
            )
        )  # fmt: skip
    return _whole(stem, file, tuple(spots), (0.0, 0.0))


_LIKE = {"midi": "cc-1"}
_LIKE_WORDS = {"midi": "a controller such as `cc-16`", "board": "what is on a board"}


def _has(kind: str, control: str, known: frozenset[str]) -> bool:
    return control in known or has_control(kind, control)


def _lies_on_itself(control: str, entries: Mapping[str, SpotFile]) -> bool:
    """Whether a control, by what it lies on, comes back to itself."""
    seen = {control}
    under = entries[control].on
    while under and under in entries:
        if under in seen:
            return True
        seen.add(under)
        under = entries[under].on
    return False


def _whole(
    stem: str, file: DescriptionFile, spots: tuple[DescribedControl, ...], size: tuple[float, float]
) -> Description:
    body = (file.body[0], file.body[1]) if file.body else size
    return Description(file.name or stem, file.kind, tuple(file.links or ()), spots, body, file.note or "")


def _sends(value: str | list[str] | UnsetType) -> tuple[str, ...] | None:
    if isinstance(value, UnsetType):
        return None
    if value == "nothing":
        return ()
    return (value,) if isinstance(value, str) else tuple(value)


def kind_description(kind: str) -> Description:
    """What a thing of that kind usually looks like."""
    path = KIND_FILES / f"{kind}.toml"
    return load_description(path) if path.exists() else Description(kind, kind)


class Catalogue:
    """The descriptions at hand. `problems` are those of files that were passed over."""

    def __init__(self, folders: Iterable[Path]) -> None:
        self._folders = tuple(folders)
        self.problems: list[Problem] = []
        self._all: dict[str, Description] | None = None

    @classmethod
    def usual(cls, desk: Path | None = None) -> Catalogue:
        """Those of the desk, the user's, and those that ship with Fenko."""
        own = (desk / FOLDER,) if desk is not None else ()
        return cls((*own, user_folder() / FOLDER, DEVICES))

    def paths(self) -> Iterator[tuple[str, Path]]:
        """Each name with the file that it means."""
        seen: set[str] = set()
        for folder in self._folders:
            for path in sorted(folder.glob("*.toml")):
                if path.stem not in seen:
                    seen.add(path.stem)
                    yield path.stem, path

    def path(self, name: str) -> Path | None:
        """The file of that name; None if there is none."""
        return next((path for stem, path in self.paths() if stem == name), None)

    def get(self, name: str) -> Description | None:
        """The description of that name; None if there is none. Raises DeskError if its file is faulty."""
        path = self.path(name)
        return load_description(path) if path else None

    def all(self) -> dict[str, Description]:
        """Every description whose file is good."""
        if self._all is None:
            self._all = {}
            for name, path in self.paths():
                try:
                    self._all[name] = load_description(path)
                except DeskError as error:
                    self.problems += error.problems
        return self._all

    def matching(self, matches: Callable[[str], bool]) -> tuple[str, Description] | None:
        """The first description, with its name, of which a link `matches`."""
        return next(((name, one) for name, one in self.all().items() if any(map(matches, one.links))), None)
