"""`fenko learn`: press a control, perform the shortcut, and it is in the desk."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Sequence
from contextlib import ExitStack
from pathlib import Path

import click

from fenko.cli.naming import meant
from fenko.cli.new import window_in_front
from fenko.cli.shared import bold, desk_option, dim, fail, fail_unknown, note, open_desk, say, show_problems, shown_path
from fenko.core.changes import Change
from fenko.core.delays import delays
from fenko.core.macros import Stroke, recorded
from fenko.core.phrase import NAME, Phrase, PhraseError, parse_phrase
from fenko.core.plan import BASE, Binding, Cell, Focus, Level
from fenko.core.recognising import Meant, Recogniser
from fenko.core.script import cells_of
from fenko.core.words import format_time, nearest
from fenko.desk.editing import Edit, EditError, binding_value, set_binding, set_entry, take_back, write
from fenko.desk.judgement import list_of
from fenko.desk.load import Desk, load_desk
from fenko.desk.locate import Path as EntryPath
from fenko.desk.problems import DeskError
from fenko.desk.shortcuts import Shortcut, ShortcutList
from fenko.desk.writing import quoted
from fenko.live.capture import Capture, NoKeyboard
from fenko.live.loop import Loop
from fenko.live.registry import DeskRegistry
from fenko.live.surfaces import Surfaces


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

        fenko learn pad.north.hold "ctrl+shift+o" --profile frames --label "Onion skin"
    """
    desk = open_desk(desk_folder)
    lesson = Lesson(desk, *_where(desk, profile, app, layer))
    extras = {"label": label, "colour": colour, "icon": icon}
    if control is not None and phrase is not None:
        try:
            wanted = lesson.named(control)
            lesson.learn(wanted, parse_phrase(phrase), {name: text or "" for name, text in extras.items()})
        except PhraseError as why:
            fail(f"{why}\n  {phrase}\n  {' ' * why.offset}{'^' * why.length}" + _hint(why.hint), 2)
        except Refused as why:
            fail(str(why), 2)
        return
    sys.exit(_ask(lesson, control, extras, once))


def _hint(word: str | None) -> str:
    return f"\n  did you mean `{word}`?" if word else ""


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
    chosen = desk.plan.choose(focus)
    if app is not None and chosen == BASE:
        fail(f"no profile is for {app}; name a new one: --profile NAME --app {app}", 2)
    return chosen, None, layer


# --- What is learned ---


class Refused(Exception):
    """What cannot be learned; the message says why."""


