"""What it costs a hand to reach a control: a model, and what the hand itself has shown.

The time to move a finger onto a control is a + b log2(D / W + 1): D how far it is from where the finger rests, W the smaller side of the
control (Fitts 1954, in the form of MacKenzie 1992). For fingers b is about 0.1 s a bit (Card, English and Burr 1978), and pressing itself
takes about 0.1 s for somebody practised (Card, Moran and Newell 1983, chapter 2). Fingers differ: the index is the fastest, then
the middle and the thumb, the ring and the little finger the slowest (Aoki, Furuya and Kinoshita 2005 and others); how much slower, here, is
a round number of our own. A finger that has just pressed something comes from there and not from its rest."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from math import hypot, log2

import numpy as np
from msgspec import Struct, field

from fenko.core.descriptions import DescribedControl
from fenko.studies.tally import Floats, Ints
from fenko.studies.usage import middle_of

PRESS = 0.1
"""Seconds that pressing takes."""
BIT = 0.1
"""Seconds a bit of difficulty takes."""
FINGERS = {"index": 0.0, "middle": 0.05, "thumb": 0.05, "ring": 0.2, "little": 0.25}
"""How much later each finger is than the index, as a share of what moving takes."""
FEWEST = 50
"""Uses of a control from which on its own time counts."""
_FASTEST_QUARTER = 0.25
_BIT_UNSURE, _FINGER_UNSURE = 0.03, 0.15
"""How sure the model's constants are (standard deviations): seconds a bit, and shares."""
_PRESS_UNSURE = 0.025
_DEEDS = 0.15
"""Seconds by which times of controls differ because of what is done there, wherever that is: some things take thought (standard
deviation)."""
_THUMBS = {"left": ("hat", "stick-left", "stick-left-press", "select"), "right": ("north", "south", "east", "west", "stick-right", "stick-right-press", "start", "mode")}  # fmt: skip
_FOREFINGERS = ("shoulder-left", "shoulder-right", "trigger-left", "trigger-right")
_HAND = ("index", "middle", "ring", "little")
_ON_MOUSE = {"left": "index", "wheel": "index", "middle": "index", "right": "middle"}


class Model(Struct, frozen=True):
    """The constants of the model: seconds that pressing takes, seconds a bit, and how much later than the index each finger is, as a share
    of what moving takes."""

    press: float = PRESS
    bit: float = BIT
    later: dict[str, float] = field(default_factory=lambda: dict(FINGERS))


USUAL = Model()


class Site(Struct, frozen=True):
    """A control where something may be bound: its name, its middle and its smaller side (mm), the finger that presses it (with the hand
    where there are two), and where that rests."""

    control: str
    at: tuple[float, float]
    size: float
    finger: str
    rest: tuple[float, float]

    def reach(self, model: Model, start: tuple[float, float] | None = None) -> float:
        """Seconds from a place, or from where the finger rests, until it is pressed."""
        x, y = start or self.rest
        return model.press + (1 + model.later[self.moves]) * model.bit * self.difficulty(x, y)

    @property
    def moves(self) -> str:
        """The finger, whichever hand it is of."""
        return self.finger.split()[-1]

    def difficulty(self, x: float, y: float) -> float:
        """Bits of the movement from there (Fitts's index of difficulty)."""
        return log2(hypot(self.at[0] - x, self.at[1] - y) / self.size + 1)


def sites(kind: str, spots: Sequence[DescribedControl], names: Mapping[str, str], hand: str = "right") -> list[Site]:
    """The controls of a surface that a finger can press, with the finger that does: of a gamepad thumbs and forefingers, of a mouse the
    thumb for what is at its side, elsewhere the fingers of one hand, which rest on the middle row, a column each. `names` are the desk's
    own names."""
    placed = [spot for spot in spots if spot.at is not None]
    fingers = _fingers(kind, placed, hand)
    by_finger: dict[str, list[DescribedControl]] = {}
    for spot in placed:
        by_finger.setdefault(fingers[spot.control], []).append(spot)
    found = []
    for spot in placed:
        assert spot.at is not None
        own = by_finger[fingers[spot.control]]
        rest = _rest(kind, fingers[spot.control], own, placed)
        found.append(Site(names.get(spot.control, spot.control), spot.at, min(spot.size), fingers[spot.control], rest))
    return found


