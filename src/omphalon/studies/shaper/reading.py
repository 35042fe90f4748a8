"""One axis out of one log: what is wrong with the log, which of the sensor's axes moved, and its
modes.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from omphalon.finding import Warned
from omphalon.physics import sweep
from omphalon.physics.modes import Mode, ModeFit, Response, decays, fit_modes, over, response_of
from omphalon.physics.taps import FEWEST, SKIP_S, NoTaps, tapped
from omphalon.recording import MotionLog
from omphalon.studies.wording import Unsupported

Array = NDArray[np.float64]

AXES = "xyz"
SHORTEST_S = {"sweep": 8.0, "taps": 3.0}
LONGEST_GAP_S = 0.3
MOST_LOST = 0.25
LEAST_ROWS = 30  # frequencies at which a response must be seen
OVERSAMPLED = 2.5
LATEST_START_HZ, EARLIEST_END_HZ = (
    25.0,
    60.0,
)  # a sweep that starts higher or ends lower may miss what matters
G_MM_S2 = 9806.65
KINDS = ("sweep", "taps")


@dataclass(frozen=True)
class AxisReading:
    """What a log says about one printer axis: the sensor's axis used, the modes and how well they
    follow, what to warn of.

    `told` is a short phrase of how it was read; response and fit are None for ripples on a print.
    """

    axis: str
    modes: tuple[Mode, ...]
    sensor_axis: str
    told: str
    warnings: tuple[Warned, ...] = ()
    response: Response | None = None
    fit: ModeFit | None = None
    extra_drift: float = 0.0

    def curves(self) -> tuple[Array, Array, Array]:
        """Frequencies, measured and modelled response, the motor's own motion being 1; only where
        there was a log.
        """
        assert self.response is not None and self.fit is not None
        frequency = self.response.frequency_hz
        gain = response_of(self.modes, frequency) / np.sqrt(self.fit.model)
        return (
            frequency,
            np.asarray(np.sqrt(self.response.power) * gain),
            np.asarray(np.sqrt(self.fit.model) * gain),
        )


def read_axis(log: MotionLog, axis: str, sensor_axis: str | None, kind: str) -> AxisReading:
    """The modes in a log. Raises Unsupported where it cannot carry an answer."""
    warned = [Warned(note.code, note.message) for note in log.notes]
    _refuse_poor(log, kind)
    warned += _gaps(log)
    moving = _moving(log, sensor_axis)
    even = {
        k: sweep.evenly(log.time_s, log.acceleration_mm_s2[:, k], log.rate_hz, kind == "sweep")
        for k in moving
    }
    if kind == "taps":
        loud = np.array([float(np.var(even[k])) if k in even else 0.0 for k in range(3)])
        chosen = _chosen(log, loud, sensor_axis, axis, warned)
        try:
            response, count = tapped(even[chosen])
        except NoTaps as none:
            raise Unsupported(
                f"{log.source}: {none.seen} taps stand out of the log, {FEWEST} at least are "
                "needed",
                "tap eight times, two seconds apart, each harder than the noise; or run a sweep",
            ) from none
        if len(response.power) < LEAST_ROWS:
            raise Unsupported(
                f"{log.source}: no free decays stand out of the noise",
                "tap harder; if the log holds a sweep, leave out --kind taps",
            )
        told = f"{count} taps"
    else:
        seen = {k: sweep.spectra(v, float(log.time_s[0])) for k, v in even.items()}
        one = seen[moving[0]]
        whole = sweep.Spectra(
            one.frequency_hz, one.time_s, np.sum([s.power for s in seen.values()], axis=0)
        )
        try:
            ridge = sweep.follow(whole)
        except sweep.NoSweep as none:
            raise Unsupported(
                f"{log.source}: no sweep runs through this log",
                "log a slow sweep of one axis, 8 to 120 Hz in two minutes or more; for taps give "
                "--kind taps",
            ) from none
        _refuse_course(log, ridge)
        responses = {k: sweep.excited(s, ridge) for k, s in seen.items()}
        loud = np.array(
            [
                float(np.median(r.power)) if (r := responses.get(k)) and len(r.power) > 5 else 0.0
                for k in range(3)
            ]
        )
        chosen = _chosen(log, loud, sensor_axis, axis, warned)
        low, high = float(ridge.frequency_hz.min()), float(ridge.frequency_hz.max())
        if low > LATEST_START_HZ or high < EARLIEST_END_HZ:
            raise Unsupported(
                f"{log.source}: the test shows only {low:.0f} to {high:.0f} Hz",
                "sweep from 5 or 10 Hz to 100 Hz or more",
            )
        found = responses[chosen]
        if len(found.power) < LEAST_ROWS or float(np.median(found.deviation)) > 0.6:
            raise Unsupported(
                f"{log.source}: the sweep hardly stands out of the noise on the sensor's "
                f"{AXES[chosen]}",
                "sweep with more acceleration, mount the sensor firmly, or name its axis "
                "(--sensor-x, --sensor-y)",
            )
        response = found
        told = (
            f"sweep {ridge.frequency_hz.min():.0f} to {ridge.frequency_hz.max():.0f} Hz at "
            f"{abs(ridge.rate_hz_s):.2g} Hz/s, "
            f"{log.rate_hz:.0f} samples a second"
        )
    fit = fit_modes(response) if kind == "sweep" else _fit_decays(response)
    warned += _health(fit, axis)
    return AxisReading(axis, fit.modes, AXES[chosen], told, tuple(warned), response, fit)


def _fit_decays(response: Response) -> ModeFit:
    """The modes of taps; when exactly each blow fell is known to a sample only, so the best of some
    instants answers.
    """
    return min(
        (
            fit_modes(response, decays(SKIP_S + n / (4 * sweep.RATE_HZ)), over)
            for n in range(-4, 17)
        ),
        key=lambda f: f.score + 10 * len(f.modes),
    )


def _moving(log: MotionLog, given: str | None) -> list[int]:
    """The sensor's axes worth looking into: the one that was named, and all that move as much as a
    tenth of the most.
    """
    spread = log.acceleration_mm_s2[::3].std(axis=0)
    return [
        k
        for k in range(3)
        if spread[k] > 0.1 * spread.max() or (given is not None and AXES.index(given) == k)
    ]


def _refuse_poor(log: MotionLog, kind: str) -> None:
    """Refuse what no method can mend."""
    if log.duration_s < SHORTEST_S[kind]:
        raise Unsupported(
            f"{log.source}: {log.duration_s:.1f} s are too short",
            "log the whole test, with a second before and after",
        )
    axes = log.acceleration_mm_s2
    still = [AXES[k] for k in range(3) if np.ptp(axes[:, k]) == 0]
    if len(still) == 3 or (still and np.ptp(axes, axis=0).max() < 100):
        raise Unsupported(
            f"{log.source}: the readings never change", "check the sensor's wiring and its rate"
        )
    for k in range(3):
        for end in (axes[:, k].max(), axes[:, k].min()):
            stuck = axes[:, k] == end
            if (
                stuck.sum() > max(30, 0.0004 * len(stuck))
                and abs(end) > 500
                and (stuck[2:] & stuck[1:-1] & stuck[:-2]).sum() > 10
            ):
                raise Unsupported(
                    f"{log.source}: the sensor's {AXES[k]} is clipped at {end / 1000:.0f} m/s², "
                    f"{stuck.sum()} times",
                    "sweep with less acceleration, or set the sensor to a wider range",
                )


def _gaps(log: MotionLog) -> list[Warned]:
    steps = np.diff(log.time_s)
    usual = float(np.median(steps))
    lost = float(steps[steps > 1.5 * usual].sum() - usual * (steps > 1.5 * usual).sum())
    if lost > MOST_LOST * log.duration_s:
        raise Unsupported(
            f"{log.source}: {lost / log.duration_s:.0%} of the samples are missing",
            "use a shorter cable or a slower rate; log the test again",
        )
    longest = int(np.argmax(steps))
    if steps[longest] > LONGEST_GAP_S:
        raise Unsupported(
            f"{log.source}: a gap of {steps[longest]:.2f} s at "
            f"{log.time_s[longest] - log.time_s[0]:.1f} s",
            "log the test again in one piece",
        )
    if steps[longest] > max(0.03, 10 * usual):
        return [Warned("dropout", f"samples are missing for up to {1000 * steps[longest]:.0f} ms")]
    return []


def _refuse_course(log: MotionLog, ridge: sweep.Ridge) -> None:
    highest = float(ridge.frequency_hz.max()) + sweep.EDGE_HZ
    if log.rate_hz < OVERSAMPLED * highest:
        raise Unsupported(
            f"{log.source}: {log.rate_hz:.0f} samples a second are too few for a sweep to "
            f"{highest:.0f} Hz or more",
            f"sample at least {OVERSAMPLED * max(highest, 130):.0f} times a second, or end the "
            "sweep lower",
        )
    if ridge.clear < 0.6:
        raise Unsupported(
            f"{log.source}: the sweep is seen in only {ridge.clear:.0%} of its frequencies",
            "sweep with more acceleration, and mount the sensor firmly",
        )


def _chosen(log: MotionLog, loud: Array, given: str | None, axis: str, warned: list[Warned]) -> int:
    """The sensor's axis: as given, held against what the log shows; or the one that moves most."""
    most = int(np.argmax(loud))
    chosen = most if given is None else AXES.index(given)
    if loud[chosen] < 0.3 * loud[most]:
        warned.append(
            Warned(
                "sensor-axis-doubtful",
                f"{log.source}: the sensor's {AXES[chosen]} hardly moves; its {AXES[most]} "
                "moves most",
            )
        )
    down = np.abs(np.median(log.acceleration_mm_s2[::7], axis=0))
    if axis != "z" and down[chosen] > 0.8 * G_MM_S2 and loud[chosen] > 0:
        warned.append(
            Warned(
                "sensor-axis-doubtful",
                f"{log.source}: the sensor's {AXES[chosen]} points up or down, but axis {axis} "
                "does not",
            )
        )
    second = float(np.sort(loud)[-2])
    if second > 0.25 * loud[most]:
        warned.append(
            Warned(
                "sensor-skewed",
                f"{log.source}: a second axis of the sensor moves "
                f"{np.sqrt(second / loud[most]):.0%} as "
                "much as the first",
            )
        )
    return chosen


