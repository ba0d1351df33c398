"""Where the `fenko` command begins: nothing may go wrong before the command line is there, Ctrl-C included."""

import signal


def main() -> None:
    """Runs the command line. A Ctrl-C while it is still being loaded ends the process at once, without a word."""
    signal.signal(signal.SIGINT, signal.SIG_DFL)
    from fenko.cli import main as run

    signal.signal(signal.SIGINT, signal.default_int_handler)
    run()
