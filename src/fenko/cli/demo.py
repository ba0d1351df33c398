"""`fenko demo`: an evening at a made-up workshop, without any device, screen or network."""

from __future__ import annotations

import shutil
import tempfile
import textwrap
import time
from collections import Counter
from collections.abc import Iterable, Iterator
from pathlib import Path

import click

from fenko.cli.shared import bold, colour, dim, fail, open_desk, say
from fenko.cli.timeline import Action, Moment, clip, describe, flowing, moments
from fenko.core.changes import FOCUS, PLUG, UNPLUG, Change
from fenko.core.circumstances import Focus
from fenko.core.keys import MODIFIERS
from fenko.core.phrase import Phrase
from fenko.core.verbs.keys import Keys
from fenko.core.words import reason, width
from fenko.data import DEMO
from fenko.desk.load import Desk
from fenko.devices.take import read_take
from fenko.integrations.simulation import Simulations

_TAKE = DEMO / "takes" / "evening.jsonl"


@click.command()
@click.option("--whole", is_flag=True, help="Tell every gesture of the evening, not only what is new each time.")
@click.option("--instant", is_flag=True, help="Print everything at once instead of at the pace of reading.")
@click.option(
    "--keep",
    metavar="DIR",
    type=click.Path(path_type=Path),
    help="Copy the demo's desk and takes to a new folder, to start from, and end.",
)
def command(whole: bool, instant: bool, keep: Path | None) -> None:
    """See Fenko at work on a made-up desk: an evening at a stop-motion workshop, told in less than a minute.

    Every line is worked out now, by the same engine that runs live; only the hands are recorded.
    """
    if keep is not None:
        _keep(keep)
        return
    desk = open_desk(DEMO)
    take = read_take(_TAKE, desk.plan.surfaces)
    say(bold(f"{desk.name}: {take.name.lower()}"))
    say("Two people animate a moth. Their hands stay on the surfaces; the profile follows the program in front.")
    try:
        account = Account(desk)
        for line in account.tell(take.changes) if whole else _news(account.tell(take.changes)):
            text = line.whole() if whole else line.short()
            say(text)
            if not instant:
                time.sleep(len(text.split()) * _A_WORD)
    except KeyboardInterrupt:
        say("\nEnded early; nothing was sent, so nothing is held.")
        return
    say("")
    for text in account.summary(whole):
        say(text)


def _keep(folder: Path) -> None:
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        fail(f"{folder} is already there and not empty; nothing was written", 2)
    draft: Path | None = None
    try:
        folder.parent.mkdir(parents=True, exist_ok=True)
        draft = Path(tempfile.mkdtemp(dir=folder.parent, prefix=f".{folder.name}."))
        shutil.copytree(DEMO, draft, dirs_exist_ok=True, copy_function=shutil.copyfile)
        for path in (draft, *draft.rglob("*")):
            path.chmod(0o700 if path.is_dir() else 0o600)
        draft.rename(folder)  # whole or not at all
    except OSError as why:
        if draft is not None:
            shutil.rmtree(draft, ignore_errors=True)
        # A failed copy tells of each file; one reason is enough.
        first = why.args[0][0][2] if isinstance(why, shutil.Error) else reason(why)
        fail(f"{folder} cannot be written: {first}")
    say(f"The demo's desk is in {folder}. Try:")
    say(f"    fenko check --desk {folder}")
    say(f"    fenko rehearse {folder / 'takes' / _TAKE.name} --desk {folder}")


_A_WORD = 0.15  # s; which it takes to be read
_SAME_ROW = 0.05  # s; what follows so closely belongs to the same stroke of a hand
_WORTH_TELLING = 0.4  # s; a key that was held at least so long is told when it comes up


class _Line:
    """One line of the account: what happened to programs or things."""

    def __init__(self, t: float, text: str, *sorts: tuple[object, ...]) -> None:
        self.t = t
        self.text = text
        self.sorts = set(sorts)
        """What of it somebody has not seen yet who sees it for the first time."""

    def whole(self) -> str:
        """With its time, and all there is to it."""
        return f"{self.t:6.1f}  {self.text}"

    def short(self) -> str:
        """What a first look needs."""
        return f"  {self.text}"


class _Front(_Line):
    """That another program is in front."""

    def whole(self) -> str:
        """As a heading."""
        return f"\n{self.text}"

    short = whole


class _Row(_Line):
    """Which hand did what, what that meant and why, and what was sent for it."""

    def __init__(
        self, moment: Moment, action: Action | None, hand: str, meaning: str, profile: str, sends: list[str]
    ) -> None:
        super().__init__(moment.t if action is None else action.t, meaning, *_sorts(moment))
        self.until = self.t
        self.hand = hand
        self.profile = profile
        self.sends = sends

    def whole(self) -> str:
        """As a row of a table."""
        return self._row((f"{self.t:6.1f}", 6), (self.hand, 24), (self.text, 25), (self.profile, 9), sends=self.sends)

    def short(self) -> str:
        """Without the time, and with the first things sent."""
        return self._row(("", 0), (self.hand, 26), (self.text, 25), sends=self.sends[:2])

    def _row(self, *cells: tuple[str, int], sends: list[str]) -> str:
        padded = [clip(cell, room) + " " * max(0, room - width(cell)) for cell, room in cells]
        padded[3:] = map(dim, padded[3:])
        return "  ".join([*padded, *sends]).rstrip()


def _sorts(moment: Moment) -> Iterator[tuple[object, ...]]:
    """The sorts of gestures, and of what is sent for them."""
    for action in moment.actions:
        yield "gesture", action.gesture
        yield "bound", action.binding is not None
    for effect in moment.effects if moment.actions else ():
        yield effect[1], effect[2] if effect[1] == "fenko" or effect[2] == "type" else ""


