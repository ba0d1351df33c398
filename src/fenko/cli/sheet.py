"""`fenko sheet`: a desk on paper: what its controls do, what they are called, and labels for keys."""

from __future__ import annotations

import shutil
import sys
from collections.abc import Collection, Sequence
from pathlib import Path
from typing import NoReturn

import click

from fenko.cli.shared import (
    bold,
    check_ending,
    colour,
    desk_option,
    dim,
    fail,
    fail_unknown,
    format_option,
    note,
    open_desk,
    say,
    show_json,
    show_table,
    tinted,
    usual_desk,
)
from fenko.core.controls import KINDS
from fenko.core.descriptions import Description
from fenko.core.plan import BASE, Surface
from fenko.core.words import reason, shortened
from fenko.desk.descriptions import Catalogue, kind_description
from fenko.desk.load import Desk
from fenko.drawing import FORMATS, terminal
from fenko.drawing.labels import SORT_WORDS, Label, Sort, labels, remarks
from fenko.drawing.scene import Page
from fenko.showing.shown import description_of, mentioned, reading_order

COLOURS: dict[Sort, str] = {
    "button": "bright_white", "pushed": "bright_blue", "directions": "bright_yellow", "turned": "bright_cyan",
    "silent": "bright_black",
}  # fmt: skip
_TEXTS = ("html", "md")
_MOST_ICONS = 40  # in the terminal, without more words


@click.command()
@click.argument("names", nargs=-1, metavar="[PROFILE]...")
@desk_option
@click.option(
    "--out", metavar="FILE", type=click.Path(path_type=Path), help="Into a file: .pdf, .svg, .png, .html or .md."
)
@click.option("--surface", "surfaces", metavar="SURFACE", multiple=True, help="Only this one; may be said again.")
@click.option("--labels", "labelled", metavar="SURFACE", help="Labels for its keys, at true size, to cut out.")
@click.option("--layer", metavar="LAYER", default="", help="With --labels: as they are with this layer on.")
@click.option("--copies", metavar="N", type=click.IntRange(1, 50), default=1, help="With --labels: so many of each.")
@click.option("--plan", "wanted", metavar="SURFACE", help="The names of its controls instead of what they do.")
@click.option("--icons", is_flag=True, help="The icons that these words find.")
@click.option("--paper", type=click.Choice(["a4", "letter"]), default="a4", show_default=True)
@click.option("--dark", is_flag=True, help="For a dark screen instead of paper.")
@format_option("text", "json")
def command(
    names: tuple[str, ...],
    desk_folder: Path | None,
    out: Path | None,
    surfaces: tuple[str, ...],
    labelled: str | None,
    layer: str,
    copies: int,
    wanted: str | None,
    icons: bool,
    paper: str,
    dark: bool,
    form: str,
) -> None:
    """Print what each control does in these profiles and their layers, where it sits and as a table.

    Without PROFILE all that bind something are printed, without --out in the terminal. Bindings give their label, colour and
    icon; a label with `#1` is too long for its place, and stands beneath.

    \b
    fenko sheet frames --out frames.pdf        reference sheets to print
    fenko sheet --labels keypad --out keys.pdf key labels at true size
    fenko sheet --plan keypad                  what the controls are called; also
                                               of a description or a kind
    fenko sheet --icons mute sound             icons for `icon = "…"`
    """
    modes = [name for name, given in (("--labels", labelled), ("--plan", wanted), ("--icons", icons)) if given]
    if len(modes) > 1:
        raise click.UsageError(f"{' and '.join(modes)} do not go together.")
    if (layer or copies != 1) and not labelled:
        raise click.UsageError("--layer and --copies go with --labels.")
    if surfaces and modes:
        raise click.UsageError(f"--surface does not go with {modes[0]}.")
    if dark and out is None:
        raise click.UsageError("--dark goes with --out; the terminal has its own colours.")
    if form == "json" and (out is not None or wanted or labelled):
        raise click.UsageError("--format json is printed, of sheets and of --icons.")
    check_ending(out, FORMATS if modes else (*FORMATS, *_TEXTS))
    if icons:
        _icons(names, out, paper, dark, form)
    elif wanted:
        if names:
            raise click.UsageError("--plan shows the surface of every profile; leave out PROFILE.")
        _names(wanted, desk_folder, out, paper, dark)
    elif labelled:
        _labels(open_desk(desk_folder), labelled, names, layer, copies, out, paper)
    else:
        _sheets(open_desk(desk_folder), names, surfaces, out, paper, dark, form)


def _sheets(
    desk: Desk, names: tuple[str, ...], surfaces: tuple[str, ...], out: Path | None, paper: str, dark: bool, form: str
) -> None:
    from fenko.showing import sheets

    for name in names:
        _known(name, "profile", desk.plan.profiles)
    for name in surfaces:
        _known(name, "surface", desk.plan.surfaces)
    profiles = list(dict.fromkeys(names)) or sheets.binding_profiles(desk.plan)
    found = list(sheets.parts(desk, profiles, list(dict.fromkeys(surfaces)) or list(desk.plan.surfaces)))
    if form == "json":
        show_json(sheets.data(found))
    if not found:
        fail("nothing is bound there, so there is nothing to print")
    if form == "json":
        return
    if out is None:
        for part in found:
            _show_part(part.title, part.surface, part.labels, part.body)
            for line in part.together:
                say(dim(line))
            say("")
        return
    title = f"{desk.folder.resolve().name}: {', '.join(profiles)}"
    ending = out.suffix[1:].lower()
    if ending in _TEXTS:
        text = sheets.markdown(found) if ending == "md" else sheets.page_of_html(found, title, dark)
        _write_text(out, text)
        note(f"{out}: {len(found)} {'plan' if len(found) == 1 else 'plans'}")
    else:
        _write(out, list(sheets.pages(found, dark, paper)), title)


