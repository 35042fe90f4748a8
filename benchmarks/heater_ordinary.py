"""Gains and health from ordinary logs: heat-ups, holds, a fan, a step of the target, an hour of
printing, under good, timid, hot and badly mixed gains.

    python benchmarks/heater_ordinary.py [gains|health|bias|spoiled] [--only FAMILY] [--detail]

The heaters are those of plants.py (five families, twelve hotends and as many beds each); the fit's
constants were tuned on "two masses" and "five nodes". Power is reported as a sample or as a mean,
every 0.5 to 3 s; the program is not told which. Scored as in heater_gains.py.
"""

from __future__ import annotations

import functools
import os

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import sys
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace

import numpy as np

from omphalon.answers.remarks import Refusal
from omphalon.recordings.recording import TemperatureLog
from omphalon.standin.heater import SimulatedHeater
from omphalon.standin.loop import Hold, hold_log
from omphalon.standin.samples import FULMAR_HOTEND
from omphalon.studies.changes import held_against
from omphalon.studies.heater.excited import excited
from omphalon.studies.heater.fit import fit_heater
from omphalon.studies.heater.health import SIGNS, health, health_pairs
from omphalon.studies.heater.question import HeaterQuestion
from omphalon.studies.heater.tuning import promised_range
from plants import FAMILIES, Plant, best_possible, family_plants
from scored import day_score

# what ran: factors of the best kp, ki, kd
QUALITIES = {
    "good": (1.0, 1.0, 1.0),
    "timid": (0.35, 0.2, 0.25),
    "hot": (2.0, 2.5, 0.9),
    "mixed": (0.5, 4.0, 0.05),
}
KINDS = ("hold", "fan", "step", "hour")
OF_KIND = 12  # hotends, and as many beds, of a family


@dataclass(frozen=True)
class Case:
    """One log of one heater."""

    plant: Plant
    kind: str
    quality: str
    hold: Hold


@dataclass(frozen=True)
class Row:
    """What came of it: the score over the best possible, whether the ranges hold, or why none."""

    case: Case
    ratio: float = np.nan
    held: tuple[bool, bool] = (False, False)
    refused: str = ""


@functools.cache
def cases(family: str) -> list[Case]:
    """Every heater of a family with every kind of log, the gains in turn."""
    count = len(family_plants(family, OF_KIND))
    return [case_of(family, n, kind) for n in range(count) for kind in KINDS]


def case_of(family: str, n: int, kind: str) -> Case:
    """One of them."""
    plant, k = family_plants(family, OF_KIND)[n], KINDS.index(kind)
    quality = list(QUALITIES)[(n + k) % len(QUALITIES)]
    random = np.random.default_rng([21, FAMILIES.index(family), n, k])
    return Case(plant, kind, quality, _hold(plant, kind, quality, random))


def _hold(plant: Plant, kind: str, quality: str, random: np.random.Generator) -> Hold:
    unit = 300.0 if plant.bed else 60.0
    best = np.array(best_possible(plant)[1])
    gains = tuple(float(g) for g in best * QUALITIES[quality])
    every = float(random.choice([1, 2, 3] if plant.bed else [0.5, 1, 2, 3]))
    base = Hold(
        target_c=plant.target_c,
        gains=(gains[0], gains[1], gains[2]),
        report_s=every,
        fan_after_s=None,
        most_s=20000.0,
        averaged=bool(random.integers(2)),
        seed=int(random.integers(1_000_000)),
    )
    if kind == "hold":
        return replace(base, hold_s=4 * unit)
    if kind == "fan":
        return replace(base, hold_s=5 * unit, fan_after_s=3 * unit)
    if kind == "step":
        targets = ((3 * unit, plant.target_c - 15), (5.5 * unit, plant.target_c))
        return replace(base, hold_s=8 * unit, targets=targets)
    changes, at = [], 2 * unit
    while at < 3600:
        changes.append((at, float(random.uniform(0, 1.2)) * float(random.uniform() < 0.7)))
        at += float(random.exponential(2 * unit)) + 30
    return replace(base, hold_s=3600.0, cooled=tuple(changes))


