"""How often each ± holds what is true: of `heater fit` on families of heaters that the fit was not
tuned on, of the other commands on the made-up sessions of their own benchmarks.

    python benchmarks/intervals.py [heater|readings|advance|shaper]…

A heater's truth is the made-up heater itself, linearised at its target: what it answers at the
period of the cycle, where its phase passes −180° with the controller's half period. Gains have no
±: where a gain "does as well" from here to there, the reference loop of benchmarks/scored.py runs
either end on the made-up heater over four days, and the score is held against that of the gains
given. Each heater is logged as it is, with the clock cut to whole seconds, and without its power.
What the model's limit has beyond its draws was set on "two masses" and "radiation"; the others are
unseen.
"""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
from collections import defaultdict
from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np
from scipy.optimize import brentq, root

import advance as advance_prints
import filament
import shaper as frames_swept
import steps as readings_taken
from families import KELVIN, Chain
from omphalon.standin.loop import CONTROL_S
from omphalon.standin.oscillation import HeaterLog, oscillation_log
from plants import FAMILIES, Plant, family_plants
from scored import day_score

UNSEEN = [f for f in FAMILIES if f not in ("two masses", "radiation")]
WAYS = ("as it is", "clock in whole seconds", "no power")
AS_GOOD = 1.10  # of the score of the gains given
SESSIONS, ROLLS, VALUES, FRAMES = 1500, 1500, 12, 24
Error = tuple[float, float]  # estimate less truth over its half width; half width over the truth


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
        "cycle's gain": 1 / abs(answer(2 * np.pi / period_s, chain.dead_time_s)),
        "model's limit: gain": 1 / abs(answer(w, delay)),
        "model's limit: period": 2 * np.pi / w,
    }


def rows_of(log: HeaterLog, way: str) -> Iterator[str]:
    """The log as a CSV, in one of the ways."""
    power = way != "no power"
    yield "time_s,temperature_c,target_c" + ",power" * power
    for t, c, goal, p in zip(log.time_s, log.temperature_c, log.target_c, log.power, strict=True):
        shown = f"{np.floor(t):.0f}" if way == "clock in whole seconds" else f"{t:.2f}"
        yield f"{shown},{c:.3f},{goal:.1f}" + f",{p:.3f}" * power


def answered(plant: Plant, way: str) -> dict[str, Any]:
    """The program's document about a log."""
    log = oscillation_log(plant.heater, plant.test)
    with tempfile.TemporaryDirectory() as folder:
        Path(folder, "log.csv").write_text("\n".join(rows_of(log, way)) + "\n")
        words = ["heater", "fit", "log.csv", "--heater", "bed" if plant.bed else "hotend", "--json"]
        words += ["--fan", "on" if plant.test.fan_on else "off"]
        words += ["--full-power", "1"] if way != "no power" else []
        done = subprocess.run(
            [sys.executable, "-m", "omphalon", *words], cwd=folder, text=True, capture_output=True
        )
    if done.returncode not in (0, 3):
        raise SystemExit(f"{plant.name}: {done.stderr}")
    return dict(json.loads(done.stdout))


def ends_scored(plant: Plant, document: dict[str, Any]) -> Iterator[tuple[str, float]]:
    """Each gain, and the score with it at either end of what does as well, over that of the gains
    given.
    """
    names = ("kp", "ki", "kd")
    given = np.array([document["settings"][n] for n in names])
    rows = [given]
    for n, name in enumerate(names):
        for end in document["evidence"]["does_as_well"][name]:
            rows.append(given.copy())
            rows[-1][n] = end
    score, _ = day_score(plant.heater, np.array(rows), plant.target_c, bed=plant.bed)
    for n, name in enumerate(names):
        for one in score[1 + 2 * n : 3 + 2 * n]:
            yield f"{name} does as well", float(one / score[0])


