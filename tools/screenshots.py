"""Makes docs/screenshots: each main command in a terminal on a virtual screen, from the demo's data.

usage: python tools/screenshots.py [NAME …]
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).parent.parent
sys.path.insert(0, str(ROOT / "tests"))

from screen import screen

OUT = ROOT / "docs" / "screenshots"
BIN = Path(sys.executable).parent
DEMO = ROOT / "src/fenko/data/demo"
MISTAKES = {
    'description = "tallow-17"': 'description = "tallow-71"',
    'start = { do = "pause"': 'strat = { do = "pause"',
    'select.tap = { do = "profile next"': 'select.tap = { do = "profile nxt"',
}

# What is typed, how long it may take, and how many columns and lines the terminal has.
SHOTS = {
    "demo": ("fenko demo --instant", 4, 124, 50),
    "check": ("fenko check --desk mistakes; fenko check --desk bench", 4, 110, 40),
    "rehearse": ("fenko rehearse bench/takes/evening.jsonl --desk bench | head -44", 3, 166, 47),
    "explain": (
        "fenko explain pad.hat.left --app snipwell --layer trim --desk bench; "
        "fenko explain pad.stick-right-press --app snipwell --desk bench; fenko explain pad.north --app beamcart --desk bench; "
        "fenko explain --setting timing.double",
        4,
        120,
        44,
    ),
    "shortcuts": (
        "fenko shortcuts snipwell mark --desk bench; fenko shortcuts snipwell --unbound --desk bench; "
        "fenko shortcuts snipwell --unlisted --desk bench; fenko shortcuts hushdesk --import export.tsv --yes --desk bench",
        5,
        112,
        32,
    ),
    "try": ("fenko try --desk bench --play bench/takes/more.jsonl --play-focus", 11, 140, 47),
    "usage": ("fenko usage --example", 5, 124, 51),
    "learn": ("fenko learn --profile frames --desk bench", 1, 120, 44),
    "windows": ("fenko windows", 3, 90, 16),
    "devices": ("fenko devices", 1, 118, 18),
    "legend": ("fenko legend pad knots", 5, 118, 46),
    "ready": ("fenko ready", 1, 166, 40),
    "new": ("fenko new gamepad dial --desk my-desk; cat my-desk/desk.toml", 3, 132, 56),
    "watch": ("fenko watch pad mouse dial", 1, 140, 48),
    "trust": ("fenko trust --desk bench", 3, 130, 16),
    "machine": ("fenko machine --desk bench; fenko machine watch", 5, 112, 14),
    "tune": ("fenko tune pad --take bench/takes/worn.jsonl --desk bench", 4, 150, 17),
}

IN_LAB = ("devices", "learn", "ready", "watch")
"""What needs devices is shown in the kernel lab."""

# Pictures that a command draws itself, without a terminal; several are shown beside one another.
DRAWN = {
    "screenshots/sheet": (
        ("sheet", "frames", "--surface", "knots", "--desk", "bench", "--out"),
        ("sheet", "--labels", "keypad", "frames", "--copies", "2", "--desk", "bench", "--out"),
        ("sheet", "--plan", "keypad", "--desk", "bench", "--dark", "--out"),
    ),
    "worn-pad": (("tune", "pad", "--take", "bench/takes/worn.jsonl", "--desk", "bench", "--out"),),
    "used": (("usage", "--example", "--map"), ("usage", "--example", "--timeline")),
    "arranged": (("arrange", "stream", "--surface", "knots", "--example", "--out"),),
}


EXPORT = """Name\tShortcut\tMenu
Solo this track\tS\tTrack
Mute this track\tShift+M\tTrack
Fader up\tCtrl+Up\tMixer
Zoom\tCtrl+Wheel\tView
"""


ON_THE_RAIL = (
    {"take": 1, "name": "The ring is turned", "surfaces": {"jog": "ring-and-dial"}},
    {"t": 0.5, "focus": {"app": "railmoth", "title": "Rail A"}},
    {"t": 3.0, "surface": "jog", "control": "ring", "value": 0.4},
    {"t": 900.0, "surface": "jog", "control": "ring", "value": 0},
)
HELD = (
    {"take": 1, "name": "One is held", "surfaces": {"pad": "gamepad", "knots": "macro-pad"}},
    {"t": 0.5, "focus": {"app": "snipwell", "title": "Reel 2 – the moth lands"}},
    {"t": 1.0, "surface": "pad", "control": "south", "value": 1},
    {"t": 900.0, "surface": "pad", "control": "south", "value": 0},
)


def _prepare(folder: Path) -> None:
    """The demo's desk as a person keeps it, and a copy with a few mistakes."""
    shutil.copytree(DEMO, folder / "bench")
    shutil.copytree(DEMO, folder / "mistakes")
    desk = folder / "mistakes" / "desk.toml"
    text = desk.read_text()
    for right, wrong in MISTAKES.items():
        assert right in text, right
        text = text.replace(right, wrong)
    desk.write_text(text)
    (folder / "export.tsv").write_text(EXPORT)
    (folder / "held.jsonl").write_text("\n".join(map(json.dumps, HELD)))
    (folder / "rail.jsonl").write_text("\n".join(map(json.dumps, ON_THE_RAIL)))


