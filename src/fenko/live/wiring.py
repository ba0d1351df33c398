"""Chooses the output of keys and pointer: the one that the desk names, or what works here, and says why."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Protocol

from msgspec import Struct

from fenko.core.changes import Effect
from fenko.core.remedies import together
from fenko.outputs.kernel import KernelOutput
from fenko.outputs.keys import KeyOutput, OutputError
from fenko.outputs.layout import kernel_layout
from fenko.outputs.x11 import Ledger, X11Output
from fenko.system.xserver import display_name, on_wayland


class Output(Protocol):
    """What the session needs of any output."""

    name: str

    def send(self, effects: Sequence[Effect]) -> None: ...

    def pass_motion(self, raw: bytes) -> None: ...

    def close(self) -> None: ...


class Choice(Struct, frozen=True):
    """An output that is open, with the reason in words."""

    output: KeyOutput
    why: str


def choose_output(keys: str, layout: str | None, warn: Callable[[str], None], ledger: Ledger | None) -> Choice:
    """The output for `keys` (auto, kernel or x11). Raises OutputError with every reason and every remedy."""

    def kernel() -> Choice:
        chosen = kernel_layout(layout)
        return Choice(KernelOutput(chosen, warn), f"with layout {chosen.name}, from {chosen.source}")

    def x11() -> Choice:
        return Choice(X11Output(warn, ledger), f"display {display_name()}")

    makers = {"kernel": kernel, "x11": x11}
    if keys != "auto":
        return makers[keys]()
    first, reason = _preferred()
    failures: list[OutputError] = []
    for name in (first, "kernel" if first == "x11" else "x11"):
        try:
            choice = makers[name]()
        except OutputError as why:
            failures.append(why)
            continue
        reasons = reason if name == first else f"because {failures[0]}"
        return Choice(choice.output, f"{choice.why}; {reasons}")
    raise OutputError(
        "no way to send keys: " + "; ".join(str(failure) for failure in failures),
        together(failure.remedy for failure in failures),
    )


def _preferred() -> tuple[str, str]:
    """Which output comes first in this session, and why."""
    if on_wayland():
        return "kernel", "a Wayland session, where the X server reaches only some programs"
    if display_name():
        return "x11", "an X11 session, whose layout in force decides which key is which"
    return "kernel", "no display is set"
