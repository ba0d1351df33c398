"""What outputs with workers cost a running desk: with an end that takes everything, with one that is dead and a full queue;
keys beside a number that follows a control a thousand times a second; memory over an hour of that."""

from __future__ import annotations

import os
import select
import shutil
import signal
import statistics
import subprocess
import sys
import tempfile
import time
import wave
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from bench.child import key_report, report
from bench.rows import Row, median_and_late
from fenko.core.changes import Effect
from fenko.core.keys import KERNEL_KEYS
from fenko.integrations import load
from fenko.outputs.port import Settings
from fenko.outputs.workers_port import WorkersPort

load()
LISTENER = """
import socket
line = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
line.bind(("127.0.0.1", 0))
print(line.getsockname()[1], flush=True)
while True:
    line.recv(65536)
"""
DESK = """
[surface.keys]
kind = "keyboard"
[surface.pad]
kind = "gamepad"
[osc.end]
to = "udp 127.0.0.1:{port}"
[profile.base.on.keys]
{keys}
[profile.base.on.pad]
trigger-right = {{ do = "osc /level follow", spring = true }}
"""
FENKO = """
import sys
from bench.child import piped_port, serve
from fenko.core.keys import KERNEL_KEYS

addresses = {(1, KERNEL_KEYS[key]): f"keys.{key}" for key in sys.argv[2]} | {(3, 5): "pad.trigger-right"}
serve(sys.argv[1], addresses, piped_port, {5: (0, 1000)})
"""
KEYS = "abcdefghijklmnopqrstuvwxyz0123456789"
ABSOLUTE, TRIGGER = 3, 5
EVENTS = 4000
PRESSES = 1500
HOUR = 3_600_000
"""Changes of an hour at a thousand a second."""
COMPRESSED = 300_000
"""Of them, those that are really sent, as fast as they go."""


