"""One axis out of one log: what is wrong with the log, which of the sensor's axes moved, its modes.

No sentences: `words` has them.
"""

from __future__ import annotations

import contextlib
import functools
import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from omphalon.answers.remarks import Refusal, Remark
from omphalon.base.arrays import Array
from omphalon.physics import sweep
from omphalon.physics.modes import FEWEST_TAPS, SKIP_S, ModeFit, NoTaps, fit_modes, tapped
from omphalon.physics.resonance import Mode, Response, decays, response_of, undriven
from omphalon.physics.scale import student_95
from omphalon.recordings.recording import MotionLog
from omphalon.tables.constants import ASSUMED_DAMPING, G_MM_S2

SENSOR_AXES = "xyz"
SHORTEST_S = {"sweep": 8.0, "taps": 3.0}
LONGEST_GAP_S = 0.3  # that a spline spans
MOST_LOST = 0.25  # of the samples
NOTED_GAP_S, NOTED_STEPS = 0.03, 10  # a gap longer than both is worth a word
LEAST_ROWS = 30  # frequencies at which a response must be seen
NOISIEST = 0.6  # relative deviation of the response at which a sweep is lost in noise
OVERSAMPLED = 2.5  # samples a period of the highest mode
SEEN = 0.6  # of the sweep's frequencies must stand out
LATEST_START_HZ, EARLIEST_END_HZ = 25.0, 60.0  # a narrower sweep may miss what matters
USUAL_END_HZ = 130.0  # of a sweep
UPRIGHT = 0.8  # of gravity along an axis: it points up or down
MOVES = 0.1  # of the most: an axis that moves so much is worth looking into
HARDLY, ASKEW = 0.3, 0.25  # of the loudest axis
ALONG_BOTH, UNLIKE = (
    0.2,
    0.7,
)  # power of a second axis, and how far their ratio wanders (ln): judgement
CLIPPED_ROWS, CLIPPED_SHARE, CLIPPED_RUNS, CLIPPED_MM_S2 = 30, 0.0004, 10, 500.0
STILL_MM_S2 = 100.0  # a sensor that nobody moved
LARGE_SHARE, BROAD_DAMPING, MANY = 0.15, 0.15, 3  # of modes that are worth a word
MISFIT, UNEXPLAINED = 4.0, 0.12  # χ² a bin, and share of the energy
RIPPLE_DAMPING_HALF = 0.03  # around the assumed one
RIPPLE_READ = 0.04  # deviation of one ripple spacing read off a print, as a share
RIPPLE_HZ = (10.0, 200.0)  # between which a frame swings
RIPPLES_APART = 0.3  # of their middle: they contradict each other


@dataclass(frozen=True, kw_only=True)
class HowRead:
    """How an axis was read: a sweep (from, to, pace, samples a second), taps, or ripples."""

    way: str
    facts: dict[str, float]


@dataclass(frozen=True, kw_only=True)
class AxisReading:
    """What a log says about one printer axis: the modes and how well they follow, what was odd.

    Response and fit are None for what was read off a print; `extra_drift` is how unsure the
    frequency of ripples is, `seen_to_hz` up to where a card's lines show a mode.
    """

    axis: str
    modes: tuple[Mode, ...]
    sensor_axis: str
    how: HowRead
    remarks: tuple[Remark, ...] = ()
    response: Response | None = None
    fit: ModeFit | None = None
    extra_drift: float = 0.0
    seen_to_hz: float = math.inf

    @property
    def large(self) -> list[Mode]:
        """The modes that hold much of the motion."""
        return [m for m in self.modes if m.share > LARGE_SHARE]

    def curves(self) -> tuple[Array, Array, Array]:
        """Frequencies, measured and modelled response, the motor's own motion being 1; only where
        there was a log.
        """
        assert self.response is not None and self.fit is not None
        frequency = self.response.frequency_hz
        gain = response_of(self.modes, frequency) / np.sqrt(self.fit.model)
        measured, model = np.sqrt(self.response.power), np.sqrt(self.fit.model)
        return frequency, np.asarray(measured * gain), np.asarray(model * gain)


