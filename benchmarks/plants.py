"""The 48 made-up heaters of the benchmark, how each is logged, and the best any gains can do on it.

Twenty-four hotends (30–65 W, 190–250 °C) and twenty-four beds (120–420 W, 55–100 °C), drawn once
with a fixed seed.
"""

from __future__ import annotations

import hashlib
import json
import pathlib
from dataclasses import asdict, dataclass, replace

import numpy as np

from omphalon.standin.heater import Heater
from omphalon.standin.loop import day_score
from omphalon.standin.oscillation import Test

CACHE = pathlib.Path(__file__).with_name("best_possible.json")


@dataclass(frozen=True)
class Plant:
    """A heater, what it is for, and the test it was logged with."""

    name: str
    bed: bool
    heater: Heater
    target_c: float
    test: Test


def draw(number: int, bed: bool) -> Plant:
    random = np.random.default_rng([7, number, int(bed)])

    def between(low: float, high: float) -> float:
        return float(random.uniform(low, high))

    def log_between(low: float, high: float) -> float:
        return float(np.exp(random.uniform(np.log(low), np.log(high))))

    quantum = float(random.choice([0.01, 0.05, 0.1, 0.25]))
    noise = log_between(0.02, 0.12)
    power = between(120, 420) if bed else between(30, 65)
    target = round(between(55, 100) if bed else between(190, 250))
    ambient, duty = between(18, 28), between(0.25, 0.6) if bed else between(0.2, 0.5)
    growth = between(0.001, 0.006) if bed else between(0.0005, 0.003)
    rise = target - ambient
    held = duty * power / (rise * (1 + growth * rise))  # W/°C lost at the target
    fan = min(between(0.05, 0.35) if bed else between(0.2, 0.9), 0.85 / duty - 1)
    if bed:
        mass, inner = power / log_between(0.2, 0.9), between(0.3, 0.75)
        edge = between(0.1, 0.5)
        made = Heater(
            power,
            mass * inner,
            mass * (1 - inner),
            held * between(2.0, 9.0),
            held * edge,
            held * (1 - edge),
            growth,
            between(0.0, 0.6),
            log_between(1.0, 6.0),
            log_between(0.5, 4.0),
            ambient,
            fan,
            noise,
            quantum,
        )
    else:
        block = power / between(1.8, 4.5)
        edge = between(0.02, 0.1)
        made = Heater(
            power,
            block * between(0.1, 0.3),
            block,
            between(0.8, 3.0),
            held * edge,
            held * (1 - edge),
            growth,
            between(0.8, 1.0),
            log_between(0.5, 3.0),
            log_between(0.3, 1.8),
            ambient,
            fan,
            noise,
            quantum,
        )
    warm = random.uniform() < 0.25
    test = Test(
        float(target),
        int(random.integers(4, 11)),
        float(random.choice([0.5, 1.0, 2.0])),
        between(40, 0.8 * target) if warm else None,
        seed=number,
        rest_s=5.0 if bed else 2.0,
    )
    return Plant(f"{'bed' if bed else 'hotend'}-{number:02d}", bed, made, float(target), test)


def plants() -> list[Plant]:
    return [draw(n, bed) for bed in (False, True) for n in range(24)]


def logged_every(plant: Plant, report_s: float) -> Test:
    """The same test with another report interval."""
    return replace(plant.test, report_s=report_s)


def key(plant: Plant) -> str:
    """Changes when the plant, the way it is scored (seen by the score of one set of gains) or the
    search changes.
    """
    probe, _ = day_score(plant.heater, np.array([[0.2, 0.005, 0.3]]), plant.target_c, bed=plant.bed)
    told = json.dumps([asdict(plant.heater), plant.target_c, f"{probe[0]:.9g}", SEARCH])
    return hashlib.sha256(told.encode()).hexdigest()[:16]


SEARCH = "8 rounds of 256, width 1.6 shrinking by 0.6, two seeds"


def best_possible(plant: Plant) -> tuple[float, list[float]]:
    """Least score over the four days by brute force on the true plant, and the gains that give it;
    cached.
    """
    known = json.loads(CACHE.read_text()) if CACHE.exists() else {}
    found = known.get(plant.name)
    if found and found["key"] == key(plant):
        return found["score"], found["gains"]
    made = plant.heater
    slope = made.power_w / (made.heated_j_c + made.second_j_c)
    late = made.dead_time_s + made.sensor_lag_s + made.heated_j_c / made.coupling_w_c / 2
    kp = 1 / (slope * late)
    best, gains = np.inf, [kp, kp / (8 * late), kp * late / 3]
    for seed in range(2):
        centre, width = np.log([kp, kp / (8 * late), kp * late / 3]), 1.6
        for turn in range(8):
            points = centre + width * np.random.default_rng([seed, turn]).uniform(-1, 1, (256, 3))
            points[0] = centre
            scores, _ = day_score(plant.heater, np.exp(points), plant.target_c, bed=plant.bed)
            scores = np.where(np.isfinite(scores), scores, np.inf)
            centre = points[scores.argmin()]
            width *= 0.6
            if scores.min() < best:
                best, gains = float(scores.min()), np.exp(centre).tolist()
    known = json.loads(CACHE.read_text()) if CACHE.exists() else {}
    known[plant.name] = {"key": key(plant), "score": best, "gains": gains}
    CACHE.write_text(json.dumps(known, indent=1) + "\n")
    return best, gains


if __name__ == "__main__":
    for each in plants():
        print(each.name, *best_possible(each))