@contextmanager
def _listener() -> Iterator[int]:
    """An end that takes everything: its UDP port."""
    process = subprocess.Popen([sys.executable, "-c", LISTENER], stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None
    yield int(process.stdout.readline())
    process.kill()
    process.communicate()


def _port(to: str) -> WorkersPort:
    port = WorkersPort(["osc"], Settings({"osc": {"end": {"to": to}}}, lambda line: None))
    port.wake = lambda due: None
    _round(port, 1.0)
    return port


def _round(port: WorkersPort, seconds: float = 0.0) -> None:
    """What the loop does after an event."""
    end = time.monotonic() + seconds
    while True:
        (descriptor,) = port.descriptors()
        assert descriptor.writable is not None
        descriptor.writable()
        if not seconds or time.monotonic() > end:
            return
        if select.select([descriptor.fd], [], [], 0.01)[0]:
            descriptor.readable()


def _cost(port: WorkersPort, act: Effect) -> float:
    """Seconds of processor time for an event with that effect, beside everything else that runs."""
    spent = []
    for number in range(EVENTS):
        start = time.perf_counter()
        port.send(((float(number), *act),))
        _round(port)
        spent.append(time.perf_counter() - start)
        if number % 50 == 0:
            time.sleep(0.002)  # as long as a hand needs at the least
    return statistics.median(spent)


def _dead_or_alive() -> Row:
    effect = ("osc", "send", "end", "/cue/go", [7])
    with _listener() as number:
        alive = _port(f"udp 127.0.0.1:{number}")
        dead = _port("tcp 127.0.0.1:9")
        stopped = _port(f"udp 127.0.0.1:{number}")
        os.kill(stopped.child.pid, signal.SIGSTOP)
        for each in range(20_000):
            stopped.send(((float(each), *effect),))
            _round(stopped)
        ratios = []
        for _ in range(5):
            base = _cost(alive, effect)
            ratios.append(max(_cost(dead, effect), _cost(stopped, effect)) / base)
        os.kill(stopped.child.pid, signal.SIGCONT)
        for port in (alive, dead, stopped):
            port.close()
    ratio = statistics.median(ratios)
    seen = f"{ratio:.2f} × one with an end that takes everything ({base * 1e6:.0f} µs)"
    return Row("an event for an end that is dead, and with a full queue", seen, "≤ 1.1 ×", ratio <= 1.1)


def _latencies(follows: bool) -> list[float]:
    """How long keys take beside a number that follows a control, or beside nothing."""
    with tempfile.TemporaryDirectory() as name, _listener() as number:
        bound = "\n".join(f'{key} = "{other}"' for key, other in zip(KEYS, reversed(KEYS), strict=True))
        (Path(name) / "desk.toml").write_text(DESK.format(port=number, keys=bound))
        process = subprocess.Popen(
            [sys.executable, "-c", FENKO, name, KEYS], stdin=subprocess.PIPE, stdout=subprocess.PIPE, bufsize=0
        )
        assert process.stdin is not None and process.stdout is not None
        process.stdout.read(1)
        time.sleep(1.0)
        times = []
        due = time.monotonic()
        for tick in range(PRESSES * 4):
            due += 0.001
            time.sleep(max(0.0, due - time.monotonic()))
            if follows:
                os.write(process.stdin.fileno(), report((ABSOLUTE, TRIGGER, tick % 1000)))
            if tick % 4 == 3:
                time.sleep(max(0.0, due + 0.0005 - time.monotonic()))
                press = tick // 4
                start = time.perf_counter()
                os.write(process.stdin.fileno(), key_report(KERNEL_KEYS[KEYS[press // 2 % len(KEYS)]], 1 - press % 2))
                select.select([process.stdout], [], [])
                times.append(time.perf_counter() - start)
                os.read(process.stdout.fileno(), 1536)
        process.kill()
        process.communicate()
    return times


def _beside_a_follow() -> Row:
    ratios, last = [], (0.0, 0.0)
    for _ in range(5):
        alone, beside = median_and_late(_latencies(False)), median_and_late(_latencies(True))
        ratios.append(beside[1] / alone[1])
        last = (alone[1], beside[1])
    ratio = statistics.median(ratios)
    seen = f"{ratio:.2f} × without ({last[0] * 1e6:.0f} → {last[1] * 1e6:.0f} µs)"
    return Row("a key beside a number that follows at 1,000/s, 99th percentile", seen, "≤ 1.5 ×", ratio <= 1.5)


def _memory() -> Row:
    with _listener() as number:
        port = _port(f"udp 127.0.0.1:{number}")
        sizes = []
        for each in range(COMPRESSED):
            port.send(((float(each), "osc", "send", "end", "/level", [(each % 1000) / 1000]),))
            if each % 20 == 0:
                _round(port)
            if each % 1000 == 0:
                _round(port, 0.001)
            if each in (COMPRESSED // 10, COMPRESSED - 1):
                sizes.append(_resident(os.getpid()) + _resident(port.child.pid))
        port.close()
    grown = (sizes[1] - sizes[0]) / 1024 * HOUR / COMPRESSED
    return Row(
        "memory of desk and workers, an hour of it",
        f"{grown:+.2f} MiB an hour ({COMPRESSED:,} changes)",
        "flat",
        grown < 4,
    )


def _resident(pid: int) -> int:
    """KiB of a process that are its own."""
    return sum(int(line.split()[1]) for line in Path(f"/proc/{pid}/smaps_rollup").read_text().splitlines() if line.startswith("Private_Dirty"))  # fmt: skip


def _sound() -> list[Row]:
    """How soon a press is heard: from the effect until the first sample leaves the audio server."""
    if shutil.which("pulseaudio") is None or shutil.which("parec") is None:
        return [Row("a press → the sound leaves the audio server", "not measured: no PulseAudio here", "", False)]
    with tempfile.TemporaryDirectory() as name:
        env = os.environ | {"PULSE_SERVER": f"unix:{name}/socket", "HOME": name, "XDG_RUNTIME_DIR": name}
        with wave.open(f"{name}/click.wav", "wb") as file:
            file.setnchannels(1)
            file.setsampwidth(2)
            file.setframerate(48000)
            file.writeframes(b"\xff\x3f\x00\xc0" * 2400)
        command = ["pulseaudio", "-n", "--daemonize=no", "--exit-idle-time=-1", "--use-pid-file=no"]
        for module in (
            f"module-native-protocol-unix auth-anonymous=1 socket={name}/socket",
            "module-null-sink sink_name=out",
        ):
            command += ["-L", module]
        server = subprocess.Popen(command, env=env, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        while not Path(f"{name}/socket").exists():
            time.sleep(0.05)
        record = ["parec", "--device=out.monitor", "--rate=48000", "--channels=1", "--format=s16le", "--latency-msec=1"]
        meter = subprocess.Popen(record, env=env, stdout=subprocess.PIPE)
        os.environ["PULSE_SERVER"] = env["PULSE_SERVER"]
        port = WorkersPort(["sound"], Settings({}, lambda line: None, None, name))
        port.wake = lambda due: None
        _round(port, 1.5)
        times = [_heard(port, meter) for _ in range(15)]
        port.close()
        for process in (meter, server):
            process.kill()
            process.communicate()
    first, later = times[0] * 1000, statistics.median(times[1:]) * 1000
    return [
        Row(
            "a press → the sound leaves the audio server, median",
            f"{later:.0f} ms (the first one {first:.0f} ms)",
            "≤ 50 ms",
            later <= 50,
        )
    ]


def _heard(port: WorkersPort, meter: subprocess.Popen[bytes]) -> float:
    assert meter.stdout is not None
    end = time.monotonic() + 0.3
    while time.monotonic() < end:  # silence before it
        os.read(meter.stdout.fileno(), 65536)
    start = time.monotonic()
    port.send(((0.0, "sound", "play", "click.wav", 1.0),))
    while time.monotonic() < start + 3:
        _round(port)
        if any(os.read(meter.stdout.fileno(), 480)):
            break
    return time.monotonic() - start


def measure() -> list[Row]:
    """All rows."""
    return [*_sound(), _dead_or_alive(), _beside_a_follow(), _memory()]