def _news(lines: Iterable[_Line]) -> Iterator[_Line]:
    """Those with something of a sort that none before had; and which program is in front then."""
    front: list[_Line] = []
    seen: set[tuple[object, ...]] = set()
    for line in lines:
        if isinstance(line, _Front):
            front = [line]
        elif not line.sorts <= seen:
            seen |= line.sorts
            yield from (*front, line)
            front = []


class Account:
    """Tells what each gesture of a take did and why, line by line with its time, and counts along."""

    def __init__(self, desk: Desk) -> None:
        self._plan = desk.plan
        self._gestures: Counter[str] = Counter()
        self._sent: Counter[str] = Counter()
        self._down: dict[str, float] = {}
        self._meanings: dict[str, dict[str, str]] = {}
        self._ends = Simulations(desk.sources.data)

    def tell(self, changes: list[Change]) -> Iterator[_Line]:
        """The account of a take."""
        events = [change for change in changes if change[1] in (FOCUS, PLUG, UNPLUG)]
        row: _Row | None = None
        for moment in flowing(moments(self._plan, changes)):
            sends = list(self._sends(moment))
            if row is not None and not moment.actions and moment.t - row.until <= _SAME_ROW:
                row.sends += sends
                row.until = moment.t
                continue
            if row is not None:
                yield row
                row = None
            while events and events[0][0] <= moment.t:
                yield self._event(events.pop(0))
            if not moment.actions and sends:
                row = _Row(moment, None, "", "", "", sends)
            for number, action in enumerate(moment.actions):
                if row is not None:
                    yield row
                row = self._row(moment, action, sends if number == len(moment.actions) - 1 else [])
        if row is not None:
            yield row
        yield from map(self._event, events)

    def _event(self, change: Change) -> _Line:
        t, what, value = change
        if isinstance(value, Focus):
            text = f'In front: {value.app} "{value.title}"'
            why = f"so profile {self._plan.for_window(value)}"
            return _Front(t, f"{bold(colour(text, 'bright_cyan'))}  {dim(why)}")
        if what == UNPLUG:
            text = f"The {value} is unplugged in the middle of it; what it held is lifted."
        else:
            text = f"The {value} is plugged in again."
        return _Line(t, colour(text, "bright_yellow"), (what,))

    def _row(self, moment: Moment, action: Action, sends: list[str]) -> _Row:
        surface, _, control = action.address.partition(".")
        hand = f"{surface} {control.replace('.', ' ')}".strip() + (
            "" if action.gesture in ("press", "turn") else f", {action.gesture}"
        )
        if action.binding is None:
            return _Row(moment, action, hand, "not bound, handed on", "", sends)
        self._gestures[action.profile] += 1
        meanings = self._meanings.setdefault(action.address, {})
        meanings[action.profile] = action.binding.title
        row = _Row(moment, action, hand, action.binding.title, action.profile, sends)
        if action.address == next(iter(self._meanings)):
            row.sorts.add(("meaning", action.binding.title))  # of the first control that was used, each one is told
        return row

    def _sends(self, moment: Moment) -> Iterator[str]:
        """What was sent, as a person would say it: keys that went down together as one, and only long holds' ends."""
        self._ends.take(moment.effects)
        together: list[str] = []
        for effect in moment.effects:
            if effect[1:3] == ("keys", "down"):
                together.append(effect[3])
                self._down[effect[3]] = moment.t
                continue
            if together:
                yield self._keys(together)
            together = []
            if effect[1:3] == ("keys", "up"):
                since = moment.t - self._down.pop(effect[3])
                if since >= _WORTH_TELLING and effect[3] not in MODIFIERS:
                    yield dim(f"{effect[3]} up after {since:.1f} s")
            elif effect[1:3] != ("fenko", "profile") or moment.actions:
                self._sent[effect[2]] += effect[1] == "keys"
                yield describe([effect])
        if together:
            yield self._keys(together)

    def _keys(self, together: list[str]) -> str:
        self._sent["combination"] += 1
        held = [key for key in self._down if key in MODIFIERS and key not in together]
        return ("".join(f"({key}) " for key in held)) + str(Phrase((Keys(tuple(together)),)))

    def summary(self, whole: bool) -> Iterator[str]:
        """What came of it all."""
        gestures = sum(self._gestures.values())
        if whole:
            shares = ", ".join(f"{profile} {count}" for profile, count in self._gestures.most_common())
            for line in textwrap.wrap(f"{gestures} gestures meant something, by profile: {shares}.", 118):
                yield bold(line)
            yield f"{self._sent['combination']} shortcuts and {self._sent['type']} texts would have gone to the programs in front."
            yield "Simulated ends took the rest, and nothing real was touched:"
            yield from textwrap.wrap(
                "; ".join(self._ends.lines()) + ".", 100, initial_indent="  ", subsequent_indent="  "
            )
        else:
            yield bold(
                f"These and others are {gestures} gestures, {self._sent['combination']} shortcuts, {self._sent['type']} texts; "
                "nothing real was touched."
            )
        address, meanings = max(self._meanings.items(), key=lambda item: len(item[1]))
        surface, _, control = address.partition(".")
        several = ", ".join(f"{title} in {profile}" for profile, title in meanings.items())
        yield f"One button, {surface} {control}, was {several}."
        down = ", ".join(self._down) if self._down else "nothing"
        yield f"Still down at the end: {down}."
        yield dim(
            "Next: `fenko demo --keep my-desk` for a desk to change, "
            + ("`fenko devices` for what is plugged in." if whole else "`fenko demo --whole` for every gesture.")
        )
