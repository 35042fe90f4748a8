"""Simulated sessions with caliper and rule: does the interval hold the truth, is noise left alone,
are blunders seen?

    python benchmarks/steps.py [SESSIONS]

Each session: a true scale within ±15 %, one to eight runs, a resolution of 0.01 to 0.5 mm, marks
placed to 0.3 mm (filament), settings to 0.05 mm (moves) or 0.01 mm (walls, by the caliper's
squeeze). One session in five with three runs or more has one blunder: two neighbouring digits
swapped or one digit off by one to three, if that moves the reading by more than six of its
deviations (a smaller one nobody could see).
"""

from __future__ import annotations

import sys
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from omphalon.lines.dialect import load_dialect
from omphalon.recording import Reading, Readings
from omphalon.studies.axis import AxisQuestion, fit_axis
from omphalon.studies.extruder import ExtruderQuestion, fit_extruder
from omphalon.studies.flow import FlowQuestion, fit_flow
from omphalon.units import length

DIALECT = load_dialect()
PLACES = {0.01: 2, 0.05: 2, 0.1: 1, 0.5: 1}


@dataclass
class Tally:
    sessions: int = 0
    answered: int = 0
    held: int = 0
    small: int = 0
    chased: int = 0
    blunders: int = 0
    seen: int = 0
    good: int = 0
    accused: int = 0


def read(value: float, resolution: float) -> str:
    return f"{round(value / resolution) * resolution:.{PLACES[resolution]}f}"


def slipped(text: str, random: np.random.Generator, deviation: float) -> str | None:
    """The text with a slip of the pen large enough to be seen, or None where there is none."""
    tries = []
    for k in range(len(text) - 1):
        if "." not in text[k : k + 2]:
            tries.append(text[:k] + text[k + 1] + text[k] + text[k + 2 :])
    for k, digit in enumerate(text):
        if digit not in "-.":
            tries.extend(
                text[:k] + str(d) + text[k + 1 :]
                for d in range(max(int(digit) - 3, 0), min(int(digit) + 3, 9) + 1)
            )
    large = [
        t
        for t in tries
        if abs(float(t) - float(text)) > 6 * deviation
        and 0.6 < float(t) / max(float(text), 0.1) < 1.6
    ]
    return str(random.choice(large)) if large else None


def session(kind: str, random: np.random.Generator, tally: Tally) -> None:
    true, runs = random.uniform(0.85, 1.15), int(random.integers(1, 9))
    if random.uniform() < 0.3:
        true = 1 + random.normal(0, 0.002)
    resolution = float(random.choice([0.01, 0.05, 0.1, 0.5] if kind != "flow" else [0.01, 0.05]))
    placing = {"extruder": 0.3, "axis": 0.05, "flow": 0.01}[kind]
    deviation = float(np.hypot(placing, resolution / np.sqrt(6)))
    if kind == "extruder":
        asked = np.full(runs, 80.0)
        texts = [read(110 - true * a + random.normal(0, placing), resolution) for a in asked]
    elif kind == "axis":
        asked = (
            random.choice([[50.0, 100.0, 150.0], [100.0] * 3, [40.0, 160.0, 160.0]])
            if runs > 1
            else [100.0]
        )
        asked = np.resize(asked, runs)
        texts = [read(true * a + random.normal(0, placing), resolution) for a in asked]
    else:
        asked = np.full(runs, 0.45)
        texts = [read(0.45 * true + random.normal(0, placing), resolution) for _ in asked]
    bad = None
    if runs >= 3 and random.uniform() < 0.2:
        at = int(random.integers(runs))
        wrong = slipped(texts[at], random, deviation)
        if wrong is not None:
            bad, texts[at] = at, wrong
    finding = ANSWERS[kind](asked, texts, resolution)
    tally.sessions += 1
    if finding.verdict == "retest":
        told = "too few to tell which is wrong" in finding.because
        tally.blunders += bad is not None and told
        tally.seen += bad is not None and told
        return
    tally.answered += 1
    estimate, half = scale_in(kind, finding)
    tally.held += abs(estimate - true) <= half
    if abs(true - 1) < half / 2:
        tally.small += 1
        tally.chased += finding.verdict == "change"
    accused = {
        n for n in range(runs) for w in finding.warnings if w.message.startswith(f"row {n}:")
    }
    if bad is not None:
        tally.blunders += 1
        tally.seen += bad in accused
    tally.good += runs - (bad is not None)
    tally.accused += len(accused - {bad})


def rows(**columns: object) -> Readings:
    count = max(len(v) for v in columns.values())
    return Readings(
        "simulated",
        tuple(
            Reading(
                f"row {n}",
                {name: length(str(v[n])) for name, v in columns.items() if name != "axis"},
                {"axis": "x"} if "axis" in columns else {},
            )
            for n in range(count)
        ),
    )


ANSWERS: dict[str, Callable] = {
    "extruder": lambda asked, texts, resolution: fit_extruder(
        rows(asked_mm=asked, mark_mm=["110"] * len(texts), left_mm=texts),
        ExtruderQuestion(400.0, resolution),
        DIALECT,
    ),
    "axis": lambda asked, texts, resolution: fit_axis(
        rows(asked_mm=asked, moved_mm=texts, axis=texts),
        AxisQuestion({"x": 80.0}, resolution),
        DIALECT,
    ),
    "flow": lambda asked, texts, resolution: fit_flow(
        rows(wall_mm=texts), FlowQuestion(1.0, 0.45, resolution), DIALECT
    ),
}


def scale_in(kind: str, finding: object) -> tuple[float, float]:
    """The measured scale and its 95 % half width out of an answer's evidence."""
    evidence = finding.evidence
    if kind == "flow":
        return evidence["mean_mm"] / 0.45, evidence["mean_spread_mm"] / 0.45
    evidence = evidence if kind == "extruder" else evidence["x"]
    return evidence["ratio"], evidence["ratio_spread"]


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 2000
    print(
        f"{'sessions':12}{'answered':>10}{'95 % holds':>12}{'noise chased':>14}"
        f"{'blunders seen':>15}{'good accused':>14}"
    )
    for kind in ANSWERS:
        tally, random = Tally(), np.random.default_rng(8)
        for _ in range(count):
            session(kind, random, tally)
        print(
            f"{kind:12}{tally.answered:>10}{tally.held / tally.answered:12.1%}"
            f"{tally.chased / max(tally.small, 1):11.1%} ({tally.small})"
            f"{tally.seen / max(tally.blunders, 1):9.1%} "
            f"({tally.blunders}){tally.accused / max(tally.good, 1):12.2%}"
        )


if __name__ == "__main__":
    main()
