"""Is a heater off that was switched off? Coolings, and heaters that are on and report themselves
off, as `omphalon.printer.cooling` judges them.

    python benchmarks/off.py [HEATERS OF EACH]

Heaters are those of plants.py, all families; noise 0.02 to 1 °C, a report every 0.2 to 2 s, a
display's step of 0.01 to 1 °C. Until off is sent, reports tell the target; then target 0 and no
power, whatever is so. The lies: the output fully on (from the hold, or from cold), the target held
on, a swing, the way down from an overshoot to a target that is held, a higher target. In half of
the runs the readings before are known, as in a run of ours; in the others they are not, as for a
fresh `printer cool` (swings are then ±1 °C at most: a wider one falls as far as a heater that
cools).
"""

from __future__ import annotations

import concurrent.futures
import sys
from collections import defaultdict
from collections.abc import Callable

import numpy as np

from omphalon.printer.cooling import CoolingWatch
from omphalon.recordings.reports import Heating
from omphalon.standin.heater import lanes_of, quantised
from omphalon.standin.loop import CONTROL_S, Regulator
from omphalon.tables.heaters import HEATERS
from plants import FAMILIES, draw, draw_of

STEP_S = 0.1
LIES = ("fully on", "fully on, from cold", "held", "swings", "falls to its target", "creeps up")
HOLD_S = {"hotend": 200.0, "bed": 700.0}
WATCHED_S = {"hotend": 120.0, "bed": 420.0}
WITHIN_S = {"hotend": 30.0, "bed": 150.0}
PAST_S = 150.0
GAINS = {False: (0.08, 0.002, 0.15), True: (0.4, 0.004, 2.0)}  # that hold a hotend, a bed
Power = Callable[[float, float], float]


def powers(lie: str | None, target: float, bed: bool) -> Power:
    """The power that is given once off was sent, by the time since and the sensor's own reading."""
    aims = {"held": target, "falls to its target": target, "creeps up": target + 8.0}
    if lie in aims:
        return _held(Regulator(target), aims[lie], bed)
    return lambda since, reading: 1.0 if lie is not None else 0.0


def swung(size_c: float, period_s: float, rising: float, phase: float, now_s: float) -> float:
    """A swing: up for a share of its period, and down for the rest."""
    part = (now_s / period_s + phase) % 1.0
    up = part / rising if part < rising else 1 - (part - rising) / (1 - rising)
    return size_c * (2 * up - 1)


def _held(regulator: Regulator, target: float, bed: bool) -> Power:
    def power(since: float, reading: float) -> float:
        return regulator.power(GAINS[bed], target, reading)

    return power


def one_run(number: int, kind: str, lie: str | None) -> tuple[str, str, float | None]:
    """A run: the heater's kind, the lie, and when off was said, if it was."""
    random = np.random.default_rng([36, number, kind == "bed", LIES.index(lie) if lie else 99])
    family = random.choice([*FAMILIES, "first"])
    bed = kind == "bed"
    plant = draw(number % 24, bed) if family == "first" else draw_of(str(family), number % 6, bed)
    heater, target = plant.heater, plant.target_c
    if not bed and random.uniform() < 0.3:
        target = float(round(random.uniform(110, 190)))
    if bed:
        target = max(target, 60.0)
    noise = float(np.exp(random.uniform(np.log(0.02), np.log(1.0))))
    every = float(np.exp(random.uniform(np.log(0.2), np.log(2.0))))
    step = float(random.choice([0.01, 0.1, 0.25, 0.5, 1.0]))
    known = bool(random.uniform() < 0.5)
    size = float(random.uniform(0.3, (5.0 if not bed else 2.5) if known else 1.0))
    period = float(random.uniform(30, 250) if bed else random.uniform(8, 60))
    shape = (size, period, float(random.uniform(0.1, 0.6)), float(random.uniform()))
    lanes = lanes_of([heater], 1, STEP_S)
    regulator = Regulator(heater.ambient_c)
    over = float(random.uniform(5, 15)) if lie == "falls to its target" else 0.0
    after = powers(lie, target, bed)
    cooling: CoolingWatch | None = None
    past: list[tuple[float, float]] = []
    power, due, tick = 0.0, 0.0, 0
    off_s = HOLD_S[kind] * float(random.uniform(1.0, 1.3))
    off_s = 62.0 if lie == "fully on, from cold" else off_s
    heats_s = off_s - float(random.uniform(2 if known else 20, 60))
    while tick * STEP_S < off_s + WATCHED_S[kind]:
        now = tick * STEP_S
        true = float(lanes.sensor[0, 0])
        true = target + swung(*shape, now) if lie == "swings" else true
        if tick % round(CONTROL_S / STEP_S) == 0:
            reading = true + float(random.normal(0, 0.05))
            if now >= off_s:
                power = after(now - off_s, reading)
            elif lie == "fully on, from cold":
                power = 1.0 if now > heats_s else 0.0
            else:
                power = regulator.power(GAINS[bed], target + over, reading)
        if now >= due:
            due += every
            shown = float(quantised(np.array(true + random.normal(0, noise)), step))
            if now < off_s:
                if now > off_s - PAST_S and abs(true - target - over) < 12:
                    past.append((now, shown))
            else:
                if cooling is None:
                    cooling = CoolingWatch(
                        kind=HEATERS[kind],
                        held_c=np.nan if lie == "fully on, from cold" else target,
                        ours=known,
                        past=past if known else (),
                    )
                cooling.take(now, Heating(temperature_c=shown, target_c=0.0, power=0.0))
                if cooling.off():
                    return kind, lie or "cools", now - off_s
        lanes.advance(power)
        tick += 1
    return kind, lie or "cools", None


def main() -> None:
    each = int(sys.argv[1]) if len(sys.argv) > 1 else 200
    jobs = [(n, ("hotend", "bed")[n % 2], None) for n in range(each)]
    jobs += [(n, ("hotend", "bed")[n % 2], LIES[n // 2 % len(LIES)]) for n in range(each)]
    rows = defaultdict(list)
    with concurrent.futures.ProcessPoolExecutor() as pool:
        for kind, lie, said_s in pool.map(one_run, *zip(*jobs, strict=True), chunksize=4):
            rows[kind, lie].append(said_s)
    print("| heater | what it does | runs | off was said | in time | median, longest |")
    print("| --- | --- | --- | --- | --- | --- |")
    for (kind, lie), said in sorted(rows.items(), key=lambda row: (row[0][1] != "cools", row[0])):
        found = sorted(x for x in said if x is not None)
        in_time = sum(x <= WITHIN_S[kind] for x in found)
        times = f"{np.median(found):.0f}, {found[-1]:.0f} s" if found else "–"
        limit = f"{in_time} within {WITHIN_S[kind]:g} s" if lie == "cools" else "–"
        print(f"| {kind} | {lie} | {len(said)} | {len(found)} | {limit} | {times} |")


if __name__ == "__main__":
    main()
