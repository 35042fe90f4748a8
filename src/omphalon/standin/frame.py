"""A made-up machine frame under a sensor: plain G-code becomes moves; modes in the time domain,
rocking, hum, harmonics, and a sensor with its faults.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field

import numpy as np

from omphalon.base.arrays import Array

G_MM_S2 = 9806.65
RATE_HZ = 12800.0


@dataclass(frozen=True, kw_only=True)
class Move:
    """A straight move from (x0, y0) to (x1, y1) mm at height z: filament fed (mm), speed asked
    (mm/s), lead (s), acceleration.
    """

    x0: float
    y0: float
    x1: float
    y1: float
    z: float
    fed_mm: float
    speed_mm_s: float
    lead_s: float
    acceleration_mm_s2: float

    @property
    def length_mm(self) -> float:
        return float(((self.x1 - self.x0) ** 2 + (self.y1 - self.y0) ** 2) ** 0.5)


def moves_in(lines: Iterable[str], acceleration_mm_s2: float = 3000.0) -> list[Move]:
    """Moves out of G-code with absolute places and relative feed; LEAD, PUSH as in the stand-in's
    dialect.
    """
    at = {"X": 0.0, "Y": 0.0, "Z": 0.0}
    feed, lead, moves = 1000.0, 0.0, []
    for line in lines:
        words = line.split(";")[0].split()
        if not words:
            continue
        if words[0] == "LEAD":
            lead = float(words[1])
        elif words[0] == "PUSH":
            acceleration_mm_s2 = float(words[1])
        elif words[0] in ("G0", "G1"):
            given = {w[0]: float(w[1:]) for w in words[1:]}
            feed = given.get("F", feed)
            x, y, z = (given.get(axis, at[axis]) for axis in "XYZ")
            moves.append(
                Move(
                    x0=at["X"],
                    y0=at["Y"],
                    x1=x,
                    y1=y,
                    z=z,
                    fed_mm=given.get("E", 0.0),
                    speed_mm_s=feed / 60,
                    lead_s=lead,
                    acceleration_mm_s2=acceleration_mm_s2,
                )
            )
            at = {"X": x, "Y": y, "Z": z}
        elif words[0] == "G28":
            at = {"X": 0.0, "Y": 0.0, "Z": 0.0}
    return moves


@dataclass(frozen=True)
class Swing:
    """One mode: frequency (Hz), damping ratio, share of the motion, and how much of it rocks into
    the two other directions.
    """

    frequency_hz: float
    damping: float
    share: float
    rocking: tuple[float, float] = (0.05, 0.03)


@dataclass(frozen=True, kw_only=True)
class Sweep:
    """The drive: from and to (Hz), rate (Hz/s), acceleration at 50 Hz (mm/s²) and its power law,
    harmonics as shares.
    """

    low_hz: float = 5.0
    high_hz: float = 130.0
    rate_hz_s: float = 1.0
    drive_mm_s2: float = 4000.0
    power: float = 0.0
    harmonics: tuple[float, ...] = (0.06, 0.10, 0.03)
    before_s: float = 3.0
    after_s: float = 2.0


@dataclass(frozen=True, kw_only=True)
class Sensor:
    """Rate (Hz), noise (mm/s² a sample), step of its digits, the most it reads, which of its axes
    lies along the motion; clock jitter (share of a sample), samples lost (share), hum as (Hz,
    mm/s²) and how far its frequency wanders (Hz, one deviation), a loose mount as (Hz, damping,
    share).
    """

    rate_hz: float = 3200.0
    noise_mm_s2: float = 150.0
    step_mm_s2: float = 38.3
    most_mm_s2: float = 16 * G_MM_S2
    along: int = 0
    down: int = 2
    jitter: float = 0.0
    lost: float = 0.0
    hum: tuple[tuple[float, float], ...] = ()
    hum_wanders_hz: float = 0.0
    loose: Swing | None = None
    clock_drift: float = 0.0
    seed: int = 0


@dataclass
class FrameLog:
    """Times (n,) in s and accelerations (n, 3) in mm/s²."""

    time_s: Array
    acceleration: Array = field(repr=False)


def swung(drive: Array, rate_hz: float, swings: tuple[Swing, ...]) -> tuple[Array, Array, Array]:
    """Acceleration of the moving part in its direction and in the two others, for a drive's
    acceleration (n,).

    Each mode follows its own H = share (2ζωs + ω²)/(s² + 2ζωs + ω²) by exact steps of the drive
    held over a sample.
    """
    out = [np.zeros(len(drive)) for _ in range(3)]
    for swing in swings:
        w, z = 2 * np.pi * swing.frequency_hz, swing.damping
        moved = _swing(drive, rate_hz, swing, (w * w, 2 * z * w))
        for n, much in enumerate((1.0, *swing.rocking)):
            out[n] += much * moved
    return out[0], out[1], out[2]


def left_behind(drive: Array, rate_hz: float, swings: tuple[Swing, ...]) -> Array:
    """How far (mm) the moving part is from where the drive's acceleration (n,) would have it."""
    parts = [_swing(drive, rate_hz, swing, (-1.0, 0.0)) for swing in swings]
    return np.sum(parts, axis=0) if parts else np.zeros(len(drive))


