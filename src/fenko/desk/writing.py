"""Writing new files: whole or not at all, never over something that is there, for the user alone."""

from __future__ import annotations

import os
import re
from pathlib import Path

import msgspec

from fenko.core.descriptions import DescribedControl, Description, default_form, default_size
from fenko.system.files import whole_file

_BARE_KEY = re.compile(r"[A-Za-z0-9_-]+")


def write_new(path: Path, text: str) -> None:
    """Writes a file that is not there yet (mode 0600, its new folders 0700). Raises FileExistsError, OSError."""
    for folder in reversed(path.parents):
        if not folder.is_dir():
            folder.mkdir(mode=0o700)
    # A link, unlike a rename, never takes the place of a file that is there.
    with whole_file(path, 0o600, os.link) as file:
        file.write(text.encode())


def quoted(text: str) -> str:
    """A text as a TOML string. Every JSON string is one, but for one character."""
    return msgspec.json.encode(text).decode().replace("\x7f", "\\u007f")


def key(name: str) -> str:
    """A name as a TOML key."""
    return name if _BARE_KEY.fullmatch(name) else quoted(name)


def description_text(description: Description) -> str:
    """A description as its file says it, with a comment for every control that is odd."""
    lines = ["# What Fenko knows of one thing. Share it: nothing in here says whose it is.", "description = 1"]
    lines.append(f"name = {quoted(description.name)}")
    lines.append(f"kind = {quoted(description.kind)}")
    if description.links:
        lines.append(f"links = [{', '.join(quoted(link) for link in description.links)}]")
    if description.note:
        lines.append(f"note = {quoted(description.note)}")
    lines.append(f"body = {_pair(description.body)} # mm: width, height")
    lines += ["", "[controls]", "# at: the middle of the control, mm from the left and from the top edge"]
    for spot in description.spots:
        if spot.trouble:
            lines.append(f"# {spot.trouble}")
        lines.append(f"{key(spot.control)} = {{ {', '.join(_settings(spot))} }}".replace("{  }", "{}"))
    return "\n".join(lines) + "\n"


def _settings(spot: DescribedControl) -> list[str]:
    found = []
    if spot.at is not None:
        found.append(f"at = {_pair(spot.at)}")
    if spot.size != default_size(spot.control, spot.sort):
        found.append(f"size = {_pair(spot.size)}")
    if spot.form != default_form(spot.control, spot.sort):
        found.append(f"form = {quoted(spot.form)}")
    found += [
        f"{name} = {quoted(text)}"
        for name in ("on", "name", "printed", "sort", "coding")
        if (text := getattr(spot, name))
    ]
    if spot.bits:
        found.append(f"bits = {spot.bits}")
    if spot.shows_value:
        found.append("shows-value = true")
    if spot.sends is not None:
        several = f"[{', '.join(map(quoted, spot.sends))}]" if len(spot.sends) > 1 else quoted("".join(spot.sends))
        found.append(f"sends = {several if spot.sends else quoted('nothing')}")
    if spot.note:
        found.append(f"note = {quoted(spot.note)}")
    return found


def _pair(pair: tuple[float, float]) -> str:
    return f"[{pair[0]:g}, {pair[1]:g}]"
