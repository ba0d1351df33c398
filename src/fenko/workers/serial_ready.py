"""Whether a serial line can be used here, for `fenko ready`."""

from __future__ import annotations

import os


def fact(name: str, device: str, listing: str) -> tuple[bool, str, str]:
    """Good or not, what is so, what helps, of the line of something called `name`; `listing` says what lists those that are there."""
    if not os.path.exists(device):
        return (False, f"{name}: there is no {device}", f"plug it in; {listing}")
    if not os.access(device, os.R_OK | os.W_OK):
        return (
            False,
            f"{name}: {device} is not for you",
            f"`sudo usermod -aG {_group(device)} $USER`, then log in anew",
        )
    return (True, f"{name}: {device} is there", "")


def _group(device: str) -> str:
    import grp

    try:
        return grp.getgrgid(os.stat(device).st_gid).gr_name
    except (OSError, KeyError):
        return "dialout"
