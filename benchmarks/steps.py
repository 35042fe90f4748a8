"""Simulated sessions with caliper and rule: does the interval hold the truth, is noise left alone,
are blunders seen?

    python benchmarks/steps.py [SESSIONS]

Each session: a true scale within ±15 % (one in three nearly 1), one to eight runs, a resolution of
0.01 to 0.5 mm. Marks are placed, and met, to 0.3 mm (filament), settings to 0.05 mm (moves), by a
hand that is half to three times as unsteady as that; walls are read to the caliper's squeeze of
0.01 mm and differ from place to place by 0.005 to 0.03 mm. One session in five with three runs or
more has one blunder: two neighbouring digits swapped or one digit off by one to three, if that
moves the reading by more than six of its deviations, the assumed or the hand's own, whichever is
larger (a smaller one nobody could see). Intervals are counted wherever one is told, also where it
is told to be too wide.
"""

from __future__ import annotations

import sys
from collections.abc import Callable
from dataclasses import dataclass, field
from itertools import pairwise

import numpy as np

from omphalon.answers.remarks import Refusal
from omphalon.recordings.recording import Reading, Readings
from omphalon.studies.measured.axis import AXIS, AxisQuestion
from omphalon.studies.measured.engine import Fitted, fit
from omphalon.studies.measured.extruder import EXTRUDER, ExtruderQuestion
from omphalon.studies.measured.filament import FlowQuestion
from omphalon.studies.measured.flow import FLOW
from omphalon.tables.quantities import QUANTITIES
from omphalon.tables.units import number_in

PLACES = {0.01: 2, 0.05: 2, 0.1: 1, 0.5: 1}
HANDS = (0.5, 0.8, 1.25, 2.0, 3.0)  # edges of the classes that are shown
WALLS_MM = (0.005, 0.0125, 0.02, 0.03)
COUNTS = ((1, 3), (4, 5), (6, 8))


@dataclass(frozen=True)
class Session:
    """What was true of one session, and what came out of it."""

    unsteady: float
    runs: int
    true: float
    blunder: int | None
    verdict: str
    told: bool
    scale: float = 1.0
    half_width: float = 0.0
    accused: tuple[int, ...] = ()

    @property
    def used(self) -> int:
        """Runs that count."""
        return self.runs - len(self.accused)


@dataclass
class Tally:
    sessions: list[Session] = field(default_factory=list)

    def held(self) -> float:
        answered = [s for s in self.sessions if s.half_width]
        return float(np.mean([abs(s.scale - s.true) <= s.half_width for s in answered]))


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
            span = range(max(int(digit) - 3, 0), min(int(digit) + 3, 9) + 1)
            tries.extend(text[:k] + str(d) + text[k + 1 :] for d in span)
    large = [
        t
        for t in tries
        if abs(float(t) - float(text)) > 6 * deviation
        and 0.6 < float(t) / max(float(text), 0.1) < 1.6
    ]
    return str(random.choice(large)) if large else None


def session(kind: str, random: np.random.Generator) -> Session:
    """One session, drawn and answered."""
    true, runs = random.uniform(0.85, 1.15), int(random.integers(1, 9))
    if random.uniform() < 0.3:
        true = 1 + random.normal(0, 0.002)
    steps = [0.01, 0.05] if kind == "flow" else [0.01, 0.05, 0.1, 0.5]
    resolution = float(random.choice(steps))
    hand = float(np.exp(random.uniform(np.log(HANDS[0]), np.log(HANDS[-1]))))
    if kind == "extruder":
        asked, assumed = np.full(runs, 80.0), 0.3 * np.sqrt(2)
        lengths = [110 - true * a for a in asked]
    elif kind == "axis":
        lots = [[50.0, 100.0, 150.0], [100.0] * 3, [40.0, 160.0, 160.0]]
        asked = np.resize(lots[random.integers(3)] if runs > 1 else [100.0], runs)
        assumed, lengths = 0.05, [true * a for a in asked]
    else:
        hand = float(random.uniform(WALLS_MM[0], WALLS_MM[-1]))
        asked, assumed = np.full(runs, 0.45), float(np.hypot(0.01, 0.012))
        lengths = [0.45 * true] * runs
    own = float(np.hypot(0.01, hand)) if kind == "flow" else hand * assumed
    texts = [read(v + random.normal(0, own), resolution) for v in lengths]
    blunder = None
    if runs >= 3 and random.uniform() < 0.2:
        at = int(random.integers(runs))
        deviation = float(np.hypot(max(own, assumed), resolution / np.sqrt(6)))
        wrong = slipped(texts[at], random, deviation)
        if wrong is not None:
            blunder, texts[at] = at, wrong
    try:
        found = ANSWERS[kind](asked, texts, resolution)
    except Refusal as refusal:
        accused = _accused(refusal.remarks, runs)
        told = refusal.code == "disagree" or blunder in accused
        return Session(hand, runs, true, blunder, "retest", told, *_wide(kind, refusal), accused)
    accused, goal = _accused(found.remarks, runs), found.one.sample.goal
    scale = (found.one.estimate.value / goal, found.one.estimate.half_width / goal)
    return Session(
        hand, runs, true, blunder, found.verdict, blunder in accused, *scale, accused=accused
    )


