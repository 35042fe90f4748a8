"""The stand-in's frame and bead against closed forms, and the core that reads them: sweeps of all kinds, modes, taps."""

import math

import numpy as np
import pytest
from scipy.integrate import trapezoid

from omphalon.physics import sweep
from omphalon.physics.impulses import SHAPERS, seconds, variance_s2
from omphalon.physics.modes import NoTaps, fit_modes, tapped
from omphalon.physics.resonance import Mode, decays, follows, response_of
from omphalon.physics.shaping import Limits, unshaped
from omphalon.standin.bead import Nozzle, beads, corner_speeds, ridden, runs
from omphalon.standin.frame import (
    RATE_HZ,
    Move,
    Sensor,
    Sweep,
    Swing,
    chirp,
    driven,
    moves_in,
    sensed,
    sweep_log,
    swung,
)

TWO = (Swing(38.0, 0.045, 0.7), Swing(62.0, 0.06, 0.3))


def closed_form(frequency, swings):
    """|Σ share (2ζωs + ω²)/(s² + 2ζωs + ω²)| at s = 2πif, written out once more."""
    s = 2j * math.pi * frequency
    total = 0
    for m in swings:
        w = 2 * math.pi * m.frequency_hz
        total += m.share * (2 * m.damping * w * s + w * w) / (s * s + 2 * m.damping * w * s + w * w)
    return abs(total)


