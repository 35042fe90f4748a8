"""Simulated rolls under a caliper: does the interval of the filament's section hold the truth?

    python benchmarks/filament.py [ROLLS]

Each roll: a true mean width within ±4 % of 1.75 mm, a deviation from place to place of 0.003 to
0.025 mm, out of round by up to 0.06 mm, turned anyhow; three to eight places, two directions each;
a hand that presses 0.006 mm more or less throughout and reads to 0.005 mm; a caliper of 0.01 or
0.02 mm. The truth is the section of a round filament of the true mean width.
"""

from __future__ import annotations

import sys
from itertools import pairwise

import numpy as np

from omphalon.answers.remarks import Refusal
from omphalon.recordings.recording import Reading, Readings
from omphalon.studies.measured.engine import Fitted, fit
from omphalon.studies.measured.filament import WIDTH, FlowQuestion
from omphalon.tables.quantities import QUANTITIES
from omphalon.tables.units import number_in

NOMINAL_MM = 1.75
ALONG_MM = (0.003, 0.01, 0.018, 0.025)


def roll(random: np.random.Generator) -> tuple[float, float, Fitted | None]:
    """Deviation along a roll, its true section over the nominal one, and what was found."""
    true, along = NOMINAL_MM * random.uniform(0.96, 1.04), random.uniform(ALONG_MM[0], ALONG_MM[-1])
    oval, press = random.uniform(0, 0.06), random.normal(0, 0.006)
    step = float(random.choice([0.01, 0.02]))
    rows = []
    for _ in range(int(random.integers(3, 9))):
        width, turn = true + random.normal(0, along), random.uniform(0, np.pi)
        for quarter in (0.0, np.pi / 2):
            across = width + oval / 2 * np.cos(2 * (turn + quarter))
            text = f"{round((across + press + random.normal(0, 0.005)) / step) * step:.2f}"
            rows.append(
                Reading(
                    f"row {len(rows)}",
                    {"diameter_mm": number_in(text, QUANTITIES["filament width"])},
                )
            )
    question = FlowQuestion(flow=1.0, expected_mm=None, resolution_mm=step)
    try:
        found = fit(WIDTH, Readings("simulated", tuple(rows)), question)
    except Refusal:
        found = None
    return along, (true / NOMINAL_MM) ** 2, found


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 3000
    random = np.random.default_rng(4)
    rolls = [roll(random) for _ in range(count)]
    print(
        f"{'mm from place to place':24}{'answered':>10}{'95 % holds':>12}"
        f"{'changed for nothing':>21}"
    )
    for low, high in [(ALONG_MM[0], ALONG_MM[-1]), *pairwise(ALONG_MM)]:
        some = [(true, fit) for a, true, fit in rolls if low <= a < high and fit is not None]
        halves = [(true, fit, fit.one.estimate) for true, fit in some]
        held = np.mean([abs(s.value - true) <= s.half_width for true, _, s in halves])
        still = [fit for true, fit, s in halves if abs(true - 1) < s.half_width / 2]
        chased = np.mean([fit.verdict == "change" for fit in still])
        print(
            f"{f'{low:g} to {high:g}':24}{len(some):>10}{held:12.1%}{chased:15.1%} ({len(still)})"
        )


if __name__ == "__main__":
    main()
