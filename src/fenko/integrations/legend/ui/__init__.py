"""The window of the legend."""
