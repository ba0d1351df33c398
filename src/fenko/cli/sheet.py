"""`fenko sheet`: a surface on paper, on the screen, in the terminal."""

from __future__ import annotations

import shutil
import sys
from pathlib import Path

import click

from fenko.cli.shared import colour, desk_option, dim, fail, fail_unknown, note, say, show_table, usual_desk
from fenko.core.controls import HELD_BY_HAND, KINDS
from fenko.core.descriptions import Description
from fenko.core.plan import Surface
from fenko.core.stack import stack_of
from fenko.core.words import reason
from fenko.desk.descriptions import Catalogue, kind_description
from fenko.desk.load import Desk
from fenko.drawing import FORMATS, terminal
from fenko.drawing.labels import SORT_WORDS, Label, Sort, labels, remarks

COLOURS: dict[Sort, str] = {
    "button": "bright_white", "pushed": "bright_blue", "directions": "bright_yellow", "turned": "bright_cyan",
    "silent": "bright_black",
}  # fmt: skip


@click.command()
@desk_option
@click.option("--plan", "wanted", metavar="SURFACE", required=True, help="Draw this surface with all its controls.")
@click.option("--out", metavar="FILE", type=click.Path(path_type=Path), help="Into a file: .svg, .png or .pdf.")
@click.option("--dark", is_flag=True, help="For a dark screen instead of paper.")
def command(desk_folder: Path | None, wanted: str, out: Path | None, dark: bool) -> None:
    """Draw a surface with the name of every control where it sits: in the terminal, or into a picture.

    SURFACE is one of the desk; or a description (`fenko devices --known`) or a kind, such as gamepad.
    """
    if out is not None and out.suffix[1:].lower() not in FORMATS:
        fail(f"{out} should end in {', '.join(f'.{form}' for form in FORMATS)}", 2)
    if dark and out is None:
        raise click.UsageError("--dark goes with --out; the terminal has its own colours.")
    title, description, surface = _find(wanted, desk_folder)
    if not description.spots:
        fail(f"nothing is known of the controls of {wanted}; `fenko devices --describe` writes a description")
    shown = labels(description, surface)
    odd = list(remarks(description, surface))
    if out is None:
        _show(title, shown, description, odd)
        return
    from fenko.drawing.picture import draw

    try:
        draw(out, title, shown, description.body, odd, dark)
    except OSError as why:
        fail(f"{out} cannot be written: {reason(why)}")
    note(f"{out} shows {len(shown)} controls of {wanted}")


def _find(wanted: str, desk_folder: Path | None) -> tuple[str, Description, Surface]:
    """Title, description and surface of what is wanted: of the desk, else a description, else a kind."""
    desk = usual_desk(desk_folder)
    catalogue = Catalogue.usual(desk.folder if desk else None)
    if desk is not None and wanted in desk.plan.surfaces:
        surface = desk.plan.surfaces[wanted]
        description = description_of(desk, surface, catalogue)
        called = description.name if description.name.lower() != surface.kind else f"a {surface.kind}"
        return f"{wanted}: {called}", description.laid_out(mentioned(desk, surface)), surface
    known = catalogue.all()
    if wanted in known:
        described = known[wanted]
        return described.name, described.laid_out(), Surface("", described.kind, names=described.names)
    if wanted not in KINDS:
        everything = [*(desk.plan.surfaces if desk else ()), *known, *KINDS]
        fail_unknown(f"there is no surface, description or kind `{wanted}`", wanted, everything)
    return kind_description(wanted).name, kind_description(wanted).laid_out(), Surface("", wanted)


def description_of(desk: Desk, surface: Surface, catalogue: Catalogue) -> Description:
    """The description that the desk names, else one with a link of the surface, else what is usual for its kind."""
    entry = desk.links[surface.name]
    named = catalogue.all().get(entry.description) if entry.description else None
    matching = catalogue.matching(lambda link: link in entry.links)
    if named is None and matching is not None and matching[1].kind == surface.kind:
        named = matching[1]
    return named or kind_description(surface.kind)


def mentioned(desk: Desk, surface: Surface) -> list[str]:
    """The controls, by the kernel's names, that the desk names or binds; also those that no description knows."""
    found = list(surface.names.values())
    for profile in desk.plan.profiles.values():
        for address in stack_of(desk.plan, profile.name).table():
            name, _, rest = address.partition(".")
            kernel = surface.kernel_name(rest.partition(".")[0]) if name == surface.name else None
            if kernel is not None and kernel not in HELD_BY_HAND:
                found.append(kernel)
    return list(dict.fromkeys(found))


def _show(title: str, shown: list[Label], description: Description, odd: list[str]) -> None:
    columns = shutil.get_terminal_size((100, 40)).columns if sys.stdout.isatty() else 100
    say(title)
    sorts = [sort for sort in SORT_WORDS if any(label.sort == sort for label in shown)]
    say("   ".join(colour(SORT_WORDS[sort], COLOURS[sort]) for sort in sorts) + "\n")
    lines = terminal.draw(shown, description.body, columns, lambda text, label: colour(text, COLOURS[label.sort]))
    if lines is None:
        rows = [(label.title, " ".join(label.small), SORT_WORDS[label.sort]) for label in sorted(shown, key=_reading)]
        show_table(("control", "", "is"), rows)
        note(f"\nIts picture needs {terminal.columns_wanted(shown, description.body)} columns, or --out FILE.")
    else:
        for line in lines:
            say(line)
    if odd:
        say("")
    for line in odd:
        say(dim(line))


def _reading(label: Label) -> tuple[float, float]:
    """The order in which one reads: row by row."""
    return (round(label.box[1] / 10), label.box[0])
