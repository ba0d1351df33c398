"""Real programs at the other ends of outputs, each started for one test and ended with it: an audio server, a session bus,
players, JACK, a synthesiser, brokers. Nobody here wrote them."""

from __future__ import annotations

import contextlib
import os
import shutil
import socket
import subprocess
import sys
import time
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from pathlib import Path
from typing import Any, TypeVar

import pytest

from fenko.core.changes import UNPLUG, Effect
from fenko.core.circumstances import Focus
from fenko.desk.compiled import ALWAYS, Compiled, compiled
from fenko.desk.load import load_desk
from fenko.desk.trust import Agreement, risks
from fenko.live.loop import Loop
from fenko.live.session import Session
from fenko.live.wiring import open_ports
from fenko.outputs.port import Port
from fenko.outputs.workers_port import WorkersPort
from support import wait_for

T = TypeVar("T")


def needed(*programs: str) -> Any:
    """Skips where one of these programs is not there, and says how to get them."""
    missing = [program for program in programs if shutil.which(program) is None]
    return pytest.mark.skipif(bool(missing), reason=f"needs {', '.join(missing)}: run tools/needs tests")


@contextlib.contextmanager
def program(*command: str, env: Mapping[str, str] | None = None, **more: Any) -> Iterator[subprocess.Popen[bytes]]:
    """A program that runs meanwhile."""
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL, "stdin": subprocess.DEVNULL}
    process = subprocess.Popen(command, env=dict(env) if env is not None else None, **{**quiet, **more})
    try:
        yield process
    finally:
        # Asked politely first: a killed JACK leaves its place among the eight that there are taken.
        process.terminate()
        try:
            process.wait(10)
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()


def free_port(kind: int = socket.SOCK_STREAM) -> int:
    """A port that nobody has now."""
    with socket.socket(socket.AF_INET, kind) as line:
        line.bind(("127.0.0.1", 0))
        return int(line.getsockname()[1])


def there(what: Callable[[], Any]) -> Callable[[], Any]:
    """What it comes to, or nothing while whoever is asked does not answer yet."""

    def asked() -> Any:
        with contextlib.suppress(OSError, subprocess.CalledProcessError, ValueError, IndexError, KeyError):
            return what()

    return asked


# --- A desk whose workers are real ---


class TurnedLoop(Loop):
    """The loop of a desk, turned by a test."""

    def turn(self, seconds: float) -> None:
        """What it does in so long."""
        self._stopped = False
        enough = self.timer(lambda now: self.stop())
        enough.set_in(seconds)
        self.run()
        enough.end()


