"""The program as a person meets it: help, the demo, and messages that go where they belong."""

from __future__ import annotations

import json
import os
import pty
import select
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

import fenko.cli
from fenko.cli import COMMANDS
from fenko.core.controls import KINDS, SHAPED
from fenko.core.plan import GESTURES
from fenko.core.script import HAND_WORDS
from fenko.core.verbs import ACTS, VERBS
from fenko.desk.descriptions import DescriptionFile, SpotFile
from fenko.desk.model import AppFile, DeskTimingFile, ExpectFile, OutputFile, ProfileFile, SurfaceFile
from fenko.desk.structure import fields
from support import DEMO, FENKO, MakeDesk, Run


def test_help_names_every_command_and_loads_none(fenko: Run) -> None:
    done = fenko("--help")
    assert all(name in done.stdout for name in COMMANDS)
    code = (
        "import sys; sys.argv = ['fenko', '--help']\nimport fenko.cli\ntry: fenko.cli.main()\nexcept SystemExit: pass\n"
    )
    code += "print([name for name in sys.modules if name.startswith('fenko.') or name in ('msgspec', 'evdev')])"
    loaded = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout
    assert loaded.splitlines()[-1] == "['fenko.cli']"


@pytest.mark.parametrize("command", COMMANDS)
def test_every_command_has_help(fenko: Run, command: str) -> None:
    done = fenko(command, "--help")
    assert done.returncode == 0
    assert done.stdout.startswith(f"Usage: fenko {command}")


def test_a_misspelt_command_is_bad_use(fenko: Run) -> None:
    done = fenko("chekc")
    assert done.returncode == 2
    assert "Did you mean `check`?" in done.stderr


def test_the_demo_plays_without_anything(fenko: Run) -> None:
    done = fenko("demo", "--instant", HOME="/nonexistent")
    assert done.returncode == 0, done.stderr
    for text in (
        "pad south",
        "Undo",
        "Solo this track",
        "so profile sound",
        "types",
        "unplugged",
        "Still down at the end: nothing",
    ):
        assert text in done.stdout
    assert "\x1b" not in done.stdout
    # At 400 words a minute, for many are names of controls and keys in a table.
    assert len(done.stdout.split()) < 400
    whole = fenko("demo", "--instant", "--whole").stdout
    assert "the rail went" in whole
    assert len(whole.splitlines()) > 3 * len(done.stdout.splitlines())


def test_the_demo_takes_its_time_and_ends_with_ctrl_c() -> None:
    start = time.monotonic()
    process = subprocess.Popen(
        [*FENKO, "demo"],
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
        env=os.environ | {"PYTHONUNBUFFERED": "1"},
    )
    assert process.stdout is not None and process.stderr is not None
    while "pad south" not in process.stdout.readline():
        pass
    assert time.monotonic() - start > 1.4
    process.send_signal(signal.SIGINT)
    rest, errors = process.communicate(timeout=10)
    assert "Ended early" in rest
    assert "Traceback" not in errors
    assert process.returncode == 0


def test_the_demos_desk_can_be_kept_and_is_never_written_over(fenko: Run, tmp_path: Path) -> None:
    assert fenko("demo", "--keep", "mine").returncode == 0
    assert fenko("check", "--desk", "mine", XKB_DEFAULT_LAYOUT="us").returncode == 0
    assert {path.stat().st_mode & 0o077 for path in (tmp_path / "mine").rglob("*")} == {0}
    (tmp_path / "mine" / "desk.toml").write_text("# mine")
    assert fenko("demo", "--keep", "mine").returncode == 2
    assert (tmp_path / "mine" / "desk.toml").read_text() == "# mine"


def test_messages_go_to_stderr_and_results_to_stdout(fenko: Run, tmp_path: Path) -> None:
    head, *rest = (DEMO / "takes/evening.jsonl").read_text().splitlines()
    soon = [json.loads(line) | {"t": 0.2 + n / 50} for n, line in enumerate(rest[:9])]
    take = tmp_path / "t.jsonl"
    take.write_text("\n".join([head, *map(json.dumps, soon)]))
    done = fenko("try", "--desk", DEMO, "--play", take, "--play-focus")
    assert done.returncode == 0, done.stderr
    assert "→ profile frames" in done.stdout and "Undo · ctrl+z" in done.stdout and "running" not in done.stdout
    assert "profile: frames" in done.stderr and "nothing was sent" in done.stderr and "ctrl" not in done.stderr


