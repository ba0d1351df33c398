"""Measures a device from what it said, and proposes the numbers that suit it and the hand on it."""
