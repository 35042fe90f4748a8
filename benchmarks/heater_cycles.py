"""Careful gains from the summaries of cycles, on the 48 made-up heaters of heater_gains.py: the
score against the least possible one, and the loop's worst overshoot.

    python benchmarks/heater_cycles.py
"""

from __future__ import annotations

import numpy as np

from omphalon.answers.remarks import Refusal
from omphalon.standin.oscillation import HeaterLog, oscillation_log
from omphalon.studies.heater.question import HeaterQuestion
from omphalon.studies.heater.summary import CycleSummary, fit_summary
from plants import Plant, best_possible, logged_every, plants
from scored import day_score


def summaries(log: HeaterLog) -> tuple[list[CycleSummary], tuple[float, float]]:
    """Each cycle's lowest and highest reading to 0.1 °C and its length, as a console tells them;
    and the two powers of the last one.
    """
    t, y, p = (np.array(c) for c in (log.time_s, log.temperature_c, log.power))
    ons = np.flatnonzero(np.diff(p) > 0.1) + 1
    ons = ons[ons > np.flatnonzero(np.diff(p) < -0.1)[0]]  # the heat-up is no cycle
    found = [
        CycleSummary(
            high_c=round(float(y[a:b].max()), 1),
            low_c=round(float(y[a:b].min()), 1),
            period_s=round(float(t[b] - t[a]), 1),
        )
        for a, b in zip(ons, ons[1:], strict=False)
    ]
    last = p[ons[-2] : ons[-1]]
    return found, (float(last.max()), float(last.min()))


def main() -> None:
    print("| heaters | answered | score: median | 90th | worst | overshoot: median, worst, °C |")
    print("| --- | --- | --- | --- | --- | --- |")
    for bed in (False, True):
        ratios, over = [], []
        own: list[Plant] = [p for p in plants() if p.bed == bed]
        for plant in own:
            log = oscillation_log(plant.heater, logged_every(plant, 0.5))
            cycles, powers = summaries(log)
            question = HeaterQuestion(heater="bed" if bed else "hotend", target_c=plant.target_c)
            try:
                fit = fit_summary(cycles, question, powers, 1.0)
            except Refusal:
                continue
            gains = np.array([[fit.gains.kp, fit.gains.ki, fit.gains.kd]])
            score, run = day_score(plant.heater, gains, plant.target_c, bed=bed)
            ratios.append(float(score[0]) / best_possible(plant)[0])
            over.append(float(run.overshoot_c.max()))
        print(
            f"| {'beds' if bed else 'hotends'} | {len(ratios)} of {len(own)} "
            f"| {np.median(ratios):.2f} | {np.quantile(ratios, 0.9):.2f} | {max(ratios):.2f} "
            f"| {np.median(over):.2f}, {max(over):.2f} |"
        )


if __name__ == "__main__":
    main()
