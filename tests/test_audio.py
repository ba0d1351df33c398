"""The audio output against a real audio server, asked with its own tool."""

from __future__ import annotations

import subprocess
from pathlib import Path

import pytest

from ends import AudioServer, MakeFar, audio, bus, far, needed, program, sound_file, there
from support import wait_for
from terminal import Terminal

__all__ = ["audio", "bus", "far"]
pytestmark = needed("pulseaudio", "pactl", "sox", "mpv")

DESK = """
[profile.base.on.pad]
south = "volume by +5%"
east = "volume by -5%"
north = "volume mute"
west = "microphone mute on"
select = "microphone to 30%"
start = "volume of front by -10%"
shoulder-left = "volume of mpv to 20%"
shoulder-right = "volume by -6dB"
trigger-right = {{ do = "volume follow{follow}", spring = true }}
{more}
"""


def desk(follow: str = "", more: str = "", before: str = "") -> str:
    return before + DESK.format(follow=follow, more=more)


def test_steps_levels_and_mutes_are_what_the_server_says(audio: AudioServer, far: MakeFar) -> None:
    audio.tell("set-sink-volume", "out", "40%")
    hands = far(desk(), audio.env)
    hands.tap("south")
    hands.until(lambda: audio.level() == 45, "one step up")
    for _ in range(3):
        hands.tap("east")
    hands.until(lambda: audio.level() == 30, "three down")
    hands.tap("north")
    hands.until(audio.muted, "muted")
    hands.tap("north")
    hands.until(lambda: not audio.muted(), "heard again")
    hands.tap("west")
    hands.tap("select")
    hands.until(lambda: audio.muted("source", "mic") and audio.level("source", "mic") == 30, "the microphone")
    hands.tap("west")
    hands.look(0.2)
    assert audio.muted("source", "mic"), "`mute on` twice is still on"
    assert hands.notes == []


def test_a_step_in_decibels(audio: AudioServer, far: MakeFar) -> None:
    audio.tell("set-sink-volume", "out", "0dB")
    hands = far(desk(), audio.env)
    hands.tap("shoulder-right")
    hands.until(lambda: "-6.0" in audio.tell("get-sink-volume", "out").split("dB")[0], "6 dB down")


@pytest.mark.parametrize(("table", "most"), [("", 100), ("[audio]\nmost = 120\n", 120)])
def test_nothing_gets_louder_than_the_desk_says(audio: AudioServer, far: MakeFar, table: str, most: int) -> None:
    audio.tell("set-sink-volume", "out", f"{most - 2}%")
    hands = far(desk(before=table), audio.env)
    for _ in range(4):
        hands.tap("south")
    hands.until(lambda: audio.level() == most, "as loud as it gets")
    hands.look(0.2)
    assert audio.level() == most


def test_what_is_louder_already_is_not_made_louder_and_not_cut(audio: AudioServer, far: MakeFar) -> None:
    audio.tell("set-sink-volume", "out", "130%")
    hands = far(desk(), audio.env)
    hands.until(lambda: hands.facts["audio"]["output"])
    hands.tap("south")
    hands.look(0.3)
    assert audio.level() == 130
    hands.tap("east")
    hands.until(lambda: audio.level() == 125, "down from there")


def test_the_balance_stays(audio: AudioServer, far: MakeFar) -> None:
    audio.tell("set-sink-volume", "out", "40%", "20%")
    hands = far(desk(), audio.env)
    for _ in range(4):
        hands.tap("south")
    hands.until(lambda: "60%" in audio.tell("get-sink-volume", "out"), "the louder side at 60 %")
    assert "30%" in audio.tell("get-sink-volume", "out")


@pytest.mark.parametrize(
    ("follow", "at", "level"),
    [("", 0.5, 50), (" 20% to 80%", 0.5, 50), (" -60dB to 0dB", 0.5, 32), (" 20% to 80%", 0.0, 20)],
)
def test_a_volume_follows_a_control(audio: AudioServer, far: MakeFar, follow: str, at: float, level: int) -> None:
    hands = far(desk(follow), audio.env)
    for place in (0.9, 0.1, 0.7, at):
        hands.feed(("pad.trigger-right", place))
    hands.until(lambda: audio.level() == level, f"{level} %")


