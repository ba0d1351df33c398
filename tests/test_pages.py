"""What the pages have somebody type is typed, page by page and in their order, in a session like theirs; and what they show comes back.

In a page `…` stands for what differs from one computer to another. `FENKO_WRITE_PAGES=1` writes into the pages what came instead."""

from __future__ import annotations

import contextlib
import os
import re
import shlex
import shutil
import signal
import subprocess
import sys
import time
import tomllib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from fenko.data import DEMO
from pages import PAGES, Command, desk_of, inline, merged, snippets, typed, write_desk
from screen import Screen, needs_screen, screen
from started import Started
from support import wait_for

TESTS = Path(__file__).parent
ELSEWHERE = {
    "git clone … fenko && cd fenko": "test_packages.py::test_wheel_and_sdist_have",
    "make demo": "test_cli.py::test_the_demo_plays_without_anything",
    "make deb": "test_packages.py::test_the_debian_package",
    "sudo apt install": "test_packages.py::test_the_debian_package_works",
    "sudo apt purge": "test_packages.py::test_the_debian_package_leaves",
    "pip install .": "test_packages.py::test_the_wheel",
    "fenko lend": "test_lend.py::test_a_lent_surface_is_one",
    "fenko tune pad --try": "test_talk.py::test_what_is_proposed_is_tried",
}
"""What needs more than a session, by the beginning of the command: the test that does it."""
GOES_ON = re.compile(r"fenko (run|windows --follow|legend --web|machine (simulate|watch)|status --follow)")
ON_ANOTHER_DESKTOP = {"desktops.md": "test_desktops.py::test_ready_says_what_this_desktop_gives"}
"""Pages whose commands that test types."""
FROM_NOTHING = {"README.md", "install.md", *(page.name for page in PAGES if page.parent.name == "tutorials")}
"""Pages that begin with no desk; the others with the demo's."""
STANDS_IN = {"fenko new": "fenko new gamepad", "fenko trust": "fenko trust --yes"}
"""What is typed instead where there is no device, and nobody to be asked; `stranger.py` and `test_outputs.py` do the others."""
ROWS = ("console", "sh")


