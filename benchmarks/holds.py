"""Holds that swing, or do not, as `heater check` sees them.

    python benchmarks/holds.py [HOLDS]

A heat-up, and a hold made up from its parts: no swing or one of 8 to 250 s and ±0.3 to ±12 °C
(sinusoid, sawtooth or a relay's), noise of 0.02 to 0.3 °C, a display's step, a slow creep, an
offset, a fan late in it. What counts: is a swing named where there is one, and none where there is
none; its period within 5 %, its size within 10 %; the bias within 0.2 °C or its own ±.
"""

from __future__ import annotations

import sys
from collections import Counter

import numpy as np

from omphalon.physics.arrival import arrival_deviations, look
from omphalon.tables.constants import NORMAL_95

TARGETS = {"hotend": (220.0, 60.0), "bed": (60.0, 300.0)}


def one_hold(number: int) -> dict[str, object]:
    """A hold, what is true of it, and what was seen."""
    random = np.random.default_rng([37, number])
    bed = bool(number % 2)
    target, unit = TARGETS["bed" if bed else "hotend"]
    swings = bool(random.uniform() < 0.75)
    period = float(np.exp(random.uniform(np.log(30 if bed else 8), np.log(250 if bed else 90))))
    size = float(np.exp(random.uniform(np.log(0.3), np.log(4.0 if bed else 12.0)))) * swings
    noise = float(np.exp(random.uniform(np.log(0.02), np.log(min(0.3, max(size / 2, 0.05))))))
    step = float(random.choice([0.01, 0.1, 0.25]))
    every = float(random.choice([0.5, 1.0, 2.0]))
    hold_s = max(unit * 2.5, period * random.uniform(4.5, 9.0))
    bias = float(random.uniform(-0.4, 0.4))
    creep = float(random.uniform(-0.3, 0.3)) * (random.uniform() < 0.3)
    fan = bool(random.uniform() < 0.4) and not swings
    rise_s = (target - 23.0) / (0.35 if bed else 2.5)
    t = np.arange(0.0, rise_s + hold_s, every) + random.normal(0, 0.01)
    since = np.maximum(t - rise_s, 0.0)
    turn = (since / period + random.uniform()) % 1.0
    shape = random.choice(["sinusoid", "sawtooth", "relay"])
    share = float(random.uniform(0.15, 0.5))
    saw = np.where(turn < share, turn / share, 1 - (turn - share) / (1 - share)) * 2 - 1
    wave = {
        "sinusoid": np.sin(2 * np.pi * turn),
        "sawtooth": saw,
        "relay": np.sin(2 * np.pi * turn) + 0.12 * np.sin(6 * np.pi * turn),
    }[shape]
    wave = wave / np.abs(wave).max() * size
    held = target + bias + creep * (since / hold_s - 0.5) + wave
    if fan:
        late = since - 0.6 * hold_s
        held -= np.where(late > 0, 1.5 * np.exp(-late / (0.3 * unit)) * (1 - np.exp(-late / 5)), 0)
    y = np.where(t < rise_s, 23 + (target - 23) * t / rise_s, held)
    y = np.round((y + random.normal(0, noise, len(t))) / step) * step
    seen = look(t, y, None, target, unit, rise_s + 0.6 * hold_s if fan else None)
    known = arrival_deviations(t, y, None, target, seen)
    return {
        "swings": swings,
        "size": size,
        "period": period,
        "bias": bias,
        "seen": seen,
        "doubt": NORMAL_95 * known.get("bias_c", 0.0),
        "shape": f"{shape}, ±{size:.2f} °C every {period:.0f} s, noise {noise:.2f}, {every:g} s",
    }


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 60
    right, of = Counter[str](), Counter[str]()
    for number in range(count):
        one = one_hold(number)
        seen = one["seen"]
        named = seen.swing_c is not None
        rows = {"named, or not named": named == one["swings"]}
        if named and one["swings"]:
            rows["period within 5 %"] = abs(seen.swing_period_s / one["period"] - 1) < 0.05
            rows["size within 10 %"] = abs(seen.swing_c / one["size"] - 1) < 0.10
        off = abs((seen.bias_c if seen.bias_c is not None else np.inf) - one["bias"])
        rows["bias within 0.2 °C or its ±"] = off < max(0.2, one["doubt"])
        for name, good in rows.items():
            of[name] += 1
            right[name] += good
            if not good:
                print(
                    f"  {number}: {name}: {one['shape']}; seen {seen.swing_c} {seen.swing_period_s}"
                )
    print("| what | right | of |")
    print("| --- | --- | --- |")
    for name in of:
        print(f"| {name} | {right[name]} | {of[name]} |")


if __name__ == "__main__":
    main()
