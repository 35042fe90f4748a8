"""How often each ± that `heater fit` prints holds what is true, on families of heaters that the
fit was not tuned on.

    python benchmarks/intervals.py [FAMILY…]

Truth is the made-up heater itself, linearised at its target: what it answers at the period of the
cycle, where its phase passes −180° with the controller's half period. The gains'
truth is what the same program makes of a log without noise, four reports a second. Each heater is
logged as it is, with the clock cut to whole seconds, and without its power. What the model's limit
has beyond its draws was set on "two masses" and "radiation"; the others are unseen.
"""

from __future__ import annotations

import re
import subprocess
import sys
import tempfile
from collections import defaultdict
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from pathlib import Path

import numpy as np
from scipy.optimize import brentq, root

from families import KELVIN, Chain
from omphalon.standin.loop import CONTROL_S
from omphalon.standin.oscillation import HeaterLog, oscillation_log
from plants import FAMILIES, Plant, family_plants

SCALE = 255.0  # of printed gains
WAYS = ("as it is", "clock in whole seconds", "no power")
PAIR = r"([\d.]+)\s*± ([\d.]+)"
PRINTED = {
    "kp": rf"\n  kp .*?{PAIR}",
    "ki": rf"\n  ki .*?{PAIR}",
    "kd": rf"\n  kd .*?{PAIR}",
    "cycle's gain": rf"ultimate gain +{PAIR}",
    "limit: gain": rf"model's limit +{PAIR}",
    "limit: period": rf"period {PAIR} s",
}


def linear(chain: Chain, target_c: float, fan_on: bool) -> tuple[np.ndarray, ...]:
    """The nodes linearised about the state that holds the target, per unit of power: A and b."""
    c, g = np.array(chain.capacity_j_c), np.array(chain.coupling_w_c)
    loss, shine = np.array(chain.loss_w_c), np.array(chain.radiation_w_k4)
    free = np.array(chain.convection or (0.0,) * len(c))
    air = 1 + chain.fan_extra * fan_on

    def lost(nodes: np.ndarray) -> np.ndarray:
        over = nodes - chain.ambient_c
        rest = loss * over * (1 + chain.growth_per_c * over) + free * np.maximum(over, 0) ** 1.25
        return air * (rest + shine * ((nodes + KELVIN) ** 4 - (chain.ambient_c + KELVIN) ** 4))

    def change(nodes: np.ndarray, duty: float) -> np.ndarray:
        flow, heat = g * (nodes[:-1] - nodes[1:]), -lost(nodes)
        heat[0] += chain.power_w * duty
        heat[:-1] -= flow
        heat[1:] += flow
        return heat

    def unknown(x: np.ndarray) -> np.ndarray:
        return np.append(change(x[:-1], x[-1]), x[chain.seen] - target_c)

    state = root(unknown, np.append(np.full(len(c), target_c), 0.4)).x
    nodes, step = state[:-1], 0.01
    a = np.stack(
        [
            (change(nodes + step * one, state[-1]) - change(nodes - step * one, state[-1]))
            / (2 * step)
            for one in np.eye(len(c))
        ],
        axis=1,
    )
    b = np.zeros(len(c))
    b[0] = chain.power_w
    return a / c[:, None], b / c


def true_of(plant: Plant, period_s: float) -> dict[str, float]:
    """Gain at a period, and limit with the controller's half period, of the heater itself."""
    chain = plant.heater
    assert isinstance(chain, Chain)
    a, b = linear(chain, plant.target_c, plant.test.fan_on)

    def answer(w: float, delay_s: float) -> complex:
        s = 1j * w
        seen = np.linalg.solve(s * np.eye(len(b)) - a, b)[chain.seen]
        return complex(seen * np.exp(-delay_s * s) / np.prod([1 + lag * s for lag in chain.lags_s]))

    delay = chain.dead_time_s + CONTROL_S / 2
    grid = np.geomspace(1e-4, np.pi / CONTROL_S, 2000)
    phase = np.unwrap(np.angle([answer(w, delay) for w in grid]))
    at = int(np.flatnonzero(phase < -np.pi)[0])
    w = brentq(lambda x: np.interp(x, grid, phase) + np.pi, grid[at - 1], grid[at])
    return {
        "cycle's gain": SCALE / abs(answer(2 * np.pi / period_s, chain.dead_time_s)),
        "limit: gain": SCALE / abs(answer(w, delay)),
        "limit: period": 2 * np.pi / w,
    }


