"""What is measured of made-up devices against what is known of them, and `fenko tune` on files."""

from __future__ import annotations

import json
from math import log, sqrt
from pathlib import Path

import numpy as np
import pytest

from fenko.core.plan import Surface, Timing
from fenko.desk.load import load_desk
from fenko.devices.recorder import take_line
from fenko.tuning.measures import bounce_of, rest_of
from fenko.tuning.proposals import Measured, measure
from fenko.tuning.tracks import tracks_of
from support import DEMO, FENKO, MakeDesk, Run, tries
from worn import RATE, Hand, WornStick, button_take, rest_positions, stick_take, trigger_take

PAD = Surface("pad", "gamepad")
SEEDS = tries(200)


def _measured(changes: list, surface: Surface = PAD, false_moves: float = 1.0) -> tuple[Measured, dict[str, str]]:
    found = measure(surface, Timing(), tracks_of(surface, changes), false_moves)
    return found, {one.setting: one.value for one in found.proposals}


def _numbers(value: str) -> np.ndarray:
    return np.array(json.loads(value), dtype=float)


@pytest.mark.hypothesis  # drawn at random, too: more often where there is time
def test_where_a_worn_stick_rests_and_how_far_it_goes_over_many_seeds() -> None:
    """The centre within three standard errors, the range within 1.5 % of the way, for all but one in a hundred."""
    off, ends, zones = [], [], []
    for seed in range(SEEDS):
        random = np.random.default_rng(seed)
        stick = WornStick(
            centre=tuple(random.uniform(-0.06, 0.06, 2)), noise=random.uniform(0.001, 0.01), spread=random.uniform(0.005, 0.02),
            ends=tuple(random.uniform(0.85, 1.0, 4)),
        )  # fmt: skip
        found, values = _measured(stick_take(stick, seed))
        rest = found.rests["stick-left"]
        off.append(np.abs(np.array(rest.centre) - stick.centre).max() / (stick.spread / sqrt(rest.rests)))
        if "control.stick-left.range" in values:
            (left, right), (up, down) = _numbers(values["control.stick-left.range"])
            ends.append(np.abs(np.array([-left, right, -up, down]) - stick.ends).max())
        zones.append(
            _stray(stick, rest, float(values.get("control.stick-left.dead-zone", 0.1)) * min(stick.ends), seed)
        )
    assert np.quantile(off, 0.99) < 3.5  # the worse of two axes
    assert len(ends) > SEEDS * 0.95
    assert np.quantile(ends, 0.99) < 0.015 + 2 * 0.01
    strays, wide = np.array(zones).T
    # One false move an hour was allowed; the estimate has few rests to go by.
    assert np.median(strays) <= 1
    assert np.quantile(strays, 0.9) < 30
    assert np.quantile(wide, 0.95) < 2.2


def _stray(stick: WornStick, rest: object, zone: float, seed: int) -> tuple[float, float]:
    """How many false moves an hour a dead zone leaves, and how much wider it is than it had to be."""
    sigma = np.hypot(stick.noise, stick.spread)
    centre = rest.centre  # type: ignore[attr-defined]
    places = rest_positions(stick, seed + 10_000, 2000, 10) - centre
    share = float((np.hypot(*places.T) > zone).mean())
    needed = sigma * sqrt(2 * log(RATE * 2 * 3600))
    return share * RATE * 3600, zone / needed


def test_drift_widens_the_dead_zone() -> None:
    still = [
        rest_of(tracks_of(PAD, stick_take(WornStick(spread=0.003), seed)).positions["stick-left"]) for seed in range(20)
    ]
    drifts = [
        rest_of(tracks_of(PAD, stick_take(WornStick(spread=0.003, drift=0.2), seed)).positions["stick-left"])
        for seed in range(20)
    ]
    assert all(
        other is not None and one is not None and other.spread > 1.5 * one.spread
        for one, other in zip(still, drifts, strict=True)
    )


