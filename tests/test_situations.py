"""One physical situation, one answer: whatever the way of measuring it; and sentences whose figures
are what the document holds. Truths are drawn here, hands tremble here; nothing is taken from the fit.
"""

import re

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from omphalon.base.errors import UsageError
from omphalon.recordings import frames
from omphalon.steps import (
    AxisQuestion,
    ExtruderQuestion,
    FlowQuestion,
    ProbeQuestion,
    extruder,
    flow,
)
from omphalon.studies.measured.axis import AXIS
from omphalon.studies.measured.engine import TOO_LITTLE, fit
from omphalon.studies.measured.extruder import EXTRUDER
from omphalon.studies.measured.flow import FLOW
from omphalon.studies.measured.probe import PROBE
from omphalon.studies.measured.words import measured_answer

RUNS = 6
HAND_MM = 0.15
ratios = st.floats(0.85, 1.15)
seeds = st.integers(0, 10_000)


def fitted(quantity, frame, question):
    """What the readings of a frame make of one thing."""
    return fit(quantity, frames.readings(frame, quantity.group), question).one


def fed(ratio, asked, hand):
    """What came when `asked` was commanded, read by a hand."""
    return ratio * asked + hand


WAYS = {
    "a mark and what is left of it": lambda r, h: {
        "mark_mm": [130.0] * RUNS,
        "left_mm": 130 - fed(r, 100, h),
    },
    "a mark gone past the edge": lambda r, h: {
        "mark_mm": [80.0] * RUNS,
        "left_mm": 80 - fed(r, 100, h),
    },
    "before and after": lambda r, h: {
        "before_mm": [140.0] * RUNS,
        "after_mm": 140 - fed(r, 100, h),
    },
    "a cut piece": lambda r, h: {"fed_mm": fed(r, 100, h)},
    "fed too far and pulled back": lambda r, h: {
        "mark_mm": [105.0] * RUNS,
        "left_mm": 105 - fed(r, 100 - 12.0, h),
        "back_mm": [12.0] * RUNS,
    },
}


@settings(max_examples=60, deadline=None)
@given(ratios, seeds, st.sampled_from(sorted(WAYS)))
def test_every_way_of_measuring_what_was_fed_tells_one_ratio(ratio, seed, way):
    hand = np.random.default_rng(seed).normal(0, HAND_MM, RUNS)
    frame = {"asked_mm": [100.0] * RUNS, **WAYS[way](ratio, hand)}
    found = fitted(EXTRUDER, frame, ExtruderQuestion(steps=400.0))
    assert abs(found.estimate.value - ratio) < 2 * found.estimate.half_width
    assert (found.setting - 400) * (1 - ratio) > -1e-9 or abs(ratio - 1) < 0.02  # the right way


@pytest.mark.parametrize(
    "frame",
    [
        {"asked_mm": [100.0], "fed_mm": [99.0], "back_mm": [4.0]},
        {"asked_mm": [100.0], "mark_mm": [90.0], "left_mm": [-5.0], "back_mm": [4.0]},
        {"asked_mm": [100.0], "mark_mm": [90.0], "left_mm": [5.0], "back_mm": [100.0]},
    ],
)
def test_what_is_pulled_back_has_no_say_beside_a_piece_or_a_mark_gone_in(frame):
    with pytest.raises(UsageError, match="--back"):
        extruder(frame, ExtruderQuestion(steps=400.0))


@settings(max_examples=40, deadline=None)
@given(st.floats(0.97, 1.03), st.floats(-0.4, 0.4), seeds, st.booleans())
def test_moves_and_parts_in_any_order_tell_one_scale(ratio, offset, seed, shuffled):
    random = np.random.default_rng(seed)
    asked = np.tile([30.0, 75.0, 120.0], 3)
    order = random.permutation(9) if shuffled else np.arange(9)
    answers = []
    for kind, side in (("move", 0.0), ("outside", offset), ("inside", -offset)):
        got = ratio * asked + side + random.normal(0, 0.015, 9)
        frame = {
            "axis": ["x"] * 9,
            "asked_mm": asked[order],
            "moved_mm": np.round(got, 2)[order],
            "kind": [kind] * 9,
        }
        answers.append(fitted(AXIS, frame, AxisQuestion(steps={"x": 80.0})).estimate)
    assert all(abs(one.value - ratio) < 2 * one.half_width for one in answers)


