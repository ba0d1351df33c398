"""What people install: a wheel and an sdist on every Python that is here, with the lowest and the highest version of each library; and a Debian
package in a clean root, which leaves nothing behind."""

from __future__ import annotations

import functools
import json
import os
import re
import shlex
import shutil
import subprocess
import sys
import tarfile
import time
import tomllib
import zipfile
from collections.abc import Iterator
from pathlib import Path

import pytest
from packaging.requirements import Requirement

from fenko import __version__
from pages import snippets

pytestmark = pytest.mark.long
ROOT = Path(__file__).parent.parent
PROJECT = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]


@functools.cache
def first_lines() -> str:
    """What the demo begins with."""
    demo = [sys.executable, "-m", "fenko", "demo", "--instant"]
    return subprocess.run(demo, check=True, capture_output=True, text=True).stdout[:2000]


def pythons() -> list[str]:
    """Every Python of at least 3.11 that is here, one of each minor version."""
    found: dict[tuple[int, int], str] = {sys.version_info[:2]: sys.executable}
    places = [
        *Path("/usr/bin").glob("python3.*"),
        *Path("/usr/local/bin").glob("python3.*"),
        *(Path.home() / ".pyenv/versions").glob("*/bin/python3"),
    ]
    for place in sorted(places):
        if place.name.endswith("-config"):
            continue
        minor = re.search(r"\b3\.(\d+)", str(place))
        if minor and int(minor[1]) >= 11:
            found.setdefault((3, int(minor[1])), str(place))
    return [found[version] for version in sorted(found)]