def _swing(drive: Array, rate_hz: float, swing: Swing, read: tuple[float, float]) -> Array:
    """A mode under a drive, its place and speed times `read` and its share: by exact steps."""
    from scipy.linalg import expm
    from scipy.signal import lfilter

    w, z = 2 * np.pi * swing.frequency_hz, swing.damping
    a = np.array([[0.0, 1.0], [-w * w, -2 * z * w]])
    held = expm(np.block([[a, np.array([[0.0], [1.0]])], [np.zeros((1, 3))]]) / rate_hz)
    step, push = held[:2, :2], held[:2, 2]
    trace, det = step[0, 0] + step[1, 1], np.linalg.det(step)
    seen = np.array(read) * swing.share
    first = seen @ push
    second = seen @ (step @ push) - trace * first
    return np.asarray(lfilter([0.0, first, second], [1.0, -trace, det], drive))


def chirp(sweep: Sweep, rate_hz: float, random: np.random.Generator) -> Array:
    """The drive's acceleration: a homing bump, a pause, the sweep with its harmonics, a pause, a
    move away.
    """
    span = (sweep.high_hz - sweep.low_hz) / sweep.rate_hz_s
    at = (
        np.arange(int((sweep.before_s + span + sweep.after_s) * rate_hz)) / rate_hz - sweep.before_s
    )
    frequency = np.clip(sweep.low_hz + sweep.rate_hz_s * at, sweep.low_hz, sweep.high_hz)
    inside = (at >= 0) & (at <= span)
    phase = 2 * np.pi * np.cumsum(np.where(inside, frequency, 0.0)) / rate_hz
    size = sweep.drive_mm_s2 * (frequency / 50.0) ** sweep.power
    drive = size * np.sin(phase)
    for n, share in enumerate(sweep.harmonics, 2):
        drive += share * size * np.sin(n * phase + random.uniform(0, 2 * np.pi))
    drive = np.where(inside, drive, 0.0)
    for start in (-0.7 * sweep.before_s, span + 0.3 * sweep.after_s):
        bump = (at > start) & (at < start + 0.15)
        drive = drive + np.where(bump, 3000.0 * np.sign(start + 0.075 - at), 0.0)
    return drive


