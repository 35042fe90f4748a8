"""What eyes saw on a ringing print whose acceleration rises by height, against what was allowed. No
sentences: `check_words` has them.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field

import numpy as np

from omphalon.answers.finding import Verdict
from omphalon.answers.remarks import Refusal, Remark
from omphalon.base.arrays import Array
from omphalon.base.errors import UsageError
from omphalon.physics.scale import Estimate, Spread, mean_of
from omphalon.physics.shaping import Limits, at_setting
from omphalon.prints.pieces import SAME, Bands
from omphalon.recordings.recording import MotionLog
from omphalon.studies.shaper.modes import read_axis
from omphalon.studies.shaper.question import ShaperInUse

LOOKER = 0.15  # deviation from one looker to another, as a share: a judgement, nobody measured it
WIDEST = 0.5  # half width of what may still be held against a limit, as a share


@dataclass(frozen=True, kw_only=True)
class BandsQuestion:
    """The highest clean band that each looker named (0: none was clean), the bands of the print,
    the setting and the acceleration in use. With a log of the axis, what the setting leaves of
    ringing is worked out; without one, the acceleration is taken as limited by ringing.
    """

    seen_mm_s2: tuple[float, ...]
    bands: Bands
    axis: str
    acceleration_mm_s2: float
    setting: ShaperInUse | None = None
    log: MotionLog | None = None
    sensor: str | None = None
    limits: Limits = field(default_factory=Limits)
    kind: str = "sweep"

    def __post_init__(self) -> None:
        for one in self.seen_mm_s2:
            if one != 0 and not any(math.isclose(one, v) for v in self.bands.values):
                known = ", ".join(f"{v:g}" for v in self.bands.values)
                raise UsageError(
                    f"--seen {one:g}: no band of --bands {self.bands.words}",
                    f"name the highest clean band: {known}; 0 where none is clean",
                )
        if self.log is not None and self.setting is None:
            raise UsageError(
                "a log without the setting", "give --shaper and --frequency, or leave the log out"
            )


@dataclass(frozen=True, kw_only=True)
class BandsCheck:
    """Where ripple starts to be seen (mm/s² and mm), the ringing at the acceleration in
    use, at which acceleration the limit's ringing is reached, and whether that is where it is seen.
    """

    seen: Estimate
    eye_limit_mm: float
    eye_half_mm: float
    ringing_mm: float
    reached_mm_s2: float
    from_log: bool
    verdict: Verdict
    remarks: tuple[Remark, ...]


def check_bands(question: BandsQuestion) -> BandsCheck:
    """Hold what eyes saw against what was allowed.

    Parameters
    ----------
    question : readings, bands, and what is in use

    Returns
    -------
    BandsCheck
        Keep: the limit's ringing is reached where ripple starts to be seen.

    Raises
    ------
    Refusal
        Where all of the print is clean, or none of it, the lookers are too few or too far apart, or
        the log cannot carry an answer.

    Notes
    -----
    Ringing grows with the acceleration, so that ringing_mm · seen ÷ in use is what eyes can just
    see. A band is clean and the next one is not: ripple starts to be seen somewhere between, taken
    as the middle, uniform over the step (GUM 4.3.7).
    """
    starts = _starts(question)
    ringing = _ringing_in_use(question)
    seen = _seen(starts, question.bands.step_mm_s2)
    use = question.acceleration_mm_s2
    reached = use * question.limits.ringing_mm / ringing
    agrees = abs(seen.value - reached) <= max(seen.half_width, question.bands.step_mm_s2 / 2)
    odd = [Remark("one-looker")] if len(starts) == 1 else []
    return BandsCheck(
        seen=seen,
        eye_limit_mm=ringing * seen.value / use,
        eye_half_mm=ringing * seen.half_width / use,
        ringing_mm=ringing,
        reached_mm_s2=reached,
        from_log=question.log is not None,
        verdict="keep" if agrees else "change",
        remarks=tuple(odd),
    )


def _starts(question: BandsQuestion) -> Array:
    """Where ripple starts for each looker: between the highest clean band and the next one."""
    bands, values = question.bands, np.array(question.bands.values)
    seen = np.array(question.seen_mm_s2)
    facts = {"count": len(seen), "from_": bands.start_mm_s2, "to": bands.stop_mm_s2}
    clean = int((seen >= bands.stop_mm_s2 * (1 - SAME)).sum())
    if clean:
        raise Refusal("all-clean", **facts, some=clean)
    none = int((seen == 0).sum())
    if none:
        raise Refusal("none-clean", **facts, some=none)
    after = np.searchsorted(values, seen * (1 + SAME))
    return np.asarray((seen + values[after]) / 2)


def _seen(starts: Array, step_mm_s2: float) -> Estimate:
    """Where ripple starts to be seen, from the places where each looker saw it start."""
    known = math.hypot(step_mm_s2 / math.sqrt(12), LOOKER * float(np.mean(starts)))
    seen = mean_of(starts, Spread(known, 0.0))
    if seen.half_width > WIDEST * seen.value:
        facts = {"value": seen.value, "half_width": seen.half_width}
        raise Refusal("unsure-eyes", **facts)
    return seen


def _ringing_in_use(question: BandsQuestion) -> float:
    """Ringing (mm) at the acceleration in use."""
    if question.log is None or question.setting is None:
        return question.limits.ringing_mm
    reading = read_axis(question.log, question.axis, question.sensor, question.kind)
    set_ = question.setting
    one = at_setting(set_.shaper, set_.frequency_hz, set_.damping, reading.modes, question.limits)
    return one.ringing_mm * question.acceleration_mm_s2 / one.acceleration_mm_s2
