"""What figures are drawn from: numbers and short texts, worked out by a study, drawn by plots/."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from omphalon.arrays import Array, Mask
    from omphalon.reports import Heating


@dataclass(frozen=True, kw_only=True)
class StepsPicture:
    """Asked, got and deviation of each reading (n,) in mm, which were kept, the scale, and each
    one's zero error (n,).
    """

    title: str
    asked_mm: Array
    got_mm: Array
    deviation_mm: Array
    keep: Mask
    scale: float
    half_width: float
    offset_mm: Array


@dataclass(frozen=True, kw_only=True)
class RepeatsPicture:
    """Repeated readings (n,) in mm, which were kept, one's deviation, their mean with its interval,
    the goal, and what these are called.
    """

    values_mm: Array
    keep: Mask
    deviation_mm: float
    mean_mm: float
    half_width_mm: float
    goal_mm: float
    title: str
    of: str
    goal: str


@dataclass(frozen=True, kw_only=True)
class LimitPicture:
    """One limit of one axis: the levels tried with pass (True) or fail, the level to trust, and the
    setting below it.
    """

    title: str
    unit: str
    levels: tuple[float, ...]
    passed: tuple[bool, ...]
    trusted: float
    setting: float


@dataclass(frozen=True, kw_only=True)
class AdvancePicture:
    """Readings (n,) at values (n,) in s; `read` names what was read, `looked` says that it was
    chosen by eye; which were kept, one's deviation, the fitted curve, the answer with its interval.
    """

    values_s: Array
    seen: Array
    read: str
    looked: bool
    keep: Mask
    deviation: float
    curve: tuple[Array, Array] | None
    answer_s: float
    half_s: float
    span_s: tuple[float, float]
    present_s: float | None


@dataclass(frozen=True, kw_only=True)
class EdgesLaid:
    """One line's edges over a rectified picture (x, low y, high y, each (n,) in mm), where it was
    meant to lie, its value, and whether it counts.
    """

    x_mm: Array
    low_mm: Array
    high_mm: Array
    y_mm: float
    value_s: float
    counts: bool


@dataclass(frozen=True, kw_only=True)
class LadderPicture:
    """A ladder's picture brought square: grey levels (rows upwards, columns) over
    `extent_mm` (left, right, low, high), edges laid over it, the stretches (from, to) along x that
    were read, and the readings.
    """

    grey: Array
    extent_mm: tuple[float, float, float, float]
    edges: tuple[EdgesLaid, ...]
    read_mm: tuple[tuple[float, float], tuple[float, float]]
    readings: AdvancePicture


@dataclass(frozen=True, kw_only=True)
class CornersPicture:
    """Each corner's bulge (mm) before and after, their names, means and half widths, one reading's
    deviation.
    """

    bulges_mm: tuple[Array, Array]
    names: tuple[tuple[str, ...], tuple[str, ...]]
    means_mm: tuple[float, float]
    half_widths_mm: tuple[float, float]
    deviation_mm: float


@dataclass(frozen=True, kw_only=True)
class ModeBand:
    """A resonance as it is drawn: frequency with its half width (Hz), damping, share."""

    frequency_hz: float
    half_width_hz: float
    damping: float
    share: float


@dataclass(frozen=True, kw_only=True)
class ResponsePicture:
    """Measured and modelled response (m,) over frequency (m,), the motor's own motion being 1."""

    frequency_hz: Array
    measured: Array
    modelled: Array
    modes: tuple[ModeBand, ...]


@dataclass(frozen=True, kw_only=True)
class ShaperPicture:
    """One axis: its response (None without a log), its modes, each shaper's allowed acceleration
    over frequency (k,), and the pick.
    """

    axis: str
    response: ResponsePicture | None
    modes: tuple[ModeBand, ...]
    curve_hz: Array
    curves: dict[str, Array]
    shaper: str
    frequency_hz: float
    acceleration_mm_s2: float
    told: str


@dataclass(frozen=True, kw_only=True)
class LogPicture:
    """One log of a check: a title that says what the setting allows, and the response."""

    title: str
    response: ResponsePicture


@dataclass(frozen=True, kw_only=True)
class ArrivalPicture:
    """What gains promise: curves (t,) over time (t,) in s, one a label; when the loop takes
    over.
    """

    target_c: float
    unit_s: float
    takeover_s: float
    time_s: Array
    traces_c: tuple[Array, ...]
    labels: tuple[str, ...]
    overshoot_c: float
    dip_c: float


@dataclass(frozen=True, kw_only=True)
class HeaterPicture:
    """A test (n,) with its model and power, its first cycle and periods (c,), and the arrival that
    the gains promise.
    """

    heater: str
    time_s: Array
    temperature_c: Array
    fitted_c: Array
    power: Array
    target_c: float
    first_cycle_s: float
    periods_s: Array
    rms_c: float
    arrival: ArrivalPicture


@dataclass(frozen=True, kw_only=True)
class HoldPicture:
    """One log of a hold (n,), times from the takeover on; when the part fan came on; what was
    seen.
    """

    label: str
    time_s: Array
    temperature_c: Array
    power: Array | None
    fan_s: float | None
    overshoot_c: float | None
    ripple_c: float | None
    dip_c: float | None


@dataclass(frozen=True, kw_only=True)
class HoldsPicture:
    """One or two holds of one heater about its target."""

    heater: str
    target_c: float
    holds: tuple[HoldPicture, ...]


@dataclass(frozen=True, kw_only=True)
class Status:
    """What is seen of a printer that is watched: the moment, what is going on, how far it is."""

    time_s: float
    heater: str
    seen: Heating
    told: str
    cycles: int | None
    left_s: float | None


@dataclass(frozen=True, kw_only=True)
class FellowsPanel:
    """One number of many printers: names, values (n,) with half widths (n,), those before (n,), NaN
    where there is none, which differ from the others or have changed, and the centre and standard
    deviation of the fellows, where there are enough of them.
    """

    title: str
    unit: str
    names: tuple[str, ...]
    values: Array
    half_width: Array
    before: Array
    differs: Mask
    changed: Mask
    centre: float | None
    spread: float


@dataclass(frozen=True, kw_only=True)
class FarmPicture:
    """What printers are compared by, the panels that say most first; `left` were left out."""

    panels: tuple[FellowsPanel, ...]
    left: int
