"""`python -m fenko` is the same as `fenko`."""

from fenko.cli import main

main()