class Session:
    """A person at a screen, with a home of their own; everything that goes on is ended at the end, and has to end well."""

    def __init__(self, home: Path, shown: Screen) -> None:
        self.home = home
        self.shown = shown
        self.desk = home / ".config/fenko"
        self.desk.parent.mkdir(parents=True)
        for place in ("run", ".zfunc", ".local/share/bash-completion/completions", ".config/fish/completions"):
            (home / place).mkdir(parents=True)
        (home / "run").chmod(0o700)
        self.environment = {
            "HOME": str(home), "PATH": f"{Path(sys.executable).parent}:/usr/bin:/bin", "LANG": "C.UTF-8", "COLUMNS": "110",
            "DISPLAY": shown.display, "XDG_RUNTIME_DIR": str(home / "run"), "XKB_DEFAULT_LAYOUT": "us", "TZ": "UTC",
        }  # fmt: skip
        self.going: list[tuple[subprocess.Popen[Any], Path, str]] = []
        self._begun: list[subprocess.Popen[Any]] = []

    def types(self, command: Command) -> str:
        """Types it, and says what came."""
        if GOES_ON.match(command.text):
            return self.starts(command)
        done = subprocess.run(
            ["bash", "-c", STANDS_IN.get(command.text, command.text)], cwd=self.home, env=self.environment, input="y\n" * 5, text=True, timeout=120,
            stdout=subprocess.PIPE, stderr=subprocess.STDOUT, check=False,
        )  # fmt: skip
        good = (
            (0, 1)
            if re.match("fenko (ready|devices|report|service|usage|tune|machine read|windows)", command.text)
            else (0,)
        )
        assert done.returncode in good and "Traceback" not in done.stdout, (command, done)
        return self.read(done.stdout)

    def read(self, came: str) -> str:
        """As somebody reads it whose home this is."""
        return came.replace(str(self.home), "~")

    def starts(self, command: Command) -> str:
        """Starts what goes on until it is ended, and says what came first."""
        if "windows" in command.text:
            self.shown.terminal("Quillwash", "The moth, 12", self.home / "typed")
        said = self.home / f"said-{len(self.going)}"
        with said.open("wb") as file:
            process = self.begins(command.text, file)
        self.going.append((process, said, command.text))
        shown = command.shown

        def there() -> bool:
            assert process.poll() is None, (command, said.read_text())
            came = self.read(said.read_text())
            if shown is not None:
                return fits(shown, came)
            return "is running" in came if command.text.startswith("fenko run") else bool(came)

        # What is shown and does not come is told with the rest of the page.
        with contextlib.suppress(*([] if shown is None else [AssertionError])):
            wait_for(there, f"{command}: {said.read_text()}", 30)
        assert process.poll() is None, (command, said.read_text())
        return self.read(said.read_text())

    def begins(self, text: str, said: Any = subprocess.PIPE) -> subprocess.Popen[str]:
        """Begins a command, whatever comes of it."""
        process = subprocess.Popen(
            ["bash", "-c", f"exec {text}"], cwd=self.home, env=self.environment, start_new_session=True, text=True,
            stdin=subprocess.PIPE, stdout=said, stderr=subprocess.STDOUT,
        )  # fmt: skip
        self._begun.append(process)
        return process

    def does(self, text: str) -> tuple[int, str]:
        """Types a command that ends; its exit status, and all that it said."""
        if re.search(r"[|<>&;*$~]", text):
            process = self.begins(text)
            said, _ = process.communicate(ANSWERS, timeout=60)
            return process.returncode, said
        process, out = self.leaves(text)
        return process.wait(60), out.read_text()

    def leaves(self, text: str) -> tuple[Started, Path]:
        """Begins a command that has answers to all questions; and the file of what it says."""
        number = len(list(self.home.parent.glob("said-*")))
        typed, out = self.home.parent / "typed", self.home.parent / f"said-{number}"
        typed.write_text(ANSWERS)
        return Started(shlex.split(text)[1:], out, env=self.environment, cwd=self.home, typed=typed), out

    def ends(self) -> None:
        """Ends what goes on, the last one first."""
        for process, said, text in reversed(self.going):
            if process.poll() is None:
                process.send_signal(signal.SIGINT)
            assert process.wait(30) == 0, (text, said.read_text())
            assert "Traceback" not in said.read_text(), (text, said.read_text())

    def kills(self) -> None:
        """Leaves nothing."""
        for process in self._begun:
            if process.poll() is None:
                with contextlib.suppress(ProcessLookupError):
                    os.killpg(process.pid, signal.SIGKILL)
                process.wait()

    def writes(self, text: str) -> None:
        """Adds a piece to the desk."""
        desk = desk_of(self.desk)
        shutil.rmtree(self.desk / "profiles", ignore_errors=True)
        piece = tomllib.loads(text)
        expected = [*desk.get("expect", []), *piece.get("expect", [])]
        write_desk(self.desk, merged(desk, piece) | ({"expect": expected} if expected else {}))


def fits(shown: list[str], came: str) -> bool:
    """Whether this came: `…` in a line stands for anything, and alone for any lines."""
    parts = [
        r"(?:.*\n)*?" if line.strip() == "…" else re.escape(line.rstrip()).replace("…", ".*") + r"[ ]*\n"
        for line in shown
    ]
    return re.fullmatch("".join(parts), came if came.endswith("\n") or not came else f"{came}\n") is not None


@pytest.fixture
def session(tmp_path: Path) -> Iterator[Session]:
    with screen() as shown:
        one = Session(tmp_path / "home", shown)
        yield one
        one.kills()


def is_elsewhere(command: Command) -> bool:
    return any(command.text.startswith(known) for known in ELSEWHERE)


@needs_screen
@pytest.mark.parametrize(
    "page",
    [
        page
        for page in PAGES
        if page.name not in ON_ANOTHER_DESKTOP and any(one.kind in ROWS for one in snippets([page]))
    ],
    ids=lambda page: page.name,
)
def test_what_a_page_has_somebody_type(page: Path, session: Session) -> None:
    if page.name not in FROM_NOTHING:
        shutil.copytree(DEMO, session.desk)
    wrong = []
    for piece in snippets([page]):
        if piece.kind == "csv":
            (session.home / "export.csv").write_text(piece.text)
        elif piece.kind == "toml" and page.parent.name == "tutorials":
            session.writes(piece.text)
        for command in typed(piece):
            if is_elsewhere(command):
                continue
            came = session.types(command)
            if command.shown is not None and not fits(command.shown, came):
                wrong.append((command, came))
    session.ends()
    if wrong and os.environ.get("FENKO_WRITE_PAGES"):
        lines = page.read_text().split("\n")
        for command, came in reversed(wrong):
            came = re.sub(r"(desk\.toml:|display :)\d+", r"\1…", came)
            lines[command.line : command.line + len(command.shown or [])] = came.rstrip("\n").split("\n")
        page.write_text("\n".join(lines))
    assert not wrong, "\n".join(
        f"{command.page.name}:{command.line}: {command.text} printed\n{came}" for command, came in wrong
    )


