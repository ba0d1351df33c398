"""Sounds at work: files decoded once, mixed here, played through one stream that is open only while something sounds."""

from __future__ import annotations

import array
import itertools
import threading
import time
from collections.abc import Generator, Mapping, Sequence
from pathlib import Path
from typing import Any

from fenko.core.changes import Effect
from fenko.core.reader import in_quotes
from fenko.integrations.sound.spec import KINDS
from fenko.system.trouble import ignore_errors
from fenko.workers.worker import Away, Desk, Worker

RATE = 48000
"""Frames a second."""
CHANNELS = 2
PERIOD = 10
"""Milliseconds that are mixed at once."""
_LONGEST = 600.0  # seconds of a file
_ROOM = 64 << 20
"""Bytes of decoded sounds that are kept."""
_LINGERS = 5.0
"""Seconds for which the stream stays open after the last sound."""
_MOST_AT_ONCE = 32
_FADE = RATE // 200  # frames in which a sound that is stopped dies away, so that it does not click


def ready(tables: Mapping[str, Any], folder: Path) -> list[tuple[bool, str, str]]:
    """How things stand: good or not, what is so, what helps."""
    try:
        import miniaudio

        devices = miniaudio.Devices(_backends()).get_playbacks()
    except Exception as why:  # also the library's own loading, on a system without audio
        return [(False, f"no sound can be played: {why}", "an audio server: `systemctl --user start pipewire-pulse`")]
    if not devices:
        return [
            (False, "there is nothing that plays sounds", "an audio server: `systemctl --user start pipewire-pulse`")
        ]
    return [(True, f"sounds are played by {devices[0]['name']}", "")]


def offers(tables: Mapping[str, Any], folder: Path) -> list[tuple[str, str]]:
    """Phrases for the sounds of the desk's folder."""
    files = sorted(path for path in folder.rglob("*") if path.suffix.lower() in KINDS)
    return [(f"sound {in_quotes(str(path.relative_to(folder)))}", "of the desk") for path in files[:20]]


def _backends() -> list[Any]:
    """Audio servers first; the sound card itself where there is none."""
    from miniaudio import Backend

    return [Backend.PULSEAUDIO, Backend.JACK, Backend.ALSA]


class _Voice:
    """One sound that plays: its samples, and where it is."""

    __slots__ = ("at", "fading", "file", "samples")

    def __init__(self, file: str, samples: array.array[int]) -> None:
        self.file = file
        self.samples = samples
        self.at = 0
        self.fading = False


