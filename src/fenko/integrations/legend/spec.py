"""The legend over all windows, as long as a control is held."""

from __future__ import annotations

from fenko.core.reader import Reader
from fenko.core.registration import Act, Argument, Held, Output, Queued, Said, Verb
from fenko.core.steps import Hold, Step

_ALL = "legend"


class Show(Said, frozen=True):
    """`what` is shown as long as the control is held."""

    what: str


def _read(reader: Reader, verb: str) -> str:
    word, start = reader.argument(verb, "`legend`")
    if word != _ALL:
        raise reader.error(f"`{word}` is nothing that can be shown", word, start, _ALL)
    return word


def _steps(said: Show) -> tuple[Step, ...]:
    return (Hold((("legend", said.what),)),)


OUTPUT = Output(
    "legend",
    "Legend",
    "Shows what each control does now, in a window over all others that the pointer and the keyboard do not notice.",
    "fenko.integrations.legend.worker:LegendWorker",
    verbs=(
        Verb("show", Show, (Argument("legend", _read, str, (_ALL,)),), _steps, "show legend",
             "shows what each control does now, over all windows, while the control is held"),
    ),
    acts=(
        Act("legend", "show", (), lambda: "shows the legend", "until it is hidden", queued=lambda: Queued("begin", (_ALL,))),
        Act("legend", "hide", (), lambda: "hides the legend", "", queued=lambda: Queued("end", (_ALL,))),
    ),
    held=(Held("legend", lambda name: ("show",), lambda name: ("hide",), lambda name: "show legend"),),
    ready="fenko.integrations.legend.worker:ready",
    place=90,
)  # fmt: skip
