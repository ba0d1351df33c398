"""Child process that compiles desks, so that a running desk does not wait for it."""

from __future__ import annotations

import pickle

from fenko.services.compiling import compile_desk
from fenko.services.messages import CompileDesk, CompilerFailed, DeskEnd, DeskPart
from fenko.system.parent_process import ParentProcess, serve
from fenko.system.trouble import described


def work(parent: ParentProcess) -> None:
    """Answer requests, one after the other."""
    for request in parent.messages():
        try:
            for part in compile_desk(request.folder, request.settings):
                # Waits while the parent does not read, which limits what is under way.
                parent.send(DeskPart(pickle.dumps(part, protocol=pickle.HIGHEST_PROTOCOL)))
            parent.send(DeskEnd())
        except ConnectionError:
            raise
        except Exception as why:  # the desk reports it
            parent.send(CompilerFailed(described(why)))


if __name__ == "__main__":
    serve(work, CompileDesk)