def test_what_others_change_is_known(audio: AudioServer, far: MakeFar) -> None:
    """A step goes on from where somebody else has left it, and `fenko values` says how it stands."""
    hands = far(desk(), audio.env)
    hands.until(lambda: hands.facts["audio"]["output"], "told at first")
    audio.tell("set-sink-volume", "out", "77%")
    hands.until(lambda: round(hands.facts["audio"]["output"]["level"] * 100) == 77, "told the level")
    assert round(hands.engine.values["audio", "output"]) == 77
    audio.tell("set-sink-mute", "out", "1")
    hands.until(lambda: hands.facts["audio"]["output"]["muted"], "told the mute")
    hands.tap("south")
    hands.until(lambda: audio.level() == 82, "a step from there")


def test_a_stream_by_name_and_the_one_in_front(audio: AudioServer, far: MakeFar, tmp_path: Path) -> None:
    file = sound_file(tmp_path / "tone.wav", 60)
    command = ["mpv", "--no-config", "--no-video", "--ao=pulse", "--loop", "--volume=100", str(file)]
    with program(*command, env=audio.env):
        wait_for(lambda: "application.name" in audio.streams(), "mpv plays")
        hands = far(desk(), audio.env)
        hands.tap("shoulder-left")
        hands.until(lambda: " 20% " in audio.streams(), "by its name")
        hands.front("mpv")
        hands.tap("start")
        hands.until(lambda: " 10% " in audio.streams(), "as the one in front")
        assert audio.level() == 100, "and nothing else"
        hands.front("snipwell")
        hands.tap("start")
        hands.said("the program in front plays nothing")


def test_a_program_of_the_desk_stands_for_its_streams(audio: AudioServer, far: MakeFar, tmp_path: Path) -> None:
    command = ["mpv", "--no-config", "--no-video", "--ao=pulse", "--loop", str(sound_file(tmp_path / "tone.wav", 60))]
    with program(*command, env=audio.env):
        wait_for(lambda: "application.name" in audio.streams(), "mpv plays")
        hands = far(
            desk(before='[app.film]\napp = ["nothing", "mp?"]\n', more='mode = "volume of film to 35%"'), audio.env
        )
        hands.tap("mode")
        hands.until(lambda: " 35% " in audio.streams())
        assert hands.notes == []


def test_a_server_that_is_killed_and_started_again_while_a_volume_follows(audio: AudioServer, far: MakeFar) -> None:
    hands = far(desk(), audio.env)
    hands.feed(("pad.trigger-right", 0.5))
    hands.until(lambda: audio.level() == 50)
    audio.kill()
    for place in (0.6, 0.7, 0.8, 0.25):
        hands.feed(("pad.trigger-right", place))
        hands.look(0.1)
    hands.said("Audio server:")
    audio.start()
    hands.until(lambda: audio.level() == 25, "only where the control is now, when the server is back")
    hands.said("back again")


def test_old_steps_do_not_come_in_a_burst(audio: AudioServer, far: MakeFar) -> None:
    hands = far(desk(), audio.env)
    hands.until(lambda: hands.facts["audio"]["output"])
    audio.kill()
    for _ in range(8):
        hands.tap("east")
    hands.tap("north")
    hands.said("Audio server:")
    hands.look(1.3)
    audio.start()
    hands.until(audio.muted, "a mute is never left out")
    hands.look(0.3)
    assert audio.level() == 100


def test_a_server_that_hangs_holds_up_nothing_but_itself(audio: AudioServer, far: MakeFar) -> None:
    hands = far(desk(more='mode = "sound stop"'), audio.env)
    hands.until(lambda: hands.facts["audio"]["output"])
    server = audio._process
    assert server is not None
    subprocess.run(["kill", "-STOP", str(server.pid)], check=True)
    for place in range(2000):
        hands.feed(("pad.trigger-right", (place % 100) / 100))
    hands.feed(("pad.trigger-right", 0.33))
    subprocess.run(["kill", "-CONT", str(server.pid)], check=True)
    hands.until(lambda: audio.level() == 33, "the newest, when it answers again")


