"""Made-up frames for the input shaper's benchmark and tests: one to four modes, more than 12 %
apart, with known truth.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from omphalon.standin.frame import Sensor, Sweep, Swing

GAP = 1.14


def frame(seed: int) -> tuple[Swing, ...]:
    """Modes of a frame: the lowest from 25 to 75 Hz, shares at least 0.06, dampings 0.02 to
    0.12.
    """
    random = np.random.default_rng([11, seed])
    count = 1 + seed % 4
    frequency = [float(random.uniform(25, 75 if count < 3 else 45))]
    while len(frequency) < count:
        frequency.append(frequency[-1] * float(random.uniform(GAP, 1.8)))
    if frequency[-1] > 115:
        frequency = [f * 115 / frequency[-1] for f in frequency]
    share = random.dirichlet(np.full(count, 2.0)) if count > 1 else np.ones(1)
    share = 0.06 + (1 - 0.06 * count) * share
    return tuple(
        Swing(
            f,
            float(np.exp(random.uniform(np.log(0.02), np.log(0.12)))),
            float(s),
            (float(random.uniform(-0.2, 0.2)), float(random.uniform(-0.1, 0.1))),
        )
        for f, s in zip(frequency, share, strict=True)
    )


def clean(seed: int) -> tuple[Sweep, Sensor]:
    """A good log: 3.2 kHz, a quiet sensor, the drive flat or rising with frequency."""
    random = np.random.default_rng([12, seed])
    return (
        Sweep(
            power=float(random.choice([0.0, 0.5, 1.0])),
            rate_hz_s=float(random.choice([0.8, 1.0, 1.6])),
        ),
        Sensor(along=seed % 2, jitter=0.01, seed=seed),
    )


def dirty(seed: int) -> tuple[Sweep, Sensor]:
    """A poor log: strong hum near a mode and elsewhere, three times the noise, 1 kHz, 5 % of the
    samples lost, a drifting clock.
    """
    random = np.random.default_rng([13, seed])
    near = frame(seed)[-1].frequency_hz * float(random.choice([0.94, 1.07]))
    sweep = clean(seed)[0]
    return sweep, Sensor(
        along=seed % 2,
        rate_hz=1000.0,
        noise_mm_s2=450.0,
        lost=0.05,
        jitter=0.05,
        clock_drift=0.002,
        hum=((near, float(random.uniform(1500, 4000))), (100.0, 800.0)),
        seed=seed,
    )


HARD = ("near hum", "wandering hum", "noise", "slow", "lost", "rising", "coarse", "harmonics")


def hard(seed: int) -> tuple[Sweep, Sensor]:
    """Three of eight faults at once, in turn: hum within 6 Hz of a mode, hum that wanders, five
    times the noise, 700 samples a second, 5 % of them lost, a drive that rises with the square, a
    coarse sensor, strong harmonics.
    """
    random = np.random.default_rng([14, seed])
    faults = set(random.permutation(HARD)[:3])
    modes = frame(seed)
    near = modes[int(random.integers(len(modes)))].frequency_hz + float(random.uniform(-6, 6))
    loud = float(random.uniform(1500, 4000))
    sweep, sensor = clean(seed)
    hum = ((near, loud),) if {"near hum", "wandering hum"} & faults else ()
    return replace(
        sweep,
        power=2.0 if "rising" in faults else sweep.power,
        harmonics=(0.2, 0.3, 0.1) if "harmonics" in faults else sweep.harmonics,
    ), replace(
        sensor,
        hum=hum,
        hum_wanders_hz=1.0 if "wandering hum" in faults else 0.0,
        noise_mm_s2=750.0 if "noise" in faults else 150.0,
        rate_hz=700.0 if "slow" in faults else 1600.0,
        lost=0.05 if "lost" in faults else 0.0,
        step_mm_s2=306.0 if "coarse" in faults else 38.3,
    )


def weak_frame(seed: int) -> tuple[Swing, ...]:
    """Two modes, the second with 2 to 5 % of the motion."""
    random = np.random.default_rng([15, seed])
    low = float(random.uniform(28, 60))
    share = float(random.uniform(0.02, 0.05))
    high = low * float(random.uniform(1.3, 2.2))
    damping = [float(np.exp(random.uniform(np.log(0.02), np.log(0.1)))) for _ in range(2)]
    return (Swing(low, damping[0], 1 - share), Swing(min(high, 115.0), damping[1], share))


def allowed_acceleration(
    swings: tuple[Swing, ...],
    weights: np.ndarray,
    times_s: np.ndarray,
    ringing_mm: float = 0.01,
    rounding_mm: float = 0.10,
    drift: float = 0.05,
) -> float:
    """Truly allowed acceleration of impulses on a frame: from its own modes, by complex sums (no
    code of the program's).
    """
    left = 0.0
    for s in swings:
        worst = 0.0
        for d in np.linspace(1 - drift, 1 + drift, 41):
            w = 2 * np.pi * s.frequency_hz * d
            pole = w * (-s.damping + 1j * np.sqrt(1 - s.damping**2))
            v = abs(np.sum(weights * np.exp(pole * (times_s[-1] - times_s))))
            worst = max(worst, s.share / w**2 * v)
        left += worst
    trail = 0.5 * float(weights @ (times_s - weights @ times_s) ** 2)
    return min(ringing_mm / max(left, 1e-12), rounding_mm / max(trail, 1e-12))
