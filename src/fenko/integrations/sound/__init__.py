"""Sounds that Fenko plays itself."""
