"""Started by a running desk, with the number of the socket between them."""

from __future__ import annotations

import sys

from fenko.workers.host import main

main(int(sys.argv[1]))
