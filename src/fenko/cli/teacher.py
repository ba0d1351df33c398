"""Leads through learning: hears the surfaces, reads the person's lines, asks, and has it written."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from fenko.cli.binding_editor import BindingEditor, Refused
from fenko.cli.lines import Lines, note_trouble, prompt
from fenko.cli.offers import Moved, Offer, offers
from fenko.cli.shared import bold, note
from fenko.core.changes import Change
from fenko.core.macros import Stroke, recorded
from fenko.core.phrase import Phrase, parse_phrase
from fenko.core.reader import NAME, PhraseError
from fenko.core.recognising import Meant, Recogniser
from fenko.core.verbs.keys import Command
from fenko.core.words import nearest
from fenko.desk.compiled import compiled
from fenko.desk.shortcuts import Shortcut
from fenko.live.capture import Capture, NoKeyboard
from fenko.live.far_surfaces import FarSurfaces, if_heard, of_desk
from fenko.live.loop import Loop
from fenko.live.registry import DeskRegistry
from fenko.live.surfaces import Surfaces

_HELP = """  Enter             perform the shortcut on your keyboard; it is taken when you let go
  ctrl+shift+z      or any other phrase, typed (docs/desk.md)
  ?split cut        search the program's shortcut list, then the number
  there             what is there now besides keys: streams, players, ports, programs, sounds; then the number
  moved             move something in another program (a volume, a fader that answers), and it is found
  record            perform several shortcuts; it ends with a pause (record timed: the pauses count)
  -                 leave it as it is"""


def did_you_mean(word: str | None) -> str:
    """A guess at what was meant, as the end of a sentence; nothing without one."""
    return f"\n  did you mean `{word}`?" if word else ""


class Teacher:
    """Leads through the lesson: hears the surfaces, reads the person's lines, asks."""

    def __init__(self, loop: Loop, lesson: BindingEditor, extras: dict[str, str | None], once: bool) -> None:
        self._loop = loop
        self._lesson = lesson
        self._extras = extras
        self._once = once
        self._answer: Callable[[str], None] = self._name_control
        self._what: Meant | None = None
        self._phrase: Phrase | None = None
        self._found: list[Shortcut] = []
        self._offered: list[Offer] = []
        self._moved: Moved | None = None
        self._chosen: dict[str, str] = {}
        self._capture: Capture | None = None
        self.count = 0
        self._recogniser = Recogniser(lesson.desk.plan.surfaces, lesson.desk.plan.timing)
        self._settle = loop.timer(self._settled)
        self._surfaces = Surfaces(DeskRegistry(lesson.desk), loop, self._feed, lambda raw: None, note_trouble)
        self._far: FarSurfaces | None = if_heard(
            lambda: of_desk(loop, compiled(lesson.desk), (), self._far_feed, note_trouble), note_trouble
        )

    def start(self, what: Meant | None) -> None:
        """Takes the surfaces over and asks for the first control."""
        self._surfaces.start()
        Lines(self._loop, lambda line: self._answer(line))
        if not self._surfaces.any_open and self._far is None:
            note("None of this desk's surfaces can be heard now; controls can be named instead (`fenko devices`).")
        note(f"Learning for {bold(self._lesson.place, True)}. Ctrl-C ends; what is written stays.")
        if what is not None:
            self._begin(what)
        else:
            self._ask_control()

    def close(self) -> None:
        """Gives everything back."""
        if self._capture is not None:
            self._capture.close()
        if self._moved is not None:
            self._moved.close()
        self._surfaces.close()
        if self._far is not None:
            self._far.close()

    # --- The control ---

    def _ask_control(self) -> None:
        self._what = None
        self._recogniser.forget()
        self._answer = self._name_control
        prompt("\nPress a control, or name it (undo, profile NAME, layer NAME, stop): ")

    def _far_feed(self, changes: Sequence[Change]) -> None:
        if self._far is not None:
            self._feed(list(map(self._far.inputs.conditioned, changes)))

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
        prompt("  what shall it do? Enter to perform it, or a phrase, ?words, there, moved, record, - (help): ")

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
        elif line == "there":
            self._offer()
        elif line == "moved":
            self._watch_for_moves()
        elif self._offered and line.isascii() and line.isdigit() and 1 <= int(line) <= len(self._offered):
            self._describe(parse_phrase(self._offered[int(line) - 1].phrase), "")
        elif line.startswith("?"):
            self._search(line[1:].split())
        elif self._found and line.isascii() and line.isdigit() and 1 <= int(line) <= len(self._found):
            one = self._found[int(line) - 1]
            shortcuts = self._lesson.shortcuts
            assert shortcuts is not None
            self._describe(Phrase((Command(shortcuts.app, one.command),)), one.command)
        else:
            try:
                phrase = parse_phrase(line)
            except PhraseError as why:
                note(f"    {line}\n    {' ' * why.offset}{'^' * why.length} {why}" + did_you_mean(why.hint))
                self._ask_action()
                return
            self._describe(phrase, "")

    def _offer(self) -> None:
        self._found, self._offered = [], []
        for one in offers(self._lesson.desk):
            if one.phrase:
                self._offered.append(one)
                note(f"    {len(self._offered):2}  {one.phrase:<40} {one.about}")
            else:
                note(f"        {one.about}")
        self._ask_action()

    def _watch_for_moves(self) -> None:
        def found(phrase: str) -> None:
            self._moved = None
            note(f"    {bold(phrase, True)}")
            self._describe(parse_phrase(phrase), "")

        def stop(line: str) -> None:
            if self._moved is not None:
                self._moved.close()
                self._moved = None
            self._ask_action()

        self._moved = Moved(self._lesson.desk, self._loop, found, lambda text: note(f"    {text}"))
        self._answer = stop
        note("    move it now, there; Enter ends")

    def _search(self, words: list[str]) -> None:
        shortcuts = self._lesson.shortcuts
        if shortcuts is None:
            note(f"    {self._lesson.profile} has no shortcut list; `fenko shortcuts APP --import FILE` makes one")
        else:
            self._offered = []
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
        self._found, self._offered = [], []
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
        prompt(f"  {name}{shown}{' (#rrggbb)' if name == 'colour' else ''}: ")

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
