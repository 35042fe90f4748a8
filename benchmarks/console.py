"""What controllers print of their own tests: is it read, is the table found, are their own gains
judged as the truth has it, and how good are the gains from cycles alone?

    python benchmarks/console.py

Sixty made-up results: the heaters of plants.py, ten wordings, four tables, three scales of power,
relays of 0.5 to 1 of full power; every second one beside the log of its test. A controller's own
gains are bad where the loop that runs them on the true heater overshoots or swings past what
`heater check` allows.
"""

from __future__ import annotations

import itertools
import sys
import tempfile
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from advance import run
from heater_cycles import summaries
from omphalon.standin.oscillation import as_console, oscillation_log
from omphalon.studies.heater.check import ALLOWED
from omphalon.studies.heater.summary import TABLES
from plants import Plant, best_possible, family_plants, logged_every, plants
from scored import day_score

# a line a cycle, and the end: our own words
WORDINGS = (
    ("low {low} high {high}", "Ku {ku:.5g} Tu {tu:.4g}\nKp {kp:.5g} Ki {ki:.5g} Kd {kd:.5g}"),
    ("min: {low}, max: {high}, bias: {bias:.0f}, half: {half:.0f}", "Ku={ku:.5g}; Tu={tu:.4g}"),
    ("cycle {n}: highest {high} C, lowest {low} C, period {tu_n} s", "ultimate gain {ku:.5g}"),
    ("{n}\tlow\t{low}\thigh\t{high}", "K_u\t{ku:.5g}\nT_u\t{tu:.4g}"),
    ("lowest reading = {low}\nhighest reading = {high}", "ultimate period = {ms:.0f} ms"),
    ("minimum {low} maximum {high} middle {bias:.0f} half width {half:.0f}", "Tu: {tu:.4g} s"),
    ("swing {n}: max={high} min={low}", "ultimate_gain={ku:.5g} ultimate_period={tu:.4g}"),
    ("MIN {low} MAX {high}", "KU {ku:.5g} TU {tu:.4g}"),
    ("high: {high} / low: {low}", "Kcr {ku:.5g}, Tcr {tu:.4g}"),
    ("low={low} high={high} period={tu_n}", "Ku: {ku:.5g}"),
)
GAINS = "\nproportional: {kp:.5g} integral: {ki:.5g} derivative: {kd:.5g}"
SCALES = (1.0, 100.0, 255.0)


@dataclass(frozen=True)
class Row:
    """What came of one result: whether it was read, table and scale found; the score of the gains
    from cycles alone over the best possible; what was said of the controller's own gains, and what
    is so.
    """

    read: bool = False
    table: bool = False
    scale: bool = False
    ratio: float = np.nan
    said_bad: bool | None = None
    bad: bool | None = None


