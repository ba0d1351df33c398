"""Simulated ends: they take effects as real ones would, and say what they have come to. For the demo, and for who wants to
see what a take would do elsewhere."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from fenko.core.changes import Effect
from fenko.machines.rehearsed import Rehearsal
from fenko.machines.settings import settings_of
from fenko.outputs.registered.midi import CONTROLLER, NOTE_OFF, NOTE_ON, note_name
from fenko.outputs.registered.wording import entry

_ANSWERS = {"rumble": "rumble", "tone": "tone", "text": "text on a display"}


class SimulatedEnds:
    """An audio server, a player that plays, a synthesiser, and whoever else is spoken to; each as far as it can be told."""

    def __init__(self, tables: Mapping[str, Any] | None = None) -> None:
        """`tables` are the desk's, where its machines are to move."""
        self.levels: dict[str, float] = {}
        self.muted: set[str] = set()
        self.playing = True
        self.track = 1
        self.sounding: set[tuple[str, int, int]] = set()
        self.notes = 0
        self.controllers: dict[tuple[str, int, int], int] = {}
        self.sounds: list[str] = []
        self.held_sounds: set[str] = set()
        self.told: dict[str, list[str]] = {}
        self.lamps: dict[tuple[str, str], str] = {}
        self.answers: Counter[str] = Counter()
        self._tables = tables or {}
        self._machines: dict[str, Rehearsal] = {}

    def take(self, effects: Iterable[Effect]) -> None:
        """This is what is sent to them."""
        for effect in effects:
            _, out, act, *values = effect
            match out:
                case "machine":
                    self._machine(values[0]).take((effect,))
                case "audio":
                    self._audio(act, *values)
                case "player":
                    self._player(act)
                case "midi":
                    self._midi(*values)
                case "sound":
                    self._sound(act, *values)
                case "osc":
                    self._tell("OSC", f"{values[0]} {values[1]}")
                case "request":
                    self._tell("requests", str(values[0]))
                case "mqtt":
                    self._tell("MQTT", f'{values[0]} = "{values[1]}"')
                case "feedback":
                    self._answer(act, *values)
                case "program":
                    self._tell("programs", f"{act} {values[0] or 'window'}")

    def _audio(self, act: str, of: str, value: float | str) -> None:
        now = self.levels.setdefault(of, 0.5)
        if isinstance(value, str):
            turned = of not in self.muted if value == "switch" else value == "on"
            (self.muted.add if turned else self.muted.discard)(of)
        elif act == "gain":
            self.levels[of] = min(1.0, now * 10 ** (value / 60))
        else:
            self.levels[of] = min(1.0, max(0.0, value if act == "level" else now + value))

    def _player(self, act: str) -> None:
        if act in ("play-pause", "play", "pause", "stop"):
            self.playing = not self.playing if act == "play-pause" else act == "play"
        elif act in ("next", "previous"):
            self.track = max(1, self.track + (1 if act == "next" else -1))

    def _midi(self, port: str, data: list[int]) -> None:
        kind, channel = data[0] & 0xF0, data[0] & 0x0F
        if kind == NOTE_ON and data[2]:
            self.sounding.add((port, channel, data[1]))
            self.notes += 1
        elif kind in (NOTE_ON, NOTE_OFF):
            self.sounding.discard((port, channel, data[1]))
        elif kind == CONTROLLER:
            self.controllers[port, channel, data[1]] = data[2]

    def _sound(self, act: str, file: str = "", level: float = 1.0, alone: bool = False) -> None:
        if act == "play":
            self.sounds.append(file)

    def _answer(self, act: str, surface: str, *values: Any) -> None:
        if act == "lamp":
            name, to = values
            self.answers["lamps"] += to != "off"
            self.lamps[surface, name] = to
        else:
            self.answers[act] += act != "show"

    def _machine(self, name: str) -> Rehearsal:
        if name not in self._machines:
            settings = settings_of(name, entry(self._tables, "machine", name))
            self._machines[name] = Rehearsal(settings, self._tables)
        return self._machines[name]

    def _tell(self, whom: str, what: str) -> None:
        self.told.setdefault(whom, []).append(what)

    def standing(self) -> Iterator[str]:
        """What each has come to, in words; nothing of those that were not spoken to."""
        for of, level in self.levels.items():
            name = {"output": "the volume", "input": "the microphone"}.get(of, f"the volume of {of}")
            yield f"{name} is at {level * 100:.0f}%" + (", muted" if of in self.muted else "")
        if self.track != 1 or not self.playing:
            yield f"the player {'plays' if self.playing else 'pauses'}" + (
                f", track {self.track}" if self.track > 1 else ""
            )
        if self.sounds:
            yield f"{len(self.sounds)} sound{'s were' if len(self.sounds) > 1 else ' was'} played"
        if self.notes:
            sounding = ", ".join(note_name(note) for _, _, note in sorted(self.sounding))
            yield f"{self.notes} note{'s were' if self.notes > 1 else ' was'} played, and {sounding or 'none'} still sounds"
        for (port, _, number), value in self.controllers.items():
            yield f"controller {number} of {port} is at {value}"
        if self.answers:
            lit = [f"{name} of {surface}" for (surface, name), to in self.lamps.items() if to != "off"]
            words = [
                f"{count} {_ANSWERS[act]}{'s' if count > 1 else ''}"
                for act, count in self.answers.items()
                if count and act in _ANSWERS
            ]
            yield f"lamps were lit {self.answers['lamps']} times, still on: {', '.join(lit) or 'none'}" + "".join(
                f"; {one}" for one in words
            )
        for name, one in self._machines.items():
            one.finish()
            position = one.machine.planner.position
            places = " and ".join(
                f"{axis} {one.settings.shown(axis, round(place, 1))}" for axis, place in position.items()
            )
            yield f"the {name} went {one.machine.way:.0f} mm and is at {places}"
        for whom, what in self.told.items():
            yield f"{whom}: {', '.join(dict.fromkeys(what))}"