class FarDesk:
    """A desk that runs in a folder, within this process; its workers are real, hands are this test's, and keys go nowhere. A person
    has agreed to all that it does, or to nothing."""

    def __init__(self, folder: Path, text: str, agreed: bool = True) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        self._folder = folder
        self._agreed = agreed
        self.notes: list[str] = []
        self.sent: list[Effect] = []
        """All that came of hands, of what workers told of, and of time."""
        self._loop = TurnedLoop()
        self.session = Session(self._read(text), self._loop, self._ports, self.notes.append, told=self.sent.extend)
        self.engine, self.linked = self.session.engine, self.session.linked
        self.closed = False

    def _ports(self, desk: Compiled, open_now: Collection[str]) -> list[Port]:
        return open_ports(desk, self.notes.append, None, {*open_now, *ALWAYS})

    def _read(self, text: str) -> Compiled:
        (self._folder / "desk.toml").write_text('format = 1\n[surface.pad]\nkind = "gamepad"\n' + text)
        desk = load_desk(self._folder)
        if self._agreed:
            Agreement(str(desk.folder)).agree(risk.what for risk in risks(desk))
        return compiled(desk)

    def use(self, text: str) -> None:
        """The desk is this now."""
        self.session.use_desk(self._read(text))

    @property
    def port(self) -> WorkersPort:
        """The way to its workers."""
        return next(port for port in self.session.router.ports if isinstance(port, WorkersPort))

    @property
    def facts(self) -> dict[str, dict[str, Any]]:
        """How things stand at other ends, by output and name."""
        return self.session._facts

    def feed(self, *changes: tuple[str, object]) -> None:
        """Hands do this now."""
        for address, value in changes:
            self.session.inbox.put([(time.monotonic(), address, value)])
        self.look()

    def press(self, control: str) -> None:
        """A button goes down."""
        self.feed((f"pad.{control}", 1))

    def let_go(self, control: str) -> None:
        """It comes up."""
        self.feed((f"pad.{control}", 0))

    def tap(self, control: str) -> None:
        """Both."""
        self.press(control)
        self.let_go(control)

    def front(self, app: str, program: str = "") -> None:
        """A program's window is in front."""
        self.feed(("focus", Focus(app, "", program or app)))

    def unplug(self) -> None:
        """The pad is gone."""
        self.feed((UNPLUG, "pad"))

    def pause(self) -> None:
        """It is paused for a moment."""
        for paused in (True, False):
            self.session.rest(paused)
            self.look()

    def lock(self) -> None:
        """The screen is locked for a moment."""
        for locked in (True, False):
            self.session.lock(locked)
            self.look()

    def look(self, seconds: float = 0.0) -> None:
        """Its loop goes on for so long."""
        self._loop.turn(seconds)

    def until(self, what: Callable[[], Any], why: str = "") -> Any:
        """What `what` comes to as soon as it is true; the loop goes on meanwhile."""

        def looked() -> Any:
            self.look(0.02)
            return there(what)()

        try:
            return wait_for(looked, why)
        except AssertionError as late:
            raise AssertionError(f"{late}; the desk said {self.notes}") from None

    def said(self, words: str) -> Any:
        """Waits until it has said something with these words."""
        return self.until(lambda: any(words in note for note in self.notes), f"`{words}` was not said")

    @property
    def workers(self) -> int:
        """Their process."""
        return self.port.child.pid

    def close(self) -> None:
        """The end."""
        if not self.closed:
            self.closed = True
            self.session.close()
            self._loop.close()


MakeFar = Callable[..., FarDesk]