class Lesson:
    """A desk that learns: where bindings go, and what has been written so far."""

    def __init__(self, desk: Desk, profile: str, app: str | None, layer: str | None) -> None:
        self.desk = desk
        self.profile = profile
        self.layer = layer
        self._app = app
        self._edits: list[list[Edit]] = []

    @property
    def place(self) -> str:
        """Where bindings go, in words."""
        return f"{self.profile}/{self.layer}" if self.layer else self.profile

    @property
    def shortcuts(self) -> ShortcutList | None:
        """The shortcut list of the program that the profile is for."""
        profile = self.desk.plan.profiles.get(self.profile)
        return list_of(self.desk, profile) if profile is not None else None

    def named(self, text: str) -> Meant:
        """The control and gesture that a person names. Ends the program if there is none."""
        cells, gesture = meant(self.desk, text)
        if len(cells) > 1:
            fail(f"`{text}` has directions; name one of {', '.join(cells)}", 2)
        surface, _, rest = cells[0].partition(".")
        if "+" in rest:
            head, _, last = text.rpartition(".")
            written = head if gesture is not None and last == gesture else text
            return Meant(surface, (written.removeprefix(f"{surface}."),), gesture or "press")
        control, *parts = rest.split(".")
        return Meant(surface, (control, *parts), gesture or "press")

    def address(self, what: Meant) -> str:
        """The cell that is meant."""
        found = cells_of(f"{what.surface}.{'.'.join(what.control)}", self.desk.plan.surfaces)
        if isinstance(found, str):
            raise Refused(found)
        return found[1]

    def gesture(self, what: Meant) -> Meant:
        """A short press is a tap where the control has a hold or is tapped already."""
        level = self._level()
        cells = [cell for owned in level.controls.values() for cell in owned] if level else []
        cell = next((cell for cell in cells if cell.address == self.address(what)), None)
        if what.gesture != "press" or cell is None or cell.press is not None or not cell.waits:
            return what
        return Meant(what.surface, what.control, "tap")

    def _level(self) -> Level | None:
        profile = self.desk.plan.profiles.get(self.profile)
        if profile is None:
            return None
        layer = profile.layers.get(self.layer) if self.layer else None
        levels = layer.levels if layer is not None else () if self.layer else profile.levels
        return next((level for level in levels if level.name == self.place), None)

    def now(self, what: Meant) -> list[str]:
        """What the control does now where it is learned, or what lies below that."""
        address = self.address(what)
        profile = self.desk.plan.profiles.get(self.profile) or self.desk.plan.profiles[BASE]
        above = profile.layers[self.layer].levels if self.layer and self.layer in profile.layers else ()
        for level in reversed((*profile.levels, *above)):
            for cells in level.controls.values():
                for cell in cells:
                    if cell.address == address and any(cell.gestures()):
                        return [self._shown(cell, gesture, binding) for gesture, binding in cell.gestures()]
        return []

    def _shown(self, cell: Cell, gesture: str, binding: Binding) -> str:
        where = self.desk.sources.where(self.desk.places.get((cell.profile, cell.address, gesture), ()))
        label = f"{binding.label} · " if binding.label else ""
        below = "" if cell.profile == self.place else f"in {cell.profile}, "
        return f"{gesture}: {label}{binding.words}  {dim(f'({below}{where})')}"

    def learn(self, what: Meant, phrase: Phrase, extras: dict[str, str]) -> None:
        """Writes a binding and says where. Raises Refused if the desk would not work with it."""
        folder = self.desk.sources.folder
        edits: list[Edit] = []
        try:
            if self._app is not None:
                when: EntryPath = ("profile", self.profile, "when")
                edits.append(set_entry(folder, when, f"{{ app = {quoted(self._app)} }}"))
                write(edits[-1])
            value = binding_value(str(phrase), **extras)
            keep = "tap" if what.gesture in ("hold", "double", "triple") else "press"
            edit = set_binding(folder, self._table(what), what.control, what.gesture, value, keep)
            write(edit)
            edits.append(edit)
        except (EditError, DeskError) as why:
            for done in reversed(edits):
                take_back(done)
            if isinstance(why, DeskError):
                raise Refused("\n".join(problem.render() for problem in why.problems)) from None
            raise Refused(str(why)) from None
        hidden = self._below(what)
        self._edits.append(edits)
        self._app = None
        self._reload()
        say(f"{shown_path(edit.path)}:{edit.line}: {edit.text}")
        for line in hidden:
            note(f"  hides {line}")
        if edit.before.count(b"\n") == edit.after.count(b"\n") and keep == "tap" and f"{keep} = " in edit.text:
            note("  what a press did there is done by a tap now, for both would act otherwise")
        self._say_delays(what)

    def _below(self, what: Meant) -> list[str]:
        """What a control did so far by a level below, which owns it no longer once it is bound here."""
        address = self.address(what)
        control = address if "+" in address else ".".join(address.split(".")[:2])
        profile = self.desk.plan.profiles.get(self.profile)
        if profile is None or self.layer is not None:
            return []  # a layer is there to hide things for a while
        owner = next((level for level in reversed(profile.levels) if control in level.controls), None)
        if owner is None or owner.name == self.place:
            return []
        return [
            f"{cell.address.partition('.')[2]} {self._shown(cell, gesture, binding)}"
            for cell in owner.controls[control]
            for gesture, binding in cell.gestures()
        ]

    def _table(self, what: Meant) -> EntryPath:
        layer = ("layer", self.layer) if self.layer else ()
        return ("profile", self.profile, *layer, "on", what.surface)

    def _say_delays(self, what: Meant) -> None:
        plan = self.desk.plan
        address = self.address(what)
        tables = plan.profiles[self.profile].tables
        cell = tables.table.get(address)
        for delay in delays(tables, cell, plan.timing) if cell is not None and not self.layer else ():
            if delay.gesture != "hold":
                note(
                    dim(
                        f"  {delay.gesture} waits {format_time(delay.seconds)} after the {delay.moment}: {delay.reason}"
                    )
                )

    def undo(self) -> str:
        """Takes the last binding back; says what was done."""
        if not self._edits:
            return "there is nothing to undo"
        try:
            for edit in reversed(self._edits[-1]):
                take_back(edit)
        except EditError as why:
            return str(why)
        edit = self._edits.pop()[-1]
        self._reload()
        return f"taken back: {edit.text}"

    def _reload(self) -> None:
        try:
            self.desk = load_desk(self.desk.sources.folder)
        except DeskError as error:
            show_problems(error.problems, err=True)
            sys.exit(2)


# --- Asking ---