def test_run_plays_what_rehearse_says(fenko: Run, make_desk: MakeDesk, tmp_path: Path) -> None:
    desk = make_desk(
        '[surface.pad]\nkind = "gamepad"\n[profile.base.on.pad]\nsouth = "ctrl+z x2 then wait 50ms then f5"\nnorth.hold = "o"'
    )
    take = tmp_path / "t.jsonl"
    lines = [{"take": 1, "name": "x", "surfaces": {}}]
    for t, control, value in ((0.1, "south", 1), (0.15, "south", 0), (0.3, "north", 1), (0.8, "north", 0)):
        lines.append({"t": t, "surface": "pad", "control": control, "value": value})
    take.write_text("\n".join(map(json.dumps, lines)))
    rehearsed = [
        json.loads(line) for line in fenko("rehearse", take, "--desk", desk, "--format", "jsonl").stdout.splitlines()
    ]
    shown = fenko("try", "--desk", desk, "--play", take, "--format", "jsonl").stdout
    played = [json.loads(line) for line in shown.splitlines()]
    assert [effect | {"t": 0} for effect in played] == [effect | {"t": 0} for effect in rehearsed]
    offset = played[0]["t"] - rehearsed[0]["t"]
    for effect, other in zip(played, rehearsed, strict=True):
        assert effect["t"] - offset == pytest.approx(other["t"], abs=0.002)


_BEGUN = "import fenko.start; print('begun', flush=True); fenko.start.main()"


@pytest.mark.parametrize("after", [0.0, 0.05, 0.1, 0.15, 0.2, 0.3, 0.4])
def test_ctrl_c_at_any_moment_is_no_traceback(make_desk: MakeDesk, after: float) -> None:
    desk = make_desk('[surface.pad]\nkind = "gamepad"')
    process = subprocess.Popen(
        [sys.executable, "-c", _BEGUN, "try", "--desk", str(desk)],
        stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True,
    )  # fmt: skip
    # Before our first line has run, the interpreter may lose the signal, or complain itself.
    assert process.stdout is not None and process.stdout.readline() == "begun\n"
    time.sleep(after)
    process.send_signal(signal.SIGINT)
    printed, _ = process.communicate(timeout=60)
    assert "Traceback" not in printed or "fenko/cli" not in printed, printed


def test_the_tables_in_the_docs_are_those_of_the_code() -> None:
    sys.path.insert(0, str(Path(__file__).parent.parent / "tools"))
    from tables import DOCS, filled

    pages = {page.name: page.read_text() for page in DOCS.glob("*.md")}
    assert sum(text.count("<!-- end -->") for text in pages.values()) == 4
    for name, text in pages.items():
        assert filled(text) == text, f"docs/{name}: run tools/tables.py"


def test_the_docs_name_everything_that_there_is() -> None:
    docs = Path(__file__).parent.parent / "docs"
    desk, takes = (docs / "desk.md").read_text(), (docs / "takes.md").read_text()
    words = [*VERBS, *GESTURES, *KINDS, *SHAPED.keys() - {"motion"}, *fields(SurfaceFile), *fields(ProfileFile)]
    words += [f"`{word}" for word in HAND_WORDS] + [f"`{name}`" for name in fields(ExpectFile)] + [*fields(AppFile)]
    words += [f"timing.{name}" for name in fields(DeskTimingFile)] + [f"output.{name}" for name in fields(OutputFile)]
    assert [word for word in words if word not in desk] == []
    assert [word for effect in ACTS for word in effect if f'"{word}"' not in takes and f"`{word}`" not in takes] == []
    descriptions = (docs / "descriptions.md").read_text()
    words = [*fields(DescriptionFile), *fields(SpotFile)]
    assert [word for word in words if f"`{word}`" not in descriptions] == []
    assert [name for name in COMMANDS if f"fenko {name}" not in (docs / "tour.md").read_text()] == []


def test_wrong_options_are_bad_use(fenko: Run) -> None:
    for arguments in (("run", "--play-focus"), ("check", "--format", "xml"), ("rehearse",)):
        assert fenko(*arguments).returncode == 2


