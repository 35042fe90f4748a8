"""The stand-in heater against closed forms: what the fits are graded by must itself be right."""

from dataclasses import replace

import numpy as np
import pytest

from omphalon.standin.heater import Lanes, SimulatedHeater, quantised
from omphalon.standin.loop import Hold, hold_log
from omphalon.standin.oscillation import Test, as_console, as_csv, oscillation_log
from scored import run_loop

LOOPED = SimulatedHeater(
    power_w=45.0,
    heated_j_c=3.0,
    second_j_c=13.0,
    coupling_w_c=1.6,
    loss_heated_w_c=0.005,
    loss_second_w_c=0.06,
    growth_per_c=0.001,
    sensor_place=0.95,
    sensor_lag_s=1.4,
    dead_time_s=0.9,
    ambient_c=20.0,
)  # under the reference loop
PLAIN = SimulatedHeater(
    power_w=40.0,
    heated_j_c=20.0,
    second_j_c=1e-3 * 20,
    coupling_w_c=0.2,
    loss_heated_w_c=0.1,
    loss_second_w_c=0.0,
    growth_per_c=0.0,
    sensor_place=0.0,
    sensor_lag_s=0.1,
    dead_time_s=1.0,
    ambient_c=20.0,
    noise_c=0.0,
    quantum_c=0.01,
)


def run_steps(heater, power, seconds, step_s=0.05):
    lanes = Lanes([heater], 1, step_s)
    trace = []
    for _ in range(round(seconds / step_s)):
        lanes.advance(power)
        trace.append((float(lanes.first[0, 0]), float(lanes.sensor[0, 0])))
    return lanes, np.array(trace)


def test_one_mass_follows_the_exponential():
    """20 °C + P/h (1 − e^(−t h/C)) after the dead time, with h = 0.1 W/°C, C = 20 J/°C."""
    _, trace = run_steps(PLAIN, 0.5, 300)
    t = 0.05 * np.arange(1, len(trace) + 1) - 1.0
    expected = 20 + 0.5 * 40 / 0.1 * (1 - np.exp(-np.maximum(t, 0) * 0.1 / 20.02))
    np.testing.assert_allclose(trace[:, 0], expected, atol=0.15)


@pytest.mark.parametrize("dead", [0.3, 0.73, 2.0])
def test_dead_time_is_kept(dead):
    _, trace = run_steps(replace(PLAIN, dead_time_s=dead, sensor_lag_s=1e-3), 1.0, 10)
    begin = 0.05 * np.argmax(trace[:, 0] > 20.0001)
    assert begin == pytest.approx(dead, abs=0.06)


@pytest.mark.slow
@pytest.mark.parametrize("growth, place", [(0.0, 0.0), (0.002, 0.0), (0.002, 1.0)])
def test_power_in_is_power_lost_at_the_end(growth, place):
    heater = SimulatedHeater(
        power_w=40.0,
        heated_j_c=3.0,
        second_j_c=12.0,
        coupling_w_c=1.5,
        loss_heated_w_c=0.02,
        loss_second_w_c=0.08,
        growth_per_c=growth,
        sensor_place=place,
        sensor_lag_s=1.0,
        dead_time_s=0.5,
        ambient_c=20.0,
    )
    lanes, _ = run_steps(heater, 0.4, 6000, 0.1)
    over = [float(x[0, 0]) - 20.0 for x in (lanes.first, lanes.second)]
    lost = sum(h * o * (1 + growth * o) for h, o in zip((0.02, 0.08), over, strict=True))
    assert lost == pytest.approx(0.4 * 40.0, rel=1e-3)