def recorded(heater: object, hold: Hold) -> TemperatureLog:
    """A log as a reader would give it."""
    log = hold_log(heater, hold)
    values = (np.array(v) for v in (log.time_s, log.temperature_c, log.power, log.target_c))
    time, reading, power, target = values
    return TemperatureLog(
        source="made up",
        time_s=time,
        temperature_c=reading,
        power=power,
        target_c=target,
        power_scale=1.0,
        read_as="CSV",
    )


def judged(case: Case) -> Row:
    """What the fit makes of a log, run on the heater."""
    plant = case.plant
    question = HeaterQuestion(heater="bed" if plant.bed else "hotend")
    try:
        fit = fit_heater([recorded(plant.heater, case.hold)], question)
    except Refusal as refusal:
        return Row(case, refused=refusal.code)
    new = fit.tuned.new.row()
    scores, run = day_score(plant.heater, new, plant.target_c, bed=plant.bed)
    doubt = fit.tuned.doubt
    ranges = [promised_range(v[:, 0]) for v in (doubt.overshoot_c, doubt.dip_c)]
    seen = float(run.overshoot_c[0, 0]), float(run.dip_c[0, 0])
    held = [low <= value <= high for value, (low, high) in zip(seen, ranges, strict=True)]
    return Row(case, float(scores[0] / best_possible(plant)[0]), (held[0], held[1]))


def gains(only: str | None, detail: bool) -> None:
    """The table of answered, score and ranges, by family and kind of log."""
    print(f"{'heaters, log':34}{'answered':>9}{'median':>8}{'90th %':>8}{'worst':>8}{'held':>12}")
    rows: list[Row] = []
    with ProcessPoolExecutor(2) as pool:
        for family in FAMILIES:
            if only in (None, family):
                some = list(pool.map(judged, cases(family)))
                rows += some
                for kind in KINDS:
                    _line(f"{family}, {kind}", [r for r in some if r.case.kind == kind])
    for kind in KINDS:
        _line(f"all, {kind}", [r for r in rows if r.case.kind == kind])
    for quality in QUALITIES:
        _line(f"all, {quality} gains", [r for r in rows if r.case.quality == quality])
    if detail:
        for r in rows:
            if not r.ratio < 1.25:
                one = r.case
                every, way = one.hold.report_s, "mean" if one.hold.averaged else "sample"
                print(
                    f"{one.plant.name} {one.kind} {one.quality} {every} {way} {r.ratio:.2f} "
                    f"{r.refused}"
                )


def _line(name: str, rows: list[Row]) -> None:
    ratio = np.array([r.ratio for r in rows if np.isfinite(r.ratio)])
    held = [np.mean([r.held[n] for r in rows if np.isfinite(r.ratio)]) for n in (0, 1)]
    print(
        f"{name:34}{len(ratio):>5}/{len(rows):<3}{np.median(ratio):8.3f}"
        f"{np.quantile(ratio, 0.9):8.3f}{ratio.max():8.3f}{held[0]:8.0%}{held[1]:5.0%}",
        flush=True,
    )


def _pair(job: tuple[int, SimulatedHeater, bool]) -> list[str]:
    """Which figures are named as changed between an unchanged heater's log and another one's."""
    seed, later, averaged = job
    gains = (0.13, 0.0085, 0.2)
    before_s = 5.0 + float(np.random.default_rng(seed).uniform(0, 0.5))
    hold = Hold(
        target_c=235.0,
        gains=gains,
        hold_s=200.0,
        fan_after_s=None,
        report_s=0.5,
        seed=2 * seed,
        averaged=averaged,
        before_s=before_s,
    )
    before = health(recorded(FULMAR_HOTEND, hold), 235.0)
    after = health(recorded(later, replace(hold, seed=2 * seed + 1)), 235.0)
    changes = held_against(health_pairs(before, after))
    return [c.pair.name for c in changes if c.differs and c.pair.name in SIGNS]


