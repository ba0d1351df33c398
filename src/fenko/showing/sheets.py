"""Reference sheets of a desk's profiles: each surface with every layer, where its controls sit and as a table; and key labels."""

from __future__ import annotations

import html
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

from msgspec import Struct, structs

from fenko.core.plan import BASE, Level, Plan, Profile, Surface
from fenko.core.stack import stack_of
from fenko.desk.load import Desk
from fenko.desk.meanings import Row, rows
from fenko.drawing import terminal
from fenko.drawing.cutouts import Cutout, Group, cutout_pages, icon_pages, too_large
from fenko.drawing.labels import Label
from fenko.drawing.plans import DARK, MARGIN, PAPER, PAPERS, Look, fitted, heading, key
from fenko.drawing.scene import Page
from fenko.drawing.tables import table_pages
from fenko.showing.shown import Surfaces, on_a_plan

_COLUMNS = ("control", "", "does", "with", "note")
_WIDE = 100  # columns of a plan in characters


class Part(Struct, frozen=True):
    """One surface in one profile, or in one layer of it (empty: in none): what stands on it, and all that it does there. Of a
    layer only what comes from it."""

    profile: str
    layer: str
    surface: Surface
    labels: tuple[Label, ...]
    body: tuple[float, float]
    rows: tuple[Row, ...]

    @property
    def together(self) -> list[str]:
        """What several controls at once do, and what has no place of its own besides."""
        return [
            on_a_plan(f"{' '.join(filter(None, (row.control, row.how)))}: {row.title}")
            for row in self.rows
            if row.together
        ]

    @property
    def title(self) -> str:
        """What is in force."""
        return f"{self.profile}, layer {self.layer}" if self.layer else self.profile


def parts(desk: Desk, profiles: Sequence[str], surfaces: Sequence[str]) -> Iterator[Part]:
    """Everything that these profiles do with these surfaces, in the desk's order; what adds nothing to base is left out."""
    shown = Surfaces(desk)
    for name in profiles:
        profile = desk.plan.profiles[name]
        inherited = {level.name for level in _all_levels(desk.plan.profiles[BASE])} if name != BASE else set()
        for surface in (desk.plan.surfaces[one] for one in surfaces):
            for layer in ("", *profile.layers):
                stack = stack_of(desk.plan, name, *((layer,) if layer else ()))
                own = {level.name for level in (profile.layers[layer].levels if layer else profile.levels)} - inherited
                found = tuple(rows(stack, surface, shown.controls(surface)))
                if any(row.level in own for row in found):
                    labels = tuple(one.label for one in shown.shown(surface, stack))
                    kept = tuple(row for row in found if row.level in own) if layer else found
                    yield Part(name, layer, surface, labels, shown.described(surface).body, kept)


def _all_levels(profile: Profile) -> list[Level]:
    return [*profile.levels, *(level for layer in profile.layers.values() for level in layer.levels)]


def binding_profiles(plan: Plan) -> list[str]:
    """The profiles that bind anything themselves, in the desk's order."""
    found = []
    for name, profile in plan.profiles.items():
        layers = (level for layer in profile.layers.values() for level in layer.levels)
        if any(level.controls for level in (*profile.levels[-1:], *layers)):
            found.append(name)
    return found


def look(dark: bool) -> Look:
    """How sheets look; loads what draws them."""
    from fenko.drawing.painter import measure

    return Look(DARK if dark else PAPER, measure)


def pages(found: Sequence[Part], dark: bool, paper: str) -> Iterator[Page]:
    """Lying pages: the plans of each profile, and then its table."""
    how = look(dark)
    for profile in dict.fromkeys(part.profile for part in found):
        own = [part for part in found if part.profile == profile]
        for part in own:
            yield _plan_page(part, how, paper)
        groups = [
            (
                f"{part.surface.name}, layer {part.layer}" if part.layer else part.surface.name,
                [_cells(row) for row in part.rows],
            )
            for part in own
        ]
        yield from table_pages(profile, _COLUMNS, groups, how, paper)


def _plan_page(part: Part, how: Look, paper: str) -> Page:
    high, wide = PAPERS[paper]
    top = MARGIN + 19
    items = [*heading(part.title, wide, how, part.surface.name), *key(part.labels, MARGIN, MARGIN + 11, how)]
    area = (MARGIN, top, wide - 2 * MARGIN, high - MARGIN - top)
    return Page(
        wide, high, how.theme.page, (*items, *fitted(part.labels, part.body, area, how, part.together).items),
        f"{part.surface.name}: {part.title}",
    )  # fmt: skip


def _cells(row: Row) -> tuple[str, ...]:
    return (row.control, row.how, row.title, row.phrase, row.note)


def markdown(found: Sequence[Part]) -> str:
    """The same as Markdown, plans as characters."""
    lines: list[str] = []
    for part in found:
        lines += [f"## {part.surface.name}: {part.title}", ""]
        drawn = terminal.draw(part.labels, part.body, _WIDE, lambda text, label: text)
        if drawn is not None:
            lines += ["```text", *drawn, *part.together, "```", ""]
        table = [_COLUMNS, *map(_cells, part.rows)]
        used = [number for number in range(len(_COLUMNS)) if any(row[number] for row in table[1:])]
        lines += [
            "| " + " | ".join(_escaped(table[0][number]) for number in used) + " |",
            "| " + " | ".join("---" for _ in used) + " |",
        ]
        lines += ["| " + " | ".join(_escaped(row[number]) for number in used) + " |" for row in table[1:]]
        lines.append("")
    return "\n".join(lines)


