"""What a journal says, as pictures: a surface with what is used most the darkest, and weeks one after the other."""

from __future__ import annotations

import time
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

from msgspec import structs

from fenko.core.stack import stack_of
from fenko.core.words import shortened
from fenko.desk.load import Desk
from fenko.desk.meanings import WAYS
from fenko.drawing.labels import Label
from fenko.drawing.plans import MARGIN, PAPERS, Look, fitted, heading
from fenko.drawing.scene import POINT, Box, Item, Page, Pen, Words, mixed
from fenko.showing.sheets import look
from fenko.showing.shown import Surfaces
from fenko.studies.tally import Tally
from fenko.studies.usage import Usage, Used, by_week
from fenko.system.journal import Binding

_HEAT = "#08457e"
_DARKEST = 0.95
_STEPS = 5
_COLOURS = ("#0072b2", "#e69f00", "#009e73", "#cc79a7", "#56b4e9", "#d55e00", "#8c8c88")
"""After Okabe and Ito; the last one for all others together."""


def heat(share: float) -> str:
    """The colour of such a share of the most used control; grey tells as much as the colour does."""
    return mixed(_HEAT, "#ffffff", _DARKEST * share**0.5)


def control_of(address: str) -> str:
    """The control on which a cell sits: the surface and its own name."""
    return ".".join(address.split(".")[:2])


def map_pages(desk: Desk, usage: Usage, profile: str, surfaces: Sequence[str]) -> Iterator[Page]:
    """A page for each of these surfaces, with what is used in a profile."""
    levels = {level.name for level in desk.plan.profiles[profile].levels}
    levels |= {level.name for layer in desk.plan.profiles[profile].layers.values() for level in layer.levels}
    used = [one for one in usage.used if one.level in levels and one.there]
    counts: dict[str, int] = {}
    for one in used:
        counts[control_of(one.control)] = counts.get(control_of(one.control), 0) + one.uses
    how = look(False)
    for name in surfaces:
        mine = [one for one in used if one.control.startswith(f"{name}.")]
        together = [f"{one.control.partition('.')[2]}: {one.does}, {one.uses:,}" for one in mine if "+" in one.control]
        labels, body = heated(desk, profile, name, counts, used)
        total = sum(one.uses for one in mine)
        yield _page(
            f"{name} in {profile}: {total:,} uses", labels, body, together, how, max(counts.values(), default=0)
        )


def heated(
    desk: Desk, profile: str, surface: str, counts: Mapping[str, int], used: Iterable[Used]
) -> tuple[list[Label], tuple[float, float]]:
    """The labels of a surface, each with how often it is used, and how large the surface is (mm)."""
    shown = Surfaces(desk)
    most = max((times for control, times in counts.items()), default=0) or 1
    missed = {one.control for one in used if one.missed}
    ways: dict[str, dict[str, int]] = {}
    for each in used:
        control, direction = control_of(each.control), each.control.split(".")[2:]
        if direction and "+" not in each.control and direction[0] in WAYS:
            own = ways.setdefault(control, {})
            own[direction[0]] = own.get(direction[0], 0) + each.uses
    found = []
    for one in shown.shown(desk.plan.surfaces[surface], stack_of(desk.plan, profile)):
        address = f"{surface}.{one.meaning.control}"
        times = counts.get(address, 0)
        small = [f"{times:,}"] if times else ["never"] if one.label.bound else []
        small += [f"{WAYS[way]} {count:,}" for way, count in ways.get(address, {}).items()]
        if any(control_of(other) == address for other in missed):
            small.append("often missed")
        fill = heat(times / most) if one.label.bound else ""
        found.append(structs.replace(one.label, small=tuple(small), fill=fill, colour="", icon=""))
    return found, shown.described(desk.plan.surfaces[surface]).body


def before_and_after(
    desk: Desk, profile: str, surface: str, counts: Mapping[str, float], moves: Mapping[str, str], gain: float
) -> Page:
    """A page with what sits where on a surface, now and with these moves; counts are by the surface's own names."""
    how = look(False)
    high, wide = PAPERS["a4"]
    now, body = heated(desk, profile, surface, {f"{surface}.{name}": int(times) for name, times in counts.items()}, ())
    own = desk.plan.surfaces[surface].own_name
    by_name = {own(label.spot.control): label for label in now}
    came = {to: control for control, to in moves.items()}
    then = []
    for label in now:
        name = own(label.spot.control)
        source = by_name.get(came.get(name, "" if name in moves else name))
        if source is None:  # what was there went elsewhere, and nothing came
            then.append(structs.replace(label, title=name, small=(), bound=False, fill=""))
        elif name in came:
            small = (*source.small, f"from {came[name]}")
            then.append(
                structs.replace(
                    label, title=source.title, small=small, fill=source.fill, bound=True, whole=source.whole
                )
            )
        else:
            then.append(label)
    half = (wide - 2 * MARGIN - 8) / 2
    top = MARGIN + 28
    title = (
        f"{surface} in {profile}: {gain:.1%} less effort"
        if moves
        else f"{surface} in {profile}: nothing gains anything"
    )
    items: list[Item] = [*heading(title, wide, how)]
    items += _ramp(MARGIN, MARGIN + 11, int(max(counts.values(), default=0)), how)
    size = 12 * POINT
    for number, (word, labels) in enumerate((("now", now), ("then", then))):
        x = MARGIN + number * (half + 8)
        items.append(
            Words(x, top - 3, word, size, how.measure(word, True).wide * size, how.theme.text, bold=True, middle=False)
        )
        items += fitted(labels, body, (x, top, half, high - MARGIN - top), how).items
    return Page(wide, high, how.theme.page, tuple(items), title)