def of_heater(job: tuple[str, int, str]) -> list[tuple[str, str, Error]]:
    """What of a heater's answer has a ±, the way it was logged, and its error."""
    family, number, way = job
    plant = family_plants(family)[number]
    document = answered(plant, way)
    if document["verdict"] == "retest":
        return [("retest", way, (np.nan, np.nan))]
    seen = document["evidence"]
    limit = seen["model_limit"]
    found = {
        "cycle's gain": (seen["ultimate_gain"], seen["ultimate_gain_spread"]),
        "model's limit: gain": (limit["gain"], limit.get("spread", {}).get("gain")),
        "model's limit: period": (limit["period_s"], limit.get("spread", {}).get("period_s")),
    }
    out = []
    for name, truth in true_of(plant, seen["period_s"]).items():
        value, half = found[name]
        if half is not None:
            out.append((name, way, ((value - truth) / half, half / truth)))
    ends = ends_scored(plant, document)
    return out + [(name, way, ((ratio - 1) / (AS_GOOD - 1), np.nan)) for name, ratio in ends]


def heaters() -> None:
    """The table of `heater fit`."""
    jobs = [(f, n, w) for f in UNSEEN for n in range(len(family_plants(f))) for w in WAYS]
    found: dict[tuple[str, str], list[Error]] = defaultdict(list)
    with ProcessPoolExecutor(2) as pool:
        for rows in pool.map(of_heater, jobs):
            for name, way, error in rows:
                found[name, way].append(error)
    names = dict.fromkeys(name for name, _ in found if name != "retest")
    for name in names:
        for way in WAYS:
            if errors := found[name, way]:
                print(row(f"`heater fit`: {name}", way, errors), flush=True)
    for way in WAYS:
        print(f"asked for another test, {way}: {len(found['retest', way])} of {len(jobs) // 3}")


def readings() -> None:
    """The rows of what is measured by readings."""
    words = {"extruder": "ratio", "axis": "ratio", "flow": "mean wall"}
    for kind, what in words.items():
        random = np.random.default_rng(21)
        some = [readings_taken.session(kind, random) for _ in range(SESSIONS)]
        errors = [
            ((s.scale - s.true) / s.half_width, s.half_width / s.true) for s in some if s.half_width
        ]
        print(row(f"`{kind} fit`: {what}", "one to eight readings, some with a blunder", errors))
    random = np.random.default_rng(22)
    rolls = [filament.roll(random) for _ in range(ROLLS)]
    sections = [(true, fit.one.estimate) for _, true, fit in rolls if fit is not None]
    errors = [((s.value - true) / s.half_width, s.half_width / true) for true, s in sections]
    print(row("`flow fit`: section of the filament", "three to eight places", errors))


def prints() -> None:
    """The rows of pressure advance."""
    for way in advance_prints.WAYS:
        for drive, (low, high, _) in advance_prints.RANGES.items():
            random, errors = np.random.default_rng(23), []
            for seed in range(VALUES):
                true = float(random.uniform(low, high))
                first = advance_prints.searched(way, drive, true, 1.3 * true, 1.0, 400 + seed)[0]
                if first.answer["verdict"] != "retest":
                    half = first.answer["spread"]["advance_s"]
                    errors.append(((first.best() - true) / half, half / true))
            print(row("`advance fit`: value", f"{way}, {drive}", errors), flush=True)


def frames() -> None:
    """The rows of the shaper's modes."""
    for kind in frames_swept.KINDS:
        with ProcessPoolExecutor(2) as pool:
            results = list(pool.map(frames_swept.one, [(kind, 900 + n) for n in range(FRAMES)]))
        held = [h for r in results if r.matched for h in r.held]
        for n, what in enumerate(("frequency", "damping", "share")):
            errors = [(0.0 if h[n] else 2.0, np.nan) for h in held]
            print(row(f"`shaper fit`: a mode's {what}", f"{kind} sweeps", errors), flush=True)


def row(what: str, how: str, errors: list[Error]) -> str:
    """A row of the table; what does as well holds where it is at most AS_GOOD times as dear."""
    error, half = np.array(errors).T
    aside = "does as well" in what
    held = np.mean(error <= 1) if aside else np.mean(np.abs(error) <= 1)
    wide = "" if np.isnan(half).all() else f"{np.median(half):.1%}"
    return f"| {what} | {how} | {len(errors)} | {held:.0%} | {wide} |"


PARTS: dict[str, Callable[[], None]] = {
    "heater": heaters,
    "readings": readings,
    "advance": prints,
    "shaper": frames,
}


def main() -> None:
    print("| what | of | made up | holds | median ±, of the value |")
    print("| --- | --- | --- | --- | --- |")
    for part in sys.argv[1:] or PARTS:
        PARTS[part]()


if __name__ == "__main__":
    main()