class SoundWorker(Worker):
    """Mixes in the thread of the audio library; everything that it shares with that is behind a lock."""

    eager = True

    def __init__(self, tables: Mapping[str, Any], folder: Path, desk: Desk) -> None:
        super().__init__(tables, folder, desk)
        self._device: Any = None
        self._voices: list[_Voice] = []
        self._lock = threading.Lock()
        self._decoded: dict[tuple[str, float, int], array.array[int]] = {}
        self._silent_since = 0.0
        self._playing = False
        self._stopped = False

    def open(self) -> None:
        """Loads what plays; nothing is opened before something sounds."""
        import miniaudio  # noqa: F401

    def _start(self) -> None:
        if self._playing:
            return
        import miniaudio

        try:
            if self._device is None:
                self._stopped = False
                self._device = miniaudio.PlaybackDevice(
                    miniaudio.SampleFormat.SIGNED16, CHANNELS, RATE, PERIOD, backends=_backends(), app_name="fenko"
                )
                self._device.stop_callback = self._has_stopped
            mixer = self._mixed()
            next(mixer)
            self._device.start(mixer)
        except miniaudio.MiniaudioError as why:
            self._let_go()
            raise Away(f"nothing plays sounds here: {why}") from None
        self._playing = True

    def _has_stopped(self) -> None:
        self._stopped = True
        self.wake()

    def send(self, effects: Sequence[Effect]) -> None:
        """Plays and stops."""
        for effect in effects:
            match effect[2:]:
                case ("play", file, level, *alone):
                    self._play(file, level, bool(alone and alone[0]))
                case ("stop", file):
                    self._stop(file)
                case ("stop",):
                    self._stop("")

    def _play(self, file: str, level: float, alone: bool) -> None:
        samples = self._samples(file, level)
        if samples is None:
            return
        if alone:
            self._stop("")
        with self._lock:
            self._voices.append(_Voice(file, samples))
            del self._voices[:-_MOST_AT_ONCE]
        self._start()

    def _stop(self, file: str) -> None:
        """The last one of a file dies away, or all of all files."""
        with self._lock:
            for voice in reversed(self._voices):
                if not voice.fading and file in ("", voice.file):
                    voice.fading = True
                    if file:
                        return

    def _samples(self, file: str, level: float) -> array.array[int] | None:
        """The samples of a file, as loud as that; None, which is told, if it cannot be played."""
        import miniaudio

        path = self.folder / file
        try:
            changed = path.stat().st_mtime_ns
        except OSError as why:
            self.desk.note(f"Sounds: {file}: {(why.strerror or str(why)).lower()}")
            return None
        key = (file, level, changed)
        if key in self._decoded:
            return self._decoded[key]
        try:
            length = miniaudio.get_file_info(str(path)).duration
            if length > _LONGEST:
                self.desk.note(f"Sounds: {file} is longer than {_LONGEST / 60:g} minutes")
                return None
            decoded = miniaudio.decode_file(str(path), miniaudio.SampleFormat.SIGNED16, CHANNELS, RATE)
        except miniaudio.MiniaudioError as why:
            self.desk.note(f"Sounds: {file} cannot be played: {why}")
            return None
        samples: array.array[int] = decoded.samples
        if level != 1:
            samples = array.array("h", (int(sample * level) for sample in samples))
        self._decoded[key] = samples
        while sum(len(kept) * 2 for kept in self._decoded.values()) > _ROOM and len(self._decoded) > 1:
            del self._decoded[next(iter(self._decoded))]
        return samples

    # --- In the thread of the audio library ---

    def _mixed(self) -> Generator[bytes | array.array[int], int, None]:
        frames = yield b""
        while True:
            frames = yield self._mix(frames * CHANNELS)

    def _mix(self, wanted: int) -> array.array[int]:
        with self._lock:
            if not self._voices:
                if not self._silent_since:
                    self._silent_since = time.monotonic()
                    self.wake()
                return array.array("h", bytes(2 * wanted))
            self._silent_since = 0.0
            pieces = [_piece(voice, wanted) for voice in self._voices]
            self._voices = [voice for voice in self._voices if voice.at < len(voice.samples)]
        if len(pieces) == 1:
            return pieces[0]
        return array.array("h", (max(-32768, min(32767, sum(together))) for together in zip(*pieces, strict=True)))

    # --- The end ---

    def watch(self) -> float | None:
        """Lets go of the stream when nothing has sounded for a while."""
        if self._stopped:
            self._let_go()
            raise Away("what plays sounds is gone")
        if not self._playing or not self._silent_since:
            return None
        left = self._silent_since + _LINGERS - time.monotonic()
        if left > 0:
            return left
        self._let_go()
        return None

    def release(self) -> None:
        """Everything that sounds dies away."""
        self._stop("")

    def close(self) -> None:
        """The same, and the stream is let go of."""
        self.release()
        if self._playing:
            until = time.monotonic() + 0.1
            while self._voices and time.monotonic() < until:
                time.sleep(0.005)
        self._let_go()

    def _let_go(self) -> None:
        device, self._device = self._device, None
        self._playing = False
        with self._lock:
            self._voices.clear()
            self._silent_since = 0.0
        if device is not None:
            device.stop_callback = None
            ignore_errors(device.close)


def _piece(voice: _Voice, wanted: int) -> array.array[int]:
    """The next samples of a voice, and silence where it has no more."""
    if voice.fading and len(voice.samples) - voice.at > _FADE * CHANNELS:
        rest = voice.samples[voice.at : voice.at + _FADE * CHANNELS]
        length = len(rest)
        voice.samples = array.array(
            "h", (int(sample * (length - number) / length) for number, sample in enumerate(rest))
        )
        voice.at = 0
    piece = voice.samples[voice.at : voice.at + wanted]
    voice.at += wanted
    if len(piece) < wanted:
        piece.extend(itertools.repeat(0, wanted - len(piece)))
    return piece
