"""The laws against closed forms, published values and the stand-in; nothing here is checked against itself."""

from dataclasses import replace

import numpy as np
import pytest

from omphalon.physics import choice, linear, loop, oscillation, record, thermal
from omphalon.physics.aims import AIMS
from omphalon.physics.loop import Gains, Loop
from omphalon.physics.thermal import ThermalModel
from omphalon.physics.thermal_fit import fit_thermal
from omphalon.standin.heater import SimulatedHeater
from omphalon.standin.oscillation import Test, oscillation_log
from scored import run_loop

PLAIN = ThermalModel(
    gain_c=400.0,
    time_constant_s=100.0,
    lag_s=1e-6,
    dead_time_s=4.0,
    ambient_c=20.0,
    loss_growth=0.0,
    reference_c=180.0,
)
TICKLESS = Loop(200.0, period_s=1e-9)


def test_first_order_filter_is_the_closed_form():
    t = np.arange(0, 50.1, 0.5)
    np.testing.assert_allclose(
        thermal.first_order(np.ones(100), 0.5, 7.0), 1 - np.exp(-t / 7), rtol=1e-10
    )


@pytest.mark.parametrize("delay", [0.0, 0.4, 1.7, 12.0])
def test_drive_averages_steps_exactly(delay):
    driven = record.PowerSteps(
        np.array([0.0, 3.3, 7.9, 20.0]),
        np.array([1.0, 0.0, 0.5]),
        np.array([0.0, 3.3, 3.3, 9.35]),
        np.zeros(2),
    )
    grid = np.arange(0, 15.0, 0.5)
    fine = np.arange(0, 14.5, 0.0005) + 0.00025 - delay
    level = np.where(fine < 0, 0, np.where(fine < 3.3, 1.0, np.where(fine < 7.9, 0.0, 0.5)))
    np.testing.assert_allclose(
        driven.mean(grid, delay), level.reshape(len(grid) - 1, -1).mean(axis=1), atol=2e-3
    )


def test_ultimate_gain_of_a_lag_with_dead_time():
    """Phase −180° of K e^(−θs)/(1+Ts): ωθ + atan ωT = π, solved by bisection here."""
    low, high = 1e-3, np.pi / 4
    for _ in range(80):
        w = (low + high) / 2
        low, high = (w, high) if w * 4 + np.arctan(w * 100) < np.pi else (low, w)
    gain, period = linear.ultimate_of(PLAIN, Loop(200.0, period_s=0.01))
    assert period == pytest.approx(2 * np.pi / w, rel=3e-3)
    assert gain == pytest.approx(np.hypot(1, w * 100) / 400, rel=3e-3)


def test_textbook_is_the_published_table():
    """Tyreus and Luyben 1992 for Ku = 2.2, Tu = 6.3: kp 1, Ti 13.86, Td 1."""
    gains = linear.textbook(2.2, 6.3)
    assert (gains.kp, gains.ki, gains.kd) == pytest.approx((1.0, 1 / 13.86, 1.0))


def test_sensitivity_of_an_integrating_loop():
    """P control of a pure lag: S = (1+Ts)/(1+Ts+kK) never passes 1; far below it dead time hardly matters."""
    calm = replace(PLAIN, dead_time_s=0.0)
    assert linear.sensitivity(calm, np.array([[0.01, 0.0, 0.0]]), TICKLESS)[0] == pytest.approx(
        1.0, abs=0.01
    )
    gain, _ = linear.ultimate_of(PLAIN, Loop(200.0, period_s=0.01))
    half = linear.sensitivity(
        PLAIN, np.array([[gain / 2, 0.0, 0.0], [gain * 0.99, 0, 0]]), Loop(200.0, period_s=0.01)
    )
    assert (
        2.0 <= half[0] < 2.4 and half[1] > 30
    )  # 1/(1 − ½) at the ultimate frequency, a little more beside it


def relay_curve(period, amplitude, duty, step):
    t = np.arange(0, 20 * period, step)
    return (
        t,
        200 - amplitude * np.sin(2 * np.pi * t / period),
        np.where((t % period) < duty * period, 0.8, 0.1),
    )


@pytest.mark.parametrize("duty", [0.5, 0.3, 0.7])
@pytest.mark.parametrize("step", [0.3, 1.0])
def test_describing_function(duty, step):
    """Gain = 2 (high − low) sin(πD)/(π a), the fundamental of a square wave over that of the temperature."""
    t, y, power = relay_curve(12.07, 3.0, duty, step)
    found = oscillation.cycles(t, y, power, oscillation.switching(t, y, power, 0.0))
    assert found.count >= 17
    ultimate, expected = oscillation.ultimate(found), 2 * 0.7 * np.sin(np.pi * duty) / np.pi / 3.0
    assert ultimate.period_s == pytest.approx(12.07, rel=0.01)
    assert ultimate.gain == pytest.approx(expected, rel=0.06 if step > 0.9 else 0.025)