def rows_of(log: HeaterLog, way: str) -> Iterator[str]:
    """The log as a CSV, in one of the ways."""
    power = way != "no power"
    yield "time_s,temperature_c,target_c" + ",power" * power
    for t, c, goal, p in zip(log.time_s, log.temperature_c, log.target_c, log.power, strict=True):
        shown = f"{np.floor(t):.0f}" if way == "clock in whole seconds" else f"{t:.2f}"
        yield f"{shown},{c:.3f},{goal:.1f}" + f",{p:.3f}" * power


def printed(plant: Plant, way: str) -> dict[str, tuple[float, float]] | None:
    """Every value with a ± that the program prints of a log; None where it wants another test."""
    log = oscillation_log(plant.heater, plant.test)
    with tempfile.TemporaryDirectory() as folder:
        Path(folder, "log.csv").write_text("\n".join(rows_of(log, way)) + "\n")
        words = ["heater", "fit", "log.csv", "--heater", "bed" if plant.bed else "hotend"]
        words += ["--gain-scale", f"{SCALE:g}", "--fan", "on" if plant.test.fan_on else "off"]
        words += ["--full-power", "1"] if way != "no power" else []
        done = subprocess.run(
            [sys.executable, "-m", "omphalon", *words], cwd=folder, text=True, capture_output=True
        )
    if done.returncode not in (0, 3):
        raise SystemExit(f"{plant.name}: {done.stderr}")
    if not done.stdout.startswith("CHANGE"):
        return None
    out = {n: re.search(p, done.stdout) for n, p in PRINTED.items()}
    out["cycle"] = re.search(rf"\n  cycles +\d+ of {PAIR} s", done.stdout)
    return {n: (float(m[1]), float(m[2])) for n, m in out.items() if m}


def quiet(plant: Plant) -> Plant:
    """The same heater, read without noise four times a second over ten cycles."""
    heater = replace(plant.heater, noise_c=0.002, quantum_c=0.001)
    return replace(plant, heater=heater, test=replace(plant.test, report_s=0.25, cycles=10))


def judged(plant: Plant) -> list[tuple[str, str, float, float]]:
    """Way, figure, error over its ±, and the ± over the truth; a retest has neither."""
    ideal, out = printed(quiet(plant), WAYS[0]), []
    for way in WAYS:
        seen = printed(plant, way)
        if seen is None:
            out.append((way, "retest", np.nan, np.nan))
            continue
        true = true_of(plant, seen["cycle"][0])
        if ideal is not None:
            true |= {n: ideal[n][0] for n in ("kp", "ki", "kd")}
        for name, truth in true.items():
            if name in seen:
                value, half = seen[name]
                out.append((way, name, (value - truth) / half, half / truth))
    return out


def main() -> None:
    wanted = sys.argv[1:] or FAMILIES
    heaters = [p for family in wanted for p in family_plants(family)]
    found: dict[tuple[str, str], list[tuple[float, float]]] = defaultdict(list)
    with ThreadPoolExecutor(2) as pool:
        for rows in pool.map(judged, heaters):
            for way, name, error, half in rows:
                found[name, way].append((error, half))
    print(
        "| what has a ± | log | heaters | holds | median error, in ± | median ±, of the value "
        "| 95 of 100 errors within |"
    )
    print("| --- | --- | --- | --- | --- | --- | --- |")
    for name in PRINTED:
        for way in WAYS:
            error, half = np.array(found[name, way]).reshape(-1, 2).T
            if len(error):
                print(
                    f"| {name} | {way} | {len(error)} | {np.mean(np.abs(error) <= 1):.0%} "
                    f"| {np.median(error):+.2f} | {np.median(half):.0%} "
                    f"| {np.quantile(np.abs(error * half), 0.95):.0%} |"
                )
    for way in WAYS:
        print(f"asked for another test, {way}: {len(found['retest', way])} of {len(heaters)}")


if __name__ == "__main__":
    main()
