"""Sixty known frames through the built program: truly allowed acceleration of the pick against the
best possible.

    python benchmarks/shaper.py [FRAMES] [clean|dirty|hard|weak]…

Each frame (one to four modes, benchmarks/frames.py) is swept by the stand-in, logged as CSV, and
fitted by the program. The pick's impulses are then judged on the frame's own modes, by complex sums
that share no code with the program, and so is every offered shaper over a fine grid of frequencies
and dampings: the best possible. Beside it what people do by eye: the tallest peak of the log's
spectrum, with mzv and a damping of 0.1. Then how close modes and spreads come.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, field

import numpy as np

from frames import allowed_acceleration, clean, dirty, frame, hard, weak_frame
from omphalon.physics.impulses import SHAPERS, seconds
from omphalon.standin.frame import as_csv, sweep_log

# what is drawn: frames, and how they are logged
KINDS = {
    "clean": (frame, clean),
    "dirty": (frame, dirty),
    "hard": (frame, hard),
    "weak": (weak_frame, clean),
}
FIRST_SEED = 300  # the floors of the spreads were set on seeds below 260


@dataclass
class Result:
    """One frame: the pick's and the eye's ratio, whether all modes were found, errors and whether
    spreads held the truth.
    """

    seed: int
    ratio: float
    by_eye: float
    matched: bool
    warned: list[str]
    frequency_error: list[float] = field(default_factory=list)
    damping_error: list[float] = field(default_factory=list)
    share_error: list[float] = field(default_factory=list)
    held: list[tuple[bool, bool, bool]] = field(default_factory=list)


def truly_allowed(swings: tuple, name: str, frequency: float, damping: float) -> float:
    shaper = SHAPERS[name](damping)
    return allowed_acceleration(swings, shaper.weights, seconds(shaper, frequency, damping))


def best_possible(swings: tuple) -> float:
    """Over all shapers, frequencies of 12 to 150 Hz and the frame's dampings; coarse first, then
    fine.
    """
    best = (0.0, "", 0.0, 0.0)
    for name in SHAPERS:
        for damping in {s.damping for s in swings}:
            for frequency in np.arange(12, 150, 1.0):
                best = max(
                    best,
                    (truly_allowed(swings, name, frequency, damping), name, frequency, damping),
                )
    _, name, near, damping = best
    return max(truly_allowed(swings, name, f, damping) for f in np.arange(near - 1, near + 1, 0.05))


def tallest_peak(time: np.ndarray, axis: np.ndarray) -> float:
    """Frequency of the tallest peak of a Welch spectrum, 10 to 150 Hz."""
    width = int(2 / np.median(np.diff(time)))
    pieces = np.lib.stride_tricks.sliding_window_view(axis - axis.mean(), width)[:: width // 2]
    power = np.mean(np.abs(np.fft.rfft(pieces * np.hanning(width), axis=1)) ** 2, axis=0)
    frequency = np.fft.rfftfreq(width, float(np.median(np.diff(time))))
    inside = (frequency > 10) & (frequency < 150)
    return float(frequency[inside][np.argmax(power[inside])])


def one(job: tuple[str, int]) -> Result:
    kind, seed = job
    made, logged = KINDS[kind]
    swings = made(seed)
    sweep, sensor = logged(seed)
    log = sweep_log(swings, sweep, sensor)
    with tempfile.TemporaryDirectory() as folder:
        path = os.path.join(folder, "sweep.csv")
        with open(path, "w", encoding="utf-8") as file:
            file.writelines(line + "\n" for line in as_csv(log, "g"))
        done = subprocess.run(
            [sys.executable, "-m", "omphalon", "shaper", "fit", "--x", path, "--json"],
            capture_output=True,
            text=True,
        )
    answer = json.loads(done.stdout)
    best = best_possible(swings)
    peak = tallest_peak(log.time_s, log.acceleration[:, sensor.along])
    eye = truly_allowed(swings, "mzv", peak, 0.1) / best
    if answer["verdict"] == "retest":
        return Result(seed, 0.0, eye, False, [answer["because"]])
    pick = answer["settings"]["x"]
    found = answer["evidence"]["x"]["modes"]
    result = Result(
        seed,
        truly_allowed(swings, pick["shaper"], pick["frequency_hz"], pick["damping"]) / best,
        eye,
        len(found) == len(swings),
        [w["code"] for w in answer["warnings"]],
    )
    if result.matched:
        pace = 1 + sensor.clock_drift
        for true, mode in zip(swings, found, strict=True):
            errors = (
                mode["frequency_hz"] * pace - true.frequency_hz,
                mode["damping"] - true.damping,
                mode["share"] - true.share,
            )
            result.frequency_error.append(abs(errors[0]) / max(0.5, 0.01 * true.frequency_hz))
            result.damping_error.append(abs(errors[1]) / true.damping)
            result.share_error.append(abs(errors[2]))
            spread = mode["spread"]
            result.held.append(
                tuple(
                    abs(e) <= spread[k] + 1e-9
                    for e, k in zip(errors, ("frequency_hz", "damping", "share"), strict=True)
                )
            )
    return result


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 60
    print(
        f"{'logs':8}{'frames':>8}{'median':>9}{'10 %':>8}{'worst':>8}   "
        f"{'by eye: median':>15}{'worst':>8}"
    )
    details = []
    for kind in sys.argv[2:] or KINDS:
        with ProcessPoolExecutor(2) as pool:
            results = list(pool.map(one, [(kind, FIRST_SEED + n) for n in range(count)]))
        ratio, eye = np.array([r.ratio for r in results]), np.array([r.by_eye for r in results])
        print(
            f"{kind:8}{count:>8}{np.median(ratio):9.3f}{np.quantile(ratio, 0.1):8.3f}"
            f"{ratio.min():8.3f}   {np.median(eye):15.3f}"
            f"{eye.min():8.3f}",
            flush=True,
        )
        details.append((kind, results))
    print(
        f"\n{'logs':8}{'modes found':>13}{'frequency':>12}{'damping':>10}{'share':>9}   "
        f"{'spreads hold: f':>15}{'damping':>9}"
        f"{'share':>7}"
    )
    for kind, results in details:
        good = [r for r in results if r.matched]
        held = np.array([h for r in good for h in r.held])
        several = np.array([h[2] for r in good for h in r.held if len(r.held) > 1])
        worst = [
            max(e for r in good for e in getattr(r, name))
            for name in ("frequency_error", "damping_error", "share_error")
        ]
        print(
            f"{kind:8}{len(good):>9}/{count:<3}{worst[0]:>12.2f}{worst[1]:>10.1%}{worst[2]:>9.3f} "
            f"  {held[:, 0].mean():15.1%}"
            f"{held[:, 1].mean():9.1%}{several.mean():7.1%}"
        )
    print(
        "frequency: worst error in units of 0.5 Hz or 1 %, whichever is more; damping and share: "
        "worst errors"
    )
    for kind, results in details:
        for r in sorted(results, key=lambda r: r.ratio)[:4]:
            print(f"{kind} frame {r.seed}: {r.ratio:.3f} {' '.join(r.warned)}")


if __name__ == "__main__":
    main()
