"""Whether a shaper's setting still fits a fresh log; and two logs, before and after a repair."""

from __future__ import annotations

import shlex
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from omphalon.errors import UsageError
from omphalon.finding import Finding, Shown, Warned
from omphalon.physics.impulses import SHAPERS, Limits, at_setting, candidates, pick
from omphalon.physics.modes import Mode
from omphalon.recording import MotionLog
from omphalon.studies.shaper.fit import KEEPS, LIMITED, Setting
from omphalon.studies.shaper.reading import AxisReading, health_words, read_axis
from omphalon.studies.wording import Unsupported

Array = NDArray[np.float64]

WORTH = 1.15  # a better setting is named when it allows so much more


@dataclass(frozen=True)
class LogsPicture:
    """What plots/ draws: for each log its name, frequencies, measured and modelled response, modes,
    and what the setting allows.
    """

    logs: tuple[tuple[str, Array, Array, Array, tuple[Mode, ...], float], ...]
    setting: Setting
    acceleration_mm_s2: float
    axis: str


def check_shaper(
    logs: tuple[MotionLog, ...],
    axis: str,
    sensor_axis: str | None,
    setting: Setting,
    acceleration_mm_s2: float,
    limits: Limits,
    kind: str,
) -> Finding:
    """What the setting allows on the last log, against the acceleration in use."""
    if setting.shaper not in SHAPERS:
        raise UsageError(f"--shaper {setting.shaper}: unknown", "choose from " + ",".join(SHAPERS))
    try:
        readings = [read_axis(log, axis, sensor_axis, kind) for log in logs]
    except Unsupported as refusal:
        return refusal.finding("shaper-check")
    now = [
        at_setting(setting.shaper, setting.frequency_hz, setting.damping, r.modes, limits)
        for r in readings
    ]
    best = pick(candidates(readings[-1].modes, limits, tuple(SHAPERS)))
    allows = now[-1].acceleration_mm_s2
    fits = allows >= KEEPS * acceleration_mm_s2
    because = (
        f"{setting.shaper} at {setting.frequency_hz:g} Hz allows {allows:.0f} mm/s² on this log, "
        + (
            f"{acceleration_mm_s2:.0f} are in use"
            if fits
            else f"less than the {acceleration_mm_s2:.0f} in use"
        )
    )
    if fits and best.acceleration_mm_s2 > WORTH * allows:
        because += (
            f"; {best.shaper} at {best.frequency_hz:.1f} Hz would allow "
            f"{best.acceleration_mm_s2:.0f}"
        )
    table = []
    for log, reading, one in zip(logs, readings, now, strict=True):
        modes = ", ".join(
            f"{m.frequency_hz:.1f} Hz ({m.share:.0%}, damping {m.damping:.3f})"
            for m in reading.modes
        )
        table.append(
            Shown(
                log.source,
                (
                    f"allows {one.acceleration_mm_s2:.0f} mm/s², limited by "
                    f"{LIMITED[one.limited_by]}; {modes}",
                ),
            )
        )
    table.append(Shown("frame", (health_words(readings[-1].modes),)))
    warned: list[Warned] = [w for r in readings for w in r.warnings]
    return Finding(
        "shaper-check",
        "keep" if fits else "change",
        because,
        evidence={
            "modes": _modes(readings[-1]),
            "acceleration_mm_s2": allows,
            "in_use_mm_s2": acceleration_mm_s2,
            "best": {
                "shaper": best.shaper,
                "frequency_hz": best.frequency_hz,
                "damping": best.damping,
                "acceleration_mm_s2": best.acceleration_mm_s2,
            },
            "before": None
            if len(logs) == 1
            else {"modes": _modes(readings[0]), "acceleration_mm_s2": now[0].acceleration_mm_s2},
        },
        warnings=tuple(dict.fromkeys(warned)),
        next="nothing; check again after work on belts, bed or feet"
        if fits
        else f"find the new setting: `omphalon shaper fit --{axis} "
        f"{shlex.quote(logs[-1].source)}`; until then print no faster than {allows:.0f} mm/s²",
        table=tuple(table),
        picture=LogsPicture(
            tuple(
                (log.source, *reading.curves(), reading.modes, one.acceleration_mm_s2)
                for log, reading, one in zip(logs, readings, now, strict=True)
            ),
            setting,
            acceleration_mm_s2,
            axis,
        ),
    )


def _modes(reading: AxisReading) -> list[dict[str, float]]:
    return [
        {"frequency_hz": m.frequency_hz, "damping": m.damping, "share": m.share}
        for m in reading.modes
    ]
