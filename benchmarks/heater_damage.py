"""Damaged logs: for each damage, six heaters' logs through the built program. A wrong answer must
carry a warning.

    python benchmarks/heater_damage.py

An answer is wrong when its gains score more than 1.5 times the best possible on the true heater
(and more than 1.25 times what the undamaged log gives). Warnings about scales and names that were
worked out do not count.
"""

from __future__ import annotations

import sys
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace

import numpy as np

from heater_gains import fitted, stamped
from omphalon.standin.oscillation import HeaterLog, as_csv, oscillation_log
from plants import Plant, best_possible, plants
from scored import day_score

BENIGN = {"power-scale-guessed", "heater-guessed"}
COLUMNS = ("time_s", "temperature_c", "power", "target_c")


def logged(plant: Plant, **changes: object) -> HeaterLog:
    return oscillation_log(plant.heater, replace(plant.test, **changes))


def rows(log: HeaterLog, keep: np.ndarray) -> HeaterLog:
    return HeaterLog(*(list(np.array(getattr(log, c))[keep]) for c in COLUMNS))


def changed(log: HeaterLog, **columns: np.ndarray) -> HeaterLog:
    return replace(log, **{c: list(v) for c, v in columns.items()})


def dropouts(plant: Plant, random: np.random.Generator) -> str:
    log = logged(plant, cycles=10)
    t = np.array(log.time_s)
    keep = np.ones(len(t), bool)
    for start in random.uniform(0.3, 0.9, 2) * t[-1]:
        keep &= (t < start) | (t > start + random.uniform(5, min(60, 0.15 * t[-1])))
    return stamped(rows(log, keep), plant.bed)


def restart(plant: Plant, random: np.random.Generator, clock: bool) -> str:
    first, second = (
        logged(plant, cycles=8),
        logged(plant, cycles=8, start_c=plant.target_c - 15, seed=99),
    )
    cut = int(0.8 * len(first.time_s))
    late = 0.0 if clock else first.time_s[cut - 1] + 25
    both = HeaterLog(
        first.time_s[:cut] + [x + late for x in second.time_s],
        *(getattr(first, c)[:cut] + getattr(second, c) for c in COLUMNS[1:]),
    )
    return "\n".join(as_csv(both)) + "\n"


def shuffled(plant: Plant, random: np.random.Generator) -> str:
    lines = list(as_csv(logged(plant)))
    body = lines[1:]
    for n in random.integers(0, len(body) - 3, len(body) // 8):
        body[n], body[n + 2] = body[n + 2], body[n]
    for n in random.integers(0, len(body), len(body) // 8):
        body.insert(n, body[n])
    return "\n".join([lines[0], *body]) + "\n"


def spiked(plant: Plant, random: np.random.Generator, height: float) -> str:
    log = logged(plant)
    y = np.array(log.temperature_c)
    at = random.choice(np.arange(5, len(y) - 5), 6, replace=False)
    y[at] += height * random.choice([-1, 1], 6)
    return stamped(changed(log, temperature_c=y), plant.bed)


def stuck(plant: Plant, random: np.random.Generator) -> str:
    log = logged(plant, cycles=8)
    t, y = np.array(log.time_s), np.array(log.temperature_c)
    start = random.uniform(0.6, 0.85) * t[-1]
    still = (t > start) & (t < start + random.uniform(8, 25))
    y[still] = y[np.argmax(still)]
    return stamped(changed(log, temperature_c=y), plant.bed)


def midnight(plant: Plant, random: np.random.Generator) -> str:
    log = logged(plant)
    start = 86400 - 0.6 * log.time_s[-1]
    lines = ["clock,temperature,power,target"]
    for t, c, p, goal in zip(*(getattr(log, c) for c in COLUMNS), strict=True):
        now = (start + t) % 86400
        lines.append(
            f"{int(now // 3600):02d}:{int(now // 60 % 60):02d}:{now % 60:05.2f},{c:.2f},{p:.3f}"
            f",{goal:g}"
        )
    return "\n".join(lines) + "\n"


def scaled(plant: Plant, random: np.random.Generator, counts: int) -> str:
    return "\n".join(as_csv(logged(plant), power_counts=counts)) + "\n"


def percent(plant: Plant, random: np.random.Generator) -> str:
    return scaled(plant, random, 100).replace("power_counts", "power_%")


DAMAGES: dict[str, Callable[[Plant, np.random.Generator], str]] = {
    "none": lambda p, r: stamped(logged(p), p.bed),
    "two dropouts of 5-60 s": dropouts,
    "restart, clock goes on": lambda p, r: restart(p, r, False),
    "restart, clock anew": lambda p, r: restart(p, r, True),
    "rows doubled and out of order": shuffled,
    "spikes of 40 °C": lambda p, r: spiked(p, r, 40.0),
    "spikes of 4 °C": lambda p, r: spiked(p, r, 4.0),
    "sensor stuck 8-25 s": stuck,
    "clock across midnight": midnight,
    "fan switched on half way": lambda p, r: stamped(logged(p, cycles=8, fan_on_at_cycle=4), p.bed),
    "two heaters, none named": lambda p, r: stamped(logged(p), p.bed),
    "target changed by 10 °C": lambda p, r: stamped(
        logged(p, cycles=10, retarget_at_cycle=6, retarget_by_c=10.0), p.bed
    ),
    "power in %": percent,
    "power to 255": lambda p, r: scaled(p, r, 255),
    "power to 127": lambda p, r: scaled(p, r, 127),
    "no power": lambda p, r: "\n".join(x.rsplit(",", 1)[0] for x in as_csv(logged(p))) + "\n",
}


def outcome(name: str, plant: Plant, number: int) -> tuple[str, float, list[str]]:
    text = DAMAGES[name](plant, np.random.default_rng([5, number]))
    document = fitted(text, plant)
    codes = [w["code"] for w in document["warnings"]]
    if document["verdict"] == "retest":
        return "retest", np.nan, [document["because"][:60]]
    gains = np.array([[document["settings"][k] for k in ("kp", "ki", "kd")]])
    ratio = (
        float(day_score(plant.heater, gains, plant.target_c, bed=plant.bed)[0][0])
        / best_possible(plant)[0]
    )
    grave = [c for c in codes if c not in BENIGN]
    return ("right" if ratio <= 1.5 else "wrong") + (", warned" if grave else ""), ratio, grave


def main() -> None:
    some = [p for p in plants() if p.test.report_s <= 1.0]
    some = some[:4] + [p for p in some if p.bed][:4]
    kinds = ("right", "right, warned", "retest", "wrong, warned", "wrong")
    print(f"{'damage':32}" + "".join(f"{k:>15}" for k in kinds) + f"{'worst ratio':>13}")
    for name in DAMAGES:
        with ThreadPoolExecutor(2) as pool:
            found = list(
                pool.map(lambda job: outcome(*job), [(name, p, n) for n, p in enumerate(some)])
            )
        counts = [sum(k == kind for k, _, _ in found) for kind in kinds]
        worst = max((r for _, r, _ in found if np.isfinite(r)), default=np.nan)
        print(f"{name:32}" + "".join(f"{c:15d}" for c in counts) + f"{worst:13.2f}", flush=True)
        if "--detail" in sys.argv:
            for (kind, ratio, codes), plant in zip(found, some, strict=True):
                print(f"      {plant.name} {kind} {ratio:.2f} {codes}")


if __name__ == "__main__":
    main()