def _accused(remarks: object, runs: int) -> tuple[int, ...]:
    """The rows that were called strangers."""
    return tuple(n for n in range(runs) for o in remarks if o.facts.get("where") == f"row {n}")


def _wide(kind: str, refusal: Refusal) -> tuple[float, float]:
    """The interval of a refusal that says how wide it is; else none."""
    if not refusal.code.startswith("wide"):
        return 1.0, 0.0
    unit = 0.45 if kind == "flow" else 1.0
    return refusal.facts["value"] / unit, refusal.facts["half_width"] / unit


def rows(**columns: object) -> Readings:
    """Readings as a file would give them."""
    count = max(len(v) for v in columns.values())
    return Readings(
        "simulated",
        tuple(
            Reading(
                f"row {n}",
                {k: number_in(str(v[n]), QUANTITIES["length"]) for k, v in columns.items()},
                {"axis": "x"},
            )
            for n in range(count)
        ),
    )


def extruder(asked: object, texts: list[str], resolution: float) -> Fitted:
    readings = rows(asked_mm=asked, mark_mm=["110"] * len(texts), left_mm=texts)
    return fit(EXTRUDER, readings, ExtruderQuestion(steps=400.0, resolution_mm=resolution))


def axis(asked: object, texts: list[str], resolution: float) -> Fitted:
    question = AxisQuestion(steps={"x": 80.0}, resolution_mm=resolution)
    return fit(AXIS, rows(asked_mm=asked, moved_mm=texts), question)


def flow(asked: object, texts: list[str], resolution: float) -> Fitted:
    question = FlowQuestion(flow=1.0, expected_mm=0.45, resolution_mm=resolution)
    return fit(FLOW, rows(wall_mm=texts), question)


ANSWERS: dict[str, Callable] = {"extruder": extruder, "axis": axis, "flow": flow}


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 3000
    print(
        f"{'sessions':12}{'answered':>10}{'95 % holds':>12}{'changed for nothing':>21}"
        f"{'blunders seen':>17}{'good accused':>14}"
    )
    tallies = {}
    for kind in ANSWERS:
        random = np.random.default_rng(8)
        tally = tallies[kind] = Tally([session(kind, random) for _ in range(count)])
        answered = [s for s in tally.sessions if s.verdict != "retest"]
        still = [s for s in tally.sessions if abs(s.true - 1) < s.half_width / 2]
        bad = [s for s in tally.sessions if s.blunder is not None]
        good = sum(s.runs - (s.blunder is not None) for s in answered)
        accused = sum(len(set(s.accused) - {s.blunder}) for s in answered)
        chased = np.mean([s.verdict == "change" for s in still])
        seen = np.mean([s.told for s in bad])
        print(
            f"{kind:12}{len(answered):>10}{tally.held():12.1%}{chased:15.1%} ({len(still)})"
            f"{seen:11.1%} ({len(bad)}){accused / good:14.2%}"
        )
    print("\n95 % holds, by runs that count and by how unsteady (walls: mm from place to place)")
    for kind, tally in tallies.items():
        edges = WALLS_MM if kind == "flow" else HANDS
        print(f"{kind:12}" + "".join(f"{f'{a:g} to {b:g}':>16}" for a, b in pairwise(edges)))
        for low, high in COUNTS:
            cells = []
            for a, b in pairwise(edges):
                some = [s for s in tally.sessions if low <= s.used <= high and a <= s.unsteady < b]
                cells.append(
                    f"{Tally(some).held():16.1%}" if any(s.half_width for s in some) else ""
                )
            print(f"  {f'{low} to {high} runs':10}" + "".join(cells))


if __name__ == "__main__":
    main()
