"""Lamps and rumble of kernel devices."""