@pytest.mark.parametrize("sigma", [0.02, 0.2])
def test_noise_level_is_found_under_a_curve(sigma):
    t, y, _ = relay_curve(15.0, 2.5, 0.5, 1.0)
    noisy = np.tile(y, 10) + np.random.default_rng(5).normal(0, sigma, 10 * len(y))
    assert oscillation.noise_level(np.arange(len(noisy)) * 1.0, noisy) == pytest.approx(
        sigma, rel=0.25
    )


SIMPLE = SimulatedHeater(
    power_w=45.0,
    heated_j_c=15.0,
    second_j_c=0.3,
    coupling_w_c=3.0,
    loss_heated_w_c=0.09,
    loss_second_w_c=0.0,
    growth_per_c=0.0,
    sensor_place=0.0,
    sensor_lag_s=2.0,
    dead_time_s=1.2,
    ambient_c=22.0,
    noise_c=0.03,
    quantum_c=0.01,
)


def recorded(heater, every, seed=0):
    log = oscillation_log(heater, Test(target_c=220.0, report_s=every, seed=seed, rest_s=0.0))
    t, y, power = (np.array(v) for v in (log.time_s, log.temperature_c, log.power))
    noise = oscillation.noise_level(t, y)
    switched = oscillation.switching(t, y, power, noise)
    return record.Record(
        time_s=t,
        reading_c=y,
        target_c=np.full(len(t), 220.0),
        driven=record.drive(t, power, switched),
        near_c=4.0,
        noise_c=noise,
        quantum_c=heater.quantum_c,
        delay_s=3.0,
        skip=np.zeros(len(t), bool),
    )


def fitted(heater, every, seed=0):
    return fit_thermal(recorded(heater, every, seed))


@pytest.mark.parametrize("every", [0.3, 1.0, 2.0])
def test_model_finds_a_heater_it_can_describe(every):
    """One mass, a lag and a dead time: power over heat capacity, lag and dead time come back at any report interval."""
    fit = fitted(SIMPLE, every)
    model = fit.model
    slope = model.gain_c * (
        model.shares[0] / model.time_constant_s + model.shares[1] / max(model.second_s, 1.0)
    )
    assert slope == pytest.approx(45.0 / 15.3, rel=0.06)
    # half a control period passes between a crossing and the switching, on top of the heater's own dead time
    assert model.dead_time_s + model.lag_s == pytest.approx(1.2 + 2.0, abs=0.35)
    assert fit.rms_c < 0.06


def test_reference_loop_agrees_with_the_stand_in():
    """The fitted model under gains does what the true heater does under them, run by other code."""
    model = fitted(SIMPLE, 0.3).model
    gains = Gains(0.12, 0.006, 0.2)
    ours = loop.run_loop([model], gains.row(), Loop(220.0, noise_c=0.03, fan_extra=0.4), step_s=0.2)
    true = run_loop([SIMPLE], gains.row(), 220.0)
    assert ours.arrival_s[0, 0] == pytest.approx(true.arrival_s[0, 0], abs=3.0)
    assert ours.overshoot_c[0, 0] == pytest.approx(true.overshoot_c[0, 0], abs=0.15)
    assert ours.hold_error_c[0, 0] == pytest.approx(true.hold_error_c[0, 0], rel=0.1)


def test_aims_differ():
    """Gentle overshoots less than even, quick recovers faster."""
    rig = Loop(220.0, noise_c=0.03)
    found = {}
    for name, aim in AIMS.items():
        gains = choice.choose_gains(PLAIN, choice.ensemble_of(PLAIN, []), rig, aim).gains
        found[name] = loop.run_loop([PLAIN], gains.row(), rig)
    assert found["gentle"].overshoot_c[0, 0] <= found["even"].overshoot_c[0, 0] + 1e-6
    assert found["quick"].fan_error_c[0, 0] < found["gentle"].fan_error_c[0, 0]


def test_several_logs_of_one_heater_are_one_better_log():
    logs = [recorded(SIMPLE, 1.0, seed) for seed in range(3)]
    together, alone = fit_thermal(record.join(logs)), fit_thermal(logs[0])
    assert together.model.dead_time_s + together.model.lag_s == pytest.approx(3.3, abs=0.2)
    assert together.spread("dead_time_s") < alone.spread("dead_time_s")
    assert len(together.fitted_c) == sum(len(r.time_s) for r in logs) and together.rms_c < 0.06
