"""Fenko turns whatever has buttons, sticks or dials into shortcut surfaces for the program in front."""

__version__ = "0.1.0"
