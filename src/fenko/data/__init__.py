"""What ships with the package: the demo's desk and takes."""

from pathlib import Path

DEMO = Path(__file__).parent / "demo"
"""The folder of the made-up workshop's desk."""
