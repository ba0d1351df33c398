"""Pictures: what a surface looks like, on paper, on a screen and in a terminal. Only `picture` loads Matplotlib."""
