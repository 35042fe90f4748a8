"""Small laws against closed forms and published tables, one row a case."""

import math

import numpy as np
import pytest

from omphalon.physics import linear, oscillation, scale, shaping, sweep
from omphalon.physics.choice import _even_points
from omphalon.physics.impulses import SHAPERS, seconds, variance_s2
from omphalon.physics.lead import NoAnswer, crossing, peak, told_by
from omphalon.physics.loop import Loop
from omphalon.physics.resonance import Mode, response_of
from omphalon.physics.thermal import ThermalModel

# Fisher and Yates, Statistical Tables, table III: two-sided 5 %
STUDENT = {1: 12.706, 2: 4.303, 3: 3.182, 4: 2.776, 5: 2.571, 10: 2.228, 30: 2.042, 120: 1.980}


@pytest.mark.parametrize("freedom", STUDENT)
def test_student(freedom):
    assert scale.student_95(freedom) == pytest.approx(STUDENT[freedom], abs=0.0006)


@pytest.mark.parametrize("sigma", [0.02, 3.0])
def test_the_median_tells_the_deviation_under_wild_readings(sigma):
    misses = np.random.default_rng(1).normal(0, sigma, 4001)
    misses[:200] += 100 * sigma
    assert scale.robust_deviation(misses) == pytest.approx(sigma, rel=0.12)
    assert scale.robust_deviation(np.array([-1.0, 0.0, 1.0])) == pytest.approx(1.4826, abs=1e-4)


@pytest.mark.parametrize(
    "resolution, placing, random, common",
    [
        (0.5, 0.0, 0.0, 0.5 / math.sqrt(12)),  # a steady hand: the same rounding every time
        (0.01, 0.3, 0.3, 0.0),  # a fine rule: only the hand
        (1.0, 1.0, math.sqrt(1 + 1 / 12), 0.0),  # scatter as wide as a step: nothing repeats
    ],
)
def test_rounding_repeats_only_under_a_steady_hand(resolution, placing, random, common):
    spread = scale.reading_spread(resolution, placing)
    assert (spread.random, spread.common) == pytest.approx((random, common), abs=2e-3)


def test_two_ends_and_two_placings_add_their_squares():
    one, two = (scale.reading_spread(0.5, 0.3, n, n).whole for n in (1, 2))
    assert two == pytest.approx(one * math.sqrt(2))


def test_scale_and_line_by_hand():
    asked = np.array([50.0, 100.0, 150.0, 100.0])
    spread = scale.Spread(0.05, 0.0)
    assert scale.scale_of(asked, 1.02 * asked, spread).value == pytest.approx(1.02)
    line = scale.line_of(asked, 1.02 * asked + 0.3, np.ones((4, 1)), spread)
    assert line.scale.value == pytest.approx(1.02) and line.offsets[0].value == pytest.approx(0.3)
    with pytest.raises(ValueError, match="parted"):
        scale.line_of(np.full(4, 50.0), np.full(4, 51.0), np.ones((4, 1)), spread)


def test_the_scatter_speaks_in_both_directions():
    """A calm hand narrows the interval, an unsteady one widens it, beyond what was assumed."""
    spread = scale.Spread(0.1, 0.0)
    middle = np.linspace(-1, 1, 8)
    calm, usual, wild = (
        scale.mean_of(10 + size * middle, spread).half_width for size in (0.02, 0.15, 0.6)
    )
    assert calm < usual < wild and wild > 3 * calm


@pytest.mark.parametrize(
    "written, expected, places, right",
    [
        (43.7, 34.7, 1, 34.7),  # two digits swapped
        (34.6, 35.6, 1, 35.6),  # one digit off by one
        (3.47, 4.37, 2, 4.37),  # swapped over the point
        (34.6, 61.0, 1, None),  # nothing explains it
        (-1.85, -1.58, 2, -1.58),  # with its sign
    ],
)
def test_a_slip_of_the_pen(written, expected, places, right):
    assert scale.slip_of_pen(written, expected, 0.1, places) == right


@pytest.mark.parametrize("slope, sure", [(-0.002, True), (0.0, False), (0.002, False)])
def test_a_ratio_that_falls_with_speed(slope, sure):
    speed = np.array([1.0, 2.0, 5.0, 10.0])
    ratio = 1.0 + slope * speed
    fall, told = scale.falls_with(speed, ratio, np.full(4, 0.002))
    assert fall == pytest.approx(-9 * slope, abs=1e-9) and told is sure
    assert scale.falls_with(np.ones(4), ratio, np.full(4, 0.002)) == (0.0, False)