def healths(count: int = 100) -> None:
    """How often a change is named where there is none, 5 % less power, a sensor later by 0.5 s."""
    later = replace(FULMAR_HOTEND, dead_time_s=FULMAR_HOTEND.dead_time_s + 0.5)
    weak = replace(FULMAR_HOTEND, power_w=0.95 * FULMAR_HOTEND.power_w)
    kinds = {
        "unchanged": FULMAR_HOTEND,
        "5 % less power": weak,
        "0.5 s later": later,
        "0.5 s later, mean power": later,
    }
    with ProcessPoolExecutor(2) as pool:
        for name, heater in kinds.items():
            jobs = [(n, heater, "mean" in name) for n in range(count)]
            found = list(pool.map(_pair, jobs, chunksize=5))
            each = {sign: sum(sign in one for one in found) / count for sign in SIGNS}
            any_of_them = sum(bool(one) for one in found) / count
            print(
                f"{name:24} any {any_of_them:.1%}  "
                + "  ".join(f"{k} {v:.1%}" for k, v in each.items())
            )


def _estimate(job: tuple[int, bool]) -> dict[str, tuple[float, float]]:
    seed, averaged = job
    hold = Hold(
        target_c=235.0,
        gains=(0.13, 0.0085, 0.2),
        hold_s=240.0,
        fan_after_s=None,
        report_s=1.0,
        seed=seed,
        averaged=averaged,
    )
    fit = excited(recorded(FULMAR_HOTEND, hold), 235.0).fit.thermal
    turn = fit.model.dead_time_s, fit.spread("dead_time_s") / 1.96
    return {"dead time": turn, "holding power": (fit.model.holding_power, 0.0)}


def bias(count: int = 100) -> None:
    """Estimates of one heater's logs against the truth, in units of their own deviation."""
    truth = FULMAR_HOTEND.dead_time_s
    with ProcessPoolExecutor(2) as pool:
        for averaged in (False, True):
            jobs = [(n, averaged) for n in range(count)]
            found = list(pool.map(_estimate, jobs, chunksize=5))
            dead = np.array([f["dead time"] for f in found])
            off = (dead[:, 0] - truth) / dead[:, 1]
            held = np.array([f["holding power"][0] for f in found])
            way = "averaged" if averaged else "sampled "
            print(
                f"power {way}  dead time {dead[:, 0].mean():.3f} ({truth:g} s true), "
                f"off by {off.mean():+.2f} of its deviation, scatter "
                f"{dead[:, 0].std():.3f} s; holding power {held.mean():.4f} ± {held.std():.4f}"
            )


Spoil = Callable[[TemperatureLog, np.random.Generator], TemperatureLog]