def test_the_fan_adds_to_the_second_mass_losses():
    heater = SimulatedHeater(
        power_w=40.0,
        heated_j_c=3.0,
        second_j_c=12.0,
        coupling_w_c=1.5,
        loss_heated_w_c=0.0,
        loss_second_w_c=0.1,
        growth_per_c=0.0,
        sensor_place=1.0,
        sensor_lag_s=1.0,
        dead_time_s=0.5,
        ambient_c=20.0,
        fan_extra=0.5,
    )
    lanes = Lanes([heater], 1, 0.1)
    lanes.fan = True
    for _ in range(40000):
        lanes.advance(0.4)
    assert float(lanes.second[0, 0]) - 20.0 == pytest.approx(0.4 * 40.0 / (0.1 * 1.5), rel=1e-3)


@pytest.mark.parametrize(
    "value, step, shown", [(20.04, 0.05, 20.05), (20.02, 0.05, 20.0), (-3.13, 0.25, -3.25)]
)
def test_display_steps(value, step, shown):
    assert quantised(np.array(value), step) == pytest.approx(shown)


def test_other_days_scale_power_and_dead_time():
    other = PLAIN.other_day(1.3, 0.9)
    assert (other.dead_time_s, other.power_w) == pytest.approx((1.3, 36.0))


@pytest.mark.parametrize("limit", [1.0, 0.7])
def test_relay_switches_around_the_target_and_balances(limit):
    log = oscillation_log(
        replace(PLAIN, sensor_lag_s=2.0), Test(target_c=150.0, cycles=12, power_limit=limit)
    )
    t, y, power = (np.array(v) for v in (log.time_s, log.temperature_c, log.power))
    late = t > t[-1] - 60
    assert power.max() == pytest.approx(limit) and power.min() >= 0
    assert np.mean(y[late]) == pytest.approx(150.0, abs=1.5)
    on = power[late] > (power[late].max() + power[late].min()) / 2
    assert 0.3 < on.mean() < 0.7


def test_the_same_seed_gives_the_same_log():
    one, two, other = (
        oscillation_log(replace(PLAIN, noise_c=0.1), Test(target_c=150.0, seed=s))
        for s in (4, 4, 5)
    )
    assert one == two and one != other


def test_logs_say_the_same_in_both_forms():
    log = oscillation_log(PLAIN, Test(target_c=150.0, cycles=3))
    rows = [r for r in as_csv(log, "head") if r[0] != "#"][1:]
    reports = [r for r in as_console(log, bed=False) if " T:" in r]
    assert len(rows) == len(reports) == len(log.time_s)
    for row, report, c in zip(rows, reports, log.temperature_c, strict=True):
        assert row.split(",")[1] == f"{c:.2f}" and f" T:{c:.2f} /" in report


def test_hold_log_and_reference_loop_are_one_loop():
    """Two programs for the same loop: the logged hold and the lanes' run end alike."""
    heater = replace(LOOPED, noise_c=0.0, quantum_c=0.001)
    gains = (0.12, 0.008, 0.2)
    log = hold_log(
        heater, Hold(target_c=220.0, gains=gains, hold_s=90.0, fan_after_s=None, report_s=0.2)
    )
    run = run_loop([heater], np.array([gains]), 220.0, trace=True)
    held = np.array(log.temperature_c)[-50:]
    assert np.abs(held - 220.0).max() < 0.5
    assert np.array(log.temperature_c).max() - 220.0 == pytest.approx(
        float(run.overshoot_c[0, 0]), abs=0.1
    )


def test_windup_overshoots_more():
    sound, wound = (
        max(
            hold_log(
                LOOPED,
                Hold(
                    target_c=220.0, gains=(0.1, 0.008, 0.1), hold_s=90.0, fan_after_s=None, windup=w
                ),
            ).temperature_c
        )
        for w in (False, True)
    )
    assert wound > sound + 1.0


def test_better_gains_score_better_on_every_day():
    run = run_loop(
        [LOOPED.other_day(*d) for d in ((1, 1), (1.3, 0.9))],
        np.array([[0.12, 0.008, 0.2], [0.01, 0.0005, 0.0]]),
        220.0,
    )
    assert (run.score[:, 0] < run.score[:, 1]).all()
