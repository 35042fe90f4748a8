"""What caliper and eye read off a tower, a ladder and a row of corners: ways of reading that the
stand-in's own desk does not have; and how well a pick by eye, or a range that looks clean, answers.

    python benchmarks/eyes.py [PRINTERS]

Ladders of made-up printers (30 direct, 30 bowden where not given) looked at by eyes of three kinds,
by how small a fault they still see. A pick is the line whose fault looks least, a clean range the
lines about it on which no fault is seen. Then a second print, finer, as the answer advises.
"""

import sys
import tempfile
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import numpy as np

from omphalon.standin.bead import Nozzle, beads
from omphalon.standin.frame import moves_in
from omphalon.standin.reader import Reader, corner_bulge, ladder_widths, scores_csv, tower_bulges

# how small a fault is still seen, mm
EYES = {"sharp": 0.015, "usual": 0.03, "poor": 0.05}
RANGES = {"direct": (0.015, 0.09, 0.12), "bowden": (0.2, 0.9, 1.2)}  # true values, end of the print
LINES = 24


def tower_bulges_csv(
    lines: list[str], nozzle: Nozzle, reader: Reader, every_mm: float = 2.5
) -> Iterator[str]:
    """The clean corner's bulge by caliper, every so many mm of height."""
    random = np.random.default_rng(reader.seed)
    height, bulge, slow = tower_bulges(lines, nozzle, random)
    yield "height_mm,bulge_mm"
    for goal in np.arange(every_mm, height[-1], every_mm):
        around = np.abs(height - goal) < 0.5
        if slow[around].any():
            continue
        yield (
            f"{goal:.1f}"
            f",{bulge[around].mean() + random.normal(0, reader.caliper_mm * reader.careless):.2f}"
        )


def corners_csv(
    lines: list[str], nozzle: Nozzle, reader: Reader, score: bool = False
) -> Iterator[str]:
    """Each value's corner: its bulge by caliper (mean of the layers above the first), or a
    score.
    """
    random = np.random.default_rng(reader.seed)
    found: dict[float, list[float]] = {}
    layer = 0.0
    for bead in beads(moves_in(lines), nozzle, random):
        run, layer = bead.moves, layer or bead.moves[0].z
        if len(run) == 2 and run[0].z > 1.5 * layer and min(run[0].length_mm, run[1].length_mm) > 5:
            found.setdefault(run[0].lead_s, []).append(corner_bulge(bead, bead.ends_mm[0]))
    values = np.array(sorted(found))
    bulges = np.array([np.mean(found[v]) for v in values])
    if score:
        yield from scores_csv(values, np.abs(bulges), reader, random)
        return
    yield "advance_s,bulge_mm"
    for value, bulge in zip(
        values,
        bulges + random.normal(0, reader.caliper_mm * reader.careless, len(values)),
        strict=True,
    ):
        yield f"{value:g},{bulge:.2f}"


def pick(values, fault, tells_mm, random):
    """The line whose fault looks least."""
    return float(values[np.argmin(np.abs(fault + random.normal(0, tells_mm, len(fault))))])


def clean(values, fault, tells_mm, random):
    """From the first to the last line about the best on which no fault is seen; None where fewer
    than two lines look clean.
    """
    seen = np.abs(fault + random.normal(0, tells_mm / 2, len(fault))) > 2 * tells_mm
    at = int(np.argmin(np.abs(fault)))
    faults = np.flatnonzero(seen)
    low, high = faults[faults < at].max(initial=-1) + 1, faults[faults > at].min(initial=len(seen))
    return (float(values[low]), float(values[high - 1])) if high - low > 1 else None


def printed(drive, truth, span, folder, seed):
    """A ladder's lines: their values, and the fault of each."""
    from advance import run

    file = Path(folder) / f"ladder-{seed}.gcode"
    limits = [w for name, value in span.items() for w in (f"--{name}", repr(value))]
    style = ("--style", "ladder", "--drive", drive, "--dialect", "stand-in")
    run("advance", "plan", *style, "--out", str(file), *limits)
    lines = file.read_text(encoding="utf-8").splitlines()
    values, up, down = ladder_widths(lines, Nozzle(lead_s=truth), np.random.default_rng(seed))
    each, of = np.unique(values, return_inverse=True)  # a value stands there twice
    return each, np.bincount(of, down - up) / np.bincount(of)


def looked_at(job):
    """Of one printer and each kind of eyes: for a pick, a clean range, and a second pick on a finer
    print, the half width and how far off it is; nan where it is a retest.
    """
    from advance import run

    drive, truth, seed = job
    random, top = np.random.default_rng([seed, len(drive)]), RANGES[drive][2]
    span = {"from": 0.0, "to": top, "step": top / LINES}
    rows = []
    with tempfile.TemporaryDirectory() as folder:
        values, fault = printed(drive, truth, span, folder, seed)

        def answer(span, *words):
            limits = [w for name, value in span.items() for w in (f"--{name}", repr(value))]
            found = run("advance", "fit", "--drive", drive, *words, *limits)
            if found["verdict"] == "retest":
                return (np.nan, np.nan), None
            off = found["settings"]["advance_s"] - truth
            return (found["spread"]["advance_s"], off), found["evidence"]["refine"]

        for tells in EYES.values():
            first, finer = answer(span, "--value", repr(pick(values, fault, tells, random)))
            ends = clean(values, fault, tells, random)
            ranged = (np.nan, np.nan)
            if ends is not None:
                ranged, _ = answer(span, "--clean", f"{ends[0]!r}:{ends[1]!r}")
            second = first
            if finer is not None:
                more, faults = printed(drive, truth, finer, folder, seed + 1000)
                second, _ = answer(finer, "--value", repr(pick(more, faults, tells, random)))
            rows.append((first, ranged, second))
    return rows


def main():
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 30
    print(f"{'drive, eyes':18}{'way':12}{'answered':>9}{'held':>7}{'± s':>9}{'off, 90th':>11}")
    for drive, (low, high, _) in RANGES.items():
        truths = np.linspace(low, high, count)
        jobs = [(drive, float(truth), seed) for seed, truth in enumerate(truths)]
        with ProcessPoolExecutor(2) as pool:
            found = np.array(list(pool.map(looked_at, jobs)))
        for k, eyes in enumerate(EYES):
            for n, way in enumerate(("pick", "clean", "second pick")):
                half, off = found[:, k, n].T
                there = np.isfinite(half)
                held = np.mean(np.abs(off[there]) <= half[there]) if there.any() else np.nan
                sizes = (np.median(half[there]), np.quantile(np.abs(off[there]), 0.9))
                print(
                    f"{drive + ', ' + eyes:18}{way:12}{there.sum():>6}/{count:<3}{held:6.0%}"
                    f"{sizes[0]:9.4f}{sizes[1]:11.4f}",
                    flush=True,
                )


if __name__ == "__main__":
    main()
