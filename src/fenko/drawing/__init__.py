"""Pictures: what a surface looks like, on paper, on a screen and in a terminal. Only `painter` loads Cairo and Pango."""

FORMATS = ("svg", "png", "pdf")
"""What pictures can be, by the ending of a file's name."""