def sensed(
    drive: Array, swings: tuple[Swing, ...], sensor: Sensor, drive_rate_hz: float | None = None
) -> FrameLog:
    """What the sensor logs while the frame is driven; the drive (n,) comes at the sensor's rate, or
    at one of its own.
    """
    random = np.random.default_rng(sensor.seed)
    rate = drive_rate_hz or sensor.rate_hz
    along, side, up = swung(drive, rate, swings)
    if sensor.loose is not None:
        along = (1 - sensor.loose.share) * along + swung(along, rate, (sensor.loose,))[0]
    at = np.arange(len(along)) / rate
    if drive_rate_hz is not None:
        taken = np.arange(0, at[-1], 1 / sensor.rate_hz)
        along, side, up = (np.interp(taken, at, a) for a in (along, side, up))
        at = taken
    if sensor.jitter:
        taken = np.sort(at + random.normal(0, sensor.jitter / sensor.rate_hz, len(at)))
        along, side, up = (np.interp(taken, at, a) for a in (along, side, up))
        at = taken
    axes = np.zeros((len(at), 3))
    across = [k for k in range(3) if k != sensor.along]
    axes[:, sensor.along] = along
    axes[:, across[0]] = side
    axes[:, across[1]] = up
    axes[:, sensor.down] += G_MM_S2
    for frequency, size in sensor.hum:
        turn = 2 * np.pi * frequency * at
        if sensor.hum_wanders_hz:
            turn = turn + _wandering(random, at, sensor.hum_wanders_hz)
        for k in range(3):
            axes[:, k] += (1.0, 0.6, 0.8)[k] * size * np.sin(turn + random.uniform(0, 6))
    axes += random.normal(0, sensor.noise_mm_s2, axes.shape)
    axes = np.clip(
        np.round(axes / sensor.step_mm_s2) * sensor.step_mm_s2,
        -sensor.most_mm_s2,
        sensor.most_mm_s2,
    )
    keep = random.random(len(at)) >= sensor.lost
    return FrameLog(at[keep] * (1 + sensor.clock_drift), axes[keep])


def _wandering(random: np.random.Generator, at: Array, deviation_hz: float) -> Array:
    """Phase of a hum whose frequency is another every three seconds, and passes smoothly between
    them.
    """
    knots = np.arange(0.0, at[-1] + 6.0, 3.0)
    off = np.interp(at, knots, random.normal(0, deviation_hz, len(knots)))
    return np.asarray(2 * np.pi * np.cumsum(off * np.gradient(at)))


def sweep_log(swings: tuple[Swing, ...], sweep: Sweep, sensor: Sensor) -> FrameLog:
    """A whole sweep."""
    return sensed(
        chirp(sweep, sensor.rate_hz, np.random.default_rng(sensor.seed + 1)), swings, sensor
    )


def as_csv(log: FrameLog, unit: str = "mm/s²", head: str = "") -> Iterator[str]:
    """The log as rows, in a unit."""
    scale = {"g": G_MM_S2, "m/s²": 1000.0, "mm/s²": 1.0}[unit]
    if head:
        yield f"# {head}"
    yield f"time (s),x ({unit}),y ({unit}),z ({unit})"
    places = {"g": 4, "m/s²": 3, "mm/s²": 1}[unit]
    row = f"%.5f,%.{places}f,%.{places}f,%.{places}f"
    for time, (x, y, z) in zip(
        log.time_s.tolist(), (log.acceleration / scale).tolist(), strict=True
    ):
        yield row % (time, x, y, z)


def driven(lines: Iterable[str], axis: str, still_s: float = 2.0) -> Array:
    """Acceleration of one axis at RATE_HZ: each move from rest to rest, as a straight planner does
    for a turn about.
    """
    at, speed = [0.0, still_s], [0.0, 0.0]
    for move in moves_in(lines):
        way = move.x1 - move.x0 if axis == "x" else move.y1 - move.y0
        if way == 0:
            continue
        a = move.acceleration_mm_s2
        top = min(move.speed_mm_s, math.sqrt(a * abs(way)))
        along = abs(way) / top - top / a
        for span, value in (
            (top / a, math.copysign(top, way)),
            (along, math.copysign(top, way)),
            (top / a, 0.0),
        ):
            if span > 1e-9:
                at.append(at[-1] + span)
                speed.append(value)
    at.append(at[-1] + still_s)
    speed.append(0.0)
    grid = np.arange(0.0, at[-1], 1 / RATE_HZ)
    return np.asarray(np.diff(np.interp(grid, at, speed)) * RATE_HZ)


def shaken(lines: Iterable[str], axis: str, swings: tuple[Swing, ...], sensor: Sensor) -> FrameLog:
    """What the sensor logs while these lines run."""
    return sensed(driven(lines, axis), swings, sensor, RATE_HZ)
