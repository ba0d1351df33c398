"""The audio server at work: PulseAudio, or PipeWire's server that speaks the same."""

from __future__ import annotations

import contextlib
import threading
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

from fenko.core.changes import Effect
from fenko.core.patterns import BadPattern, compile_pattern
from fenko.core.value import LOUDNESS
from fenko.integrations.audio.spec import FRONT, INPUT_NAME, OUTPUT_NAME
from fenko.integrations.wording import write_of
from fenko.system.trouble import ignore_errors
from fenko.workers.worker import Away, Desk, Worker

_WITHIN = 2.0  # seconds in which a server answers
_QUIET = 0.3  # seconds after a change of our own in which what the server says of it is no news
_NO_SERVER = (
    "no audio server answers (PulseAudio, PipeWire); `systemctl --user start pipewire-pulse` or `pulseaudio --start`"
)


def ready(tables: Mapping[str, Any], folder: Path) -> list[tuple[bool, str, str]]:
    """How things stand: good or not, what is so, what helps."""
    import pulsectl

    found: list[str] = []

    def ask() -> None:
        with contextlib.suppress(pulsectl.PulseError), pulsectl.Pulse("fenko ready") as pulse:
            server = pulse.server_info()
            streams = ", ".join(sorted({_title(stream) for stream in pulse.sink_input_list()})) or "nothing"
            found.append(f"{server.server_name} answers, plays to {server.default_sink_name}; playing now: {streams}")

    asking = threading.Thread(target=ask, daemon=True)  # a server that hangs is waited for by nobody
    asking.start()
    asking.join(_WITHIN)
    if found:
        return [(True, found[0], "")]
    what, helps = _NO_SERVER.split("; ", 1)
    return [(False, what, helps)]


def offers(tables: Mapping[str, Any], folder: Path) -> list[tuple[str, str]]:
    """Phrases for what is there now: the output, the microphone, and every stream that plays."""
    import pulsectl

    found = [("volume by +5%", "the output"), ("volume mute", "the output"), ("microphone mute", "the input")]
    with contextlib.suppress(pulsectl.PulseError), pulsectl.Pulse("fenko learn") as pulse:
        for title in sorted({_title(stream) for stream in pulse.sink_input_list()}):
            found.append((f"volume {write_of(title)} by +5%", "plays now"))
    return found


def _title(stream: Any) -> str:
    return str(stream.proplist.get("application.name") or stream.proplist.get("media.name") or stream.name)


