"""Machines that move: what they are told, how they are jogged safely, and a simulated one."""