@pytest.fixture(scope="module")
def built(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder with the wheel and the sdist."""
    out = tmp_path_factory.mktemp("dist")
    subprocess.run([sys.executable, "-m", "build", "--outdir", str(out), str(ROOT)], check=True, capture_output=True)
    return out


def test_wheel_and_sdist_have_what_they_need_and_no_more(built: Path) -> None:
    (wheel,), (sdist,) = built.glob("*.whl"), built.glob("*.tar.gz")
    assert __version__ in wheel.name
    names = zipfile.ZipFile(wheel).namelist()
    for wanted in (
        "fenko/data/demo/desk.toml",
        "fenko/data/kwin/windows.js",
        "fenko/services/journalling.py",
        "fenko/data/kinds/gamepad.toml",
    ):
        assert wanted in names
    assert {name.partition("/")[0] for name in names} == {"fenko", f"fenko-{__version__}.dist-info"}
    with tarfile.open(sdist) as file:
        packed = {name.partition("/")[2] for name in file.getnames()}
    assert {"pyproject.toml", "README.md", "src/fenko/__init__.py", "tests/test_packages.py", "Makefile"} <= packed
    assert not [name for name in packed if name.startswith((".venv", ".git/"))]


def _installed(folder: Path, python: str, wheel: Path, *constraints: str) -> Path:
    """A new environment with the wheel; where its commands are."""
    subprocess.run([python, "-m", "venv", str(folder)], check=True)
    limits = folder / "limits.txt"
    limits.write_text("\n".join(constraints) + "\n")
    pip = [
        str(folder / "bin/python"),
        "-m",
        "pip",
        "install",
        "--quiet",
        "--disable-pip-version-check",
        "--no-compile",
        "--prefer-binary",
        "-c",
        str(limits),
        str(wheel),
    ]
    done = subprocess.run(pip, capture_output=True, text=True)
    assert done.returncode == 0, done.stderr[-3000:]
    return folder / "bin"


def _works(commands: Path, folder: Path) -> None:
    """The main ways through it do what they do here."""

    def fenko(*arguments: str) -> str:
        done = subprocess.run([commands / "fenko", *arguments], capture_output=True, text=True, cwd=folder)
        assert done.returncode == 0, (arguments, done.stderr)
        return done.stdout

    assert fenko("demo", "--instant")[:2000] == first_lines()
    fenko("demo", "--keep", "desk")
    assert "works" in fenko("check", "--desk", "desk")
    fenko("sheet", "frames", "--out", "sheet.pdf", "--desk", "desk")
    fenko("tune", "pad", "--take", "desk/takes/worn.jsonl", "--desk", "desk", "--out", "tune.svg")
    assert "missed" in fenko("usage", "--example", "--timeline", "weeks.svg")
    assert "less" in fenko("arrange", "stream", "--example", "--out", "both.png")
    assert "complet" in fenko("completion", "bash")
    kinds = "import fenko.integrations as r, fenko.integrations.osc.worker, fenko.integrations.mqtt.worker, fenko.integrations.sound.worker, fenko.integrations.audio.worker; r.load()"
    subprocess.run([commands / "python", "-c", kinds], check=True)


# With this one, and the newest of everything, all other tests run.
@pytest.mark.parametrize("python", [one for one in pythons() if one != sys.executable] or [sys.executable])
def test_the_wheel_works_with_the_newest_libraries(python: str, built: Path, tmp_path: Path) -> None:
    (wheel,) = built.glob("*.whl")
    _works(_installed(tmp_path / "new", python, wheel), tmp_path)


def test_it_works_with_the_oldest_libraries(built: Path, tmp_path: Path) -> None:
    (wheel,) = built.glob("*.whl")
    needed = [one for one in map(Requirement, PROJECT["dependencies"]) if one.marker is None or one.marker.evaluate()]
    oldest = [re.sub(r">=([0-9.]+).*", r"==\1", f"{one.name}{one.specifier}") for one in needed]
    assert all("==" in one for one in oldest)
    commands = _installed(tmp_path / "old", sys.executable, wheel, *oldest)
    _works(commands, tmp_path)
    asked = subprocess.run(
        [commands / "python", "-m", "pip", "list", "--format", "freeze"], capture_output=True, text=True
    ).stdout.lower()
    for one in oldest:
        name, _, version = one.lower().partition("==")
        assert re.search(rf"^{re.escape(name)}=={re.escape(version)}(\.0)*$", asked, re.MULTILINE), (one, asked)


# --- The Debian package ---

needs_debian = pytest.mark.skipif(
    os.geteuid() != 0 or shutil.which("debootstrap") is None, reason="needs root, and apt-get install debootstrap"
)


def clean_root(root: Path, *release: str) -> Path:
    """A Debian in which nothing has been installed."""
    done = subprocess.run([ROOT / "tools/clean-root", root, *release], capture_output=True, text=True)
    assert done.returncode == 0, done.stdout[-2000:] + done.stderr[-2000:]
    return root


@pytest.fixture(scope="module")
def fresh(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Path, float]]:
    """A Debian in which nothing but the package has been installed, and how many seconds that took."""
    folder = tmp_path_factory.mktemp("root")
    out = subprocess.run(
        [sys.executable, str(ROOT / "tools/debian.py"), str(folder / "deb")], capture_output=True, text=True
    )
    assert out.returncode == 0, out.stderr
    root = clean_root(folder / "debian")
    (package,) = (folder / "deb").glob("*.deb")
    shutil.copy(package, root / "root/fenko.deb")
    begun = time.monotonic()
    command = "apt-get install -y --no-install-recommends /root/fenko.deb >/tmp/said 2>&1"
    installed = within(root, "sh", "-c", command)
    assert installed.returncode == 0, (root / "tmp/said").read_text()[-3000:]
    yield root, time.monotonic() - begun
    shutil.rmtree(root, ignore_errors=True)


def within(root: Path, *command: str) -> subprocess.CompletedProcess[str]:
    environment = {
        "PATH": "/usr/sbin:/usr/bin:/sbin:/bin",
        "HOME": "/root",
        "DEBIAN_FRONTEND": "noninteractive",
        "LANG": "C.UTF-8",
    }
    return subprocess.run(["chroot", root, *command], capture_output=True, text=True, env=environment)


def _files(root: Path) -> set[str]:
    """All that is there, but for what package tools and caches keep for themselves."""
    own = (
        "/var/lib/dpkg",
        "/var/lib/apt",
        "/var/cache",
        "/var/log",
        "/root/fenko.deb",
        "/proc",
        "/sys",
        "/dev",
        "/tmp",
        "/etc/ld.so.cache",
    )
    found = {f"/{path.relative_to(root)}" for path in root.rglob("*")}
    return {path for path in found if not path.startswith(own)}


@needs_debian
def test_the_debian_package_works(fresh: tuple[Path, float]) -> None:
    root, _ = fresh
    demo = within(root, "fenko", "demo", "--instant")
    assert demo.stdout[:2000] == first_lines(), demo.stderr
    for path in (
        "usr/lib/udev/rules.d/60-fenko.rules", "usr/lib/modules-load.d/fenko.conf", "usr/lib/systemd/user/fenko.service", "usr/share/man/man1/fenko.1.gz",
        "usr/share/man/man5/fenko-desk.5.gz", "usr/share/bash-completion/completions/fenko", "usr/share/zsh/vendor-completions/_fenko",
        "usr/share/fish/vendor_completions.d/fenko.fish", "usr/share/doc/fenko/copyright",
    ):  # fmt: skip
        assert (root / path).is_file(), path
        assert (root / path).stat().st_mode & 0o777 == 0o644, path
    assert 'KERNEL=="uinput"' in (root / "usr/lib/udev/rules.d/60-fenko.rules").read_text()
    assert "ExecStart=/usr/bin/fenko run" in (root / "usr/lib/systemd/user/fenko.service").read_text()
    picture = within(
        root,
        "sh",
        "-c",
        "cd /tmp && fenko demo --keep desk && fenko sheet frames --desk desk --out s.pdf && fenko usage --example",
    )
    assert picture.returncode == 0, picture.stderr


@needs_debian
def test_a_stranger_has_a_binding_that_works_in_five_commands(fresh: tuple[Path, float]) -> None:
    """in the kernel lab."""
    root, installing = fresh
    command = [ROOT / "tools/kernel-lab", "--timeout", "500", "--", sys.executable, ROOT / "tests/stranger.py", root]
    done = subprocess.run(command, capture_output=True, text=True)
    assert done.returncode == 0, done.stdout[-3000:] + done.stderr[-3000:]
    found = json.loads(done.stdout.splitlines()[-1])
    assert found["seen"] == [["KEY_LEFTCTRL", 1], ["KEY_Z", 1], ["KEY_Z", 0], ["KEY_LEFTCTRL", 0]]
    steps = [{"command": "apt install ./fenko.deb", "seconds": round(installing, 1)}, *found["steps"]]
    print(steps)
    # They are those of the README, word for word.
    shown = next(one.text for one in snippets([ROOT / "README.md"]) if "fenko ready" in one.text)
    words = [shlex.split(line, comments=True) for line in shown.strip().split("\n")]
    assert [shlex.split(step["command"]) for step in found["steps"]] == words[1:]
    assert words[0][:2] == ["make", "deb"]
    assert sum(step["seconds"] for step in steps) < 300, steps
    assert "This machine is ready." in found["said"][0]
    assert "pad" in found["said"][1]


@needs_debian
@pytest.mark.parametrize("release", ["bookworm", "trixie"])
def test_both_commands_need_no_compiler_and_no_administrator(release: str, tmp_path: Path) -> None:
    """`make demo` and `pip install .`, from nothing, as an ordinary user of a Debian that has make and Python and no compiler."""
    root = clean_root(tmp_path / "debian", release)
    said = within(root, "sh", "-c", "apt-get install -y --no-install-recommends make python3-venv 2>&1")
    assert said.returncode == 0, said.stdout[-2000:]
    assert within(root, "sh", "-c", "command -v cc gcc clang").returncode != 0
    home = root / "home/nell"
    files = subprocess.run(["git", "ls-files", "-z"], cwd=ROOT, capture_output=True, text=True, check=True).stdout
    for name in files.split("\0")[:-1]:
        if (ROOT / name).is_file():
            (home / "fenko" / name).parent.mkdir(parents=True, exist_ok=True)
            shutil.copy(ROOT / name, home / "fenko" / name)
    for path in (home, *home.rglob("*")):
        os.chown(path, 1234, 1234, follow_symlinks=False)
    # How this machine reaches packages, the clean one does too.
    shutil.copy("/etc/ssl/certs/ca-certificates.crt", root / "etc/ssl/certs/ca-certificates.crt")
    pip = {
        name: value for name, value in os.environ.items() if name.startswith("PIP_") or name.lower().endswith("_proxy")
    }
    environment = {
        "PATH": "/usr/sbin:/usr/bin:/bin",
        "HOME": "/home/nell",
        "LANG": "C.UTF-8",
        "PIP_NO_COMPILE": "1",
        **pip,
    }
    for command in (
        "make demo",
        "python3 -m venv ~/own && ~/own/bin/pip install -q . && ~/own/bin/fenko demo --instant",
    ):
        done = subprocess.run(
            ["chroot", "--userspec=1234:1234", root, "sh", "-c", f"cd ~/fenko && {command}"],
            env=environment, capture_output=True, text=True,
        )  # fmt: skip
        assert done.returncode == 0 and "Still down at the end: nothing." in done.stdout, done.stdout + done.stderr
    shutil.rmtree(root, ignore_errors=True)


@needs_debian
def test_the_debian_package_leaves_nothing_behind(fresh: tuple[Path, float]) -> None:
    root, _ = fresh
    for place in ("root/.local", "root/.config", "root/.cache", "tmp/desk"):
        shutil.rmtree(root / place, ignore_errors=True)
    before = _files(root)
    assert within(root, "dpkg", "--purge", "fenko").returncode == 0
    after = _files(root)
    assert {path for path in after if "fenko" in path} == set()
    assert "/usr/bin/fenko" in before - after