@pytest.mark.parametrize("bad", [0, 3])
def test_an_outlier_is_found(bad):
    got = np.array([75.4, 75.3, 75.5, 75.45, 75.35])
    got[bad] -= 9.0
    found = scale.outliers(np.full((5, 1), 1.0), got, 0.3)
    assert list(np.flatnonzero(found.out)) == [bad] and not found.unclear


def test_of_two_that_disagree_nobody_can_tell_which():
    found = scale.outliers(np.ones((2, 1)), np.array([75.0, 66.0]), 0.3)
    assert found.unclear and not found.out.any()


@pytest.mark.parametrize("dimensions", [1, 2, 3])
def test_even_points_fill_every_part_alike(dimensions):
    points = _even_points(1200, dimensions, 0)
    for axis in points.T:
        assert np.histogram(axis, 10, (0, 1))[0] == pytest.approx(np.full(10, 120), abs=6)
    later = _even_points(100, dimensions, 100)
    assert later == pytest.approx(_even_points(200, dimensions, 0)[100:])


@pytest.mark.parametrize("name", SHAPERS)
def test_shapers_wait_for_their_middle(name):
    """Weights sum to 1 and are one another's mirror where nothing decays; the variance is theirs."""
    shaper = SHAPERS[name](0.0)
    assert shaper.weights.sum() == pytest.approx(1) and np.all(shaper.weights > 0)
    assert shaper.weights == pytest.approx(shaper.weights[::-1])
    at = seconds(shaper, 40.0, 0.0)
    middle = float(shaper.weights @ at)
    assert middle == pytest.approx(at[-1] / 2)
    variance = float(shaper.weights @ (at - middle) ** 2)
    assert variance_s2(shaper, np.array([40.0]), 0.0)[0] == pytest.approx(variance)


def test_lengths_in_periods():
    """As printed: zv half a period, zvd and ei a whole one, two-hump one and a half, three-hump two
    (Singhose, Porter, Tuttle, Singer 1997).
    """
    length = {name: float(seconds(SHAPERS[name](0.0), 1.0, 0.0)[-1]) for name in SHAPERS}
    printed = {"zv": 0.5, "zvd": 1.0, "mzv": 0.75, "ei": 1.0, "two-hump": 1.5, "three-hump": 2.0}
    assert length == pytest.approx(printed)


def test_what_stays_clean_without_a_shaper_by_hand():
    """x = a/ω² for one mode; the lowest frequency of the drift counts."""
    limits = shaping.Limits(ringing_mm=0.01, rounding_mm=0.1, drift=0.05)
    omega = 2 * math.pi * 40.0 * 0.95
    told = shaping.unshaped([Mode(40.0, 0.05, 1.0)], limits)
    assert told == pytest.approx(0.01 * omega**2)
    half = shaping.unshaped([Mode(40.0, 0.05, 0.5), Mode(4000.0, 0.05, 0.5)], limits)
    assert half == pytest.approx(0.02 * omega**2, rel=0.001)


def test_rounding_limits_a_long_shaper():
    """½·A·variance = the limit, where nothing rings."""
    limits = shaping.Limits(ringing_mm=1.0, rounding_mm=0.1, drift=0.0)
    one = shaping.at_setting("zv", 40.0, 0.0, [Mode(40.0, 0.01, 1.0)], limits)
    variance = (0.5 / 40 / 2) ** 2
    assert one.acceleration_mm_s2 == pytest.approx(2 * 0.1 / variance)
    assert one.limited_by == "rounding" and one.rounding_mm == pytest.approx(0.1)


def test_a_mode_at_its_frequency():
    """|H| at resonance is √(1 + 4ζ²)/(2ζ), at rest 1."""
    told = response_of([Mode(50.0, 0.05, 1.0)], np.array([1e-6, 50.0]))
    assert told == pytest.approx([1.0, math.sqrt(1 + 4 * 0.05**2) / 0.1], rel=1e-9)


@pytest.mark.parametrize("step", [0.1, 0.25, 1.0])
def test_the_step_of_a_display(step):
    rows = step * np.round(np.random.default_rng(2).uniform(200, 210, 400) / step)
    assert oscillation.quantum(rows) == pytest.approx(step)
    assert oscillation.quantum(np.full(9, 3.0)) == 0.0


