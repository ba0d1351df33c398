"""The whole way on real desktops: takes in place of hands, real windows, real keys. The same tests on each of them."""

from __future__ import annotations

import json
import os
import re
import signal
import subprocess
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from desktops import BARE, desktop, lasting, missing, on, shown
from fenko.outputs.wayland import WaylandPort
from fenko.system.wayland import Wayland
from pages import ROOT, snippets, typed
from running import DESK, Running, press, take
from started import run_fenko
from support import FENKO, MakeDesk, wait_for

__all__ = ["shown"]


BUTTONS = (
    "south", "east", "west", "north", "shoulder-left", "shoulder-right", "hat.up", "hat.down", "hat.left", "hat.right",
    "select", "start",
)  # fmt: skip


def test_each_window_gets_what_its_profile_says(shown: Any, tmp_path: Path, make_desk: MakeDesk) -> None:
    desk = str(make_desk(DESK))
    frames_file, sound_file = tmp_path / "frames.txt", tmp_path / "sound.txt"
    frames = shown.terminal("Snipwell", "Reel 2", frames_file)
    sound = shown.terminal("Hushdesk", "Wings, close", sound_file)
    once = take(tmp_path / "once.jsonl", *press(0.3, "south"))

    for window, file, expected in (
        (frames, frames_file, "frames: Größe ✓ 東"),
        (sound, sound_file, "sound: ελληνικά, кириллица"),
    ):
        shown.raise_window(window)
        done = run_fenko("run", "--desk", desk, "--play", once, env=shown.environment)
        assert done.returncode == 0, done.stderr
        wait_for(lambda file=file: file.exists() and file.read_text(), f"text in {file}\n{done.stderr}")
        assert file.read_text().splitlines() == [expected]
    assert not shown.keys_down()


def test_the_profile_follows_the_window_while_running(shown: Any, tmp_path: Path, make_desk: MakeDesk) -> None:
    files = tmp_path / "frames.txt", tmp_path / "sound.txt"
    frames = shown.terminal("Snipwell", "Reel 2", files[0])
    sound = shown.terminal("Hushdesk", "Wings, close", files[1])
    shown.raise_window(frames)
    events = [event for t in range(40) for event in press(0.5 + t, "east", 0.5)]
    running = Running(
        shown, tmp_path / "log", "--desk", str(make_desk(DESK)), "--play", take(tmp_path / "t.jsonl", *events)
    )
    running.says("profile: frames")
    wait_for(lambda: shown.keys_down() == [38], "the key a, held")
    shown.raise_window(sound)
    running.says("profile: sound (in front is Hushdesk")
    wait_for(lambda: shown.keys_down() == [50], "Shift, held in the other profile")
    shown.set_title(sound, "Rain")
    running.says("profile: base")
    assert running.end() == 0
    assert not shown.keys_down()


def test_a_flicker_of_the_focus_changes_nothing(shown: Any, tmp_path: Path, make_desk: MakeDesk) -> None:
    frames = shown.terminal("Snipwell", "Reel 2", tmp_path / "a")
    sound = shown.terminal("Hushdesk", "Wings, close", tmp_path / "b")
    shown.raise_window(frames)
    # Held from before, so that no press hurries the settling.
    held = take(tmp_path / "t.jsonl", (0.1, "mode", 1), (60, "mode", 0))
    desk = str(make_desk(DESK + '[timing]\nsettle = "2s"'))
    running = Running(shown, tmp_path / "log", "--desk", desk, "--play", held)
    running.says("is running")
    for _ in range(3):
        shown.raise_window(sound)
        shown.raise_window(frames)
    shown.raise_window(sound)
    running.says("profile: sound")
    assert running.log.read_text().count("profile: ") == 2  # the line at the start, and sound once
    assert running.end() == 0


def test_kill_leaves_no_key_down(shown: Any, tmp_path: Path, make_desk: MakeDesk) -> None:
    shown.raise_window(shown.terminal("Snipwell", "Reel 2", tmp_path / "frames.txt"))
    held = take(tmp_path / "t.jsonl", (0.2, "mode", 1), (0.3, "east", 1), (60, "east", 0))
    running = Running(shown, tmp_path / "log", "--desk", str(make_desk(DESK)), "--play", held)
    wait_for(lambda: len(shown.keys_down()) == 2, "two keys held")
    running.process.send_signal(signal.SIGKILL)
    running.process.wait()
    wait_for(lambda: not shown.keys_down(), "the guard to lift the keys")


