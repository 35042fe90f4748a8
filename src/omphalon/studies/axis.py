"""Steps per mm of X, Y and Z, from measured moves or measured parts."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from omphalon.bench.dialect import Dialect
from omphalon.errors import BadReading, UsageError
from omphalon.finding import Finding, Plan, Shown, Warned, digits
from omphalon.physics import scale
from omphalon.physics.scale import Estimate, Spread
from omphalon.recording import Reading, Readings
from omphalon.studies.answer import Unanswerable, belonging, lines_for, positive, refuse_gross
from omphalon.studies.extruder import StepsPicture

Array = NDArray[np.float64]

COLUMNS = ("asked_mm", "moved_mm")
WORDS = ("axis", "kind")
KINDS = ("move", "outside", "inside")
AXES = ("x", "y", "z")
PLACING_MM = {"move": 0.05, "outside": 0.03, "inside": 0.04}
THEORY_WITHIN = 0.02
LARGE = 0.02


@dataclass(frozen=True)
class Travel:
    """What the parts make of it: full steps a turn, microsteps, gear ratio, travel per turn of the output."""

    motor_steps: float
    microsteps: float
    gear: float
    per_turn_mm: float

    @property
    def steps_per_mm(self) -> float:
        """Motor steps × microsteps × gear ÷ travel per turn (belt pitch × teeth, or the screw's lead)."""
        return self.motor_steps * self.microsteps * self.gear / self.per_turn_mm


@dataclass(frozen=True)
class AxisQuestion:
    """Present steps per mm by axis, how finely was read, the parts if known, and a square's diagonals and sides."""

    steps: Mapping[str, float]
    resolution_mm: float | None = None
    placing_mm: float | None = None
    travel: Travel | None = None
    diagonals_mm: tuple[float, float] | None = None
    sides_mm: tuple[float, float] | None = None


@dataclass
class _Axis:
    """What came of one axis."""

    name: str
    steps: float
    scale: Estimate
    offset: Estimate | None
    keep: NDArray[np.bool_]
    asked: Array
    moved: Array
    side: Array
    known: Spread
    warnings: list[Warned] = field(default_factory=list)

    @property
    def certain(self) -> bool:
        return not self.scale.tells(1.0)

    @property
    def new(self) -> float:
        return self.steps / self.scale.value

    @property
    def half(self) -> float:
        return self.new * self.scale.half_width / self.scale.value


def fit_axis(readings: Readings, question: AxisQuestion, dialect: Dialect) -> Finding:
    """New steps = steps × asked ÷ moved, a zero error kept out of it where the lengths allow; keep; or retest."""
    return _answer(readings, question, dialect, "axis-fit")


def check_axis(readings: Readings, question: AxisQuestion, dialect: Dialect) -> Finding:
    """Whether the steps now in force move and print what is asked, within the readings' own error."""
    return _answer(readings, question, dialect, "axis-check")


def _answer(readings: Readings, question: AxisQuestion, dialect: Dialect, kind: str) -> Finding:
    if not readings.has(*COLUMNS):
        raise UsageError("no asked and moved length for every reading", "give --asked with --moved, or both columns")
    groups: dict[str, list[Reading]] = {}
    for row in readings.rows:
        name, what = row.words.get("axis", ""), row.words.get("kind", "move")
        if name not in AXES:
            raise BadReading(f"{row.where}: axis '{name}'", "use x, y or z")
        if what not in KINDS:
            raise BadReading(f"{row.where}: kind '{what}'", "use move, outside or inside")
        groups.setdefault(name, []).append(row)
    missing = [name for name in groups if name not in question.steps]
    if missing:
        raise UsageError(f"no present steps for axis {missing[0]}", f"give --steps {missing[0]}=N")
    try:
        found = [_fitted(name, rows, question) for name, rows in sorted(groups.items())]
    except Unanswerable as refusal:
        return refusal.finding(kind)
    return _told(found, question, dialect, kind)


def _fitted(name: str, rows: list[Reading], question: AxisQuestion) -> _Axis:
    kinds = [r.words.get("kind", "move") for r in rows]
    asked, moved = (np.array([r.mm(c) for r in rows]) for c in COLUMNS)
    for row, a, m in zip(rows, asked, moved, strict=True):
        positive(abs(float(a)), row.where, "asked")
        positive(float(m * np.sign(a)), row.where, "the measured length along the asked one")
    back = np.sign(asked)
    refuse_gross(float(np.median(moved / asked)))
    resolution = question.resolution_mm or max(min(r.numbers["moved_mm"].step_mm for r in rows), 0.01)
    placing = max(PLACING_MM[k] for k in kinds) if question.placing_mm is None else question.placing_mm
    known = scale.reading_spread(resolution, placing, 2)
    side = np.array([-1.0 if k == "inside" else 1.0 for k in kinds])
    asked, moved = np.abs(asked), np.abs(moved)
    parts = any(k != "move" for k in kinds)
    both = len(np.unique(side)) > 1
    lengths = np.unique(np.round(asked, 3))
    several = len(lengths) > 1 and np.ptp(asked) > 0.2 * asked.max()
    if parts and not several and not both:
        longer = f"{3 * lengths[0]:g} and {5 * lengths[0]:g} mm" if lengths[0] <= 40 else f"{lengths[0] / 4:g} mm"
        raise Unanswerable(f"axis {name}: one length of a printed part cannot tell a wrong scale from a line that is too wide",
                           f"print and measure parts of {longer} as well, or an inside and an outside measure")
    parted = several or both
    columns = np.stack([asked, side], axis=1) if parted else asked[:, None]
    kept = belonging(columns, moved, known.whole, [r.where for r in rows], [r.numbers["moved_mm"] for r in rows])
    keep = kept.keep
    line = scale.line_of(asked[keep], moved[keep], side[keep], known) \
        if parted and np.linalg.matrix_rank(columns[keep]) > 1 else None
    found = line.scale if line else scale.scale_of(asked[keep], moved[keep], known)
    axis = _Axis(name, question.steps[name], found, line.offset if line else None, keep, asked, moved, side, known,
                 list(kept.warnings))
    axis.warnings.extend(_backlash(name, moved - found.value * asked, back, known.whole))
    axis.warnings.extend(_against_theory(axis, question.travel))
    return axis


def _backlash(name: str, miss: Array, back: Array, known: float) -> list[Warned]:
    """Whether the moves of one direction come out longer than those of the other, beyond chance."""
    there, home = miss[back > 0], miss[back < 0]
    if not len(there) or not len(home):
        return []
    gap = float(there.mean() - home.mean())
    if abs(gap) < 2.04 * known * math.sqrt(1 / len(there) + 1 / len(home)):
        return []
    return [Warned("backlash", f"axis {name}: moves there and back differ by {abs(gap):.2f} mm")]


def _against_theory(axis: _Axis, travel: Travel | None) -> list[Warned]:
    if travel is None or axis.name == "":
        return []
    built, new = travel.steps_per_mm, axis.new if not axis.certain else axis.steps
    for factor in (2, 4, 0.5, 0.25):
        if abs(new / built / factor - 1) < THEORY_WITHIN:
            raise Unanswerable(f"axis {axis.name}: {new:.1f} steps per mm is {factor:g} times the {built:.1f} that the parts "
                               "make: a microstepping mistake", "check the driver's microsteps")
    if abs(new / built - 1) <= THEORY_WITHIN:
        return []
    raise Unanswerable(f"axis {axis.name}: the readings make {new:.2f} steps per mm, the parts {built:.2f}: more than "
                       f"{THEORY_WITHIN:.0%} apart is a fault, no tolerance",
                       "look for a loose pulley, a wrong tooth count or lead, lost steps; then measure again")


def _told(found: list[_Axis], question: AxisQuestion, dialect: Dialect, kind: str) -> Finding:
    checking = kind.endswith("check")
    keep = all(a.certain for a in found)
    settings = {} if checking else {a.name: {"steps_per_mm": a.steps if a.certain else a.new} for a in found}
    spread = {} if checking else {a.name: {"steps_per_mm": a.half} for a in found}
    evidence: dict[str, Any] = {a.name: {
        "ratio": a.scale.value, "ratio_spread": a.scale.half_width, "runs": int(a.keep.sum()),
        "offset_mm": None if a.offset is None else a.offset.value,
        "offset_spread_mm": None if a.offset is None else a.offset.half_width,
        "left_out": int((~a.keep).sum())} for a in found}
    warnings = [w for a in found for w in a.warnings]
    for a in found:
        if abs(a.scale.value - 1) > LARGE and not a.certain:
            warnings.append(Warned("large-correction", f"axis {a.name}: {abs(1 / a.scale.value - 1):.1%} is more than belts "
                                                       "and screws are off by"))
    lines = [line for a in found if not a.certain and not checking
             for line in lines_for(dialect, "steps", f"{a.name.upper()} steps per mm {a.new:.4f}", axis=a.name.upper(),
                                   steps=a.new)[:1]]
    tail = [x for x in (dialect.line("store"), dialect.line("list")) if x] if lines else []
    if question.diagonals_mm and question.sides_mm:
        one, two = question.diagonals_mm
        evidence["skew_deg"] = math.degrees((one**2 - two**2) / (4 * question.sides_mm[0] * question.sides_mm[1]))
    head = [Shown("axis", ("present", "new", "", "offset"))]
    for a in found:
        offset = "–" if a.offset is None else f"{a.offset.value:+.2f} ± {a.offset.half_width:.2f} mm"
        new = a.steps if a.certain else a.new
        head.append(Shown(f"{a.name} steps per mm", (f"{a.steps:g}", digits(new, a.half), "± " + digits(a.half, least=2),
                                                     offset)))
    table = [Shown("axis", ("runs", "ratio", "95 %", ""))] + [
        Shown(f"  {a.name}", (str(int(a.keep.sum())), f"{a.scale.value:.5f}", f"± {a.scale.half_width:.5f}",
                              "keep" if a.certain else "change")) for a in found]
    if "skew_deg" in evidence:
        table.append(Shown("skew of XY", (f"{evidence['skew_deg']:+.3f}°", "", "", "")))
    pictures = tuple(StepsPicture(f"Axis {a.name}", a.asked, a.moved, np.full(len(a.asked), a.known.whole), a.keep, a.scale,
                                  a.side * (0.0 if a.offset is None else a.offset.value)) for a in found)
    return Finding(kind, "keep" if keep else "change", _because(found, keep), settings, spread, evidence, tuple(warnings),
                   (*lines, *tail), _next(keep, checking), () if checking else tuple(head), tuple(table), pictures)


def _because(found: list[_Axis], keep: bool) -> str:
    if keep:
        return ("what the lengths differ by is smaller than their own error, or the same at every length (the offset: line "
                "width, backlash, zero); neither is a matter of steps")
    worst = max((a for a in found if not a.certain), key=lambda a: abs(a.scale.value - 1))
    return (f"axis {worst.name} moves {worst.scale.value:.5f} ± {worst.scale.half_width:.5f} of what is asked: "
            f"{worst.steps:g} ÷ {worst.scale.value:.8g} = {worst.new:.8g}")


def _next(keep: bool, checking: bool) -> str:
    if keep:
        return "nothing to enter; measure again after a change of belt, pulley, screw or motor"
    return "run omphalon axis fit on these readings" if checking else (
        "enter and store, switch off and on, measure again and judge it: omphalon axis check; the extruder and flow come "
        "after the axes")


def plan_axis(axis: str, longest_mm: float, resolution_mm: float, wanted: float, dialect: Dialect) -> Plan:
    """Moves to measure: three lengths, both directions, and how often for the wanted certainty (relative, 95 %)."""
    lengths = [round(longest_mm * share, 1) for share in (0.2, 0.6, 1.0)]
    known = scale.reading_spread(resolution_mm, PLACING_MM["move"], 2).whole
    spread = sum((x - sum(lengths) / 3) ** 2 for x in lengths)
    runs = next((n for n in range(1, 60) if scale.student_95(scale.PRIOR_FREEDOM + 3 * n - 2) * known
                 / math.sqrt(n * spread) <= wanted), None)
    if runs is None:
        raise UsageError(f"--wanted {wanted:g}: not to be had over {longest_mm:g} mm", "move further, or ask for less")
    told = ", ".join(f"{x:g}" for x in lengths)
    lines = [dialect.line("home", axis=axis.upper()),
             *(dialect.line("move", axis=axis.upper(), length=x, feed=1200) for x in lengths)]
    return Plan("axis-plan", f"Measured moves of axis {axis}", (
        "Home the axis, nothing hot. Zero the caliper or dial gauge, and rest it on the same faces every time.",
        f"From the same start, move by {told} mm and measure each, {runs} time{'s'[:runs != 1]}: with a caliper read to "
        f"{resolution_mm:g} mm that makes ±{wanted:.2%}.",
        "Measure half of them moving back (write asked and moved as negative numbers): that shows backlash.",
        f"Or print parts of {told} mm and measure outside and inside: line width stays out of the steps.",
    ), tuple(x for x in lines if x), f"omphalon axis fit READINGS.csv --steps {axis}=N",
        settings={"runs": runs, "lengths_mm": lengths})