def _on_a_terminal(*arguments: str, **environment: str) -> str:
    """What a command prints on a terminal."""
    master, slave = pty.openpty()
    process = subprocess.Popen(
        [*FENKO, *arguments], stdout=slave, stderr=slave, stdin=slave, env=os.environ | environment
    )
    os.close(slave)
    printed = b""
    while process.poll() is None or select.select([master], [], [], 0)[0]:
        if select.select([master], [], [], 0.1)[0]:
            try:
                printed += os.read(master, 65536)
            except OSError:
                break
    process.wait()
    os.close(master)
    return printed.decode()


def test_colour_on_a_terminal_only_and_never_against_the_users_wish() -> None:
    assert "\x1b[" in _on_a_terminal("demo", "--instant", NO_COLOR="")
    assert "\x1b[" not in _on_a_terminal("demo", "--instant", NO_COLOR="1")


def test_a_reader_that_goes_away_is_no_traceback(make_desk: MakeDesk) -> None:
    take = DEMO / "takes/evening.jsonl"
    command = " ".join([*FENKO, "rehearse", str(take), "--desk", str(DEMO), "|", "head", "-1"])
    done = subprocess.run(command, shell=True, capture_output=True, text=True)
    assert "Traceback" not in done.stderr


def test_asking_for_a_press_ends_with_ctrl_c() -> None:
    process = subprocess.Popen(
        [*FENKO, "devices", "--press"], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
    )
    assert process.stderr is not None
    said = [process.stderr.readline()]
    while "Press something" not in said[-1]:
        said.append(process.stderr.readline())
        assert said[-1], said
    time.sleep(0.5)
    process.send_signal(signal.SIGINT)
    _, errors = process.communicate(timeout=10)
    assert (process.returncode, "nothing was pressed" in errors, "Traceback" in errors) == (1, True, False)


def test_devices_and_windows_without_any(fenko: Run) -> None:
    done = fenko("devices", "--format", "json")
    assert isinstance(json.loads(done.stdout), list)
    done = fenko("windows")
    assert done.returncode == 1
    assert "neither DISPLAY nor WAYLAND_DISPLAY is set" in done.stderr


def test_ctrl_c_while_a_class_is_made_ends_cleanly(
    monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    class Interrupting:
        def __set_name__(self, owner: type, name: str) -> None:
            raise KeyboardInterrupt

    def loading(*arguments: object, **more: object) -> None:
        type("Loaded", (), {"part": Interrupting()})

    monkeypatch.setattr(fenko.cli.cli, "main", loading)
    with pytest.raises(SystemExit) as end:
        fenko.cli.main([])
    assert end.value.code == 1

    def wrong(*arguments: object, **more: object) -> None:
        raise RuntimeError("something else")

    monkeypatch.setattr(fenko.cli.cli, "main", wrong)
    with pytest.raises(SystemExit) as end:
        fenko.cli.main([])
    assert end.value.code == 1
    assert "unexpected error: RuntimeError: something else (test_cli.py" in capsys.readouterr().err


def test_a_reader_that_has_gone_is_no_fault_of_a_file() -> None:
    for command in (
        ["explain", "--settings"],
        ["check", "--desk", str(DEMO)],
        ["shortcuts", "snipwell", "--desk", str(DEMO)],
    ):
        process = subprocess.Popen([*FENKO, *command], stdout=subprocess.PIPE, stderr=subprocess.PIPE)
        assert process.stdout is not None and process.stderr is not None
        process.stdout.close()  # before anything is written
        assert process.stderr.read() == b"" and process.wait(60) in (0, 1), command


def test_a_value_that_waits_to_be_met_says_so(fenko: Run, make_desk: MakeDesk, tmp_path: Path) -> None:
    desk = make_desk(
        'format = 1\n[surface.pad]\nkind = "gamepad"\n[value.lamp]\nstart = 80\n[profile.base.on.pad]\n'
        'trigger-right = { do = "value lamp follow pick-up", spring = true }\n'
    )
    take = tmp_path / "t.jsonl"
    take.write_text(
        '{"take": 1, "name": "t", "surfaces": {"pad": "gamepad"}}\n'
        '{"t": 0.1, "surface": "pad", "control": "trigger-right", "value": 0.3}\n'
    )
    assert "waits to meet the value" in fenko("rehearse", take, "--desk", desk).stdout
