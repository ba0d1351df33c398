"""`fenko learn`: press a control, perform the shortcut, and it is in the desk."""

from __future__ import annotations

import sys
from contextlib import ExitStack
from pathlib import Path

import click

from fenko.cli.binding_editor import BindingEditor, Refused
from fenko.cli.new import window_in_front
from fenko.cli.shared import desk_option, fail, fail_unknown, note, open_desk
from fenko.cli.teacher import Teacher, did_you_mean
from fenko.core.circumstances import Focus
from fenko.core.phrase import parse_phrase
from fenko.core.plan import BASE
from fenko.core.reader import NAME, PhraseError
from fenko.desk.load import Desk
from fenko.live.loop import Loop


@click.command()
@click.argument("control", required=False, metavar="[CONTROL[.GESTURE]]")
@click.argument("phrase", required=False)
@desk_option
@click.option("--profile", metavar="NAME", help="The profile that learns; with --app, it may be new.")
@click.option("--app", metavar="ID", help="The program that it is for, as `fenko windows` prints it.")
@click.option("--layer", metavar="NAME", help="A layer of the profile; it may be new.")
@click.option("--label", metavar="TEXT", help="What the binding is called.")
@click.option("--colour", metavar="#rrggbb", help="Its colour.")
@click.option("--icon", metavar="TEXT", help="Its picture: a character or a file's name.")
@click.option("--once", is_flag=True, help="Learn one binding, and end.")
def command(
    control: str | None,
    phrase: str | None,
    desk_folder: Path | None,
    profile: str | None,
    app: str | None,
    layer: str | None,
    label: str | None,
    colour: str | None,
    icon: str | None,
    once: bool,
) -> None:
    """Learn what a control does: press it, then perform the shortcut on your keyboard.

    Or type a phrase, or search the program's shortcut list. What is learned is written to the right place of the right
    file; every comment stays, and the version before is kept beside it. With CONTROL and PHRASE nothing is asked:

    \b
        fenko learn pad.north.hold "ctrl+shift+o" --profile frames --label "Onion skin"
    """
    desk = open_desk(desk_folder)
    lesson = BindingEditor(desk, *_where(desk, profile, app, layer))
    extras = {"label": label, "colour": colour, "icon": icon}
    if control is not None and phrase is not None:
        try:
            wanted = lesson.named(control)
            lesson.learn(wanted, parse_phrase(phrase), {name: text or "" for name, text in extras.items()})
        except PhraseError as why:
            fail(f"{why}\n  {phrase}\n  {' ' * why.offset}{'^' * why.length}" + did_you_mean(why.hint), 2)
        except Refused as why:
            fail(str(why), why.status)
        return
    sys.exit(_ask(lesson, control, extras, once))


def _where(desk: Desk, profile: str | None, app: str | None, layer: str | None) -> tuple[str, str | None, str | None]:
    """The profile that learns, the app if the profile is to be made for it, and the layer."""
    if layer is not None and NAME.fullmatch(layer) is None:
        fail(f"`{layer}` cannot be a layer's name: lower-case letters, digits, - and _", 2)
    profiles = desk.plan.profiles
    if profile is not None:
        if profile not in profiles and (app is None or NAME.fullmatch(profile) is None):
            hint = "" if app is not None else " (with --app ID it would be made)"
            fail_unknown(f"the desk has no profile `{profile}`{hint}", profile, profiles)
        return profile, app if profile not in profiles else None, layer
    focus = Focus(app) if app is not None else window_in_front() or Focus()
    chosen = desk.plan.for_window(focus)
    if app is not None and chosen == BASE:
        fail(f"no profile is for {app}; name a new one: --profile NAME --app {app}", 2)
    return chosen, None, layer


# --- Asking ---


def _ask(lesson: BindingEditor, control: str | None, extras: dict[str, str | None], once: bool) -> int:
    with ExitStack() as stack:
        loop = stack.enter_context(Loop())
        teacher = Teacher(loop, lesson, extras, once or control is not None)
        stack.callback(teacher.close)
        teacher.start(lesson.named(control) if control is not None else None)
        loop.run()
    note("")
    count = teacher.count
    note(f"{count} binding{'' if count == 1 else 's'} learned" if count else "nothing was learned, and nothing written")
    return 0 if count or not once else 1
