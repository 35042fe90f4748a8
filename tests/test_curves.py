"""Curves whose figures are known by how they are made: what a hold, a drift, a spike, a sweep, a
crossing and a shaper are read as.
"""

import json
import re
from dataclasses import replace

import numpy as np
import pytest

from omphalon.cli import omphalon as program
from omphalon.physics import lead, sweep
from omphalon.physics.aims import AIMS
from omphalon.physics.arrival import Arrival, look
from omphalon.physics.linear import sensitivity, ultimate_of
from omphalon.physics.loop import Loop
from omphalon.physics.resonance import Mode
from omphalon.physics.shaping import Limits, at_setting, candidates, pick
from omphalon.physics.thermal import ThermalModel
from omphalon.recordings.recording import TemperatureLog
from omphalon.standin.frame import Sensor, Sweep, Swing, as_csv, sensed, sweep_log
from omphalon.standin.oscillation import Test, oscillation_log
from omphalon.standin.samples import FULMAR_HOTEND
from omphalon.studies.heater.check import ROWS, Seen, check_heater
from omphalon.studies.heater.doubts import logs_disagree
from omphalon.studies.heater.excerpt import excerpt
from omphalon.studies.heater.fit import fit_without_spikes
from omphalon.studies.heater.question import CheckQuestion, HeaterQuestion

TARGET = 200.0


def hold(off, every_s=5.0, before=20):
    """A straight heat-up, then these deviations from the target; times and readings."""
    rise = TARGET - 80.0 + 80.0 * np.arange(before) / before
    y = np.concatenate([np.full(3, 100.0), rise, TARGET + np.asarray(off)])
    return np.arange(len(y)) * every_s, y


def test_a_hold_settles_with_its_last_reading_outside():
    # three degrees above for 20 readings, then on the target: the last of the twenty is outside
    t, y = hold([3.0] * 20 + [0.0] * 60)
    seen = look(t, y, None, TARGET, 60.0, fan_s=float(t[-3]))
    assert seen.settle_s + seen.start_s == pytest.approx((3 + 20 + 20 - 1) * 5.0, abs=0.01)
    assert seen.overshoot_c == pytest.approx(3.0, abs=0.01)
    assert seen.bias_c == pytest.approx(0.0, abs=0.1)


@pytest.mark.parametrize("offset", [-0.8, 0.0, 0.6])
def test_what_a_hold_is_off_by_is_its_bias(offset):
    t, y = hold([offset] * 80)
    assert look(t, y, None, TARGET, 60.0).bias_c == pytest.approx(offset, abs=0.05)


@pytest.mark.parametrize(
    "power, busy, mean, chatter",
    [
        (np.tile([0.0, 1.0], 60), 100.0, 50.0, 100.0),
        (np.tile([0.4, 0.6], 60), 0.0, 50.0, 20.0),
        (np.tile([0.0, 0.5, 1.0, 0.5], 30), 50.0, 50.0, 50.0),
    ],
    ids=["on and off", "between", "half of both"],
)
def test_power_is_told_in_percent_of_full(power, busy, mean, chatter):
    t, y = hold([0.0] * 120)
    power = np.concatenate([np.ones(len(t) - len(power)), power])
    arrival = look(t, y, power, TARGET, 60.0)
    rows = {row.name: row.value(seen_of(arrival)) for row in ROWS}
    assert rows["busy"] == pytest.approx(busy, abs=10)
    assert rows["busy"] <= 100
    assert rows["mean_power"] == pytest.approx(mean, abs=5)
    assert rows["chatter"] == pytest.approx(chatter, abs=8)


def seen_of(arrival: Arrival) -> Seen:
    return Seen(arrival=arrival, allowed=None, unit_s=60.0, jumps=0)


def log_of(made):
    columns = (made.time_s, made.temperature_c, made.power, made.target_c)
    t, y, p, goal = (np.array(c) for c in columns)
    return TemperatureLog(
        source="log",
        time_s=t,
        temperature_c=y,
        power=p,
        target_c=goal,
        power_scale=1.0,
        read_as="table",
    )


def test_a_drift_is_told_by_the_mean_power_before_and_after():
    test = Test(target_c=235.0, cycles=14, report_s=0.5, fan_on_at_cycle=7, seed=4)
    log = log_of(oscillation_log(FULMAR_HOTEND, test))
    facts = next(o.facts for o in excerpt(log, 235.0).remarks if o.code == "drift")
    ons = np.flatnonzero(np.diff(log.power) > 0.3)
    # mean power over whole cycles, summed report by report
    share = [log.power[a + 1 : b + 1].mean() for a, b in zip(ons, ons[1:], strict=False)]
    assert facts["first"] == pytest.approx(np.median(share[2:5]), rel=0.08)
    assert facts["last"] == pytest.approx(np.median(share[-4:]), rel=0.08)