def test_more_strange_characters_than_free_keys(shown: Any, tmp_path: Path, make_desk: MakeDesk) -> None:
    text = "".join(chr(0x3041 + n) for n in range(60))
    file = tmp_path / "frames.txt"
    desk = make_desk(
        f"""
        [surface.pad]
        kind = "gamepad"
        [profile.base.on.pad]
        south = 'type "{text}" then enter'
        """
    )
    shown.raise_window(shown.terminal("Snipwell", "Reel 2", file))
    run_fenko("run", "--desk", str(desk), "--play", take(tmp_path / "t.jsonl", *press(0.2, "south")), env=shown.environment, check=True)  # fmt: skip
    wait_for(lambda: file.exists() and file.read_text(), "text")
    assert file.read_text().splitlines() == [text]


@on("sway", "gnome")
def test_a_key_for_a_strange_character_changes_nothing_about_keys_before_it(
    shown: Any, tmp_path: Path, make_desk: MakeDesk
) -> None:
    """Which comes behind them by so little that they may still be on their way to the window."""
    strange = dict(zip(BUTTONS, "öäüßøåæçñþðõ", strict=True))
    keys = "\n".join(f'{button} = "{character}"' for button, character in strange.items())
    desk = make_desk(
        f"""
        [surface.pad]
        kind = "gamepad"
        [profile.base.on.pad]
        stick-left-press = "shift+7"
        mode = "enter"
        {keys}
        """
    )
    file = tmp_path / "frames.txt"
    shown.raise_window(shown.terminal("Snipwell", "Reel 2", file))
    events, rounds = [], 2
    for again in range(rounds):
        begins = 0.2 + again * 3.2  # the person's own layout is in force again by then
        for n, button in enumerate(strange):
            t = begins + n * 0.06
            events += press(t, "stick-left-press", 0.001) + press(t + 0.0015 + 0.0005 * (n + again), button, 0.001)
        events += press(begins + 0.8, "mode", 0.001)
    run_fenko("run", "--desk", str(desk), "--play", take(tmp_path / "t.jsonl", *events), env=shown.environment, check=True)  # fmt: skip
    expected = "".join(f"&{character}" for character in strange.values())
    wait_for(lambda: file.exists() and len(file.read_text().splitlines()) == rounds, "text")
    assert file.read_text().splitlines() == [expected] * rounds


# Cells of the desk below, and what hands may do with them within a second or so.
def test_windows_prints_what_a_profile_takes(shown: Any, tmp_path: Path) -> None:
    shown.terminal("Hushdesk", "Wings", tmp_path / "a")
    shown.raise_window(shown.terminal("Snipwell", 'Reel "2" – Größe ✓', tmp_path / "b"))
    listed = run_fenko("windows", env=shown.environment, check=True).stdout
    assert 'when = { app = "Snipwell" }' in listed
    assert "Hushdesk" in listed
    as_json = run_fenko("windows", "--format", "json", env=shown.environment, check=True).stdout
    front = [window for window in json.loads(as_json) if window["front"]]
    told = {"front": True, "app": "Snipwell", "title": 'Reel "2" – Größe ✓', "program": shown.program}
    assert [{name: one[name] for name in told} for one in front] == [told]


def test_windows_are_followed(shown: Any, tmp_path: Path) -> None:
    log = tmp_path / "log"
    windows = [shown.terminal(app, "Reel 2", tmp_path / app) for app in ("Snipwell", "Hushdesk")]
    with log.open("wb") as file:
        process = subprocess.Popen([*FENKO, "windows", "--follow"], env=shown.environment, stdout=file, stderr=file)
    wait_for(log.read_text, "the window in front")
    for window, app in zip(windows, ("Snipwell", "Hushdesk"), strict=True):
        shown.raise_window(window)
        wait_for(lambda app=app: f'when = {{ app = "{app}" }}  # "Reel 2"' in log.read_text(), app)
    shown.set_title(windows[1], "Rain")
    wait_for(lambda: 'when = { app = "Hushdesk" }  # "Rain"' in log.read_text(), f"the title\n{log.read_text()}")
    process.send_signal(signal.SIGINT)
    assert process.wait(10) == 0


