"""The small extension by which GNOME's shell tells Fenko of windows: put into its place, and taken out, on consent alone."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
from importlib import resources
from pathlib import Path

import msgspec

UUID = "desk@fenko"
_FIRST_WITH_MODULES = 45
_NEWEST = 49
"""Versions of the shell from and up to which an extension is a module."""


def extension_folder() -> Path:
    """Where it is for this person."""
    return Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local/share") / "gnome-shell/extensions" / UUID


def is_installed() -> bool:
    """Whether it is in its place, as this version of Fenko has it."""
    folder = extension_folder()
    return any(all(_same(folder / name, text) for name, text in files(version).items()) for version in (43, 45))


def _same(path: Path, text: str) -> bool:
    try:
        return path.read_text(encoding="utf-8") == text
    except OSError:
        return False


def files(shell: int) -> dict[str, str]:
    """Its files, by their names, for a version of the shell."""
    data = resources.files("fenko.data").joinpath("shell")
    head = "from-45.js" if shell >= _FIRST_WITH_MODULES else "before-45.js"
    versions = (
        range(_FIRST_WITH_MODULES, _NEWEST + 1) if shell >= _FIRST_WITH_MODULES else range(42, _FIRST_WITH_MODULES)
    )
    about = {
        "uuid": UUID,
        "name": "Fenko",
        "description": "Tells Fenko which window is in front, and presses keys for its surfaces.",
        "shell-version": [str(version) for version in versions],
    }
    script = data.joinpath(head).read_text("utf-8") + "\n" + data.joinpath("desk.js").read_text("utf-8")
    return {"metadata.json": msgspec.json.format(msgspec.json.encode(about)).decode() + "\n", "extension.js": script}


def install(shell: int) -> Path:
    """Puts it into its place. Raises OSError."""
    folder = extension_folder()
    folder.mkdir(parents=True, exist_ok=True)
    for name, text in files(shell).items():
        (folder / name).write_text(text, encoding="utf-8")
    return folder


def remove() -> bool:
    """Takes it out; False if it was not there. Raises OSError."""
    if not extension_folder().exists():
        return False
    shutil.rmtree(extension_folder())
    return True


def shell_version() -> int:
    """The version of the shell on this machine; 0 where there is none."""
    try:
        said = subprocess.run(
            ["gnome-shell", "--version"], capture_output=True, text=True, timeout=20, check=False
        ).stdout
    except (OSError, subprocess.TimeoutExpired):
        return 0
    found = re.search(r"(\d+)", said)
    return int(found[1]) if found else 0


def enable(on: bool) -> bool:
    """Has the shell load it, or not, from the next login on; False where the shell's settings cannot be written."""
    program = shutil.which("gsettings")
    if program is None:
        return False
    settings = [program, "{}", "org.gnome.shell", "enabled-extensions"]

    def run(verb: str, *more: str) -> str | None:
        command = [verb if word == "{}" else word for word in settings]
        done = subprocess.run([*command, *more], capture_output=True, text=True, timeout=20, check=False)
        return None if done.returncode else done.stdout

    said = run("get")
    if said is None:
        return False
    names = [name for name in re.findall(r"'([^']*)'", said) if name != UUID] + [UUID] * on
    return run("set", f"[{', '.join(repr(name) for name in names)}]") is not None