@pytest.mark.parametrize(
    "height, places", [(2.0, [140, 155, 171, 190]), (3.5, [140, 155, 171, 190]), (3.5, [155])]
)
def test_small_spikes_are_counted(height, places):
    made = oscillation_log(FULMAR_HOTEND, Test(target_c=235.0, cycles=9, fan_on=True, seed=21))
    y = np.array(made.temperature_c)
    y[places] += height * np.array([1, -1, 1, -1])[: len(places)]
    test = excerpt(log_of(replace(made, temperature_c=list(y))), 235.0)
    _, odd = fit_without_spikes([test])
    assert [o.facts["count"] for o in odd] == [len(places)]


@pytest.mark.parametrize(
    "slower, wider, named",
    [(1.0, 1.0, []), (1.03, 1.0, []), (1.25, 1.0, ["period"]), (1.0, 1.3, ["gain"])],
)
def test_two_logs_of_one_heater_are_held_against_each_other(slower, wider, named):
    made = oscillation_log(FULMAR_HOTEND, Test(target_c=235.0, cycles=9, fan_on=True, seed=21))
    time_s = list(slower * np.array(made.time_s))
    temperature_c = list(235.0 + wider * (np.array(made.temperature_c) - 235.0))
    other = replace(made, time_s=time_s, temperature_c=temperature_c)
    odd = logs_disagree([excerpt(log_of(one), 235.0) for one in (made, other)])
    assert [o.facts["name"] for o in odd] == named


def test_help_tells_the_cooling_that_is_used():
    help_text = next(
        p.help
        for p in program.get_command(None, "heater").commands["fit"].params
        if p.name == "fan_cooling"
    )
    told = {h: float(v) for v, h in re.findall(r"([\d.]+) (hotend|bed)", help_text)}
    assert told == {h: HeaterQuestion().cooling(h) for h in told}


def test_aims_weigh_as_their_words_say():
    quick, even, gentle = (AIMS[name] for name in ("quick", "even", "gentle"))
    faults = ("overshoot", "dip", "hold", "fan", "ripple", "arrival")
    assert {getattr(even, f) for f in faults} == {1.0}  # "arrival, overshoot, dip, ripple alike"
    assert quick.arrival > even.arrival > gentle.arrival
    assert gentle.overshoot > even.overshoot > quick.overshoot
    assert quick.fan > even.fan > gentle.fan and gentle.ripple > even.ripple > quick.ripple
    assert gentle.sensitivity < even.sensitivity < quick.sensitivity


MODES = [Mode(40.0, 0.05, 0.7), Mode(64.0, 0.05, 0.3)]


@pytest.mark.parametrize(
    "ringing, rounding, told",
    [(1.0, 0.01, "rounding"), (1.0, 0.4, "rounding"), (0.001, 1.0, "ringing")],
)
def test_what_limits_the_acceleration_is_named(ringing, rounding, told):
    limits = Limits(ringing_mm=ringing, rounding_mm=rounding)
    one = at_setting("mzv", 40.0, 0.05, MODES, limits)
    assert one.limited_by == told
    reached = {"ringing": one.ringing_mm / ringing, "rounding": one.rounding_mm / rounding}
    assert max(reached.values()) == pytest.approx(1.0, abs=1e-6)
    assert reached[told] == max(reached.values())
    # limits at which both are met at once
    both = Limits(ringing_mm=one.ringing_mm * 1.002, rounding_mm=one.rounding_mm * 1.001)
    assert at_setting("mzv", 40.0, 0.05, MODES, both).limited_by == "both"


def test_a_limit_just_passed_by_the_other_is_told_apart():
    one = at_setting("mzv", 40.0, 0.05, MODES, Limits(ringing_mm=1.0, rounding_mm=0.01))
    # the ringing limit is reached 1.5 times as soon as the rounding limit
    limits = Limits(ringing_mm=one.ringing_mm / 1.5, rounding_mm=one.rounding_mm)
    assert at_setting("mzv", 40.0, 0.05, MODES, limits).limited_by == "ringing"


def test_a_sweep_that_gets_faster_shows_the_same_modes():
    """Frequency over time by a straight line and by an exponential; the frame is the same."""
    swings = (Swing(35.0, 0.06, 0.6), Swing(75.0, 0.05, 0.4))
    rate, low, high, span = 1600.0, 8.0, 120.0, 100.0
    at = np.arange(int(span * rate)) / rate
    found = {}
    for name, frequency in (
        ("straight", low + (high - low) * at / span),
        ("exponential", low * (high / low) ** (at / span)),
    ):
        drive = np.concatenate(
            [np.zeros(3200), 3000 * np.sin(2 * np.pi * np.cumsum(frequency) / rate), np.zeros(3200)]
        )
        log = sensed(drive, swings, Sensor(rate_hz=rate, noise_mm_s2=30.0, seed=5))
        even = sweep.evenly(log.time_s, log.acceleration[:, 0], rate)
        seen = sweep.spectra(even, 0.0)
        response = sweep.excited(seen, sweep.follow(seen))
        level = np.interp([20.0, 35.0, 75.0], response.frequency_hz, response.power)
        found[name] = np.log(level / level[0])
    assert found["exponential"] == pytest.approx(found["straight"], abs=0.4)


