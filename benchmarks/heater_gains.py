"""Gains from one log of 48 made-up heaters against the best that brute force finds, and against a
textbook table.

    python benchmarks/heater_gains.py [--every S] [--detail]

For each plant the log a serial console would show is fitted through the built program; the gains
run in the reference loop on the true plant, as it is and on three other days, and the score is
divided by the least possible one.
"""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from omphalon.physics.linear import textbook
from omphalon.standin.oscillation import HeaterLog, as_console, oscillation_log
from plants import Plant, best_possible, plants
from scored import day_score


@dataclass(frozen=True)
class Row:
    """What came of one plant."""

    plant: Plant
    ratio: float
    book: float
    overshoot_c: float
    dip_c: float
    sensitivity: float
    held: tuple[bool, bool]
    warned: tuple[str, ...]
    document: dict[str, object]


def stamped(log: HeaterLog, bed: bool) -> str:
    """The log as a console with a clock shows it."""
    times, lines = iter(log.time_s), []
    for line in as_console(log, bed):
        if "T:" in line:
            now = next(times)
            line = f"{10 + int(now // 3600):02d}:{int(now // 60 % 60):02d}:{now % 60:05.2f}{line}"
        lines.append(line)
    return "\n".join(lines) + "\n"


def fitted(text: str, plant: Plant, *options: str) -> dict[str, object]:
    """The answer of the built program to a log."""
    with tempfile.TemporaryDirectory() as folder:
        Path(folder, "log.txt").write_text(text)
        which = "bed" if plant.bed else "hotend"
        words = ["heater", "fit", "log.txt", "--heater", which, "--json", *options]
        done = subprocess.run(
            [sys.executable, "-m", "omphalon", *words], cwd=folder, text=True, capture_output=True
        )
    if done.returncode not in (0, 3):
        raise SystemExit(f"{plant.name}: {done.stderr}")
    return json.loads(done.stdout)


def judged(plant: Plant, every: float | None, options: tuple[str, ...] = ("--fan", "off")) -> Row:
    """What the built program makes of a plant's log, run on the plant."""
    test = plant.test if every is None else replace(plant.test, report_s=every)
    text = stamped(oscillation_log(plant.heater, test), plant.bed)
    document = fitted(text, plant, "--full-power", "127", *options)
    best, _ = best_possible(plant)
    warned = tuple(w["code"] for w in document["warnings"])
    if document["verdict"] == "retest":
        return Row(
            plant,
            np.nan,
            np.nan,
            np.nan,
            np.nan,
            np.nan,
            (False, False),
            (document["because"],),
            document,
        )
    gains = np.array([[document["settings"][k] for k in ("kp", "ki", "kd")]])
    evidence = document["evidence"]
    book = textbook(evidence["ultimate_gain"], evidence["period_s"]).row()
    scores, run = day_score(plant.heater, np.vstack([gains, book]), plant.target_c, bed=plant.bed)
    seen = float(run.overshoot_c[0, 0]), float(run.dip_c[0, 0])
    ranges = [evidence["predicted"]["range"][k] for k in ("overshoot_c", "dip_c")]
    held = tuple(low <= value <= high for value, (low, high) in zip(seen, ranges, strict=True))
    margin = evidence["predicted"]["peak_sensitivity"]
    return Row(plant, scores[0] / best, scores[1] / best, *seen, margin, held, warned, document)


def main() -> None:
    every = float(sys.argv[sys.argv.index("--every") + 1]) if "--every" in sys.argv else None
    with ThreadPoolExecutor(2) as pool:
        rows = list(pool.map(lambda p: judged(p, every), plants()))
    if "--detail" in sys.argv:
        for r in rows:
            print(
                f"{r.plant.name:10} ratio {r.ratio:.3f}  textbook {r.book:.2f}  overshoot "
                f"{r.overshoot_c:.2f} {r.held[0]}"
                f"  dip {r.dip_c:.2f} {r.held[1]}  sensitivity {r.sensitivity:.2f} "
                f"{' '.join(r.warned)}"
            )
    print(f"\none report in {every or 'its own 0.5 to 2'} s; ratio to the least possible score")
    print(
        f"{'heaters':9}{'plants':>7}{'median':>9}{'90th %':>9}{'worst':>9}{'textbook':>10}"
        f"{'better':>8}"
        f"{'overshoot':>11}{'sensitivity':>13}{'over. held':>11}{'dip held':>10}"
    )
    for name, bed in (("hotends", False), ("beds", True)):
        some = [r for r in rows if r.plant.bed == bed and np.isfinite(r.ratio)]
        ratio, book = np.array([r.ratio for r in some]), np.array([r.book for r in some])
        print(
            f"{name:9}{len(some):>7}{np.median(ratio):9.3f}{np.quantile(ratio, 0.9):9.3f}"
            f"{ratio.max():9.3f}"
            f"{np.median(book):10.2f}{(ratio < book).sum():>5}/{len(some)}"
            f"{max(r.overshoot_c for r in some):8.2f} °C"
            f"{max(r.sensitivity for r in some):13.2f}{sum(r.held[0] for r in some):>8}/{len(some)}"
            f"{sum(r.held[1] for r in some):>7}/{len(some)}"
        )
    refused = [r for r in rows if not np.isfinite(r.ratio)]
    for r in refused:
        print(f"retest: {r.plant.name}: {r.warned[0]}")


if __name__ == "__main__":
    main()
