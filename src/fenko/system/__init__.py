"""Thin wrappers over the operating system that devices, focus and outputs share."""
