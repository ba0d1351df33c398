"""Prints the design's table of aims with what this machine shows."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

from bench import engine, program
from bench.rows import Row

ROOT = Path(__file__).parent.parent


def _kernel_rows() -> list[Row]:
    """Both sides run inside the emulated machine."""
    lab = [str(ROOT / "tools/kernel-lab"), "--timeout", "400", "--", sys.executable, "-m", "bench.kernel"]
    done = subprocess.run(lab, cwd=ROOT, capture_output=True, text=True)
    if done.returncode:
        reason = (done.stdout + done.stderr).strip().splitlines()[-1:]
        return [Row("kernel path", f"could not be measured here: {' '.join(reason)}", "", False)]
    seen = json.loads(done.stdout.splitlines()[-1])
    median, late = (seen[name][1] / seen[name][0] for name in ("median", "p99"))
    bare, ours = seen["mouse"]
    lost = ours["sent"] - ours["arrived"]
    share = ours["cpu"] * ours["rate"]
    return [
        Row("kernel event in → kernel event out, median", f"{median:.2f} ×", "≤ 1.5 × a bare read-write loop", median <= 1.5),
        Row("the same, 99th percentile", f"{late:.2f} ×", "≤ 2 ×", late <= 2),
        Row("a mouse passed through, reports lost", f"{lost:.0f} of {ours['sent']:.0f} at {ours['rate']:.0f}/s, emulated",
            "none at 8,000/s", lost == 0),
        Row("the same, processor", f"{ours['cpu'] / bare['cpu']:.2f} × a bare loop; {share:.0%} of an emulated core",
            "≤ 40 % of one core", share <= 0.4),
    ]  # fmt: skip


def main() -> None:
    """All rows; exit status 1 if an aim was missed."""
    rows = [*engine.measure(), *program.measure(), *_kernel_rows()]
    print(f"| {'what':<74} | {'seen':<52} | {'aim':<42} | |")
    print(f"|{'-' * 76}|{'-' * 54}|{'-' * 44}|---|")
    for row in rows:
        print(f"| {row.what:<74} | {row.seen:<52} | {row.aim:<42} | {'yes' if row.reached else 'no'} |")
    sys.exit(0 if all(row.reached for row in rows) else 1)


main()
