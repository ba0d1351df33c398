"""`python -m fenko` is the same as `fenko`."""

from fenko.start import main

main()