_HELP = """  Enter             perform the shortcut on your keyboard; it is taken when you let go
  ctrl+shift+z      or any other phrase, typed (docs/desk.md)
  ?split cut        search the program's shortcut list, then the number
  record            perform several shortcuts; it ends with a pause (record timed: the pauses count)
  -                 leave it as it is"""


def _ask(lesson: Lesson, control: str | None, extras: dict[str, str | None], once: bool) -> int:
    with ExitStack() as stack:
        loop = stack.enter_context(Loop())
        teacher = _Teacher(loop, lesson, extras, once or control is not None)
        stack.callback(teacher.close)
        teacher.start(lesson.named(control) if control is not None else None)
        loop.run()
    note("")
    count = teacher.count
    note(f"{count} binding{'' if count == 1 else 's'} learned" if count else "nothing was learned, and nothing written")
    return 0 if count or not once else 1


class _Teacher:
    """Leads through the lesson: hears the surfaces, reads the person's lines, asks."""

    def __init__(self, loop: Loop, lesson: Lesson, extras: dict[str, str | None], once: bool) -> None:
        self._loop = loop
        self._lesson = lesson
        self._extras = extras
        self._once = once
        self._lines = b""
        self._answer: Callable[[str], None] = self._name_control
        self._what: Meant | None = None
        self._phrase: Phrase | None = None
        self._found: list[Shortcut] = []
        self._chosen: dict[str, str] = {}
        self._capture: Capture | None = None
        self.count = 0
        self._recogniser = Recogniser(lesson.desk.plan.surfaces, lesson.desk.plan.timing)
        self._settle = loop.timer(self._settled)
        self._surfaces = Surfaces(DeskRegistry(lesson.desk), loop, self._feed, lambda raw: None, self._told)

    def start(self, what: Meant | None) -> None:
        """Takes the surfaces over and asks for the first control."""
        self._surfaces.start()
        self._loop.add(sys.stdin.fileno(), self._readable)
        note(f"Learning for {bold(self._lesson.place, True)}. Ctrl-C ends; what is written stays.")
        if what is not None:
            self._begin(what)
        else:
            self._ask_control()

    def close(self) -> None:
        """Gives everything back."""
        if self._capture is not None:
            self._capture.close()
        self._surfaces.close()

    def _told(self, line: str) -> None:
        if "may not be read" in line or ("taken" in line and "over;" in line):
            note(line)

    # --- The control ---

    def _ask_control(self) -> None:
        self._what = None
        self._recogniser.forget()
        self._answer = self._name_control
        _prompt("\nPress a control, or name it (undo, profile NAME, layer NAME, stop): ")

    def _feed(self, changes: Sequence[Change]) -> None:
        for change in changes:
            self._recogniser.feed(change)
        self._heard()

    def _settled(self, now: float) -> None:
        self._recogniser.settle(now)
        self._heard()

    def _heard(self) -> None:
        found = self._recogniser.meant
        self._settle.set(self._recogniser.due)
        if found is None:
            return
        self._recogniser.forget()
        if self._what is None:
            note(bold(found.words, True))
            self._begin(found)

    def _name_control(self, line: str) -> None:
        word, _, rest = line.partition(" ")
        if not line:
            self._ask_control()
        elif line == "stop":
            self._loop.stop()
        elif line == "undo":
            note(f"  {self._lesson.undo()}")
            self._ask_control()
        elif word in ("profile", "layer") and rest:
            self._change_place(word, rest.strip())
        else:
            try:
                what = self._lesson.named(line)
            except SystemExit:
                self._ask_control()  # the message has been given
                return
            self._begin(what)

    def _change_place(self, word: str, name: str) -> None:
        profiles = self._lesson.desk.plan.profiles
        if word == "profile" and name not in profiles:
            hint = nearest(name, profiles)
            note(f"  the desk has no profile `{name}`" + (f"; did you mean `{hint}`?" if hint else ""))
        elif word == "layer" and name != "none" and NAME.fullmatch(name) is None:
            note(f"  `{name}` cannot be a layer's name")
        elif word == "profile":
            self._lesson.profile, self._lesson.layer = name, None
        else:
            self._lesson.layer = None if name == "none" else name
        note(f"  learning for {self._lesson.place}")
        self._ask_control()

    def _begin(self, what: Meant) -> None:
        try:
            what = self._lesson.gesture(what)
            lines = self._lesson.now(what)
        except Refused as why:
            note(f"  {why}")
            self._ask_control()
            return
        self._what = what
        name = f"{what.words}{' press' if what.gesture == 'press' else ''}"
        note(f"  {name} in {self._lesson.place}; now " + ("\n    ".join(lines) if lines else "nothing is bound there"))
        self._ask_action()

    # --- The action ---

    def _ask_action(self) -> None:
        self._answer = self._take_action
        _prompt("  what shall it do? Enter to perform it, or a phrase, ?words, record, - (help): ")

    def _take_action(self, line: str) -> None:
        if line == "help":
            note(_HELP)
            self._ask_action()
        elif line == "-":
            self._next()
        elif line == "":
            self._perform(False, False)
        elif line in ("record", "record timed"):
            self._perform(True, line.endswith("timed"))
        elif line.startswith("?"):
            self._search(line[1:].split())
        elif self._found and line.isascii() and line.isdigit() and 1 <= int(line) <= len(self._found):
            one = self._found[int(line) - 1]
            shortcuts = self._lesson.shortcuts
            assert shortcuts is not None
            self._describe(parse_phrase(f"{shortcuts.app}: {quoted(one.command)}"), one.command)
        else:
            try:
                phrase = parse_phrase(line)
            except PhraseError as why:
                note(f"    {line}\n    {' ' * why.offset}{'^' * why.length} {why}" + _hint(why.hint))
                self._ask_action()
                return
            self._describe(phrase, "")

    def _search(self, words: list[str]) -> None:
        shortcuts = self._lesson.shortcuts
        if shortcuts is None:
            note(f"    {self._lesson.profile} has no shortcut list; `fenko shortcuts APP --import FILE` makes one")
        else:
            self._found = [one for one in shortcuts.search(words) if one.phrase is not None][:15]
            for number, one in enumerate(self._found, 1):
                note(f"    {number:2}  {one.command:<32} {one.keys:<20} {one.group}")
            if not self._found:
                note(f"    {shortcuts.app} has no such command")
        self._ask_action()

    def _perform(self, several: bool, timed: bool) -> None:
        def done(strokes: list[Stroke]) -> None:
            self._capture = None
            phrase = recorded(strokes, timed)
            if phrase is None:
                note("    nothing was performed")
                self._ask_action()
                return
            note(f"    {bold(str(phrase), True)}")
            self._describe(phrase, "")

        try:
            self._capture = Capture(self._lesson.desk, self._loop, several, done)
        except NoKeyboard as why:
            note(f"    {why}")
            self._ask_action()
            return
        self._answer = self._ignore
        note("    perform it now" + (" (a pause ends it)" if several else ""))

    def _ignore(self, line: str) -> None:
        """Lines that come while the keyboard is heard mean nothing."""

    # --- What tells a person about it ---

    def _describe(self, phrase: Phrase, label: str) -> None:
        self._phrase = phrase
        self._found = []
        shortcuts = self._lesson.shortcuts
        command = shortcuts.doing(phrase) if shortcuts is not None else None
        usual = label or (command.command if command else "")
        self._chosen = {}
        self._ask_extra(["label", "colour", "icon"], {"label": usual, "colour": "", "icon": ""})

    def _ask_extra(self, names: list[str], usual: dict[str, str]) -> None:
        while names and self._extras[names[0]] is not None:
            self._chosen[names[0]] = self._extras[names[0]] or ""
            names = names[1:]
        if not names:
            self._write()
            return
        name, *rest = names

        def take(line: str) -> None:
            self._chosen[name] = "" if line == "-" else line or usual[name]
            self._ask_extra(rest, usual)

        self._answer = take
        shown = f" [{usual[name]}]" if usual[name] else ""
        _prompt(f"  {name}{shown}{' (#rrggbb)' if name == 'colour' else ''}: ")

    def _write(self) -> None:
        assert self._what is not None
        assert self._phrase is not None
        try:
            self._lesson.learn(self._what, self._phrase, self._chosen)
        except Refused as why:
            note("\n".join(f"  {line}" for line in str(why).split("\n")))
            self._ask_action()
            return
        self.count += 1
        self._next()

    def _next(self) -> None:
        if self._once:
            self._loop.stop()
        else:
            self._ask_control()

    def _readable(self) -> None:
        data = os.read(sys.stdin.fileno(), 4096)
        if not data:
            self._loop.remove(sys.stdin.fileno())
            self._loop.stop()
            return
        self._lines += data
        while b"\n" in self._lines:
            line, _, self._lines = self._lines.partition(b"\n")
            self._answer(line.decode("utf-8", "replace").strip())


def _prompt(text: str) -> None:
    sys.stderr.write(text)
    sys.stderr.flush()