def judged(job: tuple[int, Plant]) -> Row:
    """One result, read by the built program."""
    number, plant = job
    random = np.random.default_rng([51, number])
    test = logged_every(plant, 0.5)
    test = replace(test, power_limit=float(random.uniform(0.5, 1)), fan_on=False)
    log = oscillation_log(plant.heater, test)
    cycles, powers = summaries(log)
    swing = float(np.median([c.high_c - c.low_c for c in cycles[len(cycles) // 3 :]]))
    tu = float(np.median([c.period_s for c in cycles[len(cycles) // 3 :]]))
    ku = 4 * (powers[0] - powers[1]) / 2 / (np.pi * swing / 2)
    name = list(TABLES)[:4][number % 4]
    kp, ti, td = (a * b for a, b in zip(TABLES[name], (ku, tu, tu), strict=True))
    own = np.array([[kp, kp / ti, kp * td]])
    scale = SCALES[number % 3]
    words, end = WORDINGS[number % len(WORDINGS)]
    counts = {"bias": 127.5 * sum(powers), "half": 127.5 * (powers[0] - powers[1])}
    figures = {"ku": ku * scale, "tu": tu, "ms": 1000 * tu}
    figures |= dict(zip(("kp", "ki", "kd"), (own[0] * scale).tolist(), strict=True))
    lines = [
        words.format(n=n, low=c.low_c, high=c.high_c, tu_n=c.period_s, **counts)
        for n, c in enumerate(cycles, 1)
    ]
    text = "\n".join([*lines, (end + GAINS).format(**figures), ""])
    heater = "bed" if plant.bed else "hotend"
    given = ["--heater", heater, "--target", f"{plant.target_c:g}", "--gain-scale", f"{scale:g}"]
    if "half" not in words:  # the text does not tell the relay
        given += ["--power-high", f"{powers[0]:.3f}", "--power-low", f"{powers[1]:.3f}"]
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder, "console.txt")
        file.write_text(text)
        if number % 2:
            return _beside_log(file, text, log, plant, own, given)
        found = run("heater", "fit", str(file), *given)
        other = run("heater", "fit", str(file), *given[:4], *given[6:], "--gain-scale", "1023")
    if found["verdict"] == "retest":
        return Row(read=bool(found["evidence"]))
    gains = np.array([[found["settings"][k] for k in ("kp", "ki", "kd")]])
    score, _ = day_score(plant.heater, gains, plant.target_c, bed=plant.bed)
    bad, said_bad = _own_judged(found, plant, own)
    said = [w["message"] for w in other["warnings"] if w["code"] == "own-scale"]
    return Row(
        read=True,
        table=found["evidence"]["own"]["table"] == name,
        scale="Ku" not in end and not said or any(f" of {scale:g}," in one for one in said),
        ratio=float(score[0]) / best_possible(plant)[0],
        said_bad=said_bad,
        bad=bad,
    )


def _own_judged(found, plant, own):
    """Whether the controller's own gains are bad, and whether the answer says so."""
    allowed = ALLOWED["bed" if plant.bed else "hotend"]
    _, true = day_score(plant.heater, own, plant.target_c, bed=plant.bed)
    bad = true.overshoot_c[0, 0] > allowed.overshoot_c or true.ripple_c[0, 0] > allowed.ripple_c
    said = (found["evidence"].get("predicted_otherwise") or {}).get("controller's own")
    if said is None:
        return bool(bad), None
    worse = said["overshoot_c"] > allowed.overshoot_c or said["ripple_c"] > allowed.ripple_c
    return bool(bad), worse


def _beside_log(file, text, log, plant, own, given):
    """What is said of the controller's own gains beside the log, and what is so."""
    given = given[:6]
    console = "\n".join([*as_console(log, plant.bed), text])
    file.write_text(console)
    found = run("heater", "fit", str(file), *given, "--every", "0.5", "--fan", "off")
    bad, said_bad = _own_judged(found, plant, own)
    return Row(read=said_bad is not None, said_bad=said_bad, bad=bad)


def main() -> None:
    some = [*plants(), *itertools.chain(*(family_plants(f) for f in ("five nodes", "radiation")))]
    jobs = list(enumerate(some[:60]))[: int(sys.argv[1]) if len(sys.argv) > 1 else 60]
    with ProcessPoolExecutor(2) as pool:
        rows = list(pool.map(judged, jobs))
    alone, beside = rows[::2], rows[1::2]
    ratios = np.array([r.ratio for r in alone if np.isfinite(r.ratio)])
    print(f"results without a log      {len(alone)}, answered {len(ratios)}")
    print(f"  table found              {sum(r.table for r in alone)}")
    print(f"  scale found              {sum(r.scale for r in alone)}")
    print(
        f"  gains over the best      median {np.median(ratios):.2f}, 90th "
        f"{np.quantile(ratios, 0.9):.2f}, worst {ratios.max():.2f}"
    )
    _print_judged(alone)
    print(f"results beside a log       {len(beside)}, answered {sum(r.read for r in beside)}")
    _print_judged(beside)


def _print_judged(rows: list[Row]) -> None:
    seen = [r for r in rows if r.said_bad is not None]
    right = sum(r.said_bad == r.bad for r in seen)
    print(f"  own gains judged right   {right} of {len(seen)}, bad in truth {sum(map(_bad, seen))}")


def _bad(row: Row) -> bool:
    return bool(row.bad)


if __name__ == "__main__":
    main()
