"""Laws that hold for any input, tried on inputs that hypothesis thinks of."""

import math

import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from omphalon.answers.remarks import Refusal
from omphalon.lines.codes import codes_of
from omphalon.lines.dialect import Dialect, load_dialect
from omphalon.lines.gain_forms import FORMS, ControlLoop
from omphalon.lines.listing import listed
from omphalon.lines.template import checked
from omphalon.physics import comparison, lead, scale
from omphalon.physics.impulses import SHAPERS, residual, seconds
from omphalon.physics.lead import NoAnswer
from omphalon.printer.dialogue import LineReader, framed
from omphalon.recordings.recording import Reading, Readings
from omphalon.recordings.reports import report_of
from omphalon.studies.advance.drives import DRIVES
from omphalon.studies.advance.fit import next_print
from omphalon.studies.advance.question import AdvanceQuestion, Readout
from omphalon.studies.measured.axis import AXIS, AxisQuestion
from omphalon.studies.measured.engine import fit
from omphalon.tables.quantities import QUANTITIES
from omphalon.tables.units import Number, number_in

settings.register_profile("calm", deadline=None, max_examples=40, derandomize=True)
settings.load_profile("calm")
STAND_IN = load_dialect("stand-in")
asked = st.lists(st.floats(20, 300), min_size=2, max_size=9)
errors = st.lists(st.floats(-0.3, 0.3), min_size=9, max_size=9)
ratios = st.floats(0.9, 1.1)
spreads = st.builds(scale.Spread, st.floats(0.01, 0.5), st.floats(0.0, 0.1))


def readings(lengths, ratio, error):
    lengths = np.array(lengths)
    return lengths, ratio * lengths + np.array(error[: len(lengths)])


@given(asked, ratios, errors, spreads, st.floats(0.1, 10))
def test_in_another_unit_the_ratio_stays(lengths, ratio, error, spread, unit):
    """Lengths in inches or twice as long, with a rule that is as coarse: nothing else changes."""
    lengths, got = readings(lengths, ratio, error)
    one = scale.scale_of(lengths, got, spread)
    coarse = scale.Spread(unit * spread.random, unit * spread.common)
    other = scale.scale_of(unit * lengths, unit * got, coarse)
    assert other.value == pytest.approx(one.value, rel=1e-9)
    assert other.half_width == pytest.approx(one.half_width, rel=1e-6)


@given(asked, ratios, errors, spreads, st.randoms())
def test_the_order_of_readings_does_not_matter(lengths, ratio, error, spread, chance):
    lengths, got = readings(lengths, ratio, error)
    order = list(range(len(lengths)))
    chance.shuffle(order)
    one, other = (scale.scale_of(lengths[way], got[way], spread) for way in (slice(None), order))
    assert (other.value, other.half_width) == pytest.approx((one.value, one.half_width), rel=1e-9)


@given(st.floats(1, 400), errors, spreads, st.integers(2, 8))
def test_a_reading_that_agrees_widens_no_interval(mean, error, spread, count):
    values = mean + np.array(error[:count])
    one = scale.mean_of(values, spread)
    more = scale.mean_of(np.append(values, one.value), spread)
    assert more.value == pytest.approx(one.value, rel=1e-9)
    assert more.half_width <= one.half_width * (1 + 1e-9)


@given(st.floats(0.5, 1000), st.sampled_from([("in", 25.4), ("cm", 10.0), ("µm", 0.001)]))
def test_a_length_is_one_in_any_unit(length_mm, unit):
    name, factor = unit
    assume(1 < length_mm / factor < 1e5)
    found = number_in(f"{length_mm / factor:.6f} {name}", QUANTITIES["length"], -1e9, 1e9)
    assert found.value == pytest.approx(length_mm, abs=1e-6 * factor)


