"""Pictures: what a surface looks like, on paper, on a screen and in a terminal. Only `picture` loads Matplotlib."""

FORMATS = ("svg", "png", "pdf")
"""What `picture` can write, by the ending of a file's name."""