@settings(max_examples=30, deadline=None)
@given(st.floats(-0.3, 0.4), seeds, st.sampled_from([-1.85, 1.85]))
def test_a_zero_moves_the_nozzle_the_way_it_must_go(off, seed, present):
    """Paper that drags higher than it is thick: the nozzle is too low, whichever way offsets count."""
    drag = np.round(0.1 + off + np.random.default_rng(seed).normal(0, 0.01, 5), 2)
    settled = {}
    for larger in ("lifts", "lowers"):
        question = ProbeQuestion(offset_mm=present, larger=larger)
        settled[larger] = fitted(PROBE, {"drag_mm": drag}, question).best - present
    assert settled["lifts"] == pytest.approx(-settled["lowers"])
    assert settled["lifts"] == pytest.approx(float(np.mean(drag)) - 0.1, abs=0.05)


ANSWERS = {
    "extruder": (EXTRUDER, ExtruderQuestion(steps=400.0), 100.0, 0.3),
    "flow": (FLOW, FlowQuestion(flow=1.0, expected_mm=0.45), 0.45, 0.01),
    "probe": (PROBE, ProbeQuestion(offset_mm=-1.85), 0.1, 0.03),
    "axis": (AXIS, AxisQuestion(steps={"x": 80.0}), 100.0, 0.05),
}
FRAMES = {
    "extruder": lambda v: {"asked_mm": [100.0] * len(v), "fed_mm": v},
    "flow": lambda v: {"wall_mm": v},
    "probe": lambda v: {"drag_mm": v},
    "axis": lambda v: {
        "axis": ["x"] * len(v),
        "asked_mm": [100.0] * len(v),
        "moved_mm": v,
        "kind": ["move"] * len(v),
    },
}


@settings(max_examples=150, deadline=None)
@given(st.sampled_from(sorted(ANSWERS)), st.floats(-1.5, 1.5), st.integers(3, 9), seeds)
def test_a_verdict_says_what_its_interval_says(group, off, count, seed):
    """change: the interval leaves the goal out. keep: it holds the goal, or nothing that matters is
    in it; and what the sentence says of it is what it is.
    """
    quantity, question, goal, hand = ANSWERS[group]
    unit = 1.0 if quantity.shifts else goal
    values = goal + off * quantity.matters * unit
    values = np.round(values + np.random.default_rng(seed).normal(0, hand, count), 2)
    values = np.maximum(values, 0.01)
    readings = frames.readings(FRAMES[group](values), group)
    found = measured_answer(quantity, readings, question, None)
    if found.verdict == "retest":
        return
    one = found.picture.one
    low, high = one.low, one.high
    if found.verdict == "change":
        assert low > 0 or high < 0
        return
    tiny = max(abs(low), abs(high)) <= TOO_LITTLE * quantity.matters * 1.001
    assert low <= 0 <= high or tiny
    said = [
        float(word) for word in re.findall(r"(?<![\w.])[+-]\d+\.\d+(?=%| to| mm)", found.because)
    ]
    shares = 1.0 if quantity.shifts else 100.0
    assert said[:2] == pytest.approx([shares * low, shares * high], abs=0.06)
    calm = "shows that" in found.because
    assert calm == (max(abs(low), abs(high)) <= quantity.matters)


def test_a_flow_of_walls_tells_the_plastic():
    walls = flow({"wall_mm": [0.48, 0.47, 0.48, 0.49]}, FlowQuestion(flow=1.0, expected_mm=0.45))
    assert walls["flow"].value == pytest.approx(0.45 / 0.48)
