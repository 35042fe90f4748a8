"""Two logs: what changed beyond chance, against the stand-in's own numbers."""

import json

import numpy as np
import pytest
from scipy import stats

from omphalon.physics.arrival import pieces
from omphalon.standin.frame import Sensor, Sweep, Swing, sweep_log
from omphalon.standin.frame import as_csv as motion_csv
from omphalon.standin.loop import Hold, hold_log
from omphalon.standin.oscillation import as_csv
from omphalon.standin.samples import FULMAR_HOTEND
from omphalon.studies.changes import Pair, held_against

GOOD, TAME = (0.14, 0.011, 0.23), (0.25, 0.02, 0.15)
SWEEP = Sweep(low_hz=6, high_hz=115, rate_hz_s=2.5, drive_mm_s2=2500.0)
SETTING = ["--axis", "x", "--shaper", "zv", "--frequency", "44", "--acceleration", "3000", "--json"]


def held(folder, name, gains, seed):
    log = as_csv(hold_log(FULMAR_HOTEND, Hold(target_c=220.0, gains=gains, seed=seed)))
    (folder / name).write_text("\n".join(log) + "\n")
    return name


def shaken(folder, name, swings, seed):
    log = motion_csv(sweep_log(swings, SWEEP, Sensor(rate_hz=1000.0, seed=seed)), "g")
    (folder / name).write_text("\n".join(log) + "\n")
    return name


def changes(run, *words):
    return json.loads(run(*words).stdout)["evidence"]["changes"]


def differing(found):
    return {name for name, one in found.items() if one["beyond_chance"]}


@pytest.mark.slow
@pytest.mark.parametrize("first, second", [(1, 2), (3, 4), (5, 6)])
def test_two_holds_of_one_loop_are_alike(first, second, tmp_path, run):
    logs = [held(tmp_path, f"{s}.csv", GOOD, s) for s in (first, second)]
    found = changes(run, "heater", "check", *logs, "--target", "220", "--json")
    assert {"arrival_s", "overshoot_c", "ripple_c", "bias_c", "dip_c"} <= set(found)
    assert differing(found) == set()


@pytest.mark.slow
def test_another_loop_is_told_with_its_interval(tmp_path, run):
    logs = held(tmp_path, "a.csv", GOOD, 1), held(tmp_path, "b.csv", TAME, 2)
    found = changes(run, "heater", "check", *logs, "--target", "220", "--json")
    assert {"overshoot_c", "ripple_c"} <= differing(found)
    # over 24 pairs of seeds the two loops overshoot by 0.31 and 2.62 °C
    over = found["overshoot_c"]
    assert abs(over["change"] - 2.31) <= over["half_width"] + 0.05
    text = run("heater", "check", *logs, "--target", "220").stdout
    row = next(line for line in text.splitlines() if line.strip().startswith("overshoot"))
    assert "±" in row and "+2." in row
    assert "change" in text.split("arrival")[0]


@pytest.mark.parametrize("true_hz", [44.0, 41.0, 47.5])
def test_a_mode_that_moved_is_told_with_its_interval(true_hz, tmp_path, run):
    logs = [
        shaken(tmp_path, "a.csv", (Swing(44.0, 0.06, 1.0),), 3),
        shaken(tmp_path, "b.csv", (Swing(true_hz, 0.06, 1.0),), 4),
    ]
    found = changes(run, "shaper", "check", *logs, *SETTING)
    moved = found["mode1_frequency_hz"]
    assert ("mode1_frequency_hz" in differing(found)) == (true_hz != 44.0)
    # the stand-in's frequencies are undamped ones, as ours are
    assert abs(moved["change"] - (true_hz - 44.0)) <= 1.5 * moved["half_width"]


def test_a_mode_that_is_gone_and_a_new_one_are_said(tmp_path, run):
    one = shaken(tmp_path, "a.csv", (Swing(36.0, 0.05, 0.7), Swing(71.0, 0.05, 0.3)), 5)
    two = shaken(tmp_path, "b.csv", (Swing(36.0, 0.05, 1.0),), 6)
    words = ("shaper", "check", *SETTING[:-1])
    there = " ".join(run(*words[:2], one, two, *words[2:]).stdout.split())
    back = " ".join(run(*words[:2], two, one, *words[2:]).stdout.split())
    assert "the mode at 71.0 Hz is gone" in there and "one at 71.0 Hz is new" in back


def test_changes_as_the_normal_law_has_them():
    pairs = [
        Pair(name="a", before=1.0, before_deviation=0.3, after=2.0, after_deviation=0.4),
        Pair(name="b", before=1.0, before_deviation=0.3, after=1.2, after_deviation=0.4),
    ]
    first, second = held_against(pairs)
    assert (first.change, second.change) == pytest.approx((1.0, 0.2))
    assert first.half_width == pytest.approx(0.5 * stats.norm.ppf(0.975))
    assert not first.differs  # 0.0455 and another: the smaller must be below 0.025


@pytest.mark.parametrize("rho", [0.0, 0.5, 0.8])
def test_independent_pieces_of_a_series_with_memory(rho):
    # an autoregressive series of first order has (1 - ρ)/(1 + ρ) as many pieces as members
    draw = np.random.default_rng(8)
    found = []
    for _ in range(40):
        noise = draw.normal(0, 1, 600)
        values = np.empty(600)
        values[0] = noise[0]
        for k in range(1, 600):
            values[k] = rho * values[k - 1] + noise[k]
        found.append(pieces(values - values.mean()))
    assert np.median(found) == pytest.approx(600 * (1 - rho) / (1 + rho), rel=0.25)