def read_log(log: MotionLog, axis: str, sensor_axis: str | None, kind: str) -> AxisReading:
    """The same of logs of a mixed `kind`: a sweep, or taps where no sweep stands out."""
    if kind != "mixed":
        return read_axis(log, axis, sensor_axis, kind)
    try:
        return read_axis(log, axis, sensor_axis, "sweep")
    except Refusal as refusal:
        if refusal.code not in ("no-sweep", "patchy", "faint", "short"):
            raise
        with contextlib.suppress(Refusal):
            return read_axis(log, axis, sensor_axis, "taps")
        raise


def read_axis(log: MotionLog, axis: str, sensor_axis: str | None, kind: str) -> AxisReading:
    """The modes of one printer axis in a log.

    `log`: accelerations in mm/s². `sensor_axis`: the sensor's axis that lay along it; None: the one
    that moves most. `kind`: sweep or taps. Raises Refusal if the log cannot carry an answer.
    """
    _refuse_poor(log, kind)
    odd = _gaps(log)
    even = {
        k: sweep.evenly(log.time_s, log.acceleration_mm_s2[:, k], log.rate_hz, kind == "sweep")
        for k in _moving(log, sensor_axis)
    }
    listen = _tapped if kind == "taps" else _swept
    response, chosen, how = listen(log, even, sensor_axis, axis, odd)
    fit = fit_modes(response) if kind == "sweep" else _fit_decays(response)
    return AxisReading(
        axis=axis,
        modes=fit.modes,
        sensor_axis=SENSOR_AXES[chosen],
        how=how,
        remarks=(*odd, *_health(fit, axis)),
        response=response,
        fit=fit,
    )


FittedLog = tuple[Response, int, HowRead]


def _tapped(
    log: MotionLog, even: dict[int, Array], given: str | None, axis: str, odd: list[Remark]
) -> FittedLog:
    """The free decays of taps, the sensor's axis, and how they were read."""
    loud = np.array([float(np.var(even[k])) if k in even else 0.0 for k in range(3)])
    chosen = _chosen(log, loud, given, axis, odd)
    try:
        response, count = tapped(even[chosen])
    except NoTaps as none:
        raise Refusal(
            "few-taps", odd, log=log.source, count=none.seen, fewest=FEWEST_TAPS
        ) from none
    if len(response.power) < LEAST_ROWS:
        raise Refusal("no-decays", odd, log=log.source)
    return response, chosen, HowRead(way="taps", facts={"count": count})


def _swept(
    log: MotionLog, even: dict[int, Array], given: str | None, axis: str, odd: list[Remark]
) -> FittedLog:
    """What the sweep excites when it passes, the sensor's axis, and how it was read."""
    seen = {k: sweep.spectra(v, float(log.time_s[0])) for k, v in even.items()}
    one = next(iter(seen.values()))
    power = np.sum([s.power for s in seen.values()], axis=0)
    try:
        ridge = sweep.follow(sweep.Spectra(one.frequency_hz, one.time_s, power))
    except sweep.NoSweep as none:
        raise Refusal("no-sweep", odd, log=log.source) from none
    _refuse_course(log, ridge)
    responses = {k: sweep.excited(s, ridge) for k, s in seen.items()}
    loud = np.zeros(3)
    for k, response in responses.items():
        loud[k] = float(np.median(response.power)) if len(response.power) > 5 else 0.0
    chosen = _chosen(log, loud, given, axis, odd)
    if given is None:
        _refuse_diagonal(log, responses, loud, odd)
    low, high = float(ridge.frequency_hz.min()), float(ridge.frequency_hz.max())
    if low > LATEST_START_HZ or high < EARLIEST_END_HZ:
        raise Refusal("narrow", odd, log=log.source, low=low, high=high)
    found = responses[chosen]
    if len(found.power) < LEAST_ROWS or float(np.median(found.deviation)) > NOISIEST:
        raise Refusal("faint", odd, log=log.source, sensor=SENSOR_AXES[chosen])
    pace = abs(ridge.rate_hz_s)
    facts = {"low": low, "high": high, "pace": pace, "rate": log.rate_hz}
    return found, chosen, HowRead(way="sweep", facts=facts)


