"""The first desk of a person: every surface that is there, a few bindings that do no harm, a comment on every line."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from msgspec import Struct

from fenko.core.circumstances import Focus
from fenko.core.patterns import fitting
from fenko.core.plan import BASE, Surface
from fenko.core.verbs.desk import PROFILE_WORDS
from fenko.core.words import slug_of
from fenko.desk.writing import key, quoted

_USUAL_NAMES = {
    "gamepad": "pad", "keypad": "keypad", "keyboard": "keyboard", "mouse": "mouse", "dial": "dial",
    "ring-and-dial": "jog", "macro-pad": "keys", "midi": "controller", "board": "board",
    "other": "thing",
}  # fmt: skip
_COMMENTS_AT = 62


class Found(Struct, frozen=True):
    """A thing for the first desk: what it is called, its links, and its controls by the kernel's names. One that is
    not `used` is mentioned and left alone."""

    called: str
    surface: Surface
    links: tuple[str, ...] = ()
    description: str | None = None
    controls: tuple[str, ...] = ()
    used: bool = True


class _Idea(Struct, frozen=True):
    """A binding to begin with: for a control of a kind, at what address below it, and why."""

    control: str
    part: str
    phrase: str
    label: str
    why: str


_BASE_IDEAS: dict[str, Sequence[_Idea]] = {
    "gamepad": (
        _Idea("start", "", "pause", "Fenko off and on", "works while Fenko is paused, too"),
        _Idea("select", "tap", "profile next", "Next profile", "let go before timing.hold"),
        _Idea("select", "hold", "profile auto", "Follow the window", "kept down for longer; the way back"),
    ),
    "dial": (
        _Idea("dial", "left", "volumedown", "Quieter", "once for each detent"),
        _Idea("dial", "right", "volumeup", "Louder", "once for each detent"),
    ),
}
_PROGRAM_IDEAS: dict[str, Sequence[_Idea]] = {
    "gamepad": (
        _Idea("south", "", "ctrl+z", "Undo", "down and up with your thumb, so it repeats while held"),
        _Idea("east", "", "ctrl+shift+z", "Redo", "`+` joins keys that are down together"),
        _Idea("hat", "left", "left", "Back", "each direction is bound on its own"),
        _Idea("hat", "right", "right", "On", "each direction is bound on its own"),
    ),
    "keypad": (
        _Idea("kp5", "", "space", "Play and stop", "all other keys type what they always did"),
        _Idea("kpenter", "", "ctrl+s", "Save", "`fenko check` says if your layout cannot make a key"),
    ),
    "mouse": (
        _Idea("side", "", "ctrl+z", "Undo", "down and up with your thumb"),
        _Idea("1", "", "ctrl+z", "Undo", "the first thumb key"),
        _Idea("2", "", "ctrl+shift+z", "Redo", "the second one"),
    ),
    "dial": (
        _Idea("dial", "left", "left", "Back", "this profile owns the dial; the one of base is hidden here"),
        _Idea("dial", "right", "right", "On", "once for each detent"),
    ),
    "ring-and-dial": (
        _Idea("dial", "left", "left", "Back", "once for each detent"),
        _Idea("dial", "right", "right", "On", "once for each detent"),
        _Idea("ring", "left", "shift+left", "Far back", "down as long as the ring is turned"),
        _Idea("ring", "right", "shift+right", "Far on", "down as long as the ring is turned"),
    ),
    "macro-pad": (
        _Idea("f13", "", "ctrl+z", "Undo", "the first key"),
        _Idea("f14", "", "ctrl+s", "Save", "the second one"),
        _Idea("button-1", "", "ctrl+z", "Undo", "the first key"),
    ),
}  # fmt: skip


def surface_name(kind: str, taken: Iterable[str]) -> str:
    """What the next surface of that kind is called, in a desk that has the `taken` ones."""
    usual, others = _USUAL_NAMES[kind], set(taken)
    return next(name for name in (usual, *(f"{usual}-{number}" for number in range(2, 1000))) if name not in others)


def starting_desk(name: str, found: Sequence[Found], focus: Focus | None) -> str:
    """The text of a `desk.toml` for what was found, with an example for the window `focus`."""
    used = [one for one in found if one.used]
    lines = [
        "# Your desk: what is on it, and what each control means in each program.",
        "# `fenko watch` shows every control by its name, `fenko check` finds mistakes, `fenko run` starts it.",
        "# A `#` begins a comment: change what you like.",
        "",
        _line("format = 1", "the version of this file format"),
        _line(f"name = {quoted(name)}", "what you call it"),
        "",
        "# --- Surfaces: the things with controls. The name after `surface.` is yours; bindings use it. ---",
    ]
    for one in found:
        lines += ["", *_surface(one)]
    lines += [
        "",
        "# --- Times ---",
        "",
        "[timing]",
        _line('hold = "220ms"', "shorter is a tap, longer a hold"),
        "",
        "# --- What holds in every program. A profile owns what it mentions; base lies under them all. ---",
        *_bindings(BASE, used, _BASE_IDEAS),
        "",
        "# --- An example: what holds while one program is in front. `fenko windows` prints this for any other. ---",
        "",
        *_program(used, focus),
    ]
    return "\n".join(lines) + "\n"


def _line(setting: str, comment: str) -> str:
    """A setting and what it is; a device may call itself anything, also what would end a comment."""
    comment = "".join(character if character.isprintable() else " " for character in comment)
    return f"{setting:<{_COMMENTS_AT}}  # {comment}"


def _surface(one: Found) -> list[str]:
    name = one.surface.name
    lines = [
        _line(f"[surface.{name}]", one.called),
        _line(f"kind = {quoted(one.surface.kind)}", "decides which controls it can have"),
    ]
    if one.description:
        lines.append(
            _line(f"description = {quoted(one.description)}", f"knows it: `fenko sheet --plan {name}` draws it")
        )
    links = f"links = [{', '.join(map(quoted, one.links))}]"
    lines.append(_line(links, "every way it can turn up" if one.links else "`fenko devices` prints what belongs here"))
    lines.append(_line("exclusive = true", "other programs do not see it while Fenko runs"))
    lines.append(_line('unbound = "pass"', "what has no binding works as it always did; or drop"))
    if one.used:
        return lines
    return [f"# {line}" for line in ("Here too, and left alone. Without the `#` it becomes a surface:", *lines)]


def _bindings(profile: str, used: Sequence[Found], ideas: dict[str, Sequence[_Idea]]) -> list[str]:
    lines: list[str] = []
    for one in used:
        fitting = [idea for idea in ideas.get(one.surface.kind, ()) if idea.control in one.controls]
        if fitting:
            lines += ["", _line(f"[profile.{profile}.on.{one.surface.name}]", f"on the {one.surface.name}")]
        for idea in fitting:
            at = key(one.surface.own_name(idea.control)) + (f".{idea.part}" if idea.part else "")
            lines.append(_line(f"{at} = {{ do = {quoted(idea.phrase)}, label = {quoted(idea.label)} }}", idea.why))
    return lines


def _program(used: Sequence[Found], focus: Focus | None) -> list[str]:
    app = focus.app if focus is not None and focus.app else "your-program"
    name = slug_of(app)
    if name in PROFILE_WORDS or name == BASE:
        name += "-program"
    where = "the window that was in front" if focus is not None and focus.app else "put the app id of a program here"
    return [
        _line(f"[profile.{name}]", "the name is yours"),
        _line(f"when = {{ app = {quoted(fitting(app))} }}", where),
        *_bindings(name, used, _PROGRAM_IDEAS),
    ]
