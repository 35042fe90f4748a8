"""One set of gains for a range of temperatures, and hotends from which plastic takes heat.

    python benchmarks/temperatures.py [FAMILY…]

Five hotends and five beds each of four families of plants.py, tested at both ends of a range of 30
to 60 °C (beds 20 to 40 °C), fitted together by the program with `--target LOW:HIGH`. The score of
heater_gains.py is averaged over the two ends and the middle, and divided by the least that brute
force finds for one set of gains; beside it the gains of the lower test alone.

The hotends are also run with plastic that begins to flow while the part fan blows, heat being taken
from their second node: how often the promised range of the dip holds, and how far the flow at which
power ends is off. The program is told power, plastic and fan with errors of up to 5, 10 and 10 %.
"""

from __future__ import annotations

import hashlib
import json
import subprocess
import sys
import tempfile
from concurrent.futures import ProcessPoolExecutor
from dataclasses import asdict, dataclass, replace
from pathlib import Path

import numpy as np
from scipy.optimize import brentq

from elsewhere import EACH, FAMILIES
from families import KELVIN, Chain, ChainLanes
from heater_gains import stamped
from omphalon.standin.oscillation import oscillation_log
from omphalon.tables.plastics import PLASTICS
from plants import BUSIEST, Plant, _pace, draw_of, family_plants
from scored import day_score, run_loop

CACHE = Path(__file__).with_name("best_range.json")
ROUNDS, WIDTH = 7, 2.6
SIZE = {False: 250, True: 120}  # of a round: hotends, beds
SINK = 1  # the node that plastic takes heat from


@dataclass(frozen=True)
class Fed(Chain):
    """A chain whose losses are those with the fan on, and from which plastic takes heat where
    the loop's scenario turns the fan on: `flow` cubic millimetres a second of J/mm³ = a + b rise.
    """

    flow: float = 0.0
    heat: tuple[float, float] = (0.0, 0.0)

    @staticmethod
    def lanes(heaters, copies, step_s):
        return FedLanes(heaters, copies, step_s)


class FedLanes(ChainLanes):
    def __init__(self, chains: list[Fed], copies: int, step_s: float) -> None:
        super().__init__(chains, copies, step_s)
        self.chains = chains

    def advance(self, power: np.ndarray | float) -> None:
        super().advance(power)
        if self.fan:
            for n, one in enumerate(self.chains):
                rise = self.nodes[SINK][n] - one.ambient_c
                taken = one.flow * (one.heat[0] + one.heat[1] * rise)
                self.nodes[SINK][n] -= self.step_s / one.capacity_j_c[SINK] * taken


def fed(plant: Plant, flow: float, heat: tuple[float, float]) -> Fed:
    """The hotend of a plant with its fan on for good, and plastic to come."""
    made, more = plant.heater, 1 + plant.heater.fan_extra
    fields = {f: getattr(made, f) for f in made.__dataclass_fields__}
    for name in ("loss_w_c", "radiation_w_k4", "convection"):
        fields[name] = tuple(more * v for v in fields[name])
    return Fed(**{**fields, "fan_extra": 0.0}, flow=flow, heat=heat)


def reading(one: Fed, power: float) -> float:
    """What the sensor reads in the end, at a steady power share and flow."""
    from scipy.optimize import root

    def gained(nodes: np.ndarray) -> np.ndarray:
        over = nodes - one.ambient_c
        lost = np.array(one.loss_w_c) * over * (1 + one.growth_per_c * over)
        shine = (nodes + KELVIN) ** 4 - (one.ambient_c + KELVIN) ** 4
        lost += np.array(one.radiation_w_k4) * shine
        if one.convection:
            lost += np.array(one.convection) * np.maximum(over, 0.0) ** 1.25
        passed = np.array(one.coupling_w_c) * (nodes[:-1] - nodes[1:])
        heat = -lost
        heat[0] += one.power_w * power
        heat[:-1] -= passed
        heat[1:] += passed
        heat[SINK] -= one.flow * (one.heat[0] + one.heat[1] * over[SINK])
        return heat

    return float(root(gained, np.full(len(one.loss_w_c), 250.0)).x[one.seen])