def test_a_take_ends_when_what_it_set_off_has_ended(shown: Any, tmp_path: Path, make_desk: MakeDesk) -> None:
    file = tmp_path / "frames.txt"
    desk = make_desk(
        '[surface.pad]\nkind = "gamepad"\n[profile.base.on.pad]\nsouth = "a x20 then wait 300ms then b then enter"\n'
    )
    shown.raise_window(shown.terminal("Snipwell", "Reel 2", file))
    once = take(tmp_path / "t.jsonl", (0.1, "south", 1))
    run_fenko("run", "--desk", str(desk), "--play", once, env=shown.environment, check=True)
    wait_for(lambda: file.exists() and file.read_text(), "text")
    assert file.read_text().splitlines() == ["a" * 20 + "b"]


def test_layout_in_force_decides_the_key(shown: Any, tmp_path: Path, make_desk: MakeDesk) -> None:
    file = tmp_path / "frames.txt"
    desk = make_desk(
        """
        [surface.pad]
        kind = "gamepad"
        [profile.base.on.pad]
        south = "y then z then shift+7 then @z then ö then enter"
        """
    )
    shown.raise_window(shown.terminal("Snipwell", "Reel 2", file))
    for layout, expected in (("de", "yz/yö"), ("us", "yz&zö"), ("fr", "yz7wö")):
        file.unlink(missing_ok=True)
        shown.use_layout(layout)
        done = run_fenko("run", "--desk", str(desk), "--play", take(tmp_path / "t.jsonl", *press(0.2, "south")), env=shown.environment)  # fmt: skip
        wait_for(lambda: file.exists() and file.read_text(), f"text\n{done.stderr}")
        assert file.read_text().splitlines() == [expected], layout


def test_capitals_are_what_they_are_whatever_caps_lock_says(shown: Any, tmp_path: Path, make_desk: MakeDesk) -> None:
    file = tmp_path / "frames.txt"
    desk = str(make_desk(DESK))
    shown.raise_window(shown.terminal("Snipwell", "Reel 2", file))
    shown.press(66)  # Caps Lock
    once = take(tmp_path / "t.jsonl", *press(0.2, "south"))
    run_fenko("run", "--desk", desk, "--play", once, env=shown.environment, check=True)
    wait_for(lambda: file.exists() and file.read_text(), "text")
    assert file.read_text().splitlines() == ["frames: Größe ✓ 東"]
    letters = take(tmp_path / "letters.jsonl", *press(0.2, "north"))
    run_fenko("run", "--desk", desk, "--play", letters, env=shown.environment, check=True)
    wait_for(lambda: len(file.read_text().splitlines()) == 2, "a text of the layout alone")
    assert file.read_text().splitlines()[1] == "Reel two, take 3"
    shown.press(38, 36)  # what the person types is still in capitals
    wait_for(lambda: len(file.read_text().splitlines()) == 3, "a line of the person's")
    assert file.read_text().splitlines()[2] == "A"


def test_keys_are_what_they_are_whatever_caps_lock_says(shown: Any, tmp_path: Path, make_desk: MakeDesk) -> None:
    file = tmp_path / "frames.txt"
    desk = make_desk(
        "[surface.pad]\nkind = 'gamepad'\n[profile.base.on.pad]\nsouth = 'h then i then enter'\neast = 'shift+h then i then enter'\n"
        "west = 'enter'\nnorth = 'x'\n"
    )
    shown.raise_window(shown.terminal("Snipwell", "Reel 2", file))
    shown.press(66)  # Caps Lock
    both = take(
        tmp_path / "t.jsonl", *press(0.3, "south"), *press(0.6, "east"), *press(0.9, "north", 0.05), *press(1.1, "west")
    )
    command = [*FENKO, "run", "--desk", str(desk), "--play", both]
    subprocess.run(command, env=shown.environment, check=True, capture_output=True)
    wait_for(lambda: file.exists() and len(file.read_text().splitlines()) == 3, "all lines")
    assert file.read_text().splitlines() == ["hi", "Hi", "x"]
    shown.press(38, 36)  # what the person types is still in capitals
    wait_for(lambda: len(file.read_text().splitlines()) == 4, "a line of the person's")
    assert file.read_text().splitlines()[3] == "A"