def _show_part(title: str, surface: Surface, shown: Sequence[Label], body: tuple[float, float]) -> None:
    def style(text: str, label: Label) -> str:
        return tinted(text, (label.colour or COLOURS[label.sort]) if label.bound else "bright_black")

    say(f"{bold(surface.name)}  {title}")
    lines = terminal.draw(shown, body, _columns(), style)
    if lines is None:
        lines = [
            style(", ".join((one.spoken, *one.small)), one) for one in sorted(shown, key=reading_order) if one.bound
        ]
    for line in lines:
        say(line)


def _labels(
    desk: Desk, name: str, profiles: tuple[str, ...], layer: str, copies: int, out: Path | None, paper: str
) -> None:
    from fenko.showing import sheets

    _known(name, "surface", desk.plan.surfaces)
    for profile in profiles or (BASE,):
        _known(profile, "profile", desk.plan.profiles)
        if layer:
            _known(layer, f"layer of {profile} called", desk.plan.profiles[profile].layers)
    if out is None:
        raise click.UsageError("--labels needs --out FILE, such as labels.pdf.")
    groups = sheets.labels_to_cut(desk, desk.plan.surfaces[name], profiles or (BASE,), layer)
    if not groups:
        fail(f"{name} does nothing in {', '.join(profiles or (BASE,))}, so it needs no labels")
    title = f"Labels for {name}"
    try:
        pages, small = sheets.pages_of_labels(groups, title, copies, paper)
    except ValueError as why:
        fail(f"{why}; give the control its `size` in the description")
    _write(out, pages, title)
    if small:
        note(f"hard to read, for their keys are small: {', '.join(small)}; a shorter `label` or an `icon` helps")


def _icons(words: tuple[str, ...], out: Path | None, paper: str, dark: bool, form: str) -> None:
    from fenko.system.icons import search

    found = dict(search(words))
    if form == "json":
        show_json([{"name": name, "words": list(tags)} for name, tags in found.items()])
    if not found:
        fail(f"no icon is found by {' '.join(words)}; any character can be one too")
    if form == "json":
        return
    if out is not None:
        from fenko.showing.sheets import pages_of_icons

        title = f"Icons: {' '.join(words)}" if words else "Icons"
        _write(out, pages_of_icons(list(found), title, dark, paper), title)
        return
    shown = list(found.items())[:_MOST_ICONS]
    show_table(("icon", "found by"), [(name, shortened(", ".join(tags), 70)) for name, tags in shown])
    if len(found) > len(shown):
        note(f"{len(found) - len(shown)} more; say more words, or look at them with --out icons.pdf")


def _write(out: Path, pages: Sequence[Page], title: str) -> None:
    from fenko.showing.sheets import write

    try:
        written = write(out, pages, title)
    except OSError as why:
        _cannot(out, why)
    count = f"{len(pages)} {'page' if len(pages) == 1 else 'pages'}"
    note(f"{out}: {count}" if len(written) == 1 else f"{written[0]} to {written[-1].name}: {count}")


def _write_text(out: Path, text: str) -> None:
    from fenko.system.files import whole_file

    try:
        with whole_file(out, 0o644) as file:
            file.write(text.encode())
    except OSError as why:
        _cannot(out, why)


def _cannot(out: Path, why: OSError) -> NoReturn:
    fail(f"{out} cannot be written: {reason(why)}")


def _known(name: str, what: str, all_known: Collection[str]) -> None:
    if name not in all_known:
        fail_unknown(f"the desk has no {what} `{name}`", name, all_known)


# --- What controls are called ---


def _names(wanted: str, desk_folder: Path | None, out: Path | None, paper: str, dark: bool) -> None:
    title, description, surface = _find(wanted, desk_folder)
    if not description.spots:
        fail(f"nothing is known of the controls of {wanted}; `fenko devices --describe` writes a description")
    shown = labels(description, surface)
    odd = list(remarks(description, surface))
    if out is None:
        _show(title, shown, description, odd)
        return
    from fenko.drawing.plans import poster
    from fenko.showing.sheets import look

    _write(out, [poster(title, shown, description.body, odd, look(dark), paper)], title)


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


def _columns() -> int:
    return shutil.get_terminal_size((100, 40)).columns if sys.stdout.isatty() else 100


def _show(title: str, shown: list[Label], description: Description, odd: list[str]) -> None:
    say(title)
    sorts = [sort for sort in SORT_WORDS if any(label.sort == sort for label in shown)]
    say("   ".join(colour(SORT_WORDS[sort], COLOURS[sort]) for sort in sorts) + "\n")
    lines = terminal.draw(shown, description.body, _columns(), lambda text, label: colour(text, COLOURS[label.sort]))
    if lines is None:
        rows = [
            (label.title, " ".join(label.small), SORT_WORDS[label.sort]) for label in sorted(shown, key=reading_order)
        ]
        show_table(("control", "", "is"), rows)
        note(f"\nIts picture needs {terminal.columns_wanted(shown, description.body)} columns, or --out FILE.")
    else:
        for line in lines:
            say(line)
    if odd:
        say("")
    for line in odd:
        say(dim(line))
