"""Gains for another temperature than the test's: tests 15 to 60 °C (beds 15 to 40 °C) away from the
target that is printed at.

    python benchmarks/elsewhere.py [FAMILY…]

Five hotends and five beds each of four families of plants.py; below the target, and a fifth of
them above it. Scored at the target, as in heater_gains.py; "at it" is the same heater tested at
the target itself.
"""

from __future__ import annotations

import sys
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace

import numpy as np

from heater_families import shown
from heater_gains import Row, judged
from plants import Plant, family_plants

FAMILIES = ("five nodes", "radiation", "two lags", "geometry")
EACH = 5


def tested_away(plant: Plant, number: int) -> Plant:
    """The plant with its test so far from its target."""
    random = np.random.default_rng([31, number, int(plant.bed)])
    size = float(random.uniform(15, 40 if plant.bed else 60))
    offset = size if number % EACH == EACH - 1 else -size
    return replace(plant, test=replace(plant.test, target_c=plant.target_c + offset))


def main() -> None:
    families = sys.argv[1:] or FAMILIES
    print(f"{'heaters':38}{'answered':>7}{'median':>8}{'90th %':>8}{'worst':>8}{'better':>6}")
    every: dict[str, list[Row]] = {"elsewhere": [], "at it": []}
    with ThreadPoolExecutor(2) as pool:
        for family in families:
            some = [
                plant
                for bed in (False, True)
                for plant in [p for p in family_plants(family) if p.bed == bed][:EACH]
            ]
            away = [tested_away(plant, n) for n, plant in enumerate(some)]
            for way, group in (("elsewhere", away), ("at it", some)):
                rows = list(
                    pool.map(
                        lambda p: judged(
                            p,
                            None,
                            (
                                *("--target", f"{p.target_c:g}"),
                                *("--fan", "on" if p.test.fan_on else "off"),
                            ),
                        ),
                        group,
                    )
                )
                every[way] += rows
                print(shown(f"{family}, {way}", rows), flush=True)
                for row in rows:
                    if not np.isfinite(row.ratio):
                        print(f"  {row.plant.name}: {row.warned[0]}")
    for way, rows in every.items():
        print(shown(f"all, {way}", rows))


if __name__ == "__main__":
    main()