def true_most(plant: Plant, target_c: float, heat: tuple[float, float]) -> float:
    """The flow at which full power just holds the target, the fan on."""

    def off(flow: float) -> float:
        return reading(fed(plant, flow, heat), 1.0) - target_c

    return float(brentq(off, 0.0, 400.0)) if off(0.0) > 0 else 0.0


def true_cooling(plant: Plant, target_c: float) -> float:
    """How much more power the target takes with the fan on, as a share."""
    still = replace(plant, heater=replace(plant.heater, fan_extra=0.0))
    on, off = (
        brentq(lambda u, p=p: reading(fed(p, 0.0, (0.0, 0.0)), u) - target_c, 0.01, 3.0)
        for p in (plant, still)
    )
    return float(on / off - 1)


def targets(plant: Plant, number: int) -> tuple[float, float, float]:
    """The middle and both ends; from the plant's own target upwards, where its power holds that,
    else downwards.
    """
    random = np.random.default_rng([41, number, int(plant.bed)])
    size = round(float(random.uniform(20, 40) if plant.bed else random.uniform(30, 60)))
    up = plant.heater.holds_c(BUSIEST) > plant.target_c + size + 5
    low = plant.target_c if up else max(plant.target_c - size, 40.0)
    return low + size / 2, low, low + size


def score(plant: Plant, gains: np.ndarray, goals: tuple[float, ...]) -> np.ndarray:
    """The mean over the targets."""
    every = [day_score(plant.heater, gains, goal, bed=plant.bed)[0] for goal in goals]
    return np.mean(every, axis=0)


def best_of_range(plant: Plant, goals: tuple[float, ...]) -> float:
    """The least score of one set of gains, by brute force; cached."""
    told = json.dumps([asdict(plant.heater), goals, ROUNDS, SIZE[plant.bed]])
    key = hashlib.sha256(told.encode()).hexdigest()[:16]
    known = json.loads(CACHE.read_text()) if CACHE.exists() else {}
    if known.get(plant.name, {}).get("key") == key:
        return float(known[plant.name]["score"])
    slope, late = _pace(plant.heater)
    kp, width, best = 1 / (slope * late), WIDTH, np.inf
    centre = np.log([kp, kp / (8 * late), kp * late / 3])
    for turn in range(ROUNDS):
        points = centre + width * np.random.default_rng([1, turn]).uniform(
            -1, 1, (SIZE[plant.bed], 3)
        )
        points[0] = centre
        scores = score(plant, np.exp(points), goals)
        scores = np.where(np.isfinite(scores), scores, np.inf)
        centre, best = points[scores.argmin()], min(best, float(scores.min()))
        width *= 0.55
    known = json.loads(CACHE.read_text()) if CACHE.exists() else {}
    known[plant.name] = {"key": key, "score": best}
    CACHE.write_text(json.dumps(known, indent=1) + "\n")
    return best


def fitted(plant: Plant, goals: list[float], *options: str) -> dict:
    """The program's answer to tests at some targets."""
    with tempfile.TemporaryDirectory() as folder:
        names = []
        for n, goal in enumerate(goals):
            test = replace(plant.test, target_c=goal, start_c=None, seed=plant.test.seed + n)
            text = stamped(oscillation_log(plant.heater, test), plant.bed)
            names.append(f"log-{n}.txt")
            Path(folder, names[-1]).write_text(text)
        which, fan = "bed" if plant.bed else "hotend", "on" if plant.test.fan_on else "off"
        words = ["heater", "fit", *names, "--heater", which, "--fan", fan, "--full-power", "127"]
        done = subprocess.run(
            [sys.executable, "-m", "omphalon", *words, "--json", *options],
            cwd=folder,
            text=True,
            capture_output=True,
        )
    if done.returncode not in (0, 3):
        raise SystemExit(f"{plant.name}: {done.stderr}")
    return json.loads(done.stdout)


@dataclass
class Row:
    family: str
    bed: bool
    ratio: float = np.nan
    one_log: float = np.nan
    dip_held: bool | None = None
    most_off: float = np.nan
    most_held: bool | None = None
    why: str = ""


