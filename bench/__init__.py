"""Measures Fenko against bare loops: `python -m bench`. Every figure is a ratio of two sides of the same run."""
