"""Prints how much of the project's Python is tests."""

from pathlib import Path

ROOT = Path(__file__).parent.parent


def lines(*folders: str) -> int:
    """Lines of all Python files below the folders."""
    return sum(len(path.read_bytes().splitlines()) for folder in folders for path in (ROOT / folder).rglob("*.py"))


tests, others = lines("tests"), lines("src", "bench", "tools")
print(f"tests are {tests} of {tests + others} Python lines, {100 * tests / (tests + others):.0f} %")
