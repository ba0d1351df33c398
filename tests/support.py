"""Names that tests share."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

FENKO = [sys.executable, "-m", "fenko"]
DEMO = Path(__file__).parent.parent / "src/fenko/data/demo"

Run = Callable[..., subprocess.CompletedProcess[str]]
MakeDesk = Callable[..., Path]