def _page(
    title: str, labels: Sequence[Label], body: tuple[float, float], notes: Sequence[str], how: Look, most: int
) -> Page:
    high, wide = PAPERS["a4"]
    top = MARGIN + 19
    area = (MARGIN, top, wide - 2 * MARGIN, high - MARGIN - top)
    items = [
        *heading(title, wide, how),
        *_ramp(MARGIN, MARGIN + 11, most, how),
        *fitted(labels, body, area, how, notes).items,
    ]
    return Page(wide, high, how.theme.page, tuple(items), title)


def _ramp(x: float, y: float, most: int, how: Look) -> Iterator[Item]:
    """What the colours mean."""
    size = 8.5 * POINT
    for text, share in (
        (f"{round(most * (step / _STEPS) ** 2):,}", (step / _STEPS) ** 2) for step in range(_STEPS + 1)
    ):
        room = how.measure(text, False)
        yield Box(x, y, 5.0, 3.3, 1.0, heat(share), Pen("#333333", 0.3))
        yield Words(x + 6.5, y + 2.7, text, size, room.wide * size, how.theme.faint, middle=False)
        x += 11 + room.wide * size
    room = how.measure("uses", False)
    yield Words(x - 3, y + 2.7, "uses", size, room.wide * size, how.theme.faint, middle=False)


def draw_timeline(path: Path, title: str, usage: Usage, counted: Tally, bindings: Mapping[int, Binding]) -> None:
    """The uses of each week by level, and, beneath, what is used more and more, or less and less. Raises OSError."""
    import matplotlib
    from matplotlib.figure import Figure

    from fenko.tuning.picture import save

    totals: dict[str, int] = {}
    for one in usage.used:
        totals[one.level] = totals.get(one.level, 0) + one.uses
    levels = sorted(totals, key=lambda level: -totals[level])
    drifting = sorted((one for one in usage.used if one.later != 1.0), key=lambda one: -one.uses)[: len(_COLOURS) - 1]
    with matplotlib.rc_context({"svg.fonttype": "none", "svg.hashsalt": "fenko", "font.size": 10}):
        figure = Figure(figsize=(12.8, 8.0 if drifting else 4.8), dpi=100, layout="constrained", facecolor="white")
        figure.suptitle(title, fontweight="bold", ha="left", x=0.01)
        plots = figure.subplots(2 if drifting else 1, 1, sharex=True, squeeze=False)[:, 0]
        shown = levels[: len(_COLOURS) - 1]
        groups = [(level, [level]) for level in shown]
        if len(levels) > len(shown):
            groups.append(("all others", levels[len(shown) :]))
        weeks: list[float] = []
        rows = []
        for _, mine in groups:
            numbers = [number for number, one in bindings.items() if one.level in mine and one.counts]
            weeks, table = by_week(counted, numbers)
            rows.append(table.sum(axis=0))
        edges = [week / 86_400 for week in weeks]
        plots[0].stackplot(edges, *rows, labels=[name for name, _ in groups], colors=_COLOURS, step="post", linewidth=0)
        plots[0].set_title("uses a week", loc="left", fontsize=10)
        plots[0].legend(loc="upper left", bbox_to_anchor=(1.0, 1.0), frameon=False, fontsize=9)
        if drifting:
            _drift(plots[1], edges, drifting, counted, bindings)
        for plot in plots:
            plot.spines[["top", "right"]].set_visible(False)
            plot.set_ylim(bottom=0)
            plot.margins(x=0)
        _dates(plots[-1], edges)
        save(figure, path)


def _drift(
    plot: Any, edges: list[float], drifting: Sequence[Used], counted: Tally, bindings: Mapping[int, Binding]
) -> None:
    plot.set_title("more and more, or less and less: share of its level, %", loc="left", fontsize=10)
    for colour, one in zip(_COLOURS, drifting, strict=False):
        same = [number for number, other in bindings.items() if other.level == one.level and other.counts]
        mine = [number for number in same if (bindings[number].control, bindings[number].gesture, bindings[number].does) == (one.control, one.gesture, one.does)]  # fmt: skip
        whole, own = by_week(counted, same)[1].sum(axis=0), by_week(counted, mine)[1].sum(axis=0)
        there = whole > 0
        words = f"{shortened(one.does, 24)} ({one.control})\n× {one.later:.2g}"
        weeks = [week for week, is_there in zip(edges, there, strict=True) if is_there]
        plot.plot(weeks, 100 * own[there] / whole[there], color=colour, linewidth=1.8, label=words)
    plot.legend(loc="upper left", bbox_to_anchor=(1.0, 1.0), frameon=False, fontsize=9)


def _dates(plot: Any, edges: list[float]) -> None:
    months = [time.gmtime(day * 86_400)[:2] for day in edges]
    firsts = [at for at, month in enumerate(months) if not at or month != months[at - 1]]
    step = -(-len(firsts) // 14) or 1
    plot.set_xticks([edges[at] for at in firsts[::step]], [time.strftime("%b %Y" if months[at][1] == 1 or not at else "%b", time.gmtime(edges[at] * 86_400)) for at in firsts[::step]])  # fmt: skip
