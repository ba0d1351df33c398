"""Surfaces lent to and borrowed from another computer through a broker."""
