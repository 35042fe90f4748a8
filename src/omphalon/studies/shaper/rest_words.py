"""The answer about a sensor at rest in words."""

from __future__ import annotations

import numpy as np

from omphalon.arrays import Array
from omphalon.finding import Finding, Shown, answer
from omphalon.physics.rest import Stillness, ranges
from omphalon.recording import MotionLog
from omphalon.studies.shaper.modes import SENSOR_AXES
from omphalon.studies.shaper.rest import NOISIEST_MM_S2, SensorCheck, check_sensor

KIND = "sensor-check"  # not shaper-check: it says nothing of a shaper's setting
FIT = "mount it rigidly and square, then log a sweep: `omphalon shaper plan`"


def sensor_answer(log: MotionLog) -> Finding:
    """Whether a sensor at rest is fit for a sweep, in words."""
    return answer(KIND, [log], lambda: _finding(check_sensor(log), log))


def _finding(check: SensorCheck, log: MotionLog) -> Finding:
    because, remedy = "fit for a sweep", FIT
    if check.unfit is not None:
        because = f"not fit for a sweep: {check.unfit.because}"
        remedy = f"{check.unfit.remedy}; then log five seconds at rest again"
    return Finding(
        kind=KIND,
        verdict=check.verdict,
        because=because,
        evidence=_evidence(check, log),
        warnings=check.remarks,
        next=remedy,
        table=_table(check, log),
    )


def _by_axis(values: Array) -> dict[str, float]:
    return dict(zip(SENSOR_AXES, values.tolist(), strict=True))


def _each(values: Array, form: str) -> str:
    return " ".join(f"{name} {value:{form}}" for name, value in _by_axis(values + 0.0).items())


def _evidence(check: SensorCheck, log: MotionLog) -> dict[str, object]:
    still = check.still
    return {
        "gravity_mm_s2": still.size_mm_s2,
        "axes_mm_s2": _by_axis(still.gravity_mm_s2),
        "upright": SENSOR_AXES[still.upright],
        "tilt_deg": still.tilt_deg,
        "unit": log.unit,
        "noise_mm_s2_hz": _by_axis(still.density_mm_s2),
        "step_mm_s2": _by_axis(still.step_mm_s2),
        "ranges_g": {str(bits): g for bits, g in _ranges(still).items()},
        "hum": {"frequency_hz": still.hum_hz, "size_mm_s2": still.hum_mm_s2},
        "rate_hz": check.gaps.rate_hz,
        "lost": check.gaps.lost,
        "longest_gap_s": check.gaps.longest_s,
        "duration_s": check.duration_s,
    }


def _ranges(still: Stillness) -> dict[int, int]:
    return ranges(float(still.step_mm_s2.max()))


def _table(check: SensorCheck, log: MotionLog) -> tuple[Shown, ...]:
    still, gaps, up = check.still, check.gaps, check.still.upright
    flat = " and ".join(SENSOR_AXES[k] for k in range(3) if k != up)
    signs = _each(np.round(still.gravity_mm_s2 / 1000, 2), "+.2f")
    return (
        Shown("gravity", (f"{still.size_mm_s2 / 1000:.2f} m/s²: {signs}; read in {log.unit}",)),
        Shown(
            "axes",
            (
                f"{SENSOR_AXES[up]} is upright, {still.tilt_deg:.0f}° off; {flat} lie flat, and a "
                "sweep tells which is which",
            ),
        ),
        Shown(
            "noise",
            (f"{_each(still.density_mm_s2, '.1f')} mm/s²/√Hz; a sweep bears {NOISIEST_MM_S2:.0f}",),
        ),
        Shown("step", (_step_words(still),)),
        Shown(
            "samples",
            (
                f"{gaps.rate_hz:.0f} a second for {check.duration_s:.1f} s, {gaps.lost:.1%} "
                f"missing, longest gap {1000 * gaps.longest_s:.1f} ms",
            ),
        ),
        Shown("hum", (f"{still.hum_mm_s2 / 1000:.3f} m/s² at {still.hum_hz:.0f} Hz at most",)),
    )


def _step_words(still: Stillness) -> str:
    found = _ranges(still)
    step = f"{still.step_mm_s2.max() / 1000:.3g} m/s²"
    if not found:
        return f"{step}; its range cannot be told from that"
    words = ", ".join(f"{g} g in {bits}" for bits, g in found.items())
    return f"{step}: its range, by the bits it counts in, is {words}; a sweep needs 8 g or more"
