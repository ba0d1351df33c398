"""Processes of Fenko's own beside a running desk, each at the other end of a socket."""

from __future__ import annotations

import os
import socket
import sys


def started(module: str) -> tuple[int, socket.socket]:
    """A process that runs a module, which gets the number of its socket; and our end of that, which never blocks. Raises
    OSError."""
    ours, theirs = socket.socketpair()
    os.set_inheritable(theirs.fileno(), True)
    # -P: whatever lies in the folder that Fenko was started from is none of its modules.
    command = [sys.executable, "-P", "-m", module, str(theirs.fileno())]
    with theirs:
        try:
            # A session of its own: a Ctrl-C in the terminal is for us alone, who end it in order.
            pid = os.posix_spawn(sys.executable, command, os.environ, setsid=True)
        except OSError:
            ours.close()
            raise
    ours.setblocking(False)
    return pid, ours