@pytest.fixture
def far(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[MakeFar]:
    """Makes desks whose workers are real, and ends them."""
    made: list[FarDesk] = []

    def make(text: str, env: Mapping[str, str] | None = None, agreed: bool = True) -> FarDesk:
        for name, value in (env or {}).items():
            monkeypatch.setenv(name, value)
        made.append(FarDesk(tmp_path / "desk", text, agreed))
        return made[-1]

    yield make
    for desk in made:
        desk.close()


# --- Audio ---


class AudioServer:
    """PulseAudio with one output and one input that go nowhere."""

    def __init__(self, folder: Path) -> None:
        self.socket = folder / "pulse.socket"
        self.env = {**os.environ, "PULSE_SERVER": f"unix:{self.socket}", "PULSE_COOKIE": str(folder / "cookie")}
        self._process: subprocess.Popen[bytes] | None = None
        self._home = folder

    def start(self) -> None:
        """Starts it, and waits until it answers."""
        command = ["pulseaudio", "-n", "--daemonize=no", "--exit-idle-time=-1", "--use-pid-file=no"]
        for module in (
            f"module-native-protocol-unix auth-anonymous=1 socket={self.socket}",
            "module-null-sink sink_name=out",
            "module-null-source source_name=mic",
        ):
            command += ["-L", module]
        home = {**os.environ, "HOME": str(self._home), "XDG_RUNTIME_DIR": str(self._home)}
        self._process = subprocess.Popen(command, env=home, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        wait_for(there(lambda: "out" in self.tell("list", "short", "sinks")), "the audio server does not answer")

    def tell(self, *words: str) -> str:
        """What its own tool says."""
        return subprocess.run(["pactl", *words], env=self.env, check=True, capture_output=True, text=True).stdout

    def level(self, what: str = "sink", name: str = "out") -> int:
        """Percent, of the first channel."""
        return int(self.tell(f"get-{what}-volume", name).split("%")[0].split()[-1])

    def muted(self, what: str = "sink", name: str = "out") -> bool:
        """Whether it is."""
        return "yes" in self.tell(f"get-{what}-mute", name)

    def streams(self) -> str:
        """All that is known of what plays."""
        return self.tell("list", "sink-inputs")

    def kill(self) -> None:
        """It is gone at once."""
        if self._process is not None:
            self._process.kill()
            self._process.wait()
            self._process = None
        self.socket.unlink(missing_ok=True)


@pytest.fixture
def audio(tmp_path: Path) -> Iterator[AudioServer]:
    """An audio server that answers."""
    folder = tmp_path / "audio"
    folder.mkdir(mode=0o700)
    server = AudioServer(folder)
    server.start()
    yield server
    server.kill()


# --- The session's bus ---


@pytest.fixture
def bus(tmp_path: Path) -> Iterator[dict[str, str]]:
    """The environment of a session with a bus of its own."""
    address = f"unix:path={tmp_path}/bus"
    with program("dbus-daemon", "--session", f"--address={address}", "--nofork"):
        wait_for((tmp_path / "bus").exists, "the session bus does not start")
        yield {**os.environ, "DBUS_SESSION_BUS_ADDRESS": address}


def called(env: Mapping[str, str], name: str, method: str, *arguments: str) -> str:
    """What a name on the bus answers, by the bus's own tool."""
    command = ["dbus-send", "--print-reply=literal", f"--dest={name}", "/org/mpris/MediaPlayer2", method, *arguments]
    return subprocess.run(command, env=dict(env), check=True, capture_output=True, text=True).stdout


def player_property(env: Mapping[str, str], name: str, what: str) -> str:
    """A property of a player."""
    return called(
        env, name, "org.freedesktop.DBus.Properties.Get", "string:org.mpris.MediaPlayer2.Player", f"string:{what}"
    ).strip()


def sound_file(path: Path, seconds: float = 2.0, pitch: int = 440) -> Path:
    """A file with a tone."""
    path.parent.mkdir(parents=True, exist_ok=True)
    subprocess.run(
        ["sox", "-n", "-r", "44100", "-c", "1", str(path), "synth", str(seconds), "sine", str(pitch)], check=True
    )
    return path


# --- JACK ---

patient_jack = pytest.mark.parametrize("jack", [("--sync", "--timeout", "1000")], indirect=True)
"""For tests that compare message by message: by default JACK goes on without a client that is late, and drops what that client sends
or should get in this period. This server waits for all clients, for 1 s at most."""


@pytest.fixture
def jack(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[dict[str, str]]:
    """The environment of a JACK server that plays to nobody."""
    if subprocess.run(["pgrep", "-x", "jackd"], capture_output=True).returncode:
        # Nobody runs, so whoever stands there was killed once.
        Path("/dev/shm/jack-shm-registry").unlink(missing_ok=True)
    name = f"fenko-{os.getpid()}-{int(time.monotonic() * 1000) % 100000}"
    env = {**os.environ, "JACK_DEFAULT_SERVER": name, "JACK_NO_AUDIO_RESERVATION": "1"}
    options = getattr(request, "param", ())
    with program("jackd", "--no-realtime", *options, "-n", name, "-d", "dummy", "-r", "48000", "-p", "1024", env=env):
        wait_for(there(lambda: "system:" in jack_ports(env)), "JACK does not start")
        yield env


def ended_once(messages: Iterable[T], words: Callable[[T], str] = str) -> list[T]:
    """Messages, whose hex `words` gives, without ends of notes that have ended already: where JACK reports that it may have lost
    some, Fenko sends ends again."""
    found, silent = [], set()
    for message in messages:
        kind, note, velocity = f"{words(message)} - -".split()[:3]
        about, ends = (kind[1], note), kind[0] == "8" or (kind[0], velocity) == ("9", "00")
        if not ends or about not in silent:
            found.append(message)
        if kind[0] in "89":
            (silent.add if ends else silent.discard)(about)
    return found


_ASK_JACK = (
    "import jack; c = jack.Client('ask', no_start_server=True); print(*[p.name for p in c.get_ports()], sep='\\n')"
)


def jack_ports(env: Mapping[str, str]) -> str:
    """Every port, a line each."""
    run = subprocess.run([sys.executable, "-c", _ASK_JACK], env=dict(env), check=True, capture_output=True, text=True)
    return run.stdout