@pytest.mark.parametrize("name", ["zv", "zvd", "mzv"])
@given(frequency=st.floats(15, 150), damping=st.floats(0, 0.3))
def test_a_shaper_leaves_nothing_at_its_own_frequency_and_damping(name, frequency, damping):
    one = SHAPERS[name](damping)
    omega = np.array([2 * math.pi * frequency])
    left = residual(one.weights, seconds(one, frequency, damping), omega, damping)
    assert float(np.ravel(left)[0]) == pytest.approx(0, abs=1e-9)
    assert one.weights.sum() == pytest.approx(1) and np.all(one.weights > 0)


@pytest.mark.parametrize("name", ["ei", "two-hump", "three-hump"])
@given(frequency=st.floats(15, 150), off=st.floats(-0.1, 0.1))
def test_the_extra_insensitive_ones_leave_their_tolerance_around_it(name, frequency, off):
    one = SHAPERS[name](0.0)
    omega = np.array([2 * math.pi * frequency * (1 + off)])
    left = residual(one.weights, seconds(one, frequency, 0.0), omega, 0.0)
    assert float(np.ravel(left)[0]) <= 0.0501


numbers = {
    "steps": st.floats(1, 5000),
    "gains": st.floats(0.01, 900),
    "advance": st.floats(0, 2),
    "flow": st.floats(0.2, 3),
}


@given(st.sampled_from("XYZE"), numbers["steps"], numbers["gains"], numbers["flow"])
def test_a_template_turned_round_reads_what_it_wrote(axis, steps, gain, flow):
    values = {
        "steps": ({"axis": axis, "steps": steps}, "steps", 1e-4),
        "hotend-gains": ({"kp": gain, "ki": gain / 7, "kd": gain * 3}, "ki", 1e-5),
        "flow": ({"flow": flow}, "flow", 1e-4),
    }
    for setting, (given_values, field, digit) in values.items():
        line = STAND_IN.line(setting, **given_values)
        found = listed(f"tell: {line}", STAND_IN)
        assert [one.setting for one in found] == [setting]
        assert float(found[0].values[field]) == pytest.approx(given_values[field], abs=digit)
        assert found[0].axis == given_values.get("axis", "")


WRITTEN = [
    "{kp:.6f} {ki:.8f} {kd:.6f}",
    "{kp:.6f} {ti:.5f} {td:.5f}",
    "{kp_percent_band:.6f} {ti:.5f} {td:.5f}",
    "{kp:.6f} {ki_per_loop:.9f} {kd_per_loop:.5f}",
]


@pytest.mark.parametrize("form", WRITTEN)
@given(
    kp=st.floats(0.01, 0.9),
    integral=st.floats(2, 500),
    derivative=st.floats(0.5, 60),
    full=st.sampled_from([1.0, 100.0, 255.0]),
)
def test_gains_in_any_form_are_read_back(form, kp, integral, derivative, full):
    dialect = Dialect(
        "forms",
        ControlLoop(full_power=full, period_s=0.1, span_c=300.0),
        {"hotend-gains": checked(f"HEAT {form}", FORMS, "a form")},
    )
    gains = {"kp": kp * full, "ki": kp * full / integral, "kd": kp * full * derivative}
    back = listed(dialect.line("hotend-gains", **gains), dialect)[0].values
    assert {k: float(v) for k, v in back.items()} == pytest.approx(gains, rel=2e-3)


@given(st.floats(0.005, 0.4), st.floats(0.5, 5), st.floats(0.1, 10), st.integers(5, 15))
def test_a_straight_bulge_crosses_where_it_does_in_any_unit(zero, slope, unit, count):
    values = np.linspace(0.2 * zero, 2.0 * zero, count)
    bulge = slope * (zero - values)
    one = lead.crossing(values, bulge, 0.01 * slope * zero)
    other = lead.crossing(unit * values, bulge, 0.01 * slope * zero)
    assert one.value == pytest.approx(zero, rel=0.02)
    assert other.value == pytest.approx(unit * one.value, rel=1e-6)


