"""Forty printers whose modes move with place and load: one shaper for all places, against the best
one, and against the pick of a single log.

    python benchmarks/places.py [PRINTERS]

Three families: a bed with a load on it, a head at places of a beam, belts that are longer here and
shorter there. Each is swept at three to five places by the stand-in, and fitted by the program.
The pick is judged on the printer's own modes at 21 places, also between the measured ones, by
complex sums that share no code with the program, with 1 % of drift from day to day; so is every
shaper over a fine grid: the best possible.
"""

from __future__ import annotations

import sys
from concurrent.futures import ProcessPoolExecutor

import numpy as np

from frames import allowed_acceleration
from omphalon.physics.impulses import SHAPERS, seconds
from omphalon.recordings.recording import MotionLog
from omphalon.standin.frame import Sensor, Sweep, Swing, sweep_log
from omphalon.studies.shaper.fit import fit_shaper
from omphalon.studies.shaper.question import PlaceLog, ShaperQuestion

FAMILIES = ("bed's load", "head on a beam", "belts by length")
DENSE = np.linspace(0, 1, 21)
DAILY = 0.01


def swings(family: str, seed: int, place: float) -> tuple[Swing, ...]:
    """The modes of a printer at a place from 0 to 1."""
    random = np.random.default_rng([41, FAMILIES.index(family), seed])
    main, apart = float(random.uniform(30, 60)), float(random.uniform(1.35, 1.9))
    damping = [float(np.exp(random.uniform(np.log(0.03), np.log(0.1)))) for _ in range(2)]
    share, moves = float(random.uniform(0.65, 0.92)), float(random.uniform(0.08, 0.25))
    if family == "bed's load":
        factors = ((1 - moves) ** place, 1.0)
    elif family == "head on a beam":
        factors = (1 + moves * (2 * place - 1) ** 2, 1 + 0.3 * moves * (1 - (2 * place - 1) ** 2))
    else:
        factors = (1 + moves * (place - 0.5), 1 - 0.7 * moves * (place - 0.5))
    frequencies = (main * factors[0], main * apart * factors[1])
    return tuple(
        Swing(f, d, s) for f, d, s in zip(frequencies, damping, (share, 1 - share), strict=True)
    )


def truly(
    family: str, seed: int, name: str, frequency: float, damping: float, places: np.ndarray = DENSE
) -> float:
    """What a setting allows at the worst of all places."""
    shaper = SHAPERS[name](damping)
    times = seconds(shaper, frequency, damping)
    return min(
        allowed_acceleration(swings(family, seed, p), shaper.weights, times, drift=DAILY)
        for p in places
    )


def best_possible(family: str, seed: int) -> float:
    best = (0.0, "", 0.0, 0.0)
    for name in SHAPERS:
        for damping in {s.damping for s in swings(family, seed, 0.5)}:
            for frequency in np.arange(18, 140, 2.0):
                best = max(
                    best, (truly(family, seed, name, frequency, damping), name, frequency, damping)
                )
    _, name, near, damping = best
    return max(truly(family, seed, name, f, damping) for f in np.arange(near - 2, near + 2, 0.2))


def log_at(family: str, seed: int, place: float) -> MotionLog:
    made = sweep_log(
        swings(family, seed, place),
        Sweep(rate_hz_s=1.6),
        Sensor(rate_hz=1000.0, jitter=0.01, seed=1000 * seed + round(100 * place)),
    )
    return MotionLog(
        source=f"{place:.2f}",
        time_s=made.time_s,
        acceleration_mm_s2=made.acceleration,
        unit="mm/s²",
    )


def one(case: tuple[str, int]) -> tuple[str, float, float, float]:
    """Ratio of the pick over places to the best, of one log's pick, and what the range costs."""
    family, seed = case
    places = np.linspace(0, 1, 5 if family == "belts by length" else 3)
    logs = tuple(PlaceLog(label=f"{p:g}", log=log_at(family, seed, p)) for p in places)
    best = best_possible(family, seed)
    axis = fit_shaper(ShaperQuestion(logs={}, places={"x": logs})).axes[0]
    alone = fit_shaper(ShaperQuestion(logs={"x": logs[len(logs) // 2].log})).axes[0]
    ratios = [
        truly(family, seed, c.shaper, c.frequency_hz, c.damping) / best
        for c in (axis.chosen, alone.chosen)
    ]
    return family, ratios[0], ratios[1], axis.cost


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 40
    cases = [(FAMILIES[n % 3], n // 3) for n in range(count)]
    with ProcessPoolExecutor() as pool:
        found = list(pool.map(one, cases))
    print("truly allowed at the worst place, over the best one shaper      one log's pick")
    print("printers            of   median   10th   worst   cost     median   10th   worst")
    for family in (*FAMILIES, "all"):
        rows = [r for r in found if family in (r[0], "all")]
        several, alone, cost = (np.array([r[k] for r in rows]) for k in (1, 2, 3))
        ours = f"{np.median(several):.3f}  {np.quantile(several, 0.1):.3f}   {several.min():.3f}"
        theirs = f"{np.median(alone):.3f}  {np.quantile(alone, 0.1):.3f}   {alone.min():.3f}"
        print(f"{family:18s} {len(rows):3d}    {ours}   {np.median(cost):4.0%}      {theirs}")


if __name__ == "__main__":
    main()
