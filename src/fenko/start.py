"""Where the `fenko` command begins: nothing may go wrong before the command line is there, Ctrl-C included."""

import os
import signal
import sys


def main() -> None:
    """Runs the command line. A Ctrl-C while it is still being loaded, or ends, ends the process without a word."""
    signal.signal(signal.SIGINT, signal.SIG_DFL)
    for name in ("stdout", "stderr"):
        stream = getattr(sys, name)
        if stream is None:  # closed by whoever started us
            setattr(sys, name, open(os.devnull, "w"))  # noqa: SIM115
        else:
            stream.reconfigure(errors="backslashreplace")
    from fenko.cli import main as run

    run()