@pytest.mark.parametrize(
    "power, sides",
    [
        ([0, 0, 1, 1, 0, 0, 1], [-1, -1, 1, 1, -1, -1, 1]),
        ([1, 0.9, 0, 0.1, 1], [1, 1, -1, -1, 1]),  # small shifts keep the side
        ([0.8, 0.8, 0.2, 0.2], [1, 1, -1, -1]),
    ],
)
def test_sides_of_the_power(power, sides):
    assert list(oscillation.power_sides(np.array(power, dtype=float))) == sides


def test_static_gain_and_lag_of_the_linearised_heater():
    """At w → 0 the gain is K/(1 + 2κ); far above the pole it falls with 1/w."""
    model = ThermalModel(
        gain_c=300.0,
        time_constant_s=100.0,
        lag_s=1e-6,
        dead_time_s=0.0,
        ambient_c=20.0,
        loss_growth=0.25,
        reference_c=180.0,
    )
    loop = Loop(200.0, period_s=1e-9)
    slow, fast, faster = np.abs(linear.response(model, loop, np.array([1e-6, 1.0, 2.0])))
    assert slow == pytest.approx(300 / 1.5, rel=1e-6)
    assert fast / faster == pytest.approx(2.0, rel=1e-3)
    assert model.holding_power == pytest.approx(180 * 1.25 / 300)


@pytest.mark.parametrize("rate", [400.0, 1000.0, 3200.0])
def test_even_steps_keep_a_tone(rate):
    """A tone of 60 Hz sampled unevenly comes out with its size and its place."""
    random = np.random.default_rng(3)
    at = np.sort(
        np.arange(int(20 * rate)) / rate + random.uniform(-0.1, 0.1, int(20 * rate)) / rate
    )
    even = sweep.evenly(at, 50 * np.sin(2 * math.pi * 60 * at), rate, without_lines=False)
    spectrum = np.abs(np.fft.rfft(even * np.hanning(len(even))))
    tallest = np.argmax(spectrum) * sweep.RATE_HZ / len(even)
    assert tallest == pytest.approx(60.0, abs=0.1)
    assert np.std(even[100:-100]) == pytest.approx(50 / math.sqrt(2), rel=0.12)


VALUES = np.linspace(0, 0.1, 15)


@pytest.mark.parametrize("zero", [0.031, 0.05, 0.072])
def test_a_straight_bulge_crosses_where_it_does(zero):
    noise = np.random.default_rng(5).normal(0, 0.003, 15)
    best = crossing(VALUES, 2.0 * (zero - VALUES) + noise, 0.003)
    assert best.value == pytest.approx(zero, abs=best.half_width) and best.half_width < 0.004


@pytest.mark.parametrize(
    "bulge, why",
    [
        (np.full(15, 0.1), "flat"),
        (0.3 - VALUES, "above"),
        (-0.2 - VALUES, "below"),
        (VALUES - 0.05, "rising"),
        (np.full(3, 0.1), "few"),
    ],
)
def test_a_bulge_without_an_answer_says_why(bulge, why):
    with pytest.raises(NoAnswer) as refused:
        crossing(VALUES[: len(bulge)], bulge, 0.003)
    assert refused.value.why == why


@pytest.mark.parametrize("top", [0.04, 0.06])
def test_a_roof_is_found(top):
    score = 10 - 90 * np.abs(VALUES - top)
    best = peak(VALUES, score, 1.0)
    assert best.value == pytest.approx(top, abs=best.half_width) and best.half_width < 0.02
    with pytest.raises(NoAnswer):
        peak(VALUES, np.full(15, 5.0), 1.0)


def test_looks_are_averaged_and_an_outlier_left_out():
    best = told_by(np.array([0.050, 0.051, 0.049, 0.050, 0.090]), 0.002, 0.001)
    assert best.value == pytest.approx(0.05) and list(best.keep) == [True] * 4 + [False]
    one, four = (told_by(np.full(n, 0.05), 0.002, 0.0).half_width for n in (1, 4))
    assert one > 2 * four
    shared = told_by(np.full(400, 0.05), 0.0001, 0.001).half_width
    assert shared == pytest.approx(1.96 * 0.001, rel=0.01)
