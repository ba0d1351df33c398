"""How an error that nobody expected is reported: what it is and where it happened."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from pathlib import Path

_ROOT = Path(__file__).parent.parent


def described(why: BaseException) -> str:
    """`KeyError: 'x' (core/motion.py:123, in press)`, in one line: the innermost place in Fenko's own code, and before it the one
    in somebody else's code that it called."""
    own = other = ""
    frame = why.__traceback__
    while frame is not None:
        path, name = Path(frame.tb_frame.f_code.co_filename), frame.tb_frame.f_code.co_name
        if _ROOT in path.parents:
            own, other = f"{path.relative_to(_ROOT)}:{frame.tb_lineno}, in {name}", ""
        else:
            other = f"{path.name}:{frame.tb_lineno}, in {name}"
        frame = frame.tb_next
    text = " ".join(str(why).split())
    place = "; called from ".join(filter(None, (other, own)))
    return f"{type(why).__name__}{f': {text}' if text else ''}{f' ({place})' if place else ''}"


def ignore_errors(end: Callable[[], object]) -> None:
    """Call something that ends the use of a library's object, which may be broken by then; an error changes nothing any more."""
    with contextlib.suppress(Exception):  # libraries raise anything at an end
        end()
