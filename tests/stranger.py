"""Five minutes of a stranger, in the kernel lab: in a clean Debian with the package, from `fenko ready` to a binding that works, on a pad
that has just been plugged in; each command is timed. Run by `test_packages.py`.

usage: stranger.py ROOT"""

from __future__ import annotations

import json
import shlex
import subprocess
import sys
import time
from pathlib import Path

sys.path[:0] = [str(Path(__file__).parent), str(Path(__file__).parent / "kernel")]

from bench_devices import Reader, key, pad  # noqa: E402
from evdev import ecodes as e  # noqa: E402

from support import wait_for  # noqa: E402

PERSON = [
    "setpriv",
    "--reuid",
    "1000",
    "--regid",
    "1000",
    "--clear-groups",
    "env",
    "-i",
    "HOME=/home/mara",
    "PATH=/usr/bin:/bin",
    "LANG=C.UTF-8",
]


def main() -> None:
    """Prints what was done, how long that took, and what came of it."""
    root = Path(sys.argv[1])
    for place in ("dev", "proc", "sys"):
        subprocess.run(["mount", "--rbind", f"/{place}", str(root / place)], check=True)
    subprocess.run(["chroot", root, "useradd", "--create-home", "--uid", "1000", "mara"], check=True)
    device = pad()
    time.sleep(1)
    # What the package's rule and the line of `fenko ready --fix` give to who sits at the machine; nobody sits here.
    for node in ("/dev/uinput", device.device.path):
        subprocess.run(["chown", "1000", node], check=True)
    steps = []

    def typed(*words: str, status: int | None = 0) -> str:
        begun = time.monotonic()
        done = subprocess.run(["chroot", root, *PERSON, *words], capture_output=True, text=True)
        steps.append(
            {"command": shlex.join(words), "seconds": round(time.monotonic() - begun, 1), "status": done.returncode}
        )
        assert status is None or done.returncode == status, (words, done.stdout, done.stderr)
        return done.stdout + done.stderr

    ready = typed("fenko", "ready", status=None)
    made = typed("fenko", "new")
    learnt = typed("fenko", "learn", "pad.south", "ctrl+z")
    begun = time.monotonic()
    log = Path("/tmp/stranger.log")
    with log.open("wb") as file:
        run = subprocess.Popen(["chroot", root, *PERSON, "fenko", "run"], stdout=file, stderr=file)
    wait_for(lambda: "taken over" in log.read_text(), f"the pad: {log.read_text()}")
    keys = Reader("Fenko keys")
    key(device, e.BTN_SOUTH, 1)
    seen = keys.events(2)
    key(device, e.BTN_SOUTH, 0)
    seen += keys.events(2)
    steps.append({"command": "fenko run", "seconds": round(time.monotonic() - begun, 1), "status": 0})
    run.terminate()
    run.wait(60)
    print(
        json.dumps(
            {
                "steps": steps,
                "seen": [(e.KEY[code], value) for code, value in seen],
                "said": [ready, made, learnt, log.read_text()],
            }
        )
    )


main()