def _health(fit: ModeFit, axis: str) -> list[Warned]:
    """Signs of something loose."""
    out = []
    large = [m for m in fit.modes if m.share > 0.15]
    if len(large) >= 3:
        out.append(
            Warned(
                "several-peaks", f"axis {axis}: the motion is spread over {len(large)} resonances"
            )
        )
    broad = [m for m in large if m.damping > 0.15]
    if broad:
        out.append(
            Warned(
                "broad-peak",
                f"axis {axis}: the resonance at {broad[0].frequency_hz:.0f} Hz is broad "
                f"(damping {broad[0].damping:.2f})",
            )
        )
    if fit.misfit > 4.0 or fit.unexplained > 0.12:
        out.append(
            Warned(
                "peak-unexplained",
                f"axis {axis}: the modes leave {fit.unexplained:.0%} of the response unexplained",
            )
        )
    return out


def health_words(modes: tuple[Mode, ...]) -> str:
    """A plain word on an axis."""
    large = [m for m in modes if m.share > 0.15]
    if len(large) == 1 and large[0].damping <= 0.15:
        return "one clean peak: a sound axis"
    if len(large) == 1:
        return "one broad peak: friction, a soft belt, or a soft sensor mount"
    return f"{len(large)} comparable peaks: " + (
        "look for something loose" if len(large) > 2 else "usual where a bed or a head rocks"
    )
