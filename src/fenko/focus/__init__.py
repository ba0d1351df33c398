"""Which window is in front: from the X server, or from a script."""