@needed("dbus-daemon", "pipewire", "wireplumber", "pipewire-pulse")
def test_the_same_on_pipewire(bus: dict[str, str], far: MakeFar, tmp_path: Path) -> None:
    """Its server that speaks PulseAudio's language, on a session of its own."""
    folder = tmp_path / "session"
    folder.mkdir(mode=0o700)
    env = {**bus, "XDG_RUNTIME_DIR": str(folder), "HOME": str(folder), "PULSE_SERVER": f"unix:{folder}/pulse/native"}
    with program("pipewire", env=env), program("wireplumber", env=env), program("pipewire-pulse", env=env):
        server = AudioServer(folder)
        server.env = env
        wait_for(there(lambda: "PipeWire" in server.tell("info")), "PipeWire")
        server.tell("load-module", "module-null-sink", "sink_name=out")
        wait_for(there(lambda: "out" in server.tell("list", "short", "sinks")), "its output")
        server.tell("set-default-sink", "out")
        server.tell("set-sink-volume", "out", "40%")
        hands = far(desk(), env)
        hands.until(lambda: round(hands.facts["audio"]["output"]["level"] * 100) == 40)
        hands.tap("south")
        hands.until(lambda: server.level() == 45, "a step")
        hands.tap("north")
        hands.until(server.muted, "mute")
        server.tell("set-sink-volume", "out", "77%")
        hands.until(lambda: round(hands.facts["audio"]["output"]["level"] * 100) == 77, "told what others change")
        command = [
            "mpv",
            "--no-config",
            "--no-video",
            "--ao=pulse",
            "--loop",
            str(sound_file(tmp_path / "tone.wav", 60)),
        ]
        with program(*command, env=env):
            wait_for(lambda: "application.name" in server.streams(), "mpv plays")
            hands.front("mpv")
            hands.tap("shoulder-left")
            hands.until(lambda: " 20% " in server.streams(), "a stream by its name")
            hands.tap("start")
            hands.until(lambda: " 10% " in server.streams(), "the one in front")
        for place in range(100):
            hands.feed(("pad.trigger-right", place / 100))
        hands.until(lambda: server.level() == 99, "it follows")
        hands.close()


def test_a_lesson_offers_what_is_there_and_finds_what_is_moved(
    audio: AudioServer, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("PULSE_SERVER", audio.env["PULSE_SERVER"])
    folder = tmp_path / "desk"
    sound_file(folder / "clap.wav", 0.2)
    file = folder / "desk.toml"
    file.write_text('format = 1\n[surface.pad]\nkind = "gamepad"\n[request.scene]\nurl = "http://127.0.0.1:9/"\n')
    tone = sound_file(tmp_path / "tone.wav", 60)
    lesson = Terminal("learn", "--desk", str(folder), "--profile", "base")
    with program("mpv", "--no-config", "--no-video", "--ao=pulse", "--loop", str(tone), env=audio.env):
        try:
            wait_for(lambda: "application.name" in audio.streams(), "mpv plays")
            lesson.says("Press a control")
            lesson.line("pad.south")
            lesson.says("what shall it do?")
            lesson.line("there")
            for phrase in ("volume of mpv by +5%", 'sound "clap.wav"', "close window", "request scene"):
                lesson.says(phrase)
            lesson.says("what shall it do?")
            lesson.line("1")
            for name in ("label", "colour", "icon"):
                lesson.says(name)
                lesson.line("")
            lesson.says("Press a control")
            assert 'south = "volume by +5%"' in file.read_text()
            lesson.line("pad.east")
            lesson.says("what shall it do?")
            lesson.line("moved")
            lesson.says("move it now")
            stream = audio.tell("list", "short", "sink-inputs").split()[0]

            def moved() -> bool:
                audio.tell("set-sink-input-mute", stream, "toggle")
                lesson.pump()
                return b"volume of mpv mute" in lesson.shown

            wait_for(moved, "what was moved to be found")
            for name in ("label", "colour", "icon"):
                lesson.says(name)
                lesson.line("")
            lesson.says("Press a control")
            assert 'east = "volume of mpv mute"' in file.read_text()
            lesson.line("stop")
            assert lesson.end() == 0
        finally:
            if lesson.process.poll() is None:
                lesson.process.kill()


def test_a_state_follows_what_others_mute(audio: AudioServer, far: MakeFar) -> None:
    """A binding that mutes and unmutes in turn does the right thing after somebody else has."""
    more = 'mode = { in-turn = ["microphone mute on", "microphone mute off"], states = ["Muted", "Live"] }'
    hands = far(desk(more=more), audio.env)
    hands.until(lambda: hands.facts["audio"]["input"])
    audio.tell("set-source-mute", "mic", "1")
    hands.until(lambda: hands.facts["audio"]["input"]["muted"])
    hands.tap("mode")
    hands.until(lambda: not audio.muted("source", "mic"), "muted by somebody else, so it is live now")
