"""Who uses Fenko, and whether the login system knows them to sit at this machine."""

from __future__ import annotations

import os
import pwd
from collections.abc import Callable
from pathlib import Path

_USERS = Path("/run/systemd/users")


def name() -> str:
    """The user's name, or the number of one whom the system does not know."""
    try:
        return pwd.getpwuid(os.getuid()).pw_name
    except KeyError:
        return str(os.getuid())


def group_member() -> str | None:
    """Who needs a group to reach devices: None for a person at a seat, to whom the login system gives them, and for
    root, who needs nothing."""
    if os.getuid() == 0:
        return None
    try:
        text = (_USERS / str(os.getuid())).read_text(encoding="utf-8", errors="replace")
    except OSError:
        return name()
    seats = next((line.partition("=")[2] for line in text.splitlines() if line.startswith("SEATS=")), "")
    return None if seats.strip() else name()


def runtime_folder() -> Path | None:
    """Where this session keeps its sockets; None where there is no such session."""
    text = os.environ.get("XDG_RUNTIME_DIR") or f"/run/user/{os.getuid()}"
    return Path(text) if os.path.isdir(text) else None


def ask_as(person: str, question: Callable[[], bytes]) -> bytes:
    """The answer that `question` gives when that person asks it: run in a copy of this process that has become theirs.

    For root alone. Raises LookupError for an unknown person, OSError with what went wrong."""
    try:
        entry = pwd.getpwnam(person)
    except KeyError as why:
        raise LookupError(f"there is no user {person} here") from why
    groups = os.getgrouplist(person, entry.pw_gid)
    reading, writing = os.pipe()
    child = os.fork()
    if child == 0:
        status = 1
        try:
            os.close(reading)
            os.setgroups(groups)
            os.setgid(entry.pw_gid)
            os.setuid(entry.pw_uid)
            os.environ["HOME"] = entry.pw_dir
            with open(writing, "wb") as file:
                file.write(question())
            status = 0
        finally:
            os._exit(status)
    os.close(writing)
    with open(reading, "rb") as file:
        answer = file.read()
    if os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]):
        raise OSError(f"looking as {person} failed")
    return answer
