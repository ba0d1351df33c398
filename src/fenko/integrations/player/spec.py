"""Media players on the session's bus (MPRIS 2)."""

from __future__ import annotations

from fenko.core.reader import Reader
from fenko.core.registration import Act, Argument, Output, Queued, Said, Verb, fact_words
from fenko.core.steps import Send, Step
from fenko.core.words import format_time, parse_time
from fenko.integrations.wording import OF, write_of

VERBS = ("play-pause", "play", "pause", "stop", "next", "previous")
SEEKS = {"forward": 1, "back": -1}


class Play(Said, frozen=True):
    """A player does this, or moves so many seconds on."""

    what: tuple[str, float]
    of: str

    def back(self) -> Said | None:
        """The other way: for a dial."""
        word, seconds = self.what
        return Play((_OTHER_WAY[word], seconds), self.of) if word in _OTHER_WAY else None


_OTHER_WAY = {"forward": "back", "back": "forward", "next": "previous", "previous": "next"}


def _read(reader: Reader, verb: str) -> tuple[str, float]:
    known = (*VERBS, *SEEKS)
    word, start = reader.argument(verb, f"one of {', '.join(known)}")
    if word in SEEKS:
        text, at = reader.argument(word, "a time, such as 10s")
        try:
            return word, parse_time(text)
        except ValueError as why:
            raise reader.error(str(why), text, at) from None
    if word not in VERBS:
        from fenko.core.words import nearest

        raise reader.error(f"a player cannot `{word}`: {', '.join(known)}", word, start, nearest(word, known))
    return word, 0.0


def _write(what: tuple[str, float]) -> str:
    return f"{what[0]} {format_time(what[1])}" if what[0] in SEEKS else what[0]


def _steps(said: Play) -> tuple[Step, ...]:
    word, seconds = said.what
    of = said.of or None
    if word in SEEKS:
        return (Send("player", "seek", (of, round(SEEKS[word] * seconds, 6))),)
    return (Send("player", word, (of,)),)


def _whose(of: str | None) -> str:
    return f"player {write_of(of)} " if of else "player "


WHAT = Argument(
    "|".join((*VERBS, *(f"{word} TIME" for word in SEEKS))), _read, _write,
    (("play-pause", 0.0), ("next", 0.0), ("forward", 10.0), ("back", 0.5)),
)  # fmt: skip

OUTPUT = Output(
    "player",
    "Media players",
    "Whatever plays and says so on the session's bus (MPRIS): the one that plays, else the one that played last.",
    "fenko.integrations.player.worker:PlayerWorker",
    verbs=(
        Verb("player", Play, (WHAT, OF), _steps, "player play-pause",
             "the player that plays, else the last one, or those that a pattern names (`of NAME`): `play-pause`, `play`, `pause`, "
             "`stop`, `next`, `previous`, `forward 10s`, `back 10s`"),
    ),
    acts=(
        *(
            Act("player", word, ("of",), lambda of, word=word: _whose(of) + word, "which player; null for the one that plays",
                mood="change")
            for word in VERBS
        ),
        Act("player", "seek", ("of", "seconds"),
            lambda of, seconds: f"{_whose(of)}{'forward' if seconds > 0 else 'back'} {abs(seconds):g} s",
            "which player; so far on, or back", queues="summed", queued=lambda of, seconds: Queued("summed", (of,))),
    ),
    ready="fenko.integrations.player.worker:ready",
    offers="fenko.integrations.player.worker:offers",
    in_words=fact_words(
        playing=lambda playing: "playing" if playing else "not playing",
        title=lambda title: f'"{title}"' if title else "",
        position=lambda at: f"at {int(at // 60)}:{at % 60:04.1f}",
    ),
    simulation="fenko.integrations.player.simulation:PlayerSimulation",
    place=30,
)  # fmt: skip