@pytest.mark.hypothesis
def test_a_trigger_that_never_reaches_its_end_over_many_seeds() -> None:
    for seed in range(SEEDS):
        random = np.random.default_rng(seed)
        rest, full = random.uniform(0.0, 0.08), random.uniform(0.8, 0.97)
        _, values = _measured(trigger_take(rest, full, random.uniform(0.0, 0.004), seed))
        low, high = _numbers(values["control.trigger-right.range"])
        assert abs(low - rest) < 0.006
        assert full - 0.025 < high < full + 0.01
        assert float(values.get("control.trigger-right.dead-zone", 0)) < 0.06


@pytest.mark.parametrize("longest", [0.0, 0.002, 0.006, 0.012])
@pytest.mark.hypothesis
def test_the_debounce_covers_every_bounce_and_little_more_over_many_seeds(longest: float) -> None:
    for seed in range(SEEDS // 4):
        changes = button_take(Hand(), longest, 0.4, seed)
        _, values = _measured(changes)
        if not longest:
            assert "debounce" not in values
            continue
        debounce = float(values["debounce"].strip('"').removesuffix("ms")) / 1000
        seen = [time for presses in tracks_of(PAD, changes).buttons.values() for time in bounce_of(presses).times]
        assert max(seen) < debounce <= longest * 1.2 + 0.002


def test_the_times_of_a_hand_over_many_seeds() -> None:
    """The hold that is proposed misjudges few of the same hand's next presses."""
    wrong, doubles, chords = [], [], []
    for seed in range(SEEDS):
        random = np.random.default_rng(seed)
        hand = Hand(tap=random.uniform(0.06, 0.12), hold=random.uniform(0.45, 0.9))
        _, values = _measured(button_take(hand, 0.003, 0.2, seed))
        hold = _seconds(values.get("timing.hold", '"220ms"'))
        taps, holds = (middle * np.exp(random.normal(0, hand.varies, 5000)) for middle in (hand.tap, hand.hold))
        wrong.append(((taps >= hold).mean() + (holds < hold).mean()) / 2)
        doubles.append(_seconds(values.get("timing.double", '"250ms"')) / (hand.again * np.exp(2.6 * hand.varies)))
        chords.append(_seconds(values.get("timing.chord", '"40ms"')))
    assert np.median(wrong) < 0.005
    assert np.quantile(wrong, 0.95) < 0.03
    assert 0.9 < np.median(doubles) < 1.4
    assert 0.015 < np.median(chords) < 0.045


def _seconds(text: str) -> float:
    text = text.strip('"')
    return float(text.removesuffix("ms")) / 1000 if text.endswith("ms") else float(text.removesuffix("s"))


@pytest.mark.parametrize(
    ("changes", "what"),
    [
        ([(1.0, "pad.stick-left.x", 0.9), (1.1, "pad.stick-left.x", 0.8)], "was never left alone"),
        ([(1.0, "pad.stick-left.x", 0.01), (9.0, "pad.stick-left.x", 0.0)], "came to rest only once"),
        ([(1.0, "pad.stick-left.x", 0.01), (9.0, "pad.stick-left.x", 0.0)], "was not pushed all the way"),
        ([(1.0, "pad.south", 1), (1.1, "pad.south", 0)], "only 2 changes of buttons"),
        ([(1.0, "pad.south", 1), (1.1, "pad.south", 0)], "cannot be told apart yet"),
    ],
)
def test_what_cannot_be_told_is_said(changes: list, what: str) -> None:
    found, _ = _measured(changes)
    assert any(what in f"{one.what} {one.why}" for one in found.skipped), found.skipped


def test_a_sound_device_needs_nothing() -> None:
    surface = PAD
    changes = stick_take(WornStick(), 1)
    _, values = _measured(changes)
    assert values
    from msgspec import structs

    from fenko.desk.numbers import read_conditioning
    from fenko.desk.sources import Sources

    table = {"stick-left": {name.rpartition(".")[2]: json.loads(value) for name, value in values.items()}}
    tuned = structs.replace(surface, conditioning=read_conditioning(Sources(Path("/nowhere")), surface, table))
    assert _measured(changes, tuned)[1] == {}


# --- On files ---


def _take(path: Path) -> Path:
    changes = stick_take(WornStick(), 3)
    last = changes[-1][0]
    changes += [(t + last, address, value) for t, address, value in button_take(Hand(), 0.006, 0.3, 3)]
    lines = [{"take": 2, "name": "worn", "surfaces": {"pad": "gamepad"}}, *map(take_line, changes)]
    path.write_text("\n".join(map(json.dumps, lines)) + "\n")
    return path


DESK = """# The pad of the bench.
[surface.pad]
kind = "gamepad" # by hand

[profile.base.on.pad]
stick-left = "pointer 900"
"""


def test_what_is_proposed_is_written_with_its_reason_and_nothing_else_changes(
    make_desk: MakeDesk, fenko: Run, tmp_path: Path
) -> None:
    desk = make_desk(DESK)
    take = str(_take(tmp_path / "take.jsonl"))
    shown = fenko("tune", "pad", "--take", take, "--desk", str(desk))
    assert shown.returncode == 0
    assert (desk / "desk.toml").read_text() == DESK
    told = json.loads(fenko("tune", "pad", "--take", take, "--desk", str(desk), "--format", "json").stdout)
    settings = {one["setting"]: one["value"] for one in told["proposals"]}
    assert settings.keys() >= {
        "surface.pad.control.stick-left.centre",
        "surface.pad.control.stick-left.dead-zone",
        "surface.pad.debounce",
    }
    done = fenko("tune", "pad", "--take", take, "--desk", str(desk), "--write")
    assert done.returncode == 0, done.stderr
    text = (desk / "desk.toml").read_text()
    left = [line for line in text.splitlines() if " # measured " not in line]
    assert [line for line in left if line and "control" not in line and "[surface.pad.timing]" not in line] == [
        line for line in DESK.splitlines() if line
    ]
    assert all(f"{name.rpartition('.')[2]} = {value} # measured 20" in text for name, value in settings.items())
    plan = load_desk(desk).plan
    assert plan.surfaces["pad"].conditioning["stick-left"].centre == pytest.approx((0.02, -0.03), abs=0.02)
    again = fenko("tune", "pad", "--take", take, "--desk", str(desk), "--false-moves", "0.001", "--write")
    assert again.returncode == 0, again.stderr
    wider = [line for line in (desk / "desk.toml").read_text().splitlines() if line.startswith("dead-zone")]
    assert len(wider) == 1
    assert wider[0] != next(line for line in text.splitlines() if line.startswith("dead-zone"))
    assert wider[0].count("# measured") == 1
    assert fenko("tune", "pad", "--take", take, "--desk", str(desk), "--write").returncode == 0
    again = fenko("tune", "pad", "--take", take, "--desk", str(desk))
    assert "All that could be measured of pad is as it should be" in again.stdout


def test_the_picture_is_drawn_for_paper_and_screen(make_desk: MakeDesk, fenko: Run, tmp_path: Path) -> None:
    take, desk = str(_take(tmp_path / "take.jsonl")), str(make_desk(DESK))
    for form, begins in (("png", b"\x89PNG"), ("svg", b"<?xml"), ("pdf", b"%PDF")):
        out = tmp_path / f"tune.{form}"
        assert fenko("tune", "pad", "--take", take, "--desk", desk, "--out", str(out)).returncode == 0
        assert out.read_bytes().startswith(begins)


@pytest.mark.parametrize(
    ("arguments", "status", "message"),
    [
        (("keys",), 2, "the desk has no surface `keys`"),
        (("pad", "--take", "none.jsonl"), 2, "none.jsonl"),
        (("pad", "--out", "picture.gif"), 2, "should end in"),
        (("pad", "--false-moves", "0"), 2, "false-moves"),
        (("pad",), 1, "is not here"),
    ],
)
def test_what_cannot_be_measured(
    make_desk: MakeDesk, fenko: Run, arguments: tuple[str, ...], status: int, message: str
) -> None:
    done = fenko("tune", *arguments, "--desk", str(make_desk(DESK)))
    assert done.returncode == status
    assert message in done.stderr


def test_the_demo_has_a_worn_pad_to_measure(fenko: Run) -> None:
    done = fenko("tune", "pad", "--take", str(DEMO / "takes/worn.jsonl"), "--desk", str(DEMO))
    assert done.returncode == 0, done.stderr
    for setting in (
        "control.stick-left.centre",
        "control.stick-left.dead-zone",
        "control.trigger-right.range",
        "debounce",
        "timing.double",
    ):
        assert setting in done.stdout
    assert FENKO