def _shown_in_lab(command_name: str) -> str:
    """What a command shows in the kernel lab, where there are devices."""
    script = str(ROOT / "tools/lab_devices.py")
    command = [str(ROOT / "tools/kernel-lab"), "--", sys.executable, script, command_name]
    return subprocess.run(command, capture_output=True, text=True, check=True, cwd=ROOT).stdout


def _page() -> None:
    """The legend in a browser."""
    from playwright.sync_api import sync_playwright

    with tempfile.TemporaryDirectory() as place, screen() as one:
        folder = Path(place)
        _prepare(folder)
        env = one.environment | {"HOME": place, "XDG_RUNTIME_DIR": place}
        run = [BIN / "fenko", "run", "--desk", folder / "bench", "--play", folder / "held.jsonl", "--play-focus"]
        one.processes.append(
            subprocess.Popen(run, env=env, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True)
        )
        time.sleep(4)
        web = subprocess.Popen(
            [BIN / "fenko", "legend", "--web", "--port", "0"],
            env=env,
            stdout=subprocess.PIPE,
            text=True,
            start_new_session=True,
        )
        one.processes.append(web)
        assert web.stdout is not None
        address = web.stdout.readline().strip()
        with sync_playwright() as tools:
            browser = tools.chromium.launch(
                executable_path="/usr/bin/chromium", args=["--no-sandbox", "--disable-gpu", "--disable-quic"]
            )
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            page.goto(f"{address}?theme=dark&surface=pad&surface=knots")
            page.wait_for_selector("li.lit")
            page.screenshot(path=OUT / "page.png")
            browser.close()
    print(OUT / "page.png")


PROGRAMS = {"frames": "Snipwell in front", "sound": "Hushdesk in front", "stream": "Beamcart in front"}


def _one_pad() -> None:
    """The right half of the pad as three programs have it, side by side, with a ring around the same button."""
    ground, body = "#111418", "#1d2226"
    with tempfile.TemporaryDirectory() as place:
        _prepare(Path(place))
        for profile, title in PROGRAMS.items():
            sheet = [BIN / "fenko", "sheet", profile, "--surface", "pad", "--desk", "bench", "--dark", "--out"]
            subprocess.run([*sheet, f"{profile}.png"], cwd=place, check=True, stdout=subprocess.DEVNULL)
            first = next(name for name in (f"{profile}-1.png", f"{profile}.png") if (Path(place) / name).exists())
            subprocess.run(
                ["convert", first, "-crop", "372x586+1062+205", "+repage",
                 "-fill", body, "-draw", "rectangle 0,545 115,586", "-draw", "rectangle 240,577 400,586",
                 "-fill", "none", "-stroke", "white", "-strokewidth", "4", "-draw", "circle 182,513 182,452", "-stroke", "none",
                 "-background", ground, "-gravity", "north", "-splice", "0x54", "-fill", "white", "-font", "DejaVu-Sans-Bold",
                 "-pointsize", "25", "-annotate", "+0+12", title, f"part-{profile}.png"],
                cwd=place, check=True,
            )  # fmt: skip
        parts = [f"part-{profile}.png" for profile in PROGRAMS]
        made = OUT.parent / "one-pad.png"
        layout = ["-tile", "3x1", "-geometry", "372x640+22+6", "-background", ground, "-depth", "8"]
        subprocess.run(["montage", *parts, *layout, made], cwd=place, check=True)
    print(made)