def _escaped(text: str) -> str:
    return "".join(f"\\{one}" if one in "\\`*_{}[]<>#|~" else one for one in text.replace("\n", " "))


def page_of_html(found: Sequence[Part], title: str, dark: bool) -> str:
    """The same as one page for a browser or for paper, which needs nothing else."""
    from fenko.drawing.svg import inline

    how = look(dark)
    theme = how.theme
    body = [f"<h1>{html.escape(title)}</h1>"]
    for part in found:
        heading_text = html.escape(f"{part.surface.name}: {part.title}")
        drawn = fitted(part.labels, part.body, (1.0, 1.0, 265.0, 175.0), how, part.together)
        picture = Page(267.0, drawn.high + 2.0, theme.page, drawn.items, f"{part.surface.name}: {part.title}")
        body += [f"<section><h2>{heading_text}</h2>", inline(picture)]
        head = "".join(f"<th>{column or 'how'}</th>" for column in _COLUMNS)
        body.append(f"<table><thead><tr>{head}</tr></thead><tbody>")
        body += [
            "<tr>" + "".join(f"<td>{html.escape(cell)}</td>" for cell in _cells(row)) + "</tr>" for row in part.rows
        ]
        body.append("</tbody></table></section>")
    style = _STYLE.format(page=theme.page, text=theme.text, edge=theme.body_edge)
    head = (
        f'<meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>{html.escape(title)}</title>'
    )
    return (
        f'<!DOCTYPE html>\n<html lang="en"><head>{head}<style>{style}</style></head>\n<body>\n'
        + "\n".join(body)
        + "\n</body></html>\n"
    )


_STYLE = """
body {{ margin: 1.5rem auto; max-width: 72rem; padding: 0 1rem; background: {page}; color: {text}; font: 16px/1.45 sans-serif }}
svg {{ display: block; width: 100%; height: auto }}
table {{ border-collapse: collapse; width: 100%; margin: 1rem 0 2.5rem }}
th, td {{ text-align: left; vertical-align: top; padding: 0.25rem 0.6rem 0.25rem 0; border-bottom: 1px solid {edge}; overflow-wrap: anywhere }}
@media print {{ section {{ break-inside: avoid-page }} }}
"""


def data(found: Sequence[Part]) -> list[dict[str, Any]]:
    """The same as plain data."""
    return [
        {
            "profile": part.profile, "layer": part.layer, "surface": part.surface.name,
            "does": [structs.asdict(row) for row in part.rows],
        }
        for part in found
    ]  # fmt: skip


def labels_to_cut(desk: Desk, surface: Surface, profiles: Sequence[str], layer: str) -> list[Group]:
    """Key labels of a surface, as each of these profiles (with a layer on) wants them."""
    shown = Surfaces(desk)
    order = {name: number for number, name in enumerate(shown.controls(surface))}
    groups = []
    for name in profiles:
        stack = stack_of(desk.plan, name, *((layer,) if layer else ()))
        found = [Cutout(one.label, one.meaning.control) for one in shown.shown(surface, stack) if one.label.bound]
        found.sort(key=lambda one: order[one.control])
        if found:
            groups.append(Group(f"{surface.name}: {name}" + (f", layer {layer}" if layer else ""), tuple(found)))
    return groups


def pages_of_labels(groups: Sequence[Group], title: str, copies: int, paper: str) -> tuple[list[Page], list[str]]:
    """Standing pages, and the names of controls whose letters can hardly be read. Raises ValueError if a label is larger than
    the paper."""
    for group in groups:
        for cutout in group.cutouts:
            if too_large(cutout, paper):
                wide, high = cutout.label.spot.size
                raise ValueError(f"the label of {cutout.control} ({wide:g} × {high:g} mm) is larger than the paper")
    return cutout_pages(title, groups, copies, look(False), paper)


def pages_of_icons(names: Sequence[str], title: str, dark: bool, paper: str) -> list[Page]:
    """Standing pages with icons and their names."""
    return list(icon_pages(title, names, look(dark), paper))


def write(path: Path, pages: Sequence[Page], title: str) -> list[Path]:
    """Writes pages as what the file's ending says (svg, png, pdf), each into a file of its own where one holds but one. Raises
    OSError."""
    from fenko.drawing import painter
    from fenko.drawing.svg import svg
    from fenko.system.files import whole_file

    form = path.suffix[1:].lower()
    if form == "pdf":
        painter.write_pdf(path, pages, title)
        return [path]
    digits = len(str(len(pages)))
    written = []
    for number, page in enumerate(pages, 1):
        own = path if len(pages) == 1 else path.with_name(f"{path.stem}-{number:0{digits}}{path.suffix}")
        with whole_file(own, 0o644) as file:
            if form == "png":
                painter.write_png(file, page)
            else:
                file.write(svg(page).encode())
        written.append(own)
    return written
