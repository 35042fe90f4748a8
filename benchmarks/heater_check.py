"""Loops judged: good ones, and ones spoiled on purpose (too hot, too slow, windup, noise).

On the even plants, on which the limits were set; on the odd ones, which had a say in some of them;
and on 24 fresh plants, which had none, each with its 24 good and 24 spoiled loops. Good gains are
the best possible, on the fresh plants those of the built program.

    python benchmarks/heater_check.py
"""

from __future__ import annotations

import functools
from dataclasses import replace

import numpy as np

from heater_gains import fitted, stamped
from omphalon.recordings.recording import TemperatureLog
from omphalon.standin.loop import Hold, hold_log
from omphalon.standin.oscillation import HeaterLog, oscillation_log
from omphalon.studies.heater.check_words import heater_check_answer
from omphalon.studies.heater.question import CheckQuestion
from plants import Plant, best_possible, draw, plants

FRESH = 30  # plants of each kind
# what was done to the gains (kp, ki, kd), windup, noise in °C; and the signs that name it
SPOILED = {
    "too hot": ((4.0, 4.0, 2.5), False, None, {"hot", "oscillating"}),
    "too slow": ((0.25, 0.15, 0.25), False, None, {"slow"}),
    "windup": ((0.7, 1.0, 0.4), True, None, {"windup"}),
    "noise": ((1.0, 1.0, 1.0), False, 0.6, {"sensor noise"}),
}


@functools.cache
def good_gains(plant: Plant) -> tuple[float, ...]:
    """The best possible gains, or on a fresh plant those that the built program gives."""
    if not plant.name.endswith("f"):
        return tuple(best_possible(plant)[1])
    settings = fitted(
        stamped(oscillation_log(plant.heater, plant.test), plant.bed), plant, "--full-power", "127"
    )["settings"]
    return settings["kp"], settings["ki"], settings["kd"]


def run(plant: Plant, how: str | None, seed: int) -> HeaterLog:
    gains = np.array(good_gains(plant))
    factors, windup, noise, _ = SPOILED[how] if how else ((1.0, 1.0, 1.0), False, None, set())
    heater = plant.heater if noise is None else replace(plant.heater, noise_c=noise)
    unit = 300.0 if plant.bed else 60.0
    return hold_log(
        heater,
        Hold(
            target_c=plant.target_c,
            gains=tuple(gains * np.array(factors)),
            hold_s=2.5 * unit,
            fan_after_s=1.5 * unit,
            windup=windup,
            seed=seed,
        ),
    )


def judged(plant: Plant, log: HeaterLog) -> tuple[str, list[str], dict[str, object]]:
    recorded = TemperatureLog(
        source=plant.name,
        time_s=np.array(log.time_s),
        temperature_c=np.round(log.temperature_c, 2),
        power=np.array(log.power),
        target_c=np.array(log.target_c),
        power_scale=1.0,
        read_as="CSV",
    )
    question = CheckQuestion(target_c=plant.target_c, heater="bed" if plant.bed else "hotend")
    found = heater_check_answer([recorded], question)
    return found.verdict, found.evidence.get("signs", []), found.evidence


def main() -> None:
    fresh = [
        replace(draw(300 + n, bed), name=f"{n}{'b' if bed else 'h'}f")
        for bed in (False, True)
        for n in range(FRESH)
    ]
    for title, some in (
        ("even plants", plants()[::2]),
        ("odd plants", plants()[1::2]),
        ("fresh plants", fresh),
    ):
        print(title)
        table(some)


def table(some: list[Plant]) -> None:
    right = {"good": 0, **dict.fromkeys(SPOILED, 0)}
    tried, bare = dict.fromkeys(SPOILED, 0), 0
    named = dict.fromkeys(SPOILED, 0)
    for n, plant in enumerate(some):
        how = list(SPOILED)[n % 4]
        verdict, signs, evidence = judged(plant, run(plant, None, n))
        right["good"] += verdict == "keep"
        if verdict != "keep":
            print(f"{plant.name} good, judged {verdict} {signs} {evidence}")
        verdict, signs, evidence = judged(plant, run(plant, how, n))
        tried[how] += 1
        bare += verdict == "change" and not evidence["beyond"]
        right[how] += verdict == "change"
        named[how] += bool(signs) and signs[0] in SPOILED[how][3]
        if verdict != "change" or signs[0] not in SPOILED[how][3]:
            print(f"{plant.name} {how}, judged {verdict} {signs} {evidence}")
    print(f"{'loops':12}{'judged right':>14}{'named right':>14}")
    print(f"{'good':12}{right['good']:>11}/{len(some)}")
    for how in SPOILED:
        print(f"{how:12}{right[how]:>11}/{tried[how]:<3}{named[how]:>10}/{tried[how]}")
    whole = sum(right[h] for h in SPOILED)
    print(f"{'spoiled':12}{whole:>11}/{len(some):<3}{sum(named.values()):>10}/{len(some)}")
    print(f"changes that stand on no row shown: {bare}")


if __name__ == "__main__":
    main()
