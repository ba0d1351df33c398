"""Beside a running desk: looks which of the programs run that the desk asks for, and tells when that changes."""

from __future__ import annotations

from fenko.core.patterns import Pattern, compile_pattern
from fenko.services.messages import LookForPrograms, ProgramsRunning
from fenko.system.parent_process import ParentProcess, serve
from fenko.system.processes import OFTEN, Processes


def work(parent: ParentProcess) -> None:
    """Look once a second, while there is something to look for, until the parent ends."""
    processes = Processes()
    patterns: list[Pattern] = []
    reported: list[str] | None = None
    while True:
        if parent.wait(OFTEN if patterns else None):
            received = parent.receive()
            if received is None:
                return
            for message in received:
                patterns = [compile_pattern(text) for text in message.patterns]
        found = processes.running(patterns)
        if found != reported:
            reported = found
            parent.send(ProgramsRunning(found))


if __name__ == "__main__":
    serve(work, LookForPrograms)
