"""Talk to the desk that runs, from a program of your own::

    from fenko.client import RunningDesk

    with RunningDesk() as desk:
        print(desk.name, desk.status()["profile"])
        desk.switch("snipwell")
        for status in desk.follow():
            print(status["profile"], status["layers"])

What is said on the way stands in `docs/talking.md`; these names and the fields of what comes back are kept from version to
version of Fenko.
"""

from __future__ import annotations

from collections.abc import Iterator
from types import TracebackType
from typing import Any, Literal

from fenko.system.talking import NobodyThere, Refused, Talk

__all__ = ["NobodyThere", "Refused", "RunningDesk"]


class RunningDesk:
    """The one desk of this person that runs. Every method raises NobodyThere when none does any more, or when none answers
    within `patience` seconds."""

    def __init__(self, patience: float = 10.0) -> None:
        self._patience = patience
        self._talk = Talk(patience)
        about = self._talk.desk
        self.name: str = about["desk"]
        self.folder: str = about["folder"]
        self.given: str = about["given"]
        """What it was started with: its folder, or a file in it."""
        self.process: int = about["process"]

    def status(self) -> dict[str, Any]:
        """What it does now: `profile`, `by` (`hand` or `itself`), `layers`, `paused`, `in front`, `surfaces`, and what it has
        `said` lately."""
        return self._ask("status")

    def values(self) -> dict[str, Any]:
        """Its `values`, where its `controls` are, and how things stand at other ends (`outputs`)."""
        return self._ask("values")

    def switch(self, profile: str) -> str:
        """Puts a profile in force by hand (`next`, `previous`; with `auto` what is in front decides again); the one that is in
        force now. Raises Refused if there is none of that name."""
        name: str = self._ask("switch", profile=profile)["profile"]
        return name

    def pause(self) -> None:
        """Lifts everything, and leaves its surfaces to other programs."""
        self._ask("pause")

    def resume(self) -> None:
        """Takes them again."""
        self._ask("resume")

    def reload(self) -> bool:
        """Reads its files again, which it does by itself when they change; whether they had. Raises Refused with what is wrong
        in them; the desk stays as it was then."""
        return bool(self._ask("reload")["changed"])

    def stop(self) -> None:
        """Ends it, and waits until everything is released."""
        self._ask("stop")
        self._talk.until_gone()

    def follow(self, what: Literal["status", "values"] = "status") -> Iterator[dict[str, Any]]:
        """The same as `status` or `values`, now and each time it has changed, without end."""
        talk = Talk(self._patience)
        try:
            talk.patient()
            yield from talk.ask(what, follow=True)
        finally:
            talk.close()

    def listen(self, what: Literal["status", "values"] = "status") -> Talk:
        """The same as `follow`, for those who wait for other things too: its `fileno` becomes readable, and then `arrived` gives
        what has been told meanwhile, the newest last."""
        talk = Talk(self._patience)
        talk.patient()
        talk.send(what, follow=True)
        return talk

    def _ask(self, word: str, **more: Any) -> dict[str, Any]:
        answers = list(self._talk.ask(word, **more))
        return answers[-1]

    def close(self) -> None:
        """Hangs up."""
        self._talk.close()

    def __enter__(self) -> RunningDesk:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()
