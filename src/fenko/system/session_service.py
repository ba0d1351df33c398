"""Fenko at login: a systemd user service, or, where there is no systemd, an entry of the desktop's autostart (XDG)."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from pathlib import Path

UNIT = "fenko.service"
TARGET = "graphical-session.target"
_SHARED = (
    "DISPLAY",
    "XAUTHORITY",
    "WAYLAND_DISPLAY",
    "XDG_SESSION_TYPE",
    "XDG_CURRENT_DESKTOP",
    "DBUS_SESSION_BUS_ADDRESS",
)
"""Of a session's environment, what the service needs to know."""
HARDENING = (
    "NoNewPrivileges=yes",
    "LockPersonality=yes",
    "RestrictSUIDSGID=yes",
    "RestrictNamespaces=yes",
    "SystemCallArchitectures=native",
    "SystemCallFilter=@system-service",
    "RestrictAddressFamilies=AF_UNIX AF_INET AF_INET6 AF_NETLINK",
)
"""What a desk does without that starts no programs; those would be bound by it too."""


class ServiceError(Exception):
    """It could not be done; the message says why."""


def config_folder() -> Path:
    """Where a person's settings are."""
    return Path(os.environ.get("XDG_CONFIG_HOME") or Path.home() / ".config")


def unit_path() -> Path:
    """The file of the service."""
    return config_folder() / "systemd/user" / UNIT


def autostart_path() -> Path:
    """The entry of the autostart."""
    return config_folder() / "autostart/fenko.desktop"


def has_manager() -> bool:
    """Whether a systemd of this person answers."""
    if shutil.which("systemctl") is None:
        return False
    return asked("show", "--property", "Version").returncode == 0


def asked(*words: str) -> subprocess.CompletedProcess[str]:
    """What the person's systemd says. Raises ServiceError if it says nothing for a long time."""
    try:
        return subprocess.run(["systemctl", "--user", *words], capture_output=True, text=True, timeout=150)
    except (OSError, subprocess.TimeoutExpired) as why:
        raise ServiceError(f"systemctl --user {' '.join(words)}: {why}") from None


def told(*words: str) -> None:
    """Has it do something. Raises ServiceError with what it says against it."""
    done = asked(*words)
    if done.returncode:
        raise ServiceError(done.stderr.strip() or f"systemctl --user {' '.join(words)} failed")


def facts(*names: str) -> dict[str, str]:
    """Properties of the service."""
    done = asked("show", UNIT, "--property", ",".join(names))
    return dict(line.partition("=")[::2] for line in done.stdout.splitlines())


def share_environment() -> None:
    """Has the person's systemd know on which display this session is."""
    names = [name for name in _SHARED if os.environ.get(name)]
    if names:
        told("import-environment", *names)


def command_of(desk: Path) -> list[str]:
    """How the desk is run."""
    return [sys.executable, "-P", "-m", "fenko", "run", "--desk", str(desk.absolute())]


def unit_text(desk: Path, starts_programs: bool) -> str:
    """The service, for a desk that starts programs or does not."""
    command = " ".join(map(_quoted, command_of(desk)))
    hardening = [] if starts_programs else list(HARDENING)
    return "\n".join(
        [
            "[Unit]",
            "Description=Fenko: surfaces in, shortcuts out",
            f"PartOf={TARGET}",
            f"After={TARGET}",
            "StartLimitIntervalSec=0",
            "",
            "[Service]",
            "Type=notify",
            "NotifyAccess=main",
            f"ExecStart={command}",
            "Restart=on-failure",
            "RestartSec=1",  # the pauses grow in Fenko itself, with every version of systemd
            "TimeoutStartSec=120",
            "TimeoutStopSec=15",
            "WatchdogSec=30",
            "KillMode=process",  # programs that the desk started are the person's own
            "OOMPolicy=continue",
            *hardening,
            "",
            "[Install]",
            f"WantedBy={TARGET}",
            "",
        ]
    )


def _quoted(word: str) -> str:
    """A word of a command line as systemd reads it."""
    escaped = word.replace("\\", "\\\\").replace('"', '\\"').replace("%", "%%").replace("$", "$$")
    return f'"{escaped}"'


def entry_text(desk: Path) -> str:
    """The entry of the autostart."""
    command = " ".join(_in_entry(word) for word in command_of(desk))
    return "\n".join(
        ["[Desktop Entry]", "Type=Application", "Name=Fenko", f"Exec={command}", "NoDisplay=true", "Terminal=false", ""]
    )


def _in_entry(word: str) -> str:
    """A word of a command line as desktop entries write it; its characters are escaped twice, as the standard has it."""
    quoted = "".join(f"\\{character}" if character in '"`$\\' else character for character in word)
    return '"' + quoted.replace("\\", "\\\\").replace("%", "%%") + '"'