def test_a_text_is_typed_as_if_nothing_were_held(shown: Any, tmp_path: Path, make_desk: MakeDesk) -> None:
    """What Fenko holds: a letter of the text, Shift, and Control; afterwards it is held again."""
    file = tmp_path / "frames.txt"
    desk = make_desk(
        "[surface.pad]\nkind = 'gamepad'\n[profile.base.on.pad]\nsouth = 'type \"banana\\n\"'\n"
        "east = 'type \"Größe ✓\\n\"'\nnorth = 'a'\nwest = 'shift'\nmode = 'ctrl'\n"
    )
    shown.raise_window(shown.terminal("Snipwell", "Reel 2", file))
    events = [
        (0.3, "west", 1), *press(0.4, "east"), *press(1.2, "south"), (2.0, "west", 0),
        (2.1, "mode", 1), *press(2.2, "east"), (3.0, "mode", 0),
        (3.1, "north", 1), *press(3.15, "south"), (3.7, "north", 0), *press(3.8, "south"),
    ]  # fmt: skip
    command = [*FENKO, "run", "--desk", str(desk), "--play", take(tmp_path / "t.jsonl", *events)]
    subprocess.run(command, env=shown.environment, check=True, capture_output=True)
    wait_for(lambda: file.exists() and len(file.read_text().splitlines()) == 5, "all lines")
    lines = file.read_text().splitlines()
    assert lines[:3] == ["Größe ✓", "banana", "Größe ✓"]
    assert lines[3].endswith("banana") and set(lines[3].removesuffix("banana")) == {"a"}  # which the held key made
    assert lines[4].endswith("banana") and set(lines[4].removesuffix("banana")) == {"a"}  # and makes again
    assert not shown.keys_down()


def test_texts_one_after_the_other_are_what_they_are_whatever_caps_lock_says(
    shown: Any, tmp_path: Path, make_desk: MakeDesk
) -> None:
    file = tmp_path / "frames.txt"
    each = " then ".join(f'type "{letter} {letter}" then enter' for letter in "auiel")
    desk = make_desk(f"[surface.pad]\nkind = 'gamepad'\n[profile.base.on.pad]\nsouth = '{each}'\n")
    shown.raise_window(shown.terminal("Snipwell", "Reel 2", file))
    shown.press(66)  # Caps Lock
    twice = take(tmp_path / "t.jsonl", *press(0.2, "south"), *press(0.4, "south"))
    command = [*FENKO, "run", "--desk", str(desk), "--play", twice]
    subprocess.run(command, env=shown.environment, check=True, capture_output=True)
    wait_for(lambda: file.exists() and len(file.read_text().splitlines()) == 10, "all texts")
    assert file.read_text().splitlines() == [f"{letter} {letter}" for letter in "auiel"] * 2


def test_ready_says_what_this_desktop_gives(shown: Any) -> None:
    done = run_fenko("ready", "--format", "json", env=shown.environment)
    facts = [(fact["about"], fact["state"], fact["found"]) for fact in json.loads(done.stdout)]
    assert any(about == "session" and state == "ready" for about, state, _ in facts), facts
    assert any(about == "window in front" and state == "ready" for about, state, _ in facts), facts
    assert any(about == "sending keys" and state == "ready" for about, state, _ in facts), facts
    if "SWAYSOCK" in shown.environment:  # of which a page shows what it says
        done = run_fenko("ready", env=shown.environment)
        said = done.stdout.replace(shown.environment["WAYLAND_DISPLAY"], "wayland-1")
        said = re.sub(" +", " ", said.replace(f"server at {shown.environment['DISPLAY']}", "server at :0"))
        page = next(one for one in snippets([ROOT / "docs/desktops.md"]) if one.kind == "console")
        (command,) = typed(page)
        assert command.shown
        for line in command.shown:
            assert re.sub(" +", " ", line) in said.split("\n"), (line, said)


def test_the_kernels_keyboard_has_the_layout_that_the_desktop_has(shown: Any) -> None:
    shown.use_layout("de")
    done = run_fenko("ready", "--format", "json", env=shown.environment)
    found = next(fact["found"] for fact in json.loads(done.stdout) if fact["about"] == "keyboard layout")
    assert found.startswith(("de, from the X server", "German, from Wayland display")), found


@pytest.mark.parametrize("name", BARE)
def test_a_compositor_that_offers_nothing_is_told_so(name: str, tmp_path: Path, make_desk: MakeDesk) -> None:
    with desktop(name) as bare:
        windows = run_fenko("windows", env=bare.environment)
        assert windows.returncode == 1
        assert "tells nobody which window is in front" in windows.stderr
        ready = run_fenko("ready", env=bare.environment)
        assert f"of {name}" in ready.stdout
        assert "profiles change by hand" in ready.stdout
        log = tmp_path / "log"
        run = Running(
            bare, log, "--desk", str(make_desk(DESK)), "--play", take(tmp_path / "t.jsonl", *press(0.2, "south"))
        )
        assert run.process.wait(30) == (0 if os.access("/dev/uinput", os.W_OK) else 1)
        said = log.read_text()
        assert "Traceback" not in said
        assert "lets nobody send keys" in said


