"""The process of the workers, a child of the desk."""

from __future__ import annotations

from fenko.outputs.messages import FromDesk
from fenko.system.parent_process import serve
from fenko.workers.host import run

serve(run, FromDesk)
