"""Frames with a comb of peaks, as something loose makes them: four to seven modes of like height,
8 Hz or more apart. Are they all found, is none merged with its neighbour, and is none called usual?

    python benchmarks/jagged.py [FRAMES]
"""

from __future__ import annotations

import concurrent.futures
import sys
from collections import Counter

import numpy as np

from frames import clean
from omphalon.recordings.recording import MotionLog
from omphalon.standin.frame import Swing, sweep_log
from omphalon.studies.shaper.modes import read_axis
from omphalon.studies.shaper.words import health_words

APART_HZ, LOWEST_HZ, HIGHEST_HZ = 8.0, 28.0, 112.0
WITHIN = 0.01


def jagged(seed: int) -> tuple[Swing, ...]:
    """Modes of a frame: shares that make peaks of like height, within a factor of two."""
    random = np.random.default_rng([41, seed])
    count = 4 + seed % 4
    while True:
        frequency = np.sort(random.uniform(LOWEST_HZ, HIGHEST_HZ, count))
        if np.diff(frequency).min() >= APART_HZ:
            break
    damping = np.exp(random.uniform(np.log(0.015), np.log(0.045), count))
    height = random.uniform(0.7, 1.4, count)
    share = height * damping
    share /= share.sum()
    return tuple(Swing(*map(float, one)) for one in zip(frequency, damping, share, strict=True))


def one(seed: int) -> dict[str, object]:
    swings, (sweep, sensor) = jagged(seed), clean(seed)
    made = sweep_log(swings, sweep, sensor)
    log = MotionLog(
        source=f"frame {seed}",
        time_s=made.time_s,
        acceleration_mm_s2=made.acceleration,
        unit="mm/s²",
    )
    read = read_axis(log, "x", "xyz"[sensor.along], "sweep")
    found = np.array([m.frequency_hz for m in read.modes])
    true = np.array([s.frequency_hz for s in swings])
    near = [float(np.abs(found / f - 1).min()) < WITHIN for f in true]
    return {
        "seed": seed,
        "modes": len(true),
        "found": sum(near),
        "merged": len(true) - len({int(np.argmin(np.abs(found - f))) for f in true}),
        "false": sum(float(np.abs(true / f - 1).min()) > 0.03 for f in found),
        "words": health_words(read),
        "what": ", ".join(f"{f:.1f}" for f in true) + " → " + ", ".join(f"{f:.1f}" for f in found),
    }


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 40
    with concurrent.futures.ProcessPoolExecutor() as pool:
        rows = list(pool.map(one, range(count)))
    whole = Counter[str]()
    for row in rows:
        whole["modes"] += row["modes"]
        whole["found"] += row["found"]
        whole["merged"] += row["merged"]
        whole["false"] += row["false"]
        whole["usual"] += "usual" in row["words"] or "sound" in row["words"]
        if row["found"] < row["modes"] or row["false"]:
            print(f"  {row['seed']}: {row['what']}; {row['words']}")
    print("| frames | modes | found within 1 % | merged | false | called usual or sound |")
    print("| --- | --- | --- | --- | --- | --- |")
    names = ("modes", "found", "merged", "false", "usual")
    print(f"| {count} | " + " | ".join(str(whole[name]) for name in names) + " |")


if __name__ == "__main__":
    main()