class AudioWorker(Worker):
    """Two connections: one that does things, one that hears of whatever changes."""

    eager = True

    def __init__(self, tables: Mapping[str, Any], folder: Path, desk: Desk) -> None:
        super().__init__(tables, folder, desk)
        table = tables.get("audio")
        most = table.get("most", 100) if isinstance(table, dict) else 100
        self._most = most / 100
        self._pulse: Any = None
        self._ears: Ears | None = None
        self._focus = ("", "")
        self._changed_at = 0.0
        self._told: dict[str, dict[str, Any]] = {}

    def focus(self, app: str, program: str) -> None:
        """The window in front is of this program."""
        self._focus = (app, program)

    def open(self) -> None:
        """Connects to the server."""
        import pulsectl

        pulse = pulsectl.Pulse("fenko", connect=False)
        try:
            pulse.connect()
        except pulsectl.PulseError:
            pulse.close()
            raise Away(_NO_SERVER) from None
        self._pulse = pulse
        self._ears = Ears(self.wake)
        self._tell()

    # --- What is to be done ---

    def send(self, effects: Sequence[Effect]) -> None:
        """Levels, steps and mutes."""
        for _, _, act, of, value in effects:
            with self._as_away():
                found = list(self._found(of))
                if not found:
                    what = "the program in front" if of == FRONT else f"`{of}`"
                    self.desk.note(f"Audio server: {what} plays nothing, so its volume cannot be changed")
                for one in found:
                    self._do(one, act, value)
        self._changed_at = time.monotonic()

    def _do(self, one: Any, act: str, value: Any) -> None:
        pulse = self._pulse
        now = _level(one)
        match act:
            case "mute":
                pulse.mute(one, not one.mute if value == "switch" else value == "on")
                return
            case "level":
                wanted = min(self._most, value)
            case "gain":
                wanted = now * 10 ** (value / LOUDNESS)
                wanted = max(now, min(self._most, wanted)) if value > 0 else wanted
            case _:
                wanted = now + value
                wanted = max(now, min(self._most, wanted)) if value > 0 else max(0.0, wanted)
        if abs(wanted - now) > 1e-6:
            # All channels in proportion, so that the balance stays; from silence all alike.
            old = one.volume.values
            values = [level * wanted / now for level in old] if now > 1e-4 else [wanted] * len(old)
            one.volume.values = values
            pulse.volume_set(one, one.volume)

    def _found(self, of: str) -> Iterator[Any]:
        pulse = self._pulse
        if of in (OUTPUT_NAME, INPUT_NAME):
            server = pulse.server_info()
            name = server.default_sink_name if of == OUTPUT_NAME else server.default_source_name
            all_of = pulse.sink_list() if of == OUTPUT_NAME else pulse.source_list()
            yield from (one for one in all_of if one.name == name)
            return
        fits = self._fitting(of)
        for stream in pulse.sink_input_list():
            if fits(stream.proplist):
                yield stream

    def _fitting(self, of: str) -> Callable[[Mapping[str, str]], bool]:
        """Whether a stream is of that program, by what it says of itself."""
        texts = [text for text in self._focus if text] if of == FRONT else [of]
        apps = self.tables.get("app")
        app = apps.get(of) if isinstance(apps, dict) else None
        named = app.get("app", of) if isinstance(app, dict) else of
        if of != FRONT:
            texts = [*texts, *(named if isinstance(named, list) else [named])]
        patterns = []
        for text in texts:
            with contextlib.suppress(BadPattern):
                patterns.append(compile_pattern(text))
        keys = ("application.name", "application.process.binary", "application.id", "node.name")

        def fits(says: Mapping[str, str]) -> bool:
            words = [says[key] for key in keys if says.get(key)]
            if of != FRONT:
                words.append(says.get("media.name", ""))
            # A program's name is often that of its file with more around it.
            return any(pattern.fits(word) for pattern in patterns for word in words if word)

        return fits

    # --- What others did ---

    def watch(self) -> float | None:
        """Tells what has changed."""
        ears = self._ears
        if ears is None:
            return None
        if ears.ended.is_set():
            raise Away("the audio server is gone")
        left = self._changed_at + _QUIET - time.monotonic()
        if left > 0:
            return left
        if ears.news.is_set():
            ears.news.clear()
            with self._as_away():
                self._tell()
        return None

    @contextlib.contextmanager
    def _as_away(self) -> Iterator[None]:
        """Raise Away if the connection ends during what is asked; an item that has just vanished is no error."""
        import pulsectl

        try:
            yield
        except pulsectl.PulseDisconnected:
            raise Away("the audio server is gone") from None
        except pulsectl.PulseError as why:
            vanished = isinstance(why, pulsectl.PulseOperationFailed | pulsectl.PulseIndexError)
            # The library also reports an operation as failed that a lost connection has cut short.
            if not vanished or not self._pulse.connected:
                raise Away("the audio server is gone") from None

    def _tell(self) -> None:
        found: dict[str, dict[str, Any]] = {}
        for name in (OUTPUT_NAME, INPUT_NAME):
            for one in self._found(name):
                found[name] = _standing(one)
        for stream in self._pulse.sink_input_list():
            found[_title(stream)] = _standing(stream)
        for name, fact in found.items():
            if fact != self._told.get(name):
                self.desk.fact(name, fact)
                self.desk.number(name, round(fact["level"] * 100, 3))
        for name in self._told.keys() - found.keys():
            self.desk.fact(name, None)
        self._told = found

    def close(self) -> None:
        """Lets go of the server; what is set stays set."""
        if self._ears is not None:
            self._ears.close()
            self._ears = None
        pulse, self._pulse = self._pulse, None
        if pulse is not None:
            ignore_errors(pulse.close)
        for name in self._told:
            self.desk.fact(name, None)
        self._told = {}


def _level(one: Any) -> float:
    """How loud it is, as mixers show it: its loudest channel."""
    return float(max(one.volume.values, default=0.0))


def _standing(one: Any) -> dict[str, Any]:
    return {"level": round(_level(one), 4), "muted": bool(one.mute)}


class Ears:
    """Hears that something has changed, in a thread of its own: `wake` is called then."""

    def __init__(self, wake: Callable[[], None]) -> None:
        import pulsectl

        self.news = threading.Event()
        self.ended = threading.Event()
        self._wake = wake
        self._pulse = pulsectl.Pulse("fenko ears", connect=False)
        try:
            self._pulse.connect()
            self._pulse.event_mask_set("sink", "source", "sink_input", "server")
            self._pulse.event_callback_set(self._changed)
        except pulsectl.PulseError:
            self._pulse.close()
            raise Away(_NO_SERVER) from None
        threading.Thread(target=self._listen, daemon=True).start()

    def _changed(self, event: Any) -> None:
        self.news.set()
        self._wake()

    def _listen(self) -> None:
        with contextlib.suppress(Exception):  # the server, or this connection, has ended; `ended` says so
            self._pulse.event_listen()
        self.ended.set()
        self._wake()

    def close(self) -> None:
        """Hears nothing any more."""
        self._wake = lambda: None
        ignore_errors(self._pulse.close)