MENTIONED = [text for text in dict.fromkeys(one.text for one in inline()) if not re.search(r"[A-Z…]{2}|…|\[", text)]
"""Commands of prose that could be typed as they stand there."""
WAITS = re.compile(
    r"fenko (run|watch|try|learn$|legend|windows --follow|devices --(press|describe|network)|machine (watch|simulate)|demo$|tune pad$)"
)
"""What goes on until it is ended, or for a minute."""
ANSWERS = "y\n" * 3
REFUSED = ("is already there", "requires an argument", "nobody can be asked")
"""What is said where a command is only named, without what it needs, and where it would write over a desk or has a question."""
NOT_HERE = {"fenko ready --fix": "would change this machine, where tests are root's: kernel/test_ready.py"}


@pytest.mark.parametrize(
    "page", sorted((Path(__file__).parent.parent / "docs/tutorials").glob("*.md")), ids=lambda page: page.stem
)
def test_no_tutorial_declares_a_table_twice(page: Path) -> None:
    blocks = re.findall(r"```toml\n(.*?)```", page.read_text(), re.DOTALL)
    declared = [line for block in blocks for line in block.splitlines() if re.fullmatch(r"\[[^\[\]]+\]", line)]
    assert len(declared) == len(set(declared))


@needs_screen
def test_commands_of_prose_can_be_typed(session: Session) -> None:
    """On the demo's desk, which runs meanwhile: none of them is bad use, none fails to end."""
    shutil.copytree(DEMO, session.desk)
    shutil.copytree(DEMO, session.home / "my-desk")
    (session.home / "export.csv").write_text("command,keys\nCut,ctrl+k\n")
    desk = Command(PAGES[0], 0, "fenko run", None)
    session.starts(desk)
    typed_here = [text for text in MENTIONED if text not in (*NOT_HERE, desk.text, "fenko stop")]
    for text in typed_here:
        if not WAITS.match(text):
            judged(text, *session.does(text))
    going = {text: session.leaves(text) for text in typed_here if WAITS.match(text)}
    time.sleep(len(going) / 4)  # they begin side by side; where one has not begun yet, that is ended too
    for process, _ in going.values():
        process.send_signal(signal.SIGINT)
    for text, (process, said) in going.items():
        judged(text, process.wait(60), said.read_text())
    judged("fenko stop", *session.does("fenko stop"))
    session.ends()


def judged(text: str, status: int, said: str) -> None:
    refuses = status == 2 and (len(text.split()) == 2 or any(why in said for why in REFUSED))
    before_it_began = status == -signal.SIGINT and WAITS.match(text) and not said
    assert status in (0, 1) or refuses or before_it_began, (text, status, said)
    assert "Traceback" not in said, (text, said)


def test_what_is_done_elsewhere_is_done_there() -> None:
    for text, test in (ELSEWHERE | ON_ANOTHER_DESKTOP).items():
        file, _, name = test.partition("::")
        assert re.search(rf"^def {name}", (TESTS / file).read_text(), re.MULTILINE), (text, test)


@needs_screen
def test_another_program_follows_a_desk_as_the_page_shows(session: Session) -> None:
    (code,) = (one.text for one in snippets() if one.page.name == "talking.md" and one.kind == "python")
    shutil.copytree(DEMO, session.desk)
    session.starts(Command(PAGES[0], 0, "fenko run", None))
    (session.home / "client.py").write_text(code)
    process = session.begins(f"{sys.executable} -u client.py")
    assert process.stdout is not None
    assert process.stdout.readline() == "Lantern Moth animation bench base\n"
    assert process.stdout.readline() == "frames []\n"
    process.kill()
    session.ends()
