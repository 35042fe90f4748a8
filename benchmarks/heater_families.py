"""Gains on heaters of other kinds than those the fit was tuned on, with the part fan on or off in
the test, told or untold.

    python benchmarks/heater_families.py [--detail] [--only FAMILY]

The families of plants.py, six hotends and six beds each; scored as in heater_gains.py. "tuned"
are the 48 of that benchmark. Each heater is logged twice, fan off and fan on, and each log is
fitted twice, the fan told and untold (untold, a hotend's log is taken to have it on, a bed's off).
"""

from __future__ import annotations

import sys
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from itertools import product

import numpy as np

from heater_gains import Row, judged
from plants import FAMILIES, Plant, family_plants, plants

WAYS = {
    "fan off, told": (False, ("--fan", "off")),
    "fan on, told": (True, ("--fan", "on")),
    "fan off, untold": (False, ()),
    "fan on, untold": (True, ()),
}


def shown(name: str, rows: list[Row]) -> str:
    """A line of the table."""
    ratio = np.array([r.ratio for r in rows if np.isfinite(r.ratio)])
    if not len(ratio):
        return f"{name:38}    retest on all"
    held = [sum(r.held[n] for r in rows if np.isfinite(r.ratio)) for n in (0, 1)]
    better = sum(r.ratio < r.book for r in rows)
    return (
        f"{name:38}{len(ratio):>3}/{len(rows):<3}{np.median(ratio):8.3f}"
        f"{np.quantile(ratio, 0.9):8.3f}{ratio.max():8.3f}{better:>6}{held[0]:>7}{held[1]:>6}"
    )


def main() -> None:
    only = sys.argv[sys.argv.index("--only") + 1] if "--only" in sys.argv else None
    groups: dict[str, list[Plant]] = {"tuned": plants()}
    groups |= {family: family_plants(family) for family in FAMILIES}
    groups = {name: some for name, some in groups.items() if only in (None, name)}
    ways = dict(list(WAYS.items())[:1]) if "--quick" in sys.argv else WAYS
    jobs = list(product(groups, ways))
    head = f"{'heaters':38}{'answered':>7}{'median':>8}{'90th %':>8}{'worst':>8}{'better':>6}"
    print(f"{head}{'over.':>7}{'dip':>6}\n{'':69}{'table':>6}{'held':>7}{'held':>6}", flush=True)
    with ThreadPoolExecutor(2) as pool:
        for family, way in jobs:
            fan_on, options = ways[way]
            some = [replace(p, test=replace(p.test, fan_on=fan_on)) for p in groups[family]]
            rows = list(pool.map(lambda p, o=options: judged(p, None, o), some))
            if "--detail" in sys.argv:
                for r in rows:
                    print(f"  {r.plant.name:32}{r.ratio:7.3f}{r.book:7.2f} {' '.join(r.warned)}")
            for kind, bed in (("hotends", False), ("beds", True)):
                which = [r for r in rows if r.plant.bed == bed]
                print(shown(f"{family}, {kind}, {way}", which), flush=True)


if __name__ == "__main__":
    main()
