"""Two logs of one machine, and of one that was changed: what heater check and shaper check call
changed beyond chance, and whether the intervals hold.

    python benchmarks/changes.py [LOGS]
"""

from __future__ import annotations

import sys
import tempfile
from collections import defaultdict
from pathlib import Path

import numpy as np

from omphalon.answers.remarks import Refusal
from omphalon.readers.acceleration import read_motion
from omphalon.readers.temperature import read_temperature
from omphalon.standin.frame import Sensor, Sweep, Swing, sweep_log
from omphalon.standin.frame import as_csv as motion_csv
from omphalon.standin.loop import Hold, hold_log
from omphalon.standin.oscillation import as_csv
from omphalon.standin.samples import FULMAR_BED, FULMAR_HOTEND
from omphalon.studies.heater.check import check_heater
from omphalon.studies.heater.question import CheckQuestion
from omphalon.studies.shaper.check import check_shaper
from omphalon.studies.shaper.question import ShaperCheckQuestion, ShaperInUse

HOTEND = {"even": (0.14, 0.011, 0.23), "quick": (0.25, 0.02, 0.15), "wild": (0.4, 0.03, 0.1)}
BED = {"even": (0.3, 0.003, 0.9), "quick": (0.6, 0.008, 1.5)}
SWEEP = Sweep(low_hz=6, high_hz=115, rate_hz_s=2.5, drive_mm_s2=2500.0)
FRAMES = {
    "one mode": lambda f: (Swing(44.0 * f, 0.06, 1.0),),
    "two modes": lambda f: (Swing(36.0 * f, 0.05, 0.72), Swing(71.0, 0.05, 0.28)),
}


def read(lines, reader):
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "log.csv"
        path.write_text("\n".join(lines) + "\n")
        return reader(str(path))


def holds(heater, gains, count, **hold):
    return [
        read(as_csv(hold_log(heater, Hold(gains=gains, seed=s, **hold))), read_temperature)
        for s in range(count)
    ]


def sweeps(swings, count, first):
    return [
        read(
            motion_csv(sweep_log(swings, SWEEP, Sensor(rate_hz=1000.0, seed=first + s)), "g"),
            read_motion,
        )
        for s in range(count)
    ]


def heater_changes(one, two, target, which):
    try:
        return check_heater((one, two), CheckQuestion(target_c=target, heater=which)).changes
    except Refusal:
        return ()


def shaper_changes(one, two):
    question = ShaperCheckQuestion(
        logs=(one, two),
        axis="x",
        setting=ShaperInUse(shaper="mzv", frequency_hz=44.0, damping=0.05),
        acceleration_mm_s2=2000.0,
    )
    try:
        return check_shaper(question).changes
    except Refusal:
        return ()


def alike(logs, changes):
    """False ones among the changes between neighbours, by figure: (named, pairs)."""
    out = defaultdict(lambda: [0, 0])
    for one, two in zip(logs, logs[1:], strict=False):
        for change in changes(one, two):
            out[change.pair.name][0] += change.differs
            out[change.pair.name][1] += 1
    return out


def changed(before, after, changes):
    """By figure: how often it is named, how often the interval holds the mean difference, pairs."""
    out = defaultdict(list)
    for one, two in zip(before, after, strict=True):
        for change in changes(one, two):
            out[change.pair.name].append(change)
    rows = {}
    for name, some in out.items():
        true = float(np.mean([c.change for c in some]))
        held = np.mean([abs(c.change - true) <= c.half_width for c in some])
        rows[name] = (np.mean([c.differs for c in some]), held, true, len(some))
    return rows


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 24
    logs = {}
    for heater, which, loops, hold in (
        (FULMAR_HOTEND, "hotend", HOTEND, {"target_c": 220.0}),
        (FULMAR_BED, "bed", BED, {"target_c": 70.0, "hold_s": 900.0, "fan_after_s": None}),
    ):
        for name, gains in loops.items():
            logs[which, name] = holds(heater, gains, count, **hold)
    wrong = defaultdict(lambda: [0, 0])
    for (which, _), some in logs.items():
        target = 220.0 if which == "hotend" else 70.0
        found = alike(some, lambda a, b, t=target, w=which: heater_changes(a, b, t, w))
        for figure, (named, pairs) in found.items():
            wrong[figure][0] += named
            wrong[figure][1] += pairs
    print("holds of one loop, neighbours: named though nothing changed")
    print("  " + ", ".join(f"{f} {n} of {m}" for f, (n, m) in wrong.items()))
    for which, first, second in (("hotend", "even", "quick"), ("bed", "even", "quick")):
        target = 220.0 if which == "hotend" else 70.0
        rows = changed(
            logs[which, first],
            logs[which, second],
            lambda a, b, t=target, w=which: heater_changes(a, b, t, w),
        )
        print(f"{which}, {first} to {second}: true change, named, interval holds")
        for figure, (named, held, true, _) in rows.items():
            print(f"  {figure:12} {true:+8.3f}  {named:4.0%}  {held:4.0%}")
    for name, frame in FRAMES.items():
        same, more = sweeps(frame(1.0), count, 100), {}
        found = alike(same, shaper_changes)
        told = ", ".join(f"{f} {n} of {m}" for f, (n, m) in found.items())
        print(f"sweeps of one frame, {name}: named though nothing changed\n  {told}")
        for factor in (1.002, 1.01, 1.05):
            more = sweeps(frame(factor), count, 500)
            row = changed(same, more, shaper_changes)["mode1_frequency_hz"]
            print(f"  main mode x {factor}: named {row[0]:.0%}, interval holds {row[1]:.0%}")


if __name__ == "__main__":
    main()