def _refuse_diagonal(
    log: MotionLog, responses: dict[int, Response], loud: Array, odd: list[Remark]
) -> None:
    """Refuse a sweep in which two axes of the sensor move, each in its own way: a sensor that sits
    askew shows one response on both, a diagonal that of X on one and of Y on the other.
    """
    most, second = np.argsort(loud)[::-1][:2]
    if loud[second] < ALONG_BOTH * loud[most]:
        return
    one, other = responses[int(most)], responses[int(second)]
    there = np.interp(np.log(one.frequency_hz), np.log(other.frequency_hz), np.log(other.power))
    if float(np.std(there - np.log(one.power))) > UNLIKE:
        raise Refusal("diagonal", odd, log=log.source)


def _fit_decays(response: Response) -> ModeFit:
    """The modes of taps; when exactly each blow fell is known to a sample only, so the best of some
    instants answers: of every sample, then of ever nearer neighbours.
    """

    @functools.cache
    def fitted(quarter: int) -> ModeFit:
        """The fit for a blow so many quarters of a sample earlier than SKIP_S."""
        return fit_modes(response, decays(SKIP_S + quarter / (4 * sweep.RATE_HZ)), undriven)

    def worse(quarter: int) -> float:
        return fitted(quarter).score + 10 * len(fitted(quarter).modes)

    best = min(range(-4, 17, 4), key=worse)
    for near in (2, 1):
        best = min((best - near, best, best + near), key=worse)
    return fitted(best)


def _moving(log: MotionLog, given: str | None) -> list[int]:
    """The sensor's axes worth looking into: the one that was named, and all that move."""
    spread = log.acceleration_mm_s2[::3].std(axis=0)
    named = None if given is None else SENSOR_AXES.index(given)
    return [k for k in range(3) if spread[k] > MOVES * spread.max() or k == named]


def _refuse_poor(log: MotionLog, kind: str) -> None:
    """Refuse what no method can mend."""
    if log.duration_s < SHORTEST_S[kind]:
        raise Refusal("short", log=log.source, duration=log.duration_s)
    axes = log.acceleration_mm_s2
    span = np.ptp(axes, axis=0)
    if not span.all() and span.max() < STILL_MM_S2:
        raise Refusal("still", log=log.source)
    for k in range(3):
        for end in (axes[:, k].max(), axes[:, k].min()):
            stuck = axes[:, k] == end
            runs = (stuck[2:] & stuck[1:-1] & stuck[:-2]).sum()
            often = stuck.sum() > max(CLIPPED_ROWS, CLIPPED_SHARE * len(stuck))
            if often and abs(end) > CLIPPED_MM_S2 and runs > CLIPPED_RUNS:
                facts = {"sensor": SENSOR_AXES[k], "end": end / 1000, "times": int(stuck.sum())}
                raise Refusal("clipped", log=log.source, **facts)


@dataclass(frozen=True, kw_only=True)
class Gaps:
    """Samples that a log lacks: their share, the longest gap and where it stands, and whether that
    is worth a word; and how many a second there are between the gaps.
    """

    rate_hz: float
    lost: float
    longest_s: float
    at_s: float
    worth_a_word: bool

    @property
    def too_many(self) -> bool:
        """Whether a test cannot be read with so few left."""
        return self.lost > MOST_LOST

    @property
    def too_long(self) -> bool:
        """Whether the longest gap breaks a test."""
        return self.longest_s > LONGEST_GAP_S

    @property
    def remarks(self) -> list[Remark]:
        """The word."""
        words = Remark("samples-missing", gap=1000 * self.longest_s)
        return [words] if self.worth_a_word else []


def gaps_of(log: MotionLog) -> Gaps:
    """What a log lacks."""
    steps = np.diff(log.time_s)
    usual = float(np.median(steps))
    wide = steps > 1.5 * usual
    at = int(np.argmax(steps))
    longest = float(steps[at])
    return Gaps(
        rate_hz=float(1 / steps[~wide].mean()),
        lost=float(steps[wide].sum() - usual * wide.sum()) / log.duration_s,
        longest_s=longest,
        at_s=float(log.time_s[at] - log.time_s[0]),
        worth_a_word=longest > max(NOTED_GAP_S, NOTED_STEPS * usual),
    )


def _gaps(log: MotionLog) -> list[Remark]:
    gaps = gaps_of(log)
    if gaps.too_many:
        raise Refusal("lost", log=log.source, share=gaps.lost)
    if gaps.too_long:
        raise Refusal("gap", log=log.source, gap=gaps.longest_s, at=gaps.at_s)
    return gaps.remarks