def _rail() -> None:
    """What the demo's evening does with its rail, in no time."""
    from fenko.core.rehearsal import rehearse
    from fenko.desk.load import load_desk
    from fenko.devices.take import read_take
    from fenko.integrations.machine.rehearsed import Rehearsal
    from fenko.integrations.machine.settings import settings_of
    from fenko.integrations.machine.ui.picture import draw

    desk = load_desk(DEMO)
    settings = settings_of("rail", desk.sources.data["machine"]["rail"])
    rehearsal = Rehearsal(settings, desk.sources.data)
    for effects in rehearse(desk.plan, read_take(DEMO / "takes/evening.jsonl", desk.plan.surfaces).changes):
        rehearsal.take(effects)
    rehearsal.finish()
    title = "The evening on the rail: jogged with the ring, the crane stepped with the dial, and back"
    draw(OUT.parent / "machine.png", title, rehearsal.machine.trace, settings.axes)
    print(OUT.parent / "machine.png")


def main() -> None:
    """Takes the pictures that are named, or all."""
    OUT.mkdir(parents=True, exist_ok=True)
    for name in [name for name in sys.argv[1:] or DRAWN if name in DRAWN]:
        with tempfile.TemporaryDirectory() as place:
            _prepare(Path(place))
            for number, command in enumerate(DRAWN[name]):
                subprocess.run(
                    [BIN / "fenko", *command, f"{number}.png"], cwd=place, check=True, stdout=subprocess.DEVNULL
                )
            made = sorted(Path(place).glob("[0-9]*.png"))
            made = [one for one in made if one.name != "0-2.png"]  # the same with a layer
            beside = (
                ["-tile", "2x", "-geometry", "624x441+8+8", "-background", "#c8c8c8"]
                if len(made) > 1
                else ["-geometry", "+0+0"]
            )
            made_of = OUT.parent / f"{name}.png"
            subprocess.run(["montage", *made, *beside, made_of], check=True)
        print(made_of)
    for name, made_by in (("page", _page), ("rail", _rail), ("one-pad", _one_pad)):
        if not sys.argv[1:] or name in sys.argv[1:]:
            made_by()
    for name in [name for name in sys.argv[1:] or SHOTS if name in SHOTS]:
        command, seconds, columns, lines = SHOTS[name]
        with tempfile.TemporaryDirectory() as place, screen() as one:
            folder = Path(place)
            _prepare(folder)
            shown = command
            if name in IN_LAB:
                (folder / "shown.txt").write_text(_shown_in_lab(name))
                shown = "cat shown.txt"
            environment = [f"PATH={BIN}:{os.environ['PATH']}", f"HOME={folder}", f"XDG_RUNTIME_DIR={folder}"]
            if name in ("windows", "new", "legend"):
                one.terminal("Hushdesk", "Wings, close", folder / "a")
                one.raise_window(one.terminal("Snipwell", "Reel 2 – the moth lands", folder / "b"))
            if name == "legend":
                one.spawn("env", *environment, "fenko", "run", "--desk", str(folder / "bench"))
                time.sleep(seconds)
                one.spawn("env", *environment, "fenko", "switch", "frames")
                one.spawn("env", *environment, "fenko", "legend", "--window", "pad", "mouse")
            if name == "machine":
                axes = ("--axis", "x=0:300,3600,250", "--axis", "z=0:120,1200,150")
                one.spawn("env", *environment, "fenko", "machine", "simulate", "--homed", "--port", "7700", *axes)
                desk = folder / "bench/desk.toml"
                desk.write_text(desk.read_text().replace("rail.example:7700", "127.0.0.1:7700"))
                one.spawn("env", *environment, "fenko", "trust", "--yes", "--desk", str(folder / "bench"))
                time.sleep(2)
                take = str(folder / "rail.jsonl")
                one.spawn(
                    "env", *environment, "fenko", "run", "--desk", str(folder / "bench"), "--play", take, "--play-focus"
                )
                time.sleep(4)
            script = folder / "script"
            parts = []
            for typed in command.split("; fenko "):
                typed = typed if typed.startswith("fenko ") else f"fenko {typed}"
                parts.append(f"printf '\\033[1m$ %s\\033[0m\\n' {typed!r}\n{typed if shown == command else shown}\n")
            script.write_text("echo\n".join(parts) + "sleep 60\n")
            one.spawn(
                "env", *environment, "sh", "-c",
                f"cd {folder} && exec xterm -class Terminal -geometry {columns}x{lines}+0+0 -fa 'DejaVu Sans Mono' -fs {8 if columns > 150 else 9} "
                f"-bg '#101418' -fg '#e8e6e3' -b 8 -u8 -e sh script",
            )  # fmt: skip
            time.sleep(seconds + 2)
            window = one.ask("xdotool", "search", "--class", "^Terminal$").stdout.split()[-1]
            if name in ("windows", "legend"):
                window = "root"
            subprocess.run(["import", "-window", window, str(OUT / f"{name}.png")], env=one.environment, check=True)
        print(OUT / f"{name}.png")


main()
