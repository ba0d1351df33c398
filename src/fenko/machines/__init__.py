"""Machines that move: what is said to them, how they are jogged safely, and one that is simulated."""