@given(st.lists(st.floats(1, 9), min_size=4, max_size=12), st.floats(0.1, 5))
def test_scores_in_another_scale_have_their_peak_in_the_same_place(scores, factor):
    values, scores = np.linspace(0.02, 0.1, len(scores)), np.array(scores)
    try:
        one = lead.peak(values, scores, 1.0)
    except NoAnswer:
        return
    other = lead.peak(values, factor * scores, factor)  # places that are equally good may change
    assert abs(other.value - one.value) <= one.half_width
    assert other.half_width == pytest.approx(one.half_width, rel=0.5)


@given(st.lists(st.floats(-3, 3), min_size=6, max_size=20), st.floats(10, 500), st.floats(0.5, 9))
def test_odd_ones_are_odd_in_any_unit_and_order(away, middle, unit):
    value = middle + np.array(away)
    doubt = np.full(len(value), 0.5)
    one, other = (
        comparison.placed_among(value, doubt),
        comparison.placed_among(unit * value, unit * doubt),
    )
    turned = comparison.placed_among(value[::-1], doubt)
    assert other.chance == pytest.approx(one.chance, abs=1e-6)
    assert turned.chance[::-1] == pytest.approx(one.chance, abs=1e-9)


@given(
    st.text(st.characters(codec="ascii", exclude_categories=["Cc"]), max_size=60),
    st.integers(0, 9999),
)
def test_a_frame_s_check_sum_is_the_exclusive_or_of_its_bytes(line, number):
    body, _, told = framed(line, number).rpartition(b"*")
    found = 0
    for byte in body:
        found ^= byte
    assert found == int(told)


@given(st.binary(max_size=400), st.integers(1, 50))
def test_any_bytes_are_heard_the_same_however_they_are_cut(data, size):
    whole = [(one.kind, one.text) for one in LineReader().read(data)]
    reader = LineReader()
    pieces = [data[n : n + size] for n in range(0, len(data), size)]
    assert [(one.kind, one.text) for piece in pieces for one in reader.read(piece)] == whole


@given(st.text(max_size=200))
def test_any_text_is_a_report_or_none_and_codes_or_none(text):
    report = report_of(text)
    assert report is None or report.heaters
    for code in codes_of(text):
        assert code.name[0] in "GMT" and math.isfinite(code.name[1])


@given(
    share=st.sampled_from([0.99, 0.995, 1.004, 1.01]),
    lengths=st.lists(
        st.integers(10, 200).map(lambda n: n if n % 3 else -n), min_size=2, max_size=6
    ),
)
def test_a_move_that_agrees_never_costs_the_answer(share, lengths):
    def rows(some):
        for asked in some:
            moved = f"{asked * share:.2f}"
            numbers = {"asked_mm": Number(asked, 1, str(asked))}
            numbers["moved_mm"] = Number(float(moved), 0.01, moved)
            yield Reading("here", numbers, {"axis": "x"})

    def answered(some):
        try:
            return fit(AXIS, Readings("x", tuple(rows(some))), AxisQuestion(steps={"x": 80}))
        except Refusal:
            return None

    if answered(lengths[:-1]):
        assert answered(lengths)


@given(
    low=st.floats(0.0, 1.0),
    span=st.floats(0.002, 1.5),
    method=st.sampled_from(["heights", "widths"]),
)
def test_the_next_print_has_round_numbers_and_holds_what_is_wanted(low, span, method):
    none = np.zeros(0)
    read = Readout(
        method=method,
        values_s=none,
        seen=none,
        where=(),
        step=0.001,
        span=(0.0, 1.0),
        drive=DRIVES["direct"],
    )
    found = next_print(read, AdvanceQuestion(), low, low + span)
    first = found.step_s / 10 ** math.floor(math.log10(found.step_s) + 1e-9)
    assert any(math.isclose(first, nice) for nice in (1, 2, 2.5, 5, 10))
    assert 0 <= found.start_s <= low + 1e-9 and found.stop_s >= low + span - 1e-9
    for end in (found.start_s, found.stop_s):
        assert math.isclose(end / found.step_s, round(end / found.step_s), abs_tol=1e-5)
    assert 8 < (found.stop_s - found.start_s) / found.step_s < 60