@pytest.mark.skipif(bool(missing("gnome")), reason=f"needs {' '.join(missing('gnome'))}")
def test_the_extension_comes_on_consent_and_goes(tmp_path: Path) -> None:
    environment = os.environ | {
        "XDG_DATA_HOME": str(tmp_path / "share"), "XDG_CONFIG_HOME": str(tmp_path / "config"), "GSETTINGS_BACKEND": "keyfile",
    }  # fmt: skip

    def ready(*options: str, answer: str = "") -> subprocess.CompletedProcess[str]:
        command = [*FENKO, "ready", "--extension", *options]
        return subprocess.run(command, env=environment, input=answer, capture_output=True, text=True, timeout=60)

    folder = tmp_path / "share/gnome-shell/extensions/desk@fenko"
    refused = ready("on", answer="n\n")
    assert (refused.returncode, folder.exists()) == (1, False)
    assert str(folder) in refused.stderr and "press keys" in refused.stderr
    assert ready("on", answer="y\n").returncode == 0
    about = json.loads((folder / "metadata.json").read_text())
    assert about["uuid"] == folder.name
    setting = ["gsettings", "get", "org.gnome.shell", "enabled-extensions"]
    assert "desk@fenko" in subprocess.run(setting, env=environment, capture_output=True, text=True).stdout
    assert ready("off").returncode == 0
    assert not folder.exists()
    assert "desk@fenko" not in subprocess.run(setting, env=environment, capture_output=True, text=True).stdout
    assert "not there" in ready("off").stderr


def test_gnome_without_the_extension_says_what_helps() -> None:
    with desktop("gnome, bare") as bare:
        windows = run_fenko("windows", env=bare.environment)
        assert (windows.returncode, "fenko ready --extension on" in windows.stderr) == (1, True)
        ready = run_fenko("ready", env=bare.environment)
        assert "fenko ready --extension on" in ready.stdout


@pytest.mark.parametrize(
    "test",
    [
        test_each_window_gets_what_its_profile_says,
        test_the_profile_follows_the_window_while_running,
        test_more_strange_characters_than_free_keys,
    ],
    ids=lambda test: test.__name__,
)
def test_the_form_for_later_shells_does_the_same(
    test: Callable[..., None], request: pytest.FixtureRequest, tmp_path: Path, make_desk: MakeDesk
) -> None:
    with lasting("gnome, later", request.node) as shown:
        test(shown, tmp_path, make_desk)


def test_nothing_wakes_it_at_rest(shown: Any, tmp_path: Path, make_desk: MakeDesk) -> None:
    shown.raise_window(shown.terminal("Snipwell", "Reel 2", tmp_path / "frames.txt"))
    running = Running(
        shown, tmp_path / "log", "--desk", str(make_desk(DESK)), "--play", take(tmp_path / "t", (600, "mode", 1))
    )
    running.says("is running")

    def switches() -> int:
        text = Path(f"/proc/{running.process.pid}/status").read_text()
        return int(text.partition("\nvoluntary_ctxt_switches:")[2].split()[0])

    def at_rest() -> bool:
        before = switches()
        time.sleep(2)
        return switches() == before

    wait_for(at_rest, "two seconds in which nothing wakes it")
    assert running.end() == 0


@on("gnome")
def test_a_locked_screen_takes_the_extension_away_for_a_while(shown: Any, tmp_path: Path, make_desk: MakeDesk) -> None:
    """GNOME lets go of extensions while the screen is locked, which may be for hours."""
    shown.raise_window(shown.terminal("Snipwell", "Reel 2", tmp_path / "frames.txt"))
    events = [event for t in range(60) for event in press(0.5 + t, "mode", 0.5)]
    hands = take(tmp_path / "t.jsonl", *events)
    running = Running(shown, tmp_path / "log", "--desk", str(make_desk(DESK)), "--play", hands)
    wait_for(lambda: shown.keys_down() == [75], "f9 held")
    shown.script("Main.extensionManager.disableExtension('desk@fenko')")
    running.says("is gone")
    wait_for(lambda: not shown.keys_down(), "nothing down behind the lock")
    time.sleep(12)  # longer than what comes back at once is looked for
    shown.script("Main.extensionManager.enableExtension('desk@fenko')")
    running.says("is back")
    wait_for(lambda: shown.keys_down() == [75], "f9 held again")
    assert running.end() == 0


