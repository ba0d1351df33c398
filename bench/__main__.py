"""Prints the design's table of aims with what this machine shows."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

from bench import clients, display, engine, far, journal, legend, lend, machine, motion, pipes, program, reload, wayland
from bench.rows import Row

ROOT = Path(__file__).parent.parent


def _kernel_rows() -> list[Row]:
    """Both sides run inside the kernel lab, near this machine's own speed."""
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
    memory, libraries = seen["memory"]
    rest = seen["rest"]
    return [
        Row("running desk at rest", f"{rest['wakeups']} wake-ups in {rest['seconds']:.0f} s", "none", rest["wakeups"] == 0),
        Row("running desk, memory", f"{memory / libraries:.2f} × ({memory / 1024:.1f} MiB against {libraries / 1024:.1f} MiB)",
            "≤ 1.5 × an interpreter with its libraries", memory / libraries <= 1.5),
        Row("kernel event in → kernel event out, median", f"{median:.2f} ×", "≤ 2 × a bare read-write loop", median <= 2),
        Row("the same, 99th percentile", f"{late:.2f} ×", "≤ 2 ×", late <= 2),
        Row("a mouse passed through, reports lost", f"{lost:.0f} of {ours['sent']:.0f} at {ours['rate']:.0f}/s",
            "none at 8,000/s", lost == 0),
        Row("the same, processor", f"{ours['cpu'] / bare['cpu']:.2f} × a bare loop, {share:.0%} of a core",
            "≤ 40 % of one core", share <= 0.4),
    ]  # fmt: skip


def main() -> None:
    """All rows, each as soon as it is known; or those of the parts that are named."""
    parts = {
        "engine": engine.measure, "program": program.measure, "reload": reload.measure, "kernel": _kernel_rows, "pipes": pipes.measure,
        "motion": motion.measure, "display": display.measure, "far": far.measure, "clients": clients.measure, "legend": legend.measure,
        "machine": machine.measure, "lend": lend.measure, "wayland": wayland.measure, "journal": journal.measure,
    }  # fmt: skip
    print("| what | seen | aim | reached |\n| --- | --- | --- | --- |")
    for name in sys.argv[1:] or parts:
        for row in parts[name]():
            print("| " + " | ".join((*row[:3], "yes" if row.reached else "no")) + " |", flush=True)


main()
