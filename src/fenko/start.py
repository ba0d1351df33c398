"""Where the `fenko` command begins: nothing may go wrong before the command line is there, Ctrl-C included."""

from _signal import SIG_DFL, SIGINT, signal  # type: ignore[import-not-found]

# The library's own module for signals takes long enough to load for somebody to change their mind.
signal(SIGINT, SIG_DFL)

import os  # noqa: E402
import sys  # noqa: E402
from typing import TYPE_CHECKING  # noqa: E402

if TYPE_CHECKING:
    from sys import UnraisableHookArgs


def main() -> None:
    """Runs the command line. A Ctrl-C while it is still being loaded, or ends, ends the process without a word."""
    for name in ("stdout", "stderr"):
        stream = getattr(sys, name)
        if stream is None:  # closed by whoever started us
            setattr(sys, name, open(os.devnull, "w"))  # noqa: SIM115
        else:
            stream.reconfigure(errors="backslashreplace")
    sys.unraisablehook = _unraisable
    from fenko.cli import main as run

    try:
        run()
    except SystemExit as end:
        _leave(end.code)


def _unraisable(what: "UnraisableHookArgs") -> None:
    """A Ctrl-C that fell where nothing can be raised, such as while an object is taken apart, is reported by Python and lost: it
    comes again a moment later."""
    if isinstance(what.exc_value, KeyboardInterrupt):
        from signal import pthread_kill
        from threading import Timer, main_thread

        # A real signal, so that a call that waits is interrupted too.
        Timer(0.01, pthread_kill, (main_thread().ident, SIGINT)).start()
    else:
        sys.__unraisablehook__(what)


def _leave(status: str | int | None) -> None:
    """Ends the process here, when everything has been said and let go of: libraries that draw have been seen to crash when Python
    takes them apart."""
    if isinstance(status, str):
        sys.stderr.write(f"{status}\n")
        status = 1
    for stream in (sys.stdout, sys.stderr):
        try:
            stream.flush()
        except (OSError, ValueError):
            # A result that could not be written is no result; a message without a reader changes nothing.
            status = status or int(stream is sys.stdout)
    os._exit(status or 0)
