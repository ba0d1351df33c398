"""What ships with the package: the demo's desk and takes, and the descriptions of devices and of kinds."""

from pathlib import Path

DEMO = Path(__file__).parent / "demo"
"""The folder of the made-up workshop's desk."""

KINDS = Path(__file__).parent / "kinds"
"""A description file for each kind of surface."""

DEVICES = Path(__file__).parent / "devices"
"""Description files of particular things."""

BOARDS = Path(__file__).parent / "boards"
"""Programs for boards of one's own: a microcontroller's Python, and C."""
