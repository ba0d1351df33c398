"""Sounds: files of the desk's folder, played when a hand wants them."""

from __future__ import annotations

import re
from collections.abc import Iterable
from pathlib import Path

from fenko.core.reader import Reader, in_quotes
from fenko.core.registration import Act, Argument, Held, Output, Queued, Said, Surrounding, Unsettled, Verb
from fenko.core.steps import Hold, Send, Step
from fenko.core.words import nearest
from fenko.integrations.wording import filled

KINDS = (".wav", ".flac", ".ogg", ".mp3")
_MOST_FILES = 200
_LEVEL = re.compile(r"(\d+(?:\.\d+)?)%")


class PlaySound(Said, frozen=True):
    """A file is played (empty: all that play stop), at a level (0 to 1); `held`: as long as the control is; `alone`: what
    played before stops."""

    file: str
    level: float = 1.0
    held: bool = False
    alone: bool = False


def _read_file(reader: Reader, verb: str) -> str:
    if reader.peek() == "stop":
        reader.word()
        return ""
    return reader.quoted(verb)


def _read_level(reader: Reader, verb: str) -> float:
    if reader.peek() != "at":
        return 1.0
    reader.word()
    word, start = reader.argument("at", "a level, such as 60%")
    found = _LEVEL.fullmatch(word)
    if found is None or float(found[1]) > 100:
        raise reader.error(f"`{word}` is no level: 0% to 100%", word, start)
    return round(float(found[1]) / 100, 6)


def _read_held(reader: Reader, verb: str) -> bool:
    if reader.peek() != "while":
        return False
    reader.word()
    word, start = reader.argument("while", "`held`")
    if word != "held":
        raise reader.error("a sound plays `while held`, or to its end", word, start, "held")
    return True


def _read_alone(reader: Reader, verb: str) -> bool:
    if reader.peek() != "alone":
        return False
    reader.word()
    return True


def _write_level(level: float) -> str:
    return "" if level == 1 else f"at {f'{level * 100:.4f}'.rstrip('0').rstrip('.')}%"


def _steps(said: PlaySound) -> tuple[Step, ...]:
    if not said.file:
        return (Send("sound", "stop", ()),)
    if said.held:
        return (Hold((("sound", f"{said.level:g} {int(said.alone)} {said.file}"),)),)
    return (Send("sound", "play", (said.file, said.level, *((True,) if said.alone else ()))),)


def _begins(name: str) -> tuple[object, ...]:
    level, alone, file = name.split(" ", 2)
    return ("play", file, float(level), *((True,) if alone == "1" else ()))


def _settle(said: PlaySound, around: Surrounding) -> Iterable[Said]:
    if not said.file:
        return (said,)
    root = around.folder.resolve()
    if Path(said.file).is_absolute() or ".." in Path(said.file).parts:
        raise Unsettled(f"`{said.file}` lies outside the desk's folder", said.file, "a file of the desk's folder")
    try:
        files = sorted(
            path for path in around.folder.glob(said.file) if path.is_file() and path.resolve().is_relative_to(root)
        )
    except (ValueError, OSError, NotImplementedError):
        files = []
    files = [path for path in files if path.suffix.lower() in KINDS][:_MOST_FILES]
    if not files:
        known = [
            str(path.relative_to(around.folder))
            for kind in KINDS
            for path in sorted(around.folder.glob(f"**/*{kind}"))[:50]
        ]
        raise Unsettled(
            f"there is no sound `{said.file}` in {around.folder}",
            said.file,
            f"a file ({', '.join(KINDS)})",
            nearest(said.file, known),
        )
    return tuple(filled(said, file=str(path.relative_to(around.folder))) for path in files)


def _words(file: str, level: float, alone: bool = False) -> str:
    return " ".join(filter(None, (f'plays "{file}"', _write_level(level), "alone" if alone else "")))


FILE = Argument(
    '"FILE"|stop', _read_file, lambda file: in_quotes(file) if file else "stop", ("clap.wav", "claps/*.wav")
)
LEVEL = Argument("[at N%]", _read_level, _write_level, (1.0, 0.6))
HELD_WORD = Argument("[while held]", _read_held, lambda held: "while held" if held else "", (False, True))
ALONE = Argument("[alone]", _read_alone, lambda alone: "alone" if alone else "", (False, True))

OUTPUT = Output(
    "sound",
    "Sounds",
    "Plays files of the desk's folder (WAV, FLAC, Ogg Vorbis, MP3).",
    "fenko.integrations.sound.worker:SoundWorker",
    verbs=(
        Verb("sound", PlaySound, (FILE, LEVEL, HELD_WORD, ALONE), _steps, 'sound "claps/*.wav" at 60%',
             "plays a file of the desk's folder, with `*` any that matches, never the same twice running; `while held` it "
             "ends with the control, `alone` it stops those before; `sound stop` stops all"),
    ),
    acts=(
        Act("sound", "play", ("file", "level", "alone"), _words, "within the desk's folder; 1 is as loud as the file; whether it stops "
            "those before", mood="change", queued=lambda file, level, alone=False: Queued("begin", (file,))),
        Act("sound", "stop", ("file",), lambda file="": f'stops "{file}"' if file else "stops all sounds",
            "which file, of one that was held", queued=lambda file="": Queued("end", (file,))),
    ),
    held=(
        Held("sound", _begins, lambda name: ("stop", name.split(" ", 2)[2]),
             lambda name: f"sound {in_quotes(name.split(' ', 2)[2])}"),
    ),
    settle=_settle,
    ready="fenko.integrations.sound.worker:ready",
    offers="fenko.integrations.sound.worker:offers",
    simulation="fenko.integrations.sound.simulation:SoundSimulation",
    place=20,
)  # fmt: skip