def judged(job: tuple[str, int, bool]) -> Row:
    family, number, bed = job
    plant = [p for p in family_plants(family) if p.bed == bed][number]
    assert plant.name == draw_of(family, number, bed).name
    goals = targets(plant, number)
    _, low, high = goals
    row, options = Row(family, bed), ["--target", f"{low:g}:{high:g}"]
    random = np.random.default_rng([42, number])
    plastic = PLASTICS[("pla", "petg", "abs", "pc", "pa")[number % 5]]
    heat = (1e-3 * plastic.density_g_cm3 * plastic.melting_j_g,)
    heat = (*heat, 1e-3 * plastic.density_g_cm3 * plastic.heat_j_gk)
    off = random.uniform(-1, 1, 3) * (0.05, 0.10, 0.10)
    heat = (heat[0] * (1 + off[1]), heat[1] * (1 + off[1]))
    flow = 0.0
    if not bed:
        most = true_most(plant, high, heat)
        flow = round(float(most * random.uniform(0.2, 0.7)), 1)
        options += ["--watts", f"{plant.heater.power_w * (1 + off[0]):.1f}"]
        options += ["--plastic", plastic.name]
        options += ["--fan-cooling", f"{true_cooling(plant, high) * (1 + off[2]):.2f}"]
        if flow >= 0.1:
            options += ["--volume-flow", f"{flow:g}"]
    found = fitted(plant, [high, low], *options)
    if found["verdict"] == "retest":
        row.why = found["because"]
        return row
    best = best_of_range(plant, goals)
    gains = np.array([[found["settings"][k] for k in ("kp", "ki", "kd")]])
    row.ratio = float(score(plant, gains, goals)[0]) / best
    alone = fitted(plant, [low])
    if alone["verdict"] != "retest":
        only = np.array([[alone["settings"][k] for k in ("kp", "ki", "kd")]])
        row.one_log = float(score(plant, only, goals)[0]) / best
    if not bed and "plastic" in found["evidence"]:
        told = found["evidence"]["plastic"]
        least, expected, largest = told["most_mm3_s"]
        row.most_off, row.most_held = expected / most - 1, least <= most <= largest
        if told["dip_c"] and flow:
            ran = run_loop([fed(plant, flow, heat)], gains, high)
            row.dip_held = told["dip_c"][0] <= float(ran.dip_c[0, 0]) <= told["dip_c"][2]
    return row


def line(name: str, rows: list[Row]) -> str:
    some = [r for r in rows if np.isfinite(r.ratio)]
    ratio, alone = (np.array([getattr(r, n) for r in some]) for n in ("ratio", "one_log"))
    alone = alone[np.isfinite(alone)]
    dips = [r.dip_held for r in some if r.dip_held is not None]
    offs = np.abs([r.most_off for r in some if np.isfinite(r.most_off)])
    held = [r.most_held for r in some if r.most_held is not None]
    plastic = ""
    if len(offs):
        plastic = (
            f"{sum(dips):>6}/{len(dips):<3}{np.median(offs):8.1%}{np.quantile(offs, 0.9):8.1%}"
            f"{sum(held):>5}/{len(held)}"
        )
    return (
        f"{name:22}{len(some):>3}/{len(rows):<3}{np.median(ratio):8.3f}"
        f"{np.quantile(ratio, 0.9):8.3f}{ratio.max():8.3f}{np.median(alone):9.3f}"
        f"{np.quantile(alone, 0.9):8.3f}{plastic}"
    )


def main() -> None:
    families = sys.argv[1:] or FAMILIES
    print(f"{'':22}{'':7}{'one set for the range':>24}{'lower test':>17}{'plastic':>22}")
    print(
        f"{'heaters':22}{'fitted':>7}{'median':>8}{'90th':>8}{'worst':>8}{'median':>9}{'90th':>8}"
        f"{'dip held':>10}{'end off':>8}{'90th':>8}{'held':>7}"
    )
    every: list[Row] = []
    with ProcessPoolExecutor(2) as pool:
        for family in families:
            jobs = [(family, n, bed) for bed in (False, True) for n in range(EACH)]
            rows = list(pool.map(judged, jobs))
            every += rows
            for bed in (False, True):
                kind = "beds" if bed else "hotends"
                print(line(f"{family}, {kind}", [r for r in rows if r.bed == bed]), flush=True)
            for row in rows:
                if row.why:
                    print(f"  {row.why}")
    print(line("all", every))


if __name__ == "__main__":
    main()