def _fingers(kind: str, placed: Sequence[DescribedControl], hand: str) -> dict[str, str]:
    found: dict[str, str] = {}
    if kind == "gamepad":
        middle = _middle(placed)[0]
        for spot in placed:
            assert spot.at is not None
            side = next(
                (side for side, own in _THUMBS.items() if spot.control in own),
                "left" if spot.at[0] < middle else "right",
            )
            found[spot.control] = f"{side} {'index' if spot.control in _FOREFINGERS else 'thumb'}"
        return found
    if kind == "mouse":
        return {spot.control: _ON_MOUSE.get(spot.control, "thumb") for spot in placed}
    across = sorted({round(spot.at[0]) for spot in placed if spot.at is not None})
    columns: list[float] = []
    for x in across:  # what is less than 8 mm apart is one column
        if not columns or x - columns[-1] > 8:
            columns.append(x)
    order = _HAND if hand == "right" else _HAND[::-1]
    for spot in placed:
        assert spot.at is not None
        column = min(range(len(columns)), key=lambda one: abs(columns[one] - spot.at[0]))  # type: ignore[index]
        count = len(columns)
        if hand == "right":
            finger = order[min(column, 3)] if count <= 4 else order[min(3, column * 4 // count)]
        else:
            finger = order[max(0, 4 - count) + column] if count <= 4 else order[min(3, column * 4 // count)]
        found[spot.control] = finger
    return found


def _rest(
    kind: str, finger: str, own: Sequence[DescribedControl], placed: Sequence[DescribedControl]
) -> tuple[float, float]:
    if kind == "gamepad" and finger.endswith("thumb"):
        wanted = ("north", "south", "east", "west") if finger.startswith("right") else ("hat",)
        return _middle([spot for spot in own if spot.control in wanted] or own)
    if kind in ("gamepad", "mouse"):
        return _middle(own)
    height = _middle(placed)[1]
    nearest = min(own, key=lambda spot: (abs((spot.at or (0, 0))[1] - height), spot.control))
    assert nearest.at is not None
    return nearest.at


def _middle(spots: Iterable[DescribedControl]) -> tuple[float, float]:
    places = [spot.at for spot in spots if spot.at is not None]
    return (sum(x for x, _ in places) / len(places), sum(y for _, y in places) / len(places))


def own_times(paces: Mapping[str, Ints]) -> dict[str, float]:
    """What a hand itself has shown, by control: after how many seconds it presses it where it is quick (the fastest quarter). `paces` are
    counts by class (`tally.PACES`)."""
    return {control: middle_of(counts, _FASTEST_QUARTER) for control, counts in paces.items() if counts.sum() >= FEWEST}


class Hand(Struct, frozen=True):
    """A model with how unsure its constants are: of the seconds a bit, and of how much later each finger is, together."""

    model: Model
    fingers: tuple[str, ...]
    spread: Floats

    def drawn(self, luck: np.random.Generator) -> Model:
        """The model as it may just as well be."""
        middle = np.array([self.model.bit, *(self.model.bit * self.model.later[finger] for finger in self.fingers)])
        bit, *later = luck.multivariate_normal(middle, self.spread)
        bit = max(float(bit), BIT / 4)
        shares = {finger: max(float(one) / bit, -0.5) for finger, one in zip(self.fingers, later, strict=True)}
        return Model(max(float(luck.normal(PRESS, _PRESS_UNSURE)), PRESS / 4), bit, {**self.model.later, **shares})


def hand_of(places: Sequence[Site], own: Mapping[str, float]) -> Hand:
    """The model for this hand: the constants that are usual, corrected by what it has shown on so many controls (linear regression, with
    what is usual as the prior). A single control says little, for its time may come from what is done there."""
    fingers = tuple(dict.fromkeys(site.moves for site in places))
    # Constants: the time of a deed, seconds a bit, and of each finger seconds a bit more.
    middle = np.array([0.0, BIT, *(BIT * FINGERS[finger] for finger in fingers)])
    unsure = np.array([10.0, _BIT_UNSURE, *(BIT * _FINGER_UNSURE for _ in fingers)])
    precision = np.diag(1 / unsure**2)
    sums = precision @ middle
    for site in places:
        if site.control in own:
            bits = site.difficulty(*site.rest)
            row = np.array([1.0, bits, *(bits * (site.moves == finger) for finger in fingers)])
            precision += np.outer(row, row) / _DEEDS**2
            sums += row * own[site.control] / _DEEDS**2
    spread: Floats = np.linalg.inv(precision).astype(np.float64)
    found = spread @ sums
    bit = max(float(found[1]), BIT / 4)
    later = {finger: float(one) / bit for finger, one in zip(fingers, found[2:], strict=True)}
    return Hand(Model(PRESS, bit, {**FINGERS, **later}), fingers, spread[1:, 1:])


def reaches(places: Sequence[Site], model: Model = USUAL) -> tuple[Floats, Floats]:
    """Seconds that each control takes from rest, and from each other one (row: from, column: to). A finger that has not just pressed
    something else comes from its rest."""
    rest = np.array([site.reach(model) for site in places])
    between = np.empty((len(places), len(places)))
    for row, site in enumerate(places):
        for column, to in enumerate(places):
            same = to.finger == site.finger
            between[row, column] = model.press if to is site else to.reach(model, site.at) if same else rest[column]
    return rest, between