def test_the_best_setting_leaves_no_better_one(run, sample):
    """What a fit picks is judged by the check on the same log; a poor one is named with a better."""
    limits = Limits(ringing_mm=0.05, rounding_mm=0.05)
    best = pick(candidates(MODES, limits, ["zv", "mzv", "ei"]))
    assert all(
        best.acceleration_mm_s2 >= one.acceleration_mm_s2 * 0.85
        for one in candidates(MODES, limits, ["zv", "mzv", "ei"])
    )
    words = ("shaper", "check", sample("sweep-x.csv.gz"), "--axis", "x", "--acceleration", 500)
    good = run(*words, "--shaper", "zv", "--frequency", 47.6, "--damping", 0.052)
    poor = run(*words, "--shaper", "three-hump", "--frequency", 30, "--damping", 0.05)
    told = [" ".join(done.stdout.split()) for done in (good, poor)]
    assert "would allow" not in told[0] and "would allow" in told[1]


@pytest.mark.parametrize("count, most", [(7, 0.02), (12, 0.02)])
def test_readings_that_only_scatter_are_seldom_left_out(count, most):
    random, kept, readings = np.random.default_rng(8), 0, 0
    values = np.linspace(0.0, 0.1, count)
    for _ in range(300):
        bulge = 4.0 * (0.05 - values) + random.normal(0, 0.02, count)
        try:
            best = lead.crossing(values, bulge, 0.001)
        except lead.NoAnswer:
            continue
        kept, readings = kept + int(best.keep.sum()), readings + count
    assert 1 - kept / readings < most


def test_a_check_is_drawn_from_where_the_loop_takes_over():
    made = straight_hold(begins_s=12.0)
    question = CheckQuestion(target_c=TARGET, heater="hotend")
    check = check_heater([made], question)
    # 10 °C below the target, at 2 °C a second from 23 °C
    taken_over_s = 12.0 + (TARGET - 10.0 - 23.0) / 2.0
    assert check.since_takeover_s[0][0] == pytest.approx(-taken_over_s, abs=1.0)


def straight_hold(begins_s):
    """Cold for so long, a straight heat-up, then still at the target."""
    t = np.arange(0.0, 300.0)
    y = np.clip(23.0 + 2.0 * np.maximum(t - begins_s, 0.0), 23.0, TARGET)
    power = np.where(t < begins_s, 0.0, np.where(y < TARGET, 1.0, 0.4))
    goal = np.where(t < begins_s, 0.0, TARGET)
    return TemperatureLog(
        source="log",
        time_s=t,
        temperature_c=y,
        power=power,
        target_c=goal,
        power_scale=1.0,
        read_as="table",
    )


@pytest.mark.parametrize("lost, answered", [(0.03, True), (0.3, False)])
def test_a_log_that_lost_too_much_is_refused_with_its_share(lost, answered, run, tmp_path):
    sweep_ = Sweep(low_hz=5, high_hz=90, rate_hz_s=3.0)
    log = sweep_log((Swing(42.0, 0.05, 1.0),), sweep_, Sensor(rate_hz=800.0, lost=lost, seed=4))
    (tmp_path / "log.csv").write_text("\n".join(as_csv(log)) + "\n", encoding="utf-8")
    document = json.loads(run("shaper", "fit", "--x", "log.csv", "--json").stdout)
    assert (document["verdict"] != "retest") == answered, document["because"]
    if not answered:
        told = int(re.search(r"(\d+) ?%", document["because"])[1])
        assert told == pytest.approx(100 * lost, abs=3)


def test_sensitivity_and_ultimate_gain_are_those_of_the_written_out_loop():
    """One mass, one lag, one dead time, and the controller's filtered derivative, by hand."""
    model = ThermalModel(
        gain_c=400.0,
        time_constant_s=120.0,
        lag_s=3.0,
        dead_time_s=1.5,
        ambient_c=23.0,
        loss_growth=0.0,
        reference_c=177.0,
    )
    loop, gains = Loop(target_c=200.0), (0.12, 0.008, 0.3)

    def plant(w):
        s = 1j * w
        return 400 * np.exp(-(1.5 + 0.1) * s) / ((1 + 120 * s) * (1 + 3 * s))

    w = np.geomspace(1e-3, 14, 20_000)
    control = gains[0] + gains[1] / (1j * w) + gains[2] * 1j * w / (1 + 1.0 * 1j * w)
    peak = np.max(1 / np.abs(1 + plant(w) * control))
    assert sensitivity(model, np.array([gains]), loop)[0] == pytest.approx(peak, rel=0.01)
    gain, period = ultimate_of(model, loop)
    at = plant(np.array([2 * np.pi / period]))[0]
    assert gain * at == pytest.approx(-1.0, abs=0.01)