def _still(log: TemperatureLog, random: np.random.Generator) -> TemperatureLog:
    reading = log.temperature_c.copy()
    at = int(random.integers(len(reading) // 2, max(len(reading) - 60, len(reading) // 2 + 1)))
    reading[at : at + 40] = reading[at]
    return replace(log, temperature_c=reading)


def _restarted(log: TemperatureLog, _: np.random.Generator) -> TemperatureLog:
    later = log.time_s + log.time_s[-1] + 100
    twice = {n: np.tile(getattr(log, n), 2) for n in ("temperature_c", "power", "target_c")}
    return replace(log, time_s=np.concatenate([log.time_s, later]), **twice)


def _warm(log: TemperatureLog, random: np.random.Generator) -> TemperatureLog:
    y = log.temperature_c
    return log.rows(slice(int(np.argmax(y > y.min() + random.uniform(0.3, 0.7) * np.ptp(y))), None))


def _gap(log: TemperatureLog, random: np.random.Generator) -> TemperatureLog:
    keep = np.ones(len(log.time_s), bool)
    at = int(random.integers(20, max(len(keep) - 60, 21)))
    keep[at : at + int(random.integers(15, 50))] = False
    return log.rows(keep)


def _short(log: TemperatureLog, random: np.random.Generator) -> TemperatureLog:
    near = int(np.argmax(log.temperature_c > log.target_c.max() - 12))
    return log.rows(log.time_s < log.time_s[near] + random.uniform(5, 40))


def _late(log: TemperatureLog, random: np.random.Generator) -> TemperatureLog:
    by = int(random.uniform(8, 20) / np.median(np.diff(log.time_s)))
    return replace(log, power=np.concatenate([np.zeros(by), log.power[:-by]]))


SPOILED: dict[str, Spoil] = {
    "another heater's power": lambda log, r: replace(
        log, power=np.clip(r.uniform(0.1, 0.5) + 0.1 * r.standard_normal(len(log.time_s)), 0, 1)
    ),
    "the target as power": lambda log, _: replace(log, power=log.target_c / log.target_c.max()),
    "begins warm": _warm,
    "the reading stands still": _still,
    "°F": lambda log, _: replace(log, temperature_c=log.temperature_c * 1.8 + 32),
    "a gap": _gap,
    "a restart": _restarted,
    "cut short": _short,
    "power by half": lambda log, _: replace(log, power=log.power * 0.5),
    "the sensor drifts": lambda log, r: replace(
        log, temperature_c=log.temperature_c + np.linspace(0, r.uniform(-8, 8), len(log.time_s))
    ),
    "power logged late": _late,
}
WRONG = 1.5  # times the least possible score: no such answer should pass in silence


def _spoiled_one(job: tuple[str, int]) -> tuple[str, str, float, list[str]]:
    kind, n = job
    random = np.random.default_rng([3, n])
    one = cases(("two masses", "radiation")[n % 2])[4 * (n // 2) + n % 3]
    log = SPOILED[kind](recorded(one.plant.heater, one.hold), random)
    try:
        fit = fit_heater([log], HeaterQuestion(heater="bed" if one.plant.bed else "hotend"))
    except Refusal as refusal:
        return kind, refusal.code, np.nan, []
    scores, _ = day_score(
        one.plant.heater, fit.tuned.new.row(), one.plant.target_c, bed=one.plant.bed
    )
    codes = [r.code for r in fit.remarks if r.document()["code"] != "no-test-in-it"]
    return kind, "", float(scores[0] / best_possible(one.plant)[0]), codes


def spoiled(each: int = 8) -> None:
    """What becomes of spoiled ordinary logs."""
    print(f"{'log':26}{'good':>6}{'warned':>8}{'refused':>9}{'wrong':>7}{'worst':>8}")
    with ProcessPoolExecutor(2) as pool:
        found = list(pool.map(_spoiled_one, [(k, n) for k in SPOILED for n in range(each)]))
    for kind in SPOILED:
        own = [one for one in found if one[0] == kind]
        kept = [one for one in own if not one[1]]
        wrong = sum(one[2] > WRONG and not one[3] for one in kept)
        warned = sum(bool(one[3]) for one in kept)
        why = ", ".join(sorted({one[1] for one in own if one[1]}))
        worst = max((one[2] for one in kept), default=np.nan)
        good = len(kept) - wrong - warned
        print(f"{kind:26}{good:6}{warned:8}{len(own) - len(kept):9}{wrong:7}{worst:8.2f}  {why}")


if __name__ == "__main__":
    what = next((a for a in sys.argv[1:] if a in ("gains", "health", "bias", "spoiled")), None)
    family = sys.argv[sys.argv.index("--only") + 1] if "--only" in sys.argv else None
    if what in (None, "gains"):
        gains(family, "--detail" in sys.argv)
    if what in (None, "health"):
        healths()
    if what in (None, "bias"):
        bias()
    if what in (None, "spoiled"):
        spoiled()