@pytest.mark.parametrize("frequency", [5.0, 20.0, 38.0, 50.0, 62.0, 110.0])
def test_the_stand_in_swings_as_its_modes_say(frequency):
    rate = 3200.0
    at = np.arange(int(6 * rate)) / rate
    along = swung(np.sin(2 * np.pi * frequency * at), rate, TWO)[0][len(at) // 2 :]
    settled = at[len(at) // 2 :]
    wave = np.exp(-2j * np.pi * frequency * settled)
    size = 2 * abs(np.mean(along * wave))
    assert size == pytest.approx(closed_form(frequency, TWO), rel=0.03)
    modes = [Mode(m.frequency_hz, m.damping, m.share) for m in TWO]
    assert response_of(modes, np.array([frequency]))[0] == pytest.approx(
        closed_form(frequency, TWO), rel=1e-9
    )


def test_derivatives_of_the_response():
    f, z, at = np.array([38.0, 62.0]), np.array([0.045, 0.06]), np.array([20.0, 38.5, 70.0])
    for law in (follows, decays(0.006)):
        _, by_f, by_z = law(at, f, z)
        step = 1e-4
        for told, up, down in (
            (by_f, law(at, f * (1 + step), z)[0], law(at, f * (1 - step), z)[0]),
            (by_z, law(at, f, z * (1 + step))[0], law(at, f, z * (1 - step))[0]),
        ):
            assert told == pytest.approx((up - down) / (2 * step), rel=2e-3, abs=1e-6)


def test_a_free_decay_has_the_law_of_taps():
    """h(t) = e^(−ζωt)·(2ζω cos ω_d t + (1 − 2ζ²) ω²/ω_d sin ω_d t), the impulse response of x'' +
    2ζωx' + ω²x = 2ζωm' + ω²m, transformed by its own sum.
    """
    f, z, after = 40.0, 0.05, 0.006
    w = 2 * math.pi * f
    turn = w * math.sqrt(1 - z * z)
    t = np.arange(0, 1.5, 2e-5)
    late = t + after
    h = np.exp(-z * w * late) * (
        2 * z * w * np.cos(turn * late) + (1 - 2 * z * z) * w * w / turn * np.sin(turn * late)
    )
    at = np.array([15.0, 39.0, 41.0, 80.0])
    true = [abs(trapezoid(h * np.exp(-2j * math.pi * x * t), t)) for x in at]
    told = np.abs(decays(after)(at, np.array([f]), np.array([z]))[0][:, 0])
    assert told == pytest.approx(true, rel=0.002)


def test_noise_at_other_times_is_taken_off():
    """The response of a loud sensor is that of a quiet one, also where it is weak: there noise is
    half of what is seen.
    """
    seen = []
    for noise in (5.0, 4000.0):
        sensor = Sensor(rate_hz=1000.0, noise_mm_s2=noise, seed=2)
        log = sweep_log(TWO, Sweep(rate_hz_s=2.0), sensor)
        seen.append(spectra_of(log.time_s, log.acceleration[:, 0], 1000.0))
    ridge = sweep.follow(seen[0])
    quiet, loud = (sweep.excited(s, ridge) for s in seen)
    shared, here, there = np.intersect1d(quiet.frequency_hz, loud.frequency_hz, return_indices=True)
    assert len(shared) > 60
    weak = np.argsort(quiet.power[here])[:40]
    ratio = loud.power[there][weak] / quiet.power[here][weak]
    assert np.median(ratio) == pytest.approx(1.0, abs=0.15)


def spectra_of(time, values, rate):
    return sweep.spectra(sweep.evenly(time, values, rate), float(time[0]))


SWEEPS = {
    "slow": Sweep(rate_hz_s=0.7, high_hz=90),
    "fast": Sweep(rate_hz_s=3.0),
    "rising drive": Sweep(rate_hz_s=2.0, power=1.0),
    "strong harmonics": Sweep(rate_hz_s=2.0, harmonics=(0.4, 0.5, 0.2)),
    "narrow": Sweep(low_hz=15, high_hz=85, rate_hz_s=2.0),
}


@pytest.mark.parametrize("name", SWEEPS)
def test_a_sweep_is_followed_and_its_modes_found(name):
    told = SWEEPS[name]
    log = sweep_log(TWO, told, Sensor(rate_hz=1000.0, seed=2))
    seen = spectra_of(log.time_s, log.acceleration[:, 0], 1000.0)
    ridge = sweep.follow(seen)
    assert ridge.rate_hz_s == pytest.approx(told.rate_hz_s, rel=0.05)
    assert ridge.frequency_hz[0] < told.low_hz + 5 and ridge.frequency_hz[-1] > told.high_hz - 6
    passing = told.before_s + (ridge.frequency_hz - told.low_hz) / told.rate_hz_s
    assert np.abs(ridge.passing_s - passing).max() < 0.6
    fit = fit_modes(sweep.excited(seen, ridge))
    assert [m.frequency_hz for m in fit.modes] == pytest.approx([38, 62], rel=0.01)
    assert [m.share for m in fit.modes] == pytest.approx([0.7, 0.3], abs=0.05)
    assert fit.drive_power == pytest.approx(told.power, abs=0.1)
    # a quiet log of half a minute or more tells a frequency to a fraction of a hertz
    assert all(0.01 < m.frequency_half_hz < 0.6 and m.damping_half < 0.02 for m in fit.modes)


def made(frequency_at, seconds_long, rate=1000.0):
    """A drive whose frequency follows a function of time; with it the frame's log."""
    at = np.arange(int(seconds_long * rate)) / rate
    frequency = frequency_at(at)
    drive = np.where(frequency > 0, 3000 * np.sin(2 * np.pi * np.cumsum(frequency) / rate), 0.0)
    return sensed(drive, TWO, Sensor(rate_hz=rate, seed=8))


COURSES = {
    "falling": lambda t: np.where((t > 2) & (t < 47), 115 - 2.4 * (t - 2), 0.0),
    "exponential": lambda t: np.where(
        (t > 2) & (t < 62), 6 * np.exp((t - 2) / 60 * math.log(20)), 0.0
    ),
    "in steps": lambda t: np.where(
        (t > 2) & (t < 62), 6 + 2.0 * np.floor((t - 2) / 1.0) * 0.95, 0.0
    ),
}


@pytest.mark.parametrize("name", COURSES)
def test_other_courses_are_followed_too(name):
    log = made(COURSES[name], 64)
    seen = spectra_of(log.time_s, log.acceleration[:, 0], 1000.0)
    fit = fit_modes(sweep.excited(seen, sweep.follow(seen)))
    large = [m for m in fit.modes if m.share > 0.1]
    assert [m.frequency_hz for m in large] == pytest.approx([38, 62], rel=0.02)
    assert [m.damping for m in large] == pytest.approx([0.045, 0.06], rel=0.3)


@pytest.mark.parametrize("seed", range(3))
def test_noise_and_hum_hold_no_sweep(seed):
    random = np.random.default_rng(seed)
    time = np.arange(40000) / 1000.0
    values = random.normal(0, 300, len(time)) + 2000 * np.sin(2 * np.pi * (40 + 10 * seed) * time)
    with pytest.raises(sweep.NoSweep):
        sweep.follow(spectra_of(time, values, 1000.0))
    with pytest.raises(NoTaps):
        tapped(random.normal(0, 1.0, 6000))


def test_steady_lines_are_cut_and_the_rest_stays():
    random = np.random.default_rng(1)
    time = np.arange(60000) / 1000.0
    quiet = random.normal(0, 50, len(time))
    hum = 3000 * np.sin(2 * np.pi * 50.3 * time)
    with_hum = sweep.evenly(time, quiet + hum, 1000.0)
    kept = sweep.evenly(time, quiet + hum, 1000.0, without_lines=False)
    assert np.std(kept) > 2000 and np.std(with_hum) < 0.25 * np.std(kept)


def test_variance_and_bare_acceleration_by_hand():
    limits = Limits(drift=0.0)
    one = [Mode(40.0, 0.0, 1.0)]
    assert unshaped(one, limits) == pytest.approx(0.01 * (2 * math.pi * 40) ** 2)
    two = [Mode(40.0, 0.0, 0.5), Mode(80.0, 0.0, 0.5)]
    by_hand = 0.01 / (0.5 / (2 * math.pi * 40) ** 2 + 0.5 / (2 * math.pi * 80) ** 2)
    assert unshaped(two, limits) == pytest.approx(by_hand)
    for name, shaper in SHAPERS.items():
        impulses = shaper(0.03)
        times = seconds(impulses, 50.0, 0.03)
        middle = float(impulses.weights @ times)
        spread = float(impulses.weights @ (times - middle) ** 2)
        told = variance_s2(impulses, np.array([50.0]), 0.03)[0]
        assert told == pytest.approx(spread), name


def straight(*corners, fed=0.03, speed=50.0, lead=0.0):
    return [
        Move(
            x0=a[0],
            y0=a[1],
            x1=b[0],
            y1=b[1],
            z=0.2,
            fed_mm=fed * math.dist(a, b),
            speed_mm_s=speed,
            lead_s=lead,
            acceleration_mm_s2=1000.0,
        )
        for a, b in zip(corners, corners[1:], strict=False)
    ]


def test_the_stand_in_brakes_at_corners_and_arrives():
    run = straight((0, 0), (30, 0), (30, 30), (60, 30))
    speeds = corner_speeds(run, 8.0)
    assert speeds[0] == speeds[-1] == 0 and speeds[1] == pytest.approx(8 / math.sqrt(2))
    way, speed, _ = ridden(run, Nozzle(lead_s=0.05), 1e-4)
    assert way[-1] == pytest.approx(90, abs=0.05) and speed.max() == pytest.approx(50)
    assert np.abs(np.diff(speed)).max() == pytest.approx(0.1) and np.diff(way).min() >= 0
    assert (
        len(
            list(
                runs(
                    [
                        *run,
                        Move(
                            x0=60,
                            y0=30,
                            x1=60,
                            y1=30,
                            z=0.2,
                            fed_mm=-1.0,
                            speed_mm_s=30,
                            lead_s=0,
                            acceleration_mm_s2=1000,
                        ),
                        *run,
                    ]
                )
            )
        )
        == 2
    )


@pytest.mark.parametrize("lead, sign", [(0.0, 1), (0.06, 0), (0.15, -1)])
def test_the_bead_bulges_before_its_lead_and_starves_beyond(lead, sign):
    run = straight((0, 0), (40, 0), (40, 40), lead=lead)
    bead = next(
        beads(run, Nozzle(lead_s=0.06, nozzle_lag_s=0.0005, grain_mm=0.0), np.random.default_rng(0))
    )
    corner = float(bead.near(40.0, 1.0, 1.0).mean()) - bead.line_mm
    assert np.sign(round(corner / 0.02)) == sign
    inner = bead.width_mm[60:120]
    assert inner.mean() == pytest.approx(bead.line_mm, rel=0.05)


def test_the_stand_in_hears_plain_moves():
    lines = [
        "G28",
        "PUSH 1500",
        "LEAD 0.05",
        "G1 X10 Y5 F1200",
        "G1 X20 E0.5 ; note",
        "; only a note",
        "G1 Z3",
    ]
    moves = moves_in(lines)
    assert [(m.x1, m.y1, m.z) for m in moves] == [(10, 5, 0), (20, 5, 0), (20, 5, 3)]
    assert moves[1].fed_mm == 0.5 and moves[1].speed_mm_s == 20
    assert {(m.lead_s, m.acceleration_mm_s2) for m in moves} == {(0.05, 1500.0)}


def test_drive_of_plain_moves_is_a_square_wave_of_the_acceleration():
    lines = ["PUSH 2000", "G1 X5 F60000", "G1 X0", "G1 X5"]
    drive = driven(lines, "x", still_s=0.1)
    assert np.abs(drive).max() == pytest.approx(2000, rel=1e-3)
    place = np.cumsum(np.cumsum(drive) / RATE_HZ) / RATE_HZ
    assert place[-1] == pytest.approx(5, abs=0.02) and place.max() == pytest.approx(5, abs=0.02)


def test_chirp_sweeps_where_it_says():
    told = Sweep(low_hz=10, high_hz=60, rate_hz_s=5.0, harmonics=(), before_s=1.0, after_s=1.0)
    drive = chirp(told, 1000.0, np.random.default_rng(0))
    middle = drive[5500:6500]
    spectrum = np.abs(np.fft.rfft(middle * np.hanning(1000)))
    assert abs(int(np.argmax(spectrum)) - 35) <= 2
