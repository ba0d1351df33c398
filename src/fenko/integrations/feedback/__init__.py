"""Surfaces other than kernel devices, and what surfaces show: lamps, rumble, tones, text, positions."""
