"""What a journal costs an event, through pipes; and how long ten million uses take to be counted, from the whole command."""

from __future__ import annotations

import os
import random
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

from bench.child import key_report
from bench.pipes import KEYS, latency, start
from bench.rows import Row, median_and_late
from fenko.core.keys import KERNEL_KEYS
from fenko.desk.load import load_desk
from fenko.studies.made_up import made_up_year
from fenko.studies.tally import USES
from fenko.system.journal import Journal, journal_file

PRESSES = 6000
USES_IN_ALL = 10_000_000
DESK = """
import sys
from bench.child import piped_port, serve
from fenko.core.keys import KERNEL_KEYS

serve(sys.argv[1], {(1, KERNEL_KEYS[key]): f"keys.{key}" for key in sys.argv[2]}, piped_port, listens=True)
"""


def _event() -> Row:
    with tempfile.TemporaryDirectory() as name:
        os.environ["XDG_STATE_HOME"] = name
        bound = "\n".join(f'{key} = "{other}"' for key, other in zip(KEYS, reversed(KEYS), strict=True))
        sides = []
        for keep in ("nothing", "90 days"):
            folder = Path(name) / keep.replace(" ", "-")
            folder.mkdir()
            text = f'[journal]\nkeep = "{keep}"\n[surface.keys]\nkind = "keyboard"\n[profile.base.on.keys]\n{bound}\n'
            (folder / "desk.toml").write_text(text)
            sides.append(start(sys.executable, "-c", DESK, str(folder), KEYS))
        times: list[list[float]] = [[], []]
        luck = random.Random(1)
        for number in range(PRESSES):
            value, code = 1 - number % 2, KERNEL_KEYS[KEYS[number // 2 % len(KEYS)]]
            for side in luck.sample((0, 1), 2):  # who comes first is slower
                times[side].append(latency(sides[side], key_report(code, value)))
            time.sleep(0.001)
        for process in sides:
            process.terminate()
            process.communicate()
        (written,) = Path(name).glob("fenko/journal/*.sqlite")
        journal = Journal(written)
        uses = journal.extent()[0]
        journal.close()
    (without, _), (with_one, _) = map(median_and_late, times)
    kept = f"{uses} of {PRESSES // 2} presses in it"
    return Row("an event with a journal, median", f"{with_one / without:.2f} × one without ({with_one * 1e6:.0f} µs; {kept})",
               "≤ 1.1 ×", with_one / without <= 1.1)  # fmt: skip


def _counted() -> list[Row]:
    from fenko.data import DEMO

    with tempfile.TemporaryDirectory() as name:
        os.environ["XDG_STATE_HOME"] = name
        folder = Path(name) / "desk"
        shutil.copytree(str(DEMO), folder)
        year = made_up_year(load_desk(folder).plan)
        batches = [np.frombuffer(batch, USES) for batch in year.batches]
        times = -(-USES_IN_ALL // sum(map(len, batches)))
        path = journal_file(folder)
        path.parent.mkdir(parents=True)
        journal = Journal(path, new=True)
        journal.add_batches(year.bindings, year.programs, (np.repeat(one, times).tobytes() for one in batches))
        uses = journal.extent()[0]
        journal.close()
        seconds, memory = [], 0.0
        for _ in range(3):
            begin = time.perf_counter()
            usage = subprocess.Popen(
                [sys.executable, "-m", "fenko", "usage", "--desk", str(folder)], stdout=subprocess.DEVNULL
            )
            _, status, used = os.wait4(usage.pid, 0)
            seconds.append(time.perf_counter() - begin)
            assert not status
            memory = max(memory, used.ru_maxrss / 1024)
    took = statistics.median(seconds)
    return [
        Row(f"`fenko usage` of {uses / 1e6:.1f} million uses", f"{took:.1f} s", "≤ 3 s", took <= 3),
        Row("the same, memory", f"{memory:.0f} MiB", "≤ 500 MB", memory <= 477),
    ]


def measure() -> list[Row]:
    """All rows."""
    return [_event(), *_counted()]


if __name__ == "__main__":
    for row in measure():
        print(*row, sep=" | ")
