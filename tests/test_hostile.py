"""Whatever a window's title, a file, a terminal or a disk does: nothing hangs, nothing acts, nothing is lost in silence."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fenko.core.patterns import BadPattern, Wildcard, compile_pattern
from fenko.desk.load import load_desk
from fenko.devices.recorder import TakeWriter
from fenko.live.readiness import facts
from fenko.system.apart import Crashed, apart
from support import DEMO, FENKO, MakeDesk, Run
from terminal import Terminal

# --- Titles ---


@pytest.mark.parametrize(
    ("pattern", "title"),
    [
        ("~^(a+)+$", "a" * 60 + "!"),
        ("~(x|x)*y", "x" * 5000),
        ("*Reel*Cut*final*", "Reel Cut " * 400),
        ("*a*b*c*d*e*f*?z", "abcdef" * 300),
    ],
)
def test_no_title_takes_long(pattern: str, title: str) -> None:
    start = time.perf_counter()
    assert not compile_pattern(pattern).fits(title)
    assert time.perf_counter() - start < 0.5


def _slow(pattern: str, text: str) -> bool:
    """What stars and question marks mean, by trying everything."""
    if not pattern:
        return not text
    if pattern[0] == "*":
        return any(_slow(pattern[1:], text[at:]) for at in range(len(text) + 1))
    return bool(text) and pattern[0] in ("?", text[0]) and _slow(pattern[1:], text[1:])


@given(st.text("ab*?", max_size=8), st.text("ab", max_size=8))
def test_stars_mean_what_they_always_did(pattern: str, text: str) -> None:
    assert Wildcard(pattern).fits(text) == _slow(pattern, text)


@pytest.mark.parametrize("pattern", ["~(?=x)", "~(a)\\1", "~[", "~((a{100}){100}){100}"])
def test_what_cannot_be_linear_is_refused(pattern: str, fenko: Run, make_desk: MakeDesk) -> None:
    with pytest.raises(BadPattern):
        compile_pattern(pattern)
    done = fenko("check", "--desk", make_desk(f"[surface.pad]\n[profile.one]\nwhen = {{ title = '{pattern}' }}\n"))
    assert done.returncode == 2 and "desk.toml:3" in done.stdout and "regular expression" in done.stdout


# --- Files ---


def _loop(path: Path) -> None:
    path.symlink_to(path.name)


def _pipe(path: Path) -> None:
    os.mkfifo(path)


def _endless(path: Path) -> None:
    path.symlink_to("/dev/zero")


@pytest.mark.parametrize("make", [_loop, _pipe, _endless])
def test_what_is_no_file_is_an_error(make: object, fenko: Run, tmp_path: Path, make_desk: MakeDesk) -> None:
    assert callable(make)
    (tmp_path / "odd").mkdir()
    make(tmp_path / "odd/desk.toml")
    make(tmp_path / "take.jsonl")
    make(tmp_path / "list.csv")
    desk = make_desk("[surface.pad]\nkind = 'gamepad'\n")
    for arguments in (
        ("check", "--desk", "odd"),
        ("rehearse", "take.jsonl", "--desk", DEMO),
        ("shortcuts", "x", "--import", "list.csv", "--yes", "--desk", desk),
    ):
        done = fenko(*arguments, timeout=20)
        assert done.returncode == 2, (arguments, done)
        assert "cannot be read" in done.stdout + done.stderr and "Traceback" not in done.stderr


@pytest.mark.parametrize("output", ["/dev/full", None])
def test_an_output_that_takes_nothing(output: str | None, tmp_path: Path) -> None:
    command = [*FENKO, "check", "--desk", str(DEMO)]
    if output is None:
        done = subprocess.run(["sh", "-c", '"$@" >&-', "sh", *command], capture_output=True, text=True, timeout=30)
        assert done.returncode in (0, 1)
    else:
        with open(output, "w") as full:
            done = subprocess.run(command, stdout=full, stderr=subprocess.PIPE, text=True, timeout=30)
        assert done.returncode == 1 and "no space left" in done.stderr
    assert "Traceback" not in done.stderr and "Exception" not in done.stderr


def test_a_terminal_of_another_encoding() -> None:
    environment = os.environ | {"PYTHONIOENCODING": "latin-1"}
    command = [*FENKO, "rehearse", str(DEMO / "takes/evening.jsonl"), "--desk", str(DEMO)]
    done = subprocess.run(command, capture_output=True, env=environment, timeout=30)
    assert done.returncode == 0 and b"Traceback" not in done.stderr and b"\\u2193" in done.stdout


def test_a_copy_that_fails_leaves_nothing(fenko: Run, tmp_path: Path) -> None:
    small = ["sh", "-c", 'ulimit -f 1; "$@"', "sh", *FENKO, "demo", "--keep", str(tmp_path / "kept")]
    done = subprocess.run(
        small, capture_output=True, text=True, timeout=30, env={**os.environ, "PYTHONDONTWRITEBYTECODE": "1"}
    )
    assert done.returncode != 0 and not list(tmp_path.glob("*kept*")) and done.stderr.count("\n") < 4


@pytest.mark.parametrize(
    "control",
    [
        "at = [1e400, 0]",
        "at = [-5, nan]",
        'on = "south"',
        'on = "east" }\neast = { on = "south"',
        "at = [0, 0], size = [inf, 3]",
    ],
)
def test_places_that_cannot_be_are_refused(control: str, fenko: Run, make_desk: MakeDesk) -> None:
    desk = make_desk('[surface.pad]\ndescription = "odd"\n')
    (desk / "devices").mkdir()
    (desk / "devices/odd.toml").write_text(f'description = 1\nkind = "gamepad"\n[controls]\nsouth = {{ {control} }}\n')
    for arguments in (("check",), ("sheet", "--plan", "pad"), ("sheet", "--plan", "pad", "--out", "x.svg")):
        done = fenko(*arguments, "--desk", desk)
        assert done.returncode == 2 and "Traceback" not in done.stderr, done.stderr
        assert "odd.toml:4" in done.stdout + done.stderr


def test_ctrl_c_while_starting_up_is_silent(tmp_path: Path) -> None:
    begun = "import fenko.start; print('begun', flush=True); fenko.start.main()"
    for n in range(12):
        process = subprocess.Popen(
            [sys.executable, "-c", begun, "check", "--desk", str(DEMO)], stdout=subprocess.PIPE, stderr=subprocess.PIPE
        )
        # Before our first line has run, the interpreter itself would complain.
        assert process.stdout is not None and process.stdout.readline() == b"begun\n"
        time.sleep(n * 0.02)
        process.send_signal(signal.SIGINT)
        errors = process.communicate(timeout=60)[1].decode()
        assert "Traceback" not in errors, errors


def test_ctrl_c_where_nothing_can_be_raised_still_ends_it() -> None:
    code = (
        "import fenko.cli, fenko.start, signal, time, weakref\n"
        "class Thing: pass\n"
        "def command(*_, **__):\n"
        "    thing = Thing()\n"
        "    end = weakref.ref(thing, lambda _: signal.raise_signal(signal.SIGINT))\n"
        "    del thing\n"
        "    time.sleep(30)\n"
        "    print('went on')\n"
        "fenko.cli.cli.main = command\n"
        "fenko.start.main()\n"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=20)
    assert (done.returncode, done.stdout, done.stderr) == (1, "", "")


def test_a_full_disk_is_noticed_at_once(tmp_path: Path) -> None:
    with pytest.raises(OSError):
        TakeWriter(tmp_path / "no" / "take.jsonl", "x", None, {}, 0.0)
    writer = TakeWriter(tmp_path / "take.jsonl", "x", None, {"pad": "gamepad"}, 0.0)
    full = os.open("/dev/full", os.O_WRONLY)
    os.dup2(full, writer._file.fileno())
    with pytest.raises(OSError, match="No space left"):
        writer.add((1.0, "pad.south", 1))


def test_the_x_server_needs_no_advice_to_use_it(fenko: Run, make_desk: MakeDesk) -> None:
    text = (
        '[output]\nkeys = "KEYS"\nlayout = "us"\n[surface.pad]\nkind = "gamepad"\n[profile.base.on.pad]\nsouth = "ж"\n'
    )
    assert "cannot be pressed" in fenko("check", "--desk", make_desk(text.replace("KEYS", "kernel"))).stdout
    assert "cannot be pressed" not in fenko("check", "--desk", make_desk(text.replace("KEYS", "x11"))).stdout


# --- What reaches a terminal ---

_EVIL = "evil\x1b]0;owned\x07\x1b[2Jname\u202e"


def test_texts_do_not_act_on_a_terminal(make_desk: MakeDesk) -> None:
    label = _EVIL.replace("\x1b", "\\u001b").replace("\x07", "\\u0007")
    desk = make_desk(
        f'[surface.pad]\nkind = \'gamepad\'\n[profile.base.on.pad]\nsouth = {{ do = "a", label = "{label}" }}\n'
    )
    shown = Terminal("explain", "pad.south", "--desk", str(desk), columns=100)
    assert shown.process.wait(20) == 0
    shown.pump()
    assert b"evil" in shown.shown and b"\x1b]" not in shown.shown and b"\x1b[2J" not in shown.shown
    assert "\u202e".encode() not in shown.shown


@pytest.mark.parametrize("command", [("explain", "--settings"), ("check", "--delays"), ("devices", "--known")])
def test_tables_and_messages_fit_the_terminal(command: tuple[str, ...]) -> None:
    shown = Terminal(*command, "--desk", str(DEMO), columns=80, lines=200)
    assert shown.process.wait(20) == 0
    shown.pump()
    lines = shown.shown.decode().replace("\x1b[1m", "").replace("\x1b[2m", "").replace("\x1b[0m", "").split("\r\n")
    assert len(lines) > 5 and max(map(len, lines)) <= 80


@pytest.mark.parametrize(
    "command",
    [
        ("demo", "--instant"), ("check", "--desk", DEMO), ("rehearse", DEMO / "takes/evening.jsonl", "--desk", DEMO),
        ("rehearse", DEMO / "takes/more.jsonl", "--desk", DEMO), ("explain", "pad.north", "--app", "snipwell", "--desk", DEMO),
        ("explain", "--setting", "timing.hold"), ("shortcuts", "snipwell", "--desk", DEMO), ("sheet", "--plan", "keypad", "--desk", DEMO),
        ("ready",), ("devices", "--known"),
    ],
)  # fmt: skip
def test_every_command_is_whole_in_colour(command: tuple[str | Path, ...]) -> None:
    shown = Terminal(*map(str, command), columns=120, lines=300)
    end = time.monotonic() + 60
    while shown.process.poll() is None and time.monotonic() < end:
        shown.pump()  # a terminal that nobody reads takes no more at some time
    shown.pump()
    assert shown.process.wait(1) in (0, 1)
    assert b"Traceback" not in shown.shown and b"\x01" not in shown.shown and b"\x1b[" in shown.shown


# --- Edits ---


def test_learning_at_the_same_time_loses_nothing(make_desk: MakeDesk, tmp_path: Path) -> None:
    desk = make_desk("[surface.pad]\nkind = 'gamepad'\n[profile.base.on.pad]\nmode = 'x'\n")
    controls = ["south", "east", "north", "west", "select", "start", "shoulder-left", "shoulder-right"]

    def learn(control: str) -> int:
        command = [*FENKO, "learn", f"pad.{control}", "a", "--profile", "base", "--desk", str(desk)]
        return subprocess.run(command, capture_output=True, timeout=60).returncode

    with ThreadPoolExecutor(8) as pool:
        assert set(pool.map(learn, controls)) == {0}
    level = load_desk(desk).plan.profiles["base"].levels[0]
    assert {f"pad.{control}" for control in controls} <= set(level.controls)


def test_a_read_only_file_is_not_replaced(fenko: Run, make_desk: MakeDesk) -> None:
    desk = make_desk("[surface.pad]\nkind = 'gamepad'\n[profile.base.on.pad]\nmode = 'x'\n")
    (desk / "desk.toml").chmod(0o444)
    before = (desk / "desk.toml").read_text()
    done = fenko("learn", "pad.south", "a", "--profile", "base", "--desk", desk)
    assert done.returncode == 1 and "read-only" in done.stderr
    assert (desk / "desk.toml").read_text() == before


def test_several_at_once_keep_the_spelling_of_the_desk(fenko: Run, make_desk: MakeDesk) -> None:
    desk = make_desk('[surface.pad]\nkind = "gamepad"\n[profile.base.on.pad]\n"select+start" = "x"\n')
    done = fenko("learn", "pad.start+select", "ctrl+a", "--profile", "base", "--desk", desk)
    assert done.returncode == 0, done.stderr
    assert '"select+start" = "ctrl+a"' in (desk / "desk.toml").read_text()


def test_a_hold_beside_a_tap_is_said_to_change_nothing_else(fenko: Run, make_desk: MakeDesk) -> None:
    desk = make_desk(
        '[surface.pad]\nkind = "gamepad"\n[profile.base.on.pad]\nsouth = { press = "x", tap = "y" }\nnorth = "z"\n'
    )
    done = fenko("learn", "pad.south.hold", "a", "--profile", "base", "--desk", desk)
    assert "done by a tap now" not in done.stderr
    done = fenko("learn", "pad.north.hold", "a", "--profile", "base", "--desk", desk)
    assert "done by a tap now" in done.stderr


# --- Nonsense ---


@pytest.mark.parametrize(
    ("text", "status", "said"),
    [
        ("", 1, "no surface"),
        ('[output]\nlayout = "klingon"\n[surface.pad]\n', 1, "knows no keyboard layout `klingon`"),
        ('[surface.pad]\n[profile.one]\nwhen = { app = "" }\n', 2, "an empty text never matches"),
        ('[surface.k]\nkind = "keypad"\ndescription = "tallow-17"\n[profile.base.on.k]\nnum = "a"\n', 2, "sends nothing"),
        ('[surface.k]\nkind = "keypad"\n[profile.base.on.k]\nkp0 = "a then b every 50ms"\n', 2, "come to no end"),
        ('[timing]\nhold = "1ms"\n[surface.pad]\n', 2, "50ms to 5s"),
        ('[surface.k]\nkind = "keypad"\n[profile.base.on.k]\nkp0 = "ctrl+layer"\n', 2, "`layer` is no key"),
    ],
)  # fmt: skip
def test_nonsense_is_not_accepted(text: str, status: int, said: str, fenko: Run, make_desk: MakeDesk) -> None:
    done = fenko("check", "--desk", make_desk(text))
    assert (done.returncode, said in done.stdout) == (status, True), done.stdout


@pytest.mark.parametrize(
    "arguments",
    [
        ("try", "--title", "x"), ("watch", "--name", "x"), ("watch", "--note", "x"), ("explain", "pad.south", "--title", "x"),
        ("shortcuts", "snipwell", "--columns", "command=1"), ("run", "--play-focus"), ("ready", "--yes"), ("devices", "--out", "x"),
    ],
)  # fmt: skip
def test_an_option_that_needs_another_one_says_so(arguments: tuple[str, ...], fenko: Run) -> None:
    done = fenko(*arguments, *(("--desk", DEMO) if arguments[0] not in ("ready", "devices") else ()))
    assert done.returncode == 2 and "go with" in done.stderr.replace("goes", "go")


@pytest.mark.parametrize(
    "lines",
    [
        '{"take": 1, "surfaces": {"pad": "spaceship"}}',
        '{"take": 1, "surfaces": {"pad": "gamepad"}, "speed": 2}',
        '{"take": 1, "surfaces": {"pad": "gamepad"}}\n{"t": 1, "surface": "pad", "control": "south", "value": 1, "force": 2}',
    ],
)
def test_takes_say_nothing_that_the_format_does_not_know(lines: str, fenko: Run, tmp_path: Path) -> None:
    (tmp_path / "x.jsonl").write_text(lines)
    done = fenko("rehearse", "x.jsonl", "--desk", DEMO)
    assert done.returncode == 2 and "x.jsonl:" in done.stderr


def test_a_burst_can_have_a_name_and_a_list_that_is_broken_is_said_once(fenko: Run, make_desk: MakeDesk) -> None:
    desk = make_desk(
        '[surface.k]\nkind = "keypad"\nnames = { kp0-x2 = "double-zero" }\n[profile.base.on.k]\ndouble-zero = "a"\nkp0 = "b"\n'
    )
    assert fenko("check", "--desk", desk).returncode == 0
    desk = make_desk(
        '[surface.k]\nkind = "keypad"\n[app.one]\nshortcuts = "one.csv"\n[profile.base.on.k]\nkp1 = "one: Undo"\nkp2 = "one: Redo"\n',
        name="other",
    )
    (desk / "one.csv").write_bytes(b"\xff\xfe\xfd")
    assert "1 error in 1 file" in fenko("check", "--desk", desk).stdout


def test_large_desks_are_read_in_time(fenko: Run, make_desk: MakeDesk) -> None:
    unknown = "".join(f'nosuch-{n} = "a"\n' for n in range(50_000))
    start = time.perf_counter()
    done = fenko("check", "--desk", make_desk(f'[surface.pad]\nkind = "gamepad"\n[profile.base.on.pad]\n{unknown}'))
    assert done.returncode == 2 and "49900 more controls are unknown" in done.stdout
    assert time.perf_counter() - start < 30  # 300 s before; a machine may be slow


# --- Libraries of others ---


def _crashes() -> int:
    os.kill(os.getpid(), signal.SIGKILL)  # what the kernel does with a library that errs, but silently
    return 0


def _refuses() -> int:
    raise ValueError("not today")


def test_a_library_that_crashes_ends_nothing(capfd: pytest.CaptureFixture[str]) -> None:
    assert apart(lambda: [1, "two"]) == [1, "two"]
    with pytest.raises(ValueError, match="not today"):
        apart(_refuses)
    with pytest.raises(Crashed, match="SIGKILL"):
        apart(_crashes)
    with pytest.raises(RuntimeError, match="pickle"):
        apart(lambda: lambda: 0)
    assert len(apart(lambda: "x" * 300_000)) == 300_000
    assert apart(lambda: os.write(2, b"ALSA lib seq_hw.c: no such luck")) > 0 and capfd.readouterr() == ("", "")
    with pytest.raises(Crashed, match=r"has not answered for 0\.2 s"):
        apart(lambda: time.sleep(60), 0.2)


def test_what_crashes_is_said_among_the_rest(make_desk: MakeDesk, monkeypatch: pytest.MonkeyPatch) -> None:
    folder = make_desk('[surface.pad]\nkind = "gamepad"\n[profile.base.on.pad]\nsouth = \'sound "a.wav"\'\n')
    (folder / "a.wav").write_bytes(b"")
    desk = load_desk(folder)
    monkeypatch.setattr("fenko.integrations.sound.worker.ready", lambda tables, folder: _crashes())
    told = list(facts(desk))
    assert [(one.state, "crashed (SIGKILL)" in one.found) for one in told if one.about == "Sounds"] == [("note", True)]
    assert len(told) > 5