def _refuse_course(log: MotionLog, ridge: sweep.Ridge) -> None:
    highest = float(ridge.frequency_hz.max()) + sweep.EDGE_HZ
    if log.rate_hz < OVERSAMPLED * highest:
        enough = OVERSAMPLED * max(highest, USUAL_END_HZ)
        facts = {"rate": log.rate_hz, "highest": highest, "enough": enough}
        raise Refusal("slow-samples", log=log.source, **facts)
    if ridge.clear < SEEN:
        raise Refusal("patchy", log=log.source, share=ridge.clear)


def _chosen(log: MotionLog, loud: Array, given: str | None, axis: str, odd: list[Remark]) -> int:
    """The sensor's axis: as given, held against what the log shows; or the one that moves most."""
    most = int(np.argmax(loud))
    chosen = most if given is None else SENSOR_AXES.index(given)
    facts = {"log": log.source, "sensor": SENSOR_AXES[chosen]}
    if loud[chosen] < HARDLY * loud[most]:
        odd.append(Remark("hardly-moves", **facts, most=SENSOR_AXES[most]))
    down = np.abs(np.median(log.acceleration_mm_s2[::7], axis=0))
    if axis != "z" and down[chosen] > UPRIGHT * G_MM_S2 and loud[chosen] > 0:
        odd.append(Remark("upright", **facts, axis=axis))
    second = float(np.sort(loud)[-2])
    if second > ASKEW * loud[most]:
        share = math.sqrt(second / loud[most])
        odd.append(Remark("skewed", log=log.source, share=share))
    return chosen


def _health(fit: ModeFit, axis: str) -> list[Remark]:
    """Signs of something loose."""
    out = []
    large = [m for m in fit.modes if m.share > LARGE_SHARE]
    count = max(len(large), len(fit.peaks_hz))
    if count >= MANY:
        out.append(Remark("spread-out", axis=axis, count=count))
    broad = next((m for m in large if m.damping > BROAD_DAMPING), None)
    if broad is not None:
        out.append(Remark("broad", axis=axis, frequency=broad.frequency_hz, damping=broad.damping))
    if fit.misfit > MISFIT or fit.unexplained > UNEXPLAINED:
        out.append(Remark("unexplained", axis=axis, share=fit.unexplained))
    return out


def from_ripples(axis: str, spacings_mm: Sequence[float], speed_mm_s: float) -> AxisReading:
    """A mode from the spacing of ripples on a print: f = speed ÷ spacing; its damping is assumed.

    `spacings_mm`: (n,). `speed_mm_s`: of the wall that shows them. Raises Refusal if no frame
    swings so, or the spacings contradict each other.
    """
    spacing = np.array(spacings_mm, dtype=np.float64)
    frequency = speed_mm_s / spacing
    middle = float(np.median(frequency))
    facts = {"axis": axis, "spacing": float(np.median(spacing)), "speed": speed_mm_s}
    if not RIPPLE_HZ[0] <= middle <= RIPPLE_HZ[1]:
        raise Refusal("no-such-ripples", **facts, frequency=middle)
    if float(np.ptp(frequency)) > RIPPLES_APART * middle:
        share = float(np.ptp(spacing) / np.median(spacing))
        raise Refusal("ripples-apart", **facts, share=share)
    mean, count = float(np.mean(frequency)), len(frequency)
    own = float(np.std(frequency, ddof=1)) if count > 1 else 0.0
    half = student_95(10) * max(RIPPLE_READ * middle, own) / math.sqrt(count)
    odd = [Remark("ripples", axis=axis, damping=ASSUMED_DAMPING)]
    if count == 1:
        odd.append(Remark("one-spacing", axis=axis))
    mode = Mode(mean, ASSUMED_DAMPING, 1.0, half, RIPPLE_DAMPING_HALF, 0.0)
    return AxisReading(
        axis=axis,
        modes=(mode,),
        sensor_axis="–",
        how=HowRead(way="ripples", facts={"count": count, "speed": speed_mm_s}),
        remarks=tuple(odd),
        extra_drift=half / mean,
    )