@on("kwin")
def test_a_clipboard_that_was_pasted_from_is_given_back(shown: Any, tmp_path: Path, make_desk: MakeDesk) -> None:
    file = tmp_path / "frames.txt"
    shown.raise_window(shown.terminal("Snipwell", "Reel 2", file))
    copied = shown.spawn("wl-copy", "--foreground", "what was copied")
    wait_for(lambda: shown.ask("wl-paste", "--no-newline").stdout == "what was copied", "somebody's copy")
    events = [*press(0.3, "south"), (600.0, "mode", 1)]
    hands = take(tmp_path / "t.jsonl", *events)
    running = Running(shown, tmp_path / "log", "--desk", str(make_desk(DESK)), "--play", hands)
    wait_for(lambda: file.exists() and file.read_text() == "frames: Größe ✓ 東\n", "the text")
    wait_for(lambda: shown.ask("wl-paste", "--no-newline").stdout == "what was copied", "it to be there again")
    assert copied.poll() is not None, "and by nobody else than Fenko"
    assert running.end() == 0
    much = tmp_path / "much"
    much.write_bytes(b"x" * 5_000_000)
    shown.spawn("sh", "-c", f"wl-copy --foreground --type image/png < {much}")
    wait_for(lambda: "image/png" in shown.ask("wl-paste", "--list-types").stdout, "a large copy")
    again = Running(shown, tmp_path / "log", "--desk", str(make_desk(DESK)), "--play", hands)
    again.says("too much to be given back")
    assert "x-kde-passwordManagerHint" in shown.ask("wl-paste", "--list-types").stdout, "not for histories"
    assert again.end() == 0


def test_a_dialog_belongs_to_its_window(shown: Any, tmp_path: Path) -> None:
    asks = tmp_path / "asks"
    shown.spawn("/usr/bin/python3", str(Path(__file__).parent / "qt_dialog.py"), str(asks))

    def in_front() -> Any:
        said = run_fenko("windows", "--format", "json", env=shown.environment)
        found = [window for window in json.loads(said.stdout or "[]") if window["front"]]
        return found[0] if found else {}

    wait_for(lambda: in_front().get("title") == "Reel 2", "the window")
    assert "owner" not in in_front()
    asks.touch()
    wait_for(lambda: in_front().get("title") == "Export reel", "the dialog")
    owner = in_front()["owner"]
    assert (owner["app"], owner["title"]) == ("snipwell", "Reel 2")


@pytest.mark.parametrize("waits", [True, False], ids=["at a quiet moment", "when the person chooses another"])
@on("gnome")
def test_a_layout_that_was_lent_is_given_back(shown: Any, waits: bool, tmp_path: Path, make_desk: MakeDesk) -> None:
    file = tmp_path / "frames.txt"
    shown.raise_window(shown.terminal("Snipwell", "Reel 2", file))
    shown.use_layout("us,ru")
    hands = take(tmp_path / "t.jsonl", *press(0.3, "south"), (600.0, "mode", 1))
    running = Running(shown, tmp_path / "log", "--desk", str(make_desk(DESK)), "--play", hands)
    wait_for(lambda: file.exists() and file.read_text() == "frames: Größe ✓ 東\n", "the text")
    if not waits:
        shown.lock_group(1)
    wait_for(lambda: not (shown.folder / "config/xkb/symbols/fenko").exists(), "the layout to be gone")
    shown.lock_group(1)  # which the layout of the moment did not have
    shown.press(52, 36)
    wait_for(lambda: file.read_text().splitlines()[1:] == ["я"], "the person's own layout")
    assert running.process.poll() is None
    assert running.end() == 0


@on("sway")
def test_modifiers_of_another_keyboard_are_not_those_of_a_surface(
    shown: Any, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    file = tmp_path / "typed"
    shown.raise_window(shown.terminal("Snipwell", "Reel 2", file))
    for name, value in shown.environment.items():
        monkeypatch.setenv(name, value)
    other, ours = (WaylandPort(print, Wayland()) for _ in range(2))
    for port, key, acts in ((other, "shift", ("down",)), (ours, "a", ("down", "up")), (other, "shift", ("up",))):
        port.send([(0.0, "keys", act, key) for act in acts])
    ours.send([(0.0, "keys", "down", "enter"), (0.0, "keys", "up", "enter")])
    wait_for(lambda: file.exists() and file.read_text() == "a\n", "the key alone")
    for port in (other, ours):
        port.close()
