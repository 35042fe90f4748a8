"""Whether a sensor that nobody moves is fit for a sweep. No sentences: `rest_words` has them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from omphalon.constants import G_MM_S2
from omphalon.finding import Verdict
from omphalon.physics.rest import STRETCHES, Stillness, at_rest
from omphalon.recording import MotionLog
from omphalon.remarks import Refusal, Remark
from omphalon.studies.shaper.modes import OVERSAMPLED, SENSOR_AXES, USUAL_END_HZ, Gaps, gaps_of

SHORTEST_S = 2.0  # that noise is judged by
# measured on sweeps of 2000 mm/s², the least that `shaper plan` writes: modes are found up to a
# noise of 240 mm/s²/√Hz and no more at 430
NOISIEST_MM_S2 = 120.0
GRAVITY_WITHIN = 0.1  # a sensor's own scale is good to 3 %
ASKEW_DEG = 10.0
HUMS_MM_S2 = 200.0  # a tenth of such a sweep
HUMS_NOISES = 4.0  # of the noise in one hertz: what chance makes stand out is half of it
MOVED_MM_S2, MOVED_NOISES = (
    300.0,
    8.0,
)  # apart: the sensor was turned or pushed; its own drift is a tenth of it
KNOCKED_MM_S2, KNOCKED_NOISES = 1500.0, 9.0  # a single sample's deviation: somebody knocked


@dataclass(frozen=True, kw_only=True)
class SensorCheck:
    """A sensor at rest, the gaps in its log, and what makes it unfit for a sweep."""

    still: Stillness
    duration_s: float
    gaps: Gaps
    unfit: Refusal | None
    remarks: tuple[Remark, ...]

    @property
    def verdict(self) -> Verdict:
        """Keep: fit for a sweep."""
        return "keep" if self.unfit is None else "change"


def check_sensor(log: MotionLog) -> SensorCheck:
    """Judge a few seconds of a sensor that nobody moves.

    `log`: accelerations in mm/s². Raises Refusal where it was moved, the log is too short, or its
    readings never change.
    """
    _refuse(log)
    gaps = gaps_of(log)
    still = at_rest(log.time_s, log.acceleration_mm_s2, gaps.rate_hz)
    _refuse_moved(log, still, gaps.rate_hz)
    return SensorCheck(
        still=still,
        duration_s=log.duration_s,
        gaps=gaps,
        unfit=_unfit(still, gaps),
        remarks=tuple(_odd(still, gaps)),
    )


def _refuse(log: MotionLog) -> None:
    if log.duration_s < SHORTEST_S:
        raise Refusal("short-rest", log=log.source, duration=log.duration_s)
    if not np.ptp(log.acceleration_mm_s2, axis=0).any():
        raise Refusal("all-still", log=log.source)


def _refuse_moved(log: MotionLog, still: Stillness, rate_hz: float) -> None:
    noise = still.density_mm_s2 * np.sqrt(rate_hz / 2)
    of_mean = noise / np.sqrt(len(log.time_s) / STRETCHES)
    for k in range(3):
        facts = {"log": log.source, "sensor": SENSOR_AXES[k]}
        if still.wander_mm_s2[k] > max(MOVED_MM_S2, MOVED_NOISES * of_mean[k]):
            raise Refusal("moved", **facts, much=still.wander_mm_s2[k] / 1000)
        if still.furthest_mm_s2[k] > max(KNOCKED_MM_S2, KNOCKED_NOISES * noise[k]):
            raise Refusal("knocked", **facts, much=still.furthest_mm_s2[k] / 1000)


def _unfit(still: Stillness, gaps: Gaps) -> Refusal | None:
    """The first thing that a sweep would be refused for."""
    enough = OVERSAMPLED * USUAL_END_HZ
    if gaps.rate_hz < enough:
        return Refusal("slow", rate=gaps.rate_hz, enough=enough)
    if gaps.too_many:
        return Refusal("lossy", share=gaps.lost)
    if gaps.too_long:
        return Refusal("broken", gap=gaps.longest_s, at=gaps.at_s)
    worst = int(np.argmax(still.density_mm_s2))
    noise = float(still.density_mm_s2[worst])
    if noise > NOISIEST_MM_S2:
        return Refusal("noisy", sensor=SENSOR_AXES[worst], noise=noise)
    return None


def _odd(still: Stillness, gaps: Gaps) -> list[Remark]:
    """What a sweep bears, but its owner should know."""
    odd = list(gaps.remarks)
    share = still.size_mm_s2 / G_MM_S2
    if abs(share - 1) > GRAVITY_WITHIN:
        odd.append(Remark("gravity", {"size": still.size_mm_s2 / 1000}))
    if still.tilt_deg > ASKEW_DEG:
        facts = {"sensor": SENSOR_AXES[still.upright], "tilt": still.tilt_deg}
        odd.append(Remark("tilted", facts))
    for k in np.flatnonzero(still.step_mm_s2 == 0).tolist():
        odd.append(Remark("dead-axis", {"sensor": SENSOR_AXES[k]}))
    chance = HUMS_NOISES * float(np.linalg.norm(still.density_mm_s2))
    if still.hum_mm_s2 > max(HUMS_MM_S2, chance):
        facts = {"frequency": still.hum_hz, "size": still.hum_mm_s2 / 1000}
        odd.append(Remark("hums", facts))
    return odd
