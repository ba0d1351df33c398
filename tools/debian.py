"""Builds the Debian package from the tree: Fenko with its libraries in /usr/lib/fenko, on the system's own Python, with the udev rule, the user
service, man pages and completions in their places.

usage: python tools/debian.py FOLDER     (the package is put there; needs dpkg-deb, and pip's registry)
"""

from __future__ import annotations

import gzip
import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).parent.parent
sys.path.insert(0, str(ROOT / "src"))
sys.path.insert(0, str(ROOT / "tools"))

import manual

from fenko import __version__
from fenko.cli.completion import SHELLS, script
from fenko.core.remedies import uinput_missing
from fenko.system.session_service import unit_text

HOME = "usr/lib/fenko"
PYTHON = f"python{sys.version_info.major}.{sys.version_info.minor}"
DEPENDS = (
    f"{PYTHON}", "libxcb1", "libxkbcommon0", "libpangocairo-1.0-0", "libpangoft2-1.0-0", "libasound2", "libpulse0 | libpipewire-0.3-0",
)  # fmt: skip
CONTROL = """Package: fenko
Version: {version}
Architecture: {machine}
Maintainer: The founders of Fenko <founders@fenko.invalid>
Installed-Size: {size}
Depends: {depends}
Recommends: fonts-dejavu-core, xkb-data
Section: utils
Priority: optional
Description: turns gamepads, keypads, dials and many-button mice into shortcut surfaces
 Surfaces of any sort send keys, pointer moves, MIDI and messages to the program
 in front; profiles change by themselves with it. Fenko runs as the person who
 uses it; what it needs for that is a rule that lets them make a keyboard.
"""
COPYRIGHT = """Format: https://www.debian.org/doc/packaging-manuals/copyright-format/1.0/
Upstream-Name: fenko

Files: *
Copyright: the founders of Fenko
License: Apache-2.0

License: Apache-2.0
 On Debian systems, the full text of the Apache License, version 2.0, is in
 /usr/share/common-licenses/Apache-2.0. The libraries in /usr/lib/fenko have
 licences of their own, beside them in the folders that end in .dist-info.
"""
POSTINST = """#!/bin/sh
set -e
if [ "$1" = configure ]; then
    modprobe uinput 2>/dev/null || true
    if command -v udevadm >/dev/null && [ -d /run/udev ]; then
        udevadm control --reload || true
        udevadm trigger --sysname-match=uinput || true
    fi
fi
"""
POSTRM = """#!/bin/sh
set -e
if [ -d /run/udev ] && command -v udevadm >/dev/null; then
    udevadm control --reload || true
fi
"""


def stage(root: Path) -> None:
    """Puts everything into a folder as it is going to lie below /."""
    _libraries(root)
    remedy = uinput_missing(None)
    _write(
        root / "usr/lib/udev/rules.d/60-fenko.rules",
        "# Who sits at this machine may make a keyboard and a mouse.\n" + "\n".join(remedy.rules) + "\n",
    )
    _write(root / "usr/lib/modules-load.d/fenko.conf", "\n".join(remedy.modules) + "\n")
    _write(root / "usr/lib/systemd/user/fenko.service", _service())
    for page in manual.write(root / "usr/share/man"):
        with page.open("rb") as plain, gzip.GzipFile(f"{page}.gz", "wb", 9, mtime=0) as packed:
            shutil.copyfileobj(plain, packed)
        page.unlink()
    places = {
        "bash": "bash-completion/completions/fenko",
        "zsh": "zsh/vendor-completions/_fenko",
        "fish": "fish/vendor_completions.d/fenko.fish",
    }
    for shell in SHELLS:
        _write(root / "usr/share" / places[shell], script(shell) + "\n")
    docs = root / "usr/share/doc/fenko"
    _write(docs / "copyright", COPYRIGHT)
    with gzip.GzipFile(docs / "changelog.gz", "wb", 9, mtime=0) as log:
        log.write(f"fenko ({__version__}) stable; urgency=medium\n\n  * Built from the tree.\n".encode())


def _libraries(root: Path) -> None:
    """An environment on the system's Python: a folder of libraries, and what tells Python of it."""
    home = root / HOME
    packages = home / "lib" / PYTHON / "site-packages"
    pip = [
        sys.executable,
        "-m",
        "pip",
        "install",
        "--quiet",
        "--disable-pip-version-check",
        "--no-compile",
        "--target",
        str(packages),
    ]
    subprocess.run([*pip, str(ROOT)], check=True)
    for unneeded in [*packages.glob("*/**/tests"), packages / "bin"]:
        shutil.rmtree(unneeded, ignore_errors=True)
    compiled = [sys.executable, "-m", "compileall", "-q", "-s", str(root), "-p", "/", str(packages)]
    subprocess.run(compiled, check=True, stdout=subprocess.DEVNULL)
    (home / "bin").mkdir()
    (home / "bin/python3").symlink_to(f"/usr/bin/{PYTHON}")
    _write(
        home / "pyvenv.cfg",
        f"home = /usr/bin\ninclude-system-site-packages = false\nversion = {sys.version.split()[0]}\n",
    )
    start = "import sys\nfrom fenko.start import main\nsys.exit(main())\n"
    _write(home / "bin/fenko", f"#!/{HOME}/bin/python3\n{start}", 0o755)
    (root / "usr/bin").mkdir(parents=True)
    (root / "usr/bin/fenko").symlink_to("../lib/fenko/bin/fenko")


def _service() -> str:
    """The service as Fenko writes it, for the desk that is used where no other is named."""
    lines = unit_text(Path("/desk"), starts_programs=True).split("\n")
    return "\n".join("ExecStart=/usr/bin/fenko run" if line.startswith("ExecStart=") else line for line in lines)


def _write(path: Path, text: str, mode: int = 0o644) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text(text)
    path.chmod(mode)


def build(folder: Path) -> Path:
    """The package, in that folder."""
    machine = subprocess.run(
        ["dpkg", "--print-architecture"], capture_output=True, text=True, check=True
    ).stdout.strip()
    with tempfile.TemporaryDirectory() as name:
        root = Path(name) / "root"
        root.mkdir(mode=0o755)
        stage(root)
        size = sum(path.stat().st_size for path in root.rglob("*") if path.is_file() and not path.is_symlink()) // 1024
        control = CONTROL.format(version=__version__, machine=machine, size=size, depends=", ".join(DEPENDS))
        _write(root / "DEBIAN/control", control)
        _write(root / "DEBIAN/postinst", POSTINST, 0o755)
        _write(root / "DEBIAN/postrm", POSTRM, 0o755)
        for path in root.rglob("*"):
            if not path.is_symlink():
                path.chmod(0o755 if path.is_dir() or os.access(path, os.X_OK) else 0o644)
        package = folder / f"fenko_{__version__}_{machine}.deb"
        folder.mkdir(parents=True, exist_ok=True)
        subprocess.run(
            ["dpkg-deb", "--root-owner-group", "-Zzstd", "-z6", "--build", str(root), str(package)],
            check=True,
            stdout=subprocess.DEVNULL,
        )
    return package


if __name__ == "__main__":
    begun = time.monotonic()
    made = build(Path(sys.argv[1]))
    print(f"{made}: {made.stat().st_size / 1e6:.0f} MB, in {time.monotonic() - begun:.0f} s")
