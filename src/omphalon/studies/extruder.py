"""Steps per mm of the extruder, from fed-filament readings."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from omphalon.bench.dialect import Dialect
from omphalon.errors import UsageError
from omphalon.finding import Finding, Plan, Shown, Warned, digits
from omphalon.physics import scale
from omphalon.physics.scale import Estimate, Spread
from omphalon.recording import Reading, Readings
from omphalon.studies.answer import Unanswerable, belonging, lines_for, positive, refuse_gross

Array = NDArray[np.float64]

COLUMNS = ("asked_mm", "mark_mm", "left_mm", "before_mm", "after_mm", "fed_mm", "back_mm", "speed_mm_s", "temp_c")
PLACING_MM = 0.3
BY_EYE_MM = 0.1  # a flag or a cut end held against an edge by eye
LARGE = 0.15
THEORY_WITHIN = 0.10


@dataclass(frozen=True)
class Drive:
    """What the parts make of it: full steps a turn, microsteps, gear ratio, hob diameter of the drive wheel."""

    motor_steps: float
    microsteps: float
    gear: float
    wheel_mm: float

    @property
    def steps_per_mm(self) -> float:
        """Motor steps × microsteps × gear ÷ (π × diameter)."""
        return self.motor_steps * self.microsteps * self.gear / (math.pi * self.wheel_mm)


@dataclass(frozen=True)
class ExtruderQuestion:
    """The present steps per mm, how finely was read, how well a mark is placed, and the parts if known."""

    steps: float
    resolution_mm: float | None = None
    placing_mm: float = PLACING_MM
    drive: Drive | None = None


@dataclass(frozen=True)
class StepsPicture:
    """What plots/ draws: asked, got and deviation of each reading, which were kept, the scale, and each one's zero error."""

    title: str
    asked_mm: Array
    got_mm: Array
    deviation_mm: Array
    keep: NDArray[np.bool_]
    scale: Estimate
    offset_mm: Array


@dataclass(frozen=True)
class _Fed:
    asked: Array
    fed: Array
    known: Spread
    readings: tuple[Reading, ...]
    column: str


@dataclass(frozen=True)
class Way:
    """A way of measuring what was fed: its columns, the fed length of a row, whether a mark was placed for it."""

    columns: tuple[str, ...]
    length: Callable[[Reading], float]
    marked: bool


WAYS = (
    Way(("fed_mm",), lambda r: r.mm("fed_mm"), False),
    Way(("before_mm", "after_mm"), lambda r: r.mm("before_mm") - r.mm("after_mm"), False),
    Way(("mark_mm", "left_mm"), lambda r: r.mm("mark_mm") - r.mm("left_mm"), True),
)


def fit_extruder(readings: Readings, question: ExtruderQuestion, dialect: Dialect) -> Finding:
    """New steps = steps × asked ÷ fed, with the interval of marks, rule and scatter; or keep, or retest."""
    return _answer(readings, question, dialect, "extruder-fit")


def check_extruder(readings: Readings, question: ExtruderQuestion, dialect: Dialect) -> Finding:
    """Whether a verification run with the steps now in force gives what was asked for, within its own error."""
    return _answer(readings, question, dialect, "extruder-check")


def _answer(readings: Readings, question: ExtruderQuestion, dialect: Dialect, kind: str) -> Finding:
    data = _fed(readings, question)
    try:
        return _fitted(data, question, dialect, kind)
    except Unanswerable as missing:
        return missing.finding(kind)


def _fed(readings: Readings, question: ExtruderQuestion) -> _Fed:
    """Fed lengths and the deviation of one: two readings of the rule, and the placing of a mark where there is one."""
    if not readings.has("asked_mm"):
        raise UsageError("no asked length for every reading", "give --asked MM, or a column asked_mm")
    way = next((w for w in WAYS if readings.has(*w.columns)), None)
    if way is None:
        raise UsageError("no fed lengths", "give --mark with --left, --before with --after, or --fed")
    rows, names = readings.rows, way.columns
    fed = np.array([way.length(r) - (r.mm("back_mm") if "back_mm" in r.numbers else 0.0) for r in rows])
    asked = np.array([r.mm("asked_mm") for r in rows])
    for row, a, f in zip(rows, asked, fed, strict=True):
        positive(float(a), row.where, "asked")
        positive(float(f), row.where, "the fed length")
    resolution = question.resolution_mm or max(readings.step_mm(*names), 0.01)
    placing = question.placing_mm if way.marked else BY_EYE_MM
    return _Fed(asked, fed, scale.reading_spread(resolution, placing, 2), rows, names[-1])


def _fitted(data: _Fed, question: ExtruderQuestion, dialect: Dialect, kind: str) -> Finding:
    refuse_gross(float(np.median(data.fed / data.asked)))
    _refuse_swapped(data)
    slow, warnings = _without_slip(data)
    keep, warned = _kept(data, slow)
    warnings += warned
    asked, fed = data.asked[keep], data.fed[keep]
    line = scale.line_of(asked, fed, np.ones(len(fed)), data.known) if _several(asked) else None
    found = line.scale if line else scale.scale_of(asked, fed, data.known)
    offset = line.offset if line else None
    new = question.steps / found.value
    half = new * found.half_width / found.value
    certain = not found.tells(1.0)
    if len(fed) == 1:
        warnings.append(Warned("one-reading", f"one reading, trusted to ±{1.96 * data.known.whole:.2g} mm"))
    warnings.extend(_against_theory(new, question.drive))
    if abs(found.value - 1) > LARGE and not certain:
        warnings.append(Warned("large-correction", f"{abs(1 / found.value - 1):.0%} is much for wear or tolerance"))
    checking = kind.endswith("check")
    steps = question.steps if certain else new
    picture = StepsPicture("Filament: fed against asked", data.asked, data.fed, np.full(len(data.fed), data.known.whole),
                           keep, found, np.full(len(data.fed), 0.0 if offset is None else offset.value))
    return Finding(
        kind, "keep" if certain else "change", _because(asked, fed, found, question.steps, certain),
        {} if checking else {"steps_per_mm": steps}, {} if checking else {"steps_per_mm": half},
        {"ratio": found.value, "ratio_spread": found.half_width, "runs": len(fed), "expected_mm": float(asked.mean()),
         "fed_mm": float(fed.mean()), "reading_deviation_mm": found.deviation,
         "offset_mm": None if offset is None else offset.value, "offset_spread_mm": None if offset is None else offset.half_width,
         "left_out": [r.where for r, k in zip(data.readings, keep, strict=True) if not k],
         **({} if question.drive is None else {"theory_steps_per_mm": question.drive.steps_per_mm})},
        tuple(warnings),
        () if certain or checking else lines_for(dialect, "steps", f"E steps per mm {new:.4f}", axis="E", steps=new),
        _next(certain, checking, new), () if checking else (
            Shown("extruder", ("present", "new", "", "")),
            Shown("steps per mm", (f"{question.steps:g}", digits(steps, half), "± " + digits(half, least=2), "per mm"))),
        _table(data, keep, found, offset), picture)


def _refuse_swapped(data: _Fed) -> None:
    """Readings that are all one round number against asked lengths that are not: the columns changed places."""
    round_fed = np.all(data.fed == data.fed[0]) and float(data.fed[0]).is_integer()
    odd = np.any(data.asked % 1 != 0) and np.ptp(data.asked) > 0
    if len(data.fed) > 1 and round_fed and odd:
        raise Unanswerable("every fed length is the same round number and the asked ones are not: the two look swapped",
                           "put what was commanded under asked, what was measured under fed")


def _several(asked: Array) -> bool:
    """Whether there are lengths enough to tell a zero error (of mark or edge) from the scale."""
    return len(asked) >= 3 and float(np.ptp(asked)) > 0.2 * float(asked.max())


def _kept(data: _Fed, slow: NDArray[np.bool_]) -> tuple[NDArray[np.bool_], list[Warned]]:
    """Of the slow readings those that lie with the others on one ratio."""
    sign = -1.0 if data.column in ("left_mm", "after_mm") else 1.0
    some = [r for r, s in zip(data.readings, slow, strict=True) if s]
    asked = data.asked[slow]
    columns = np.stack([asked, np.ones(len(asked))], axis=1) if _several(asked) else asked[:, None]
    kept = belonging(columns, data.fed[slow], data.known.whole, [r.where for r in some],
                     [r.numbers[data.column] for r in some], sign)
    keep = slow.copy()
    keep[slow] = kept.keep
    return keep, list(kept.warnings)


def _without_slip(data: _Fed) -> tuple[NDArray[np.bool_], list[Warned]]:
    """Where the ratio falls with speed beyond chance, only the slowest readings count."""
    keep = np.ones(len(data.fed), bool)
    if not all("speed_mm_s" in r.numbers for r in data.readings):
        return keep, []
    speed = np.array([r.mm("speed_mm_s") for r in data.readings])
    fall, sure = scale.falls_with(speed[keep], (data.fed / data.asked)[keep], data.known.whole / data.asked[keep])
    if not sure or fall < 0.005:
        return keep, []
    slowest = keep & (speed <= speed[keep].min() * 1.01)
    return slowest, [Warned("slip", f"the fed length falls by {fall:.1%} from {speed.min():g} to {speed.max():g} mm/s")]


def _against_theory(new: float, drive: Drive | None) -> list[Warned]:
    if drive is None or abs(new / drive.steps_per_mm - 1) < THEORY_WITHIN:
        return []
    return [Warned("theory-differs", f"the parts make {drive.steps_per_mm:.1f} steps per mm, the readings {new:.1f}")]


def _because(asked: Array, fed: Array, found: Estimate, steps: float, certain: bool) -> str:
    got = f"{fed.mean():.2f} mm of {asked.mean():g} mm came, a ratio of {found.value:.4f} ± {found.half_width:.4f}"
    if certain:
        return f"{got}: what is missing from 1 is smaller than the error of marks and rule, so there is nothing to correct"
    if len(fed) == 1 or np.ptp(asked) == 0:
        return f"{got}: {steps:g} × {asked.mean():g} ÷ {fed.mean():.10g} = {steps / found.value:.10g}"
    return f"{got}: {steps:g} ÷ {found.value:.8g} = {steps / found.value:.10g}"


def _table(data: _Fed, keep: NDArray[np.bool_], found: Estimate, offset: Estimate | None) -> tuple[Shown, ...]:
    rows = [Shown("readings", ("asked", "fed", "ratio", ""))]
    for n, (a, f, k) in enumerate(zip(data.asked, data.fed, keep, strict=True)):
        if n == 8:
            rows.append(Shown("", (f"and {len(data.fed) - 8} more", "", "", "")))
            break
        rows.append(Shown(f"  {n + 1}", (f"{a:g} mm", f"{f:.2f} mm", f"{f / a:.4f}", "" if k else "left out")))
    rows.append(Shown("together", (f"{keep.sum()} run{'s'[:int(keep.sum() != 1)]}", "", f"{found.value:.4f}",
                                   f"± {found.half_width:.4f}")))
    if offset is not None:
        rows.append(Shown("zero error", (f"{offset.value:+.2f} ± {offset.half_width:.2f} mm at every length, kept out of the steps",)))
    return tuple(rows)


def _next(certain: bool, checking: bool, new: float) -> str:
    if certain:
        return "nothing to enter; measure again after a change of drive wheel, motor or filament path. Flow comes next"
    if checking:
        return "run omphalon extruder fit on these readings"
    return f"enter and store, switch off and on, feed once more and judge it: omphalon extruder check --steps {new:.2f} …"


def plan_extruder(asked_mm: float, resolution_mm: float, wanted: float, temp_c: float, speed_mm_s: float,
                  dialect: Dialect) -> Plan:
    """How to feed and measure, and how many runs make the wanted certainty (relative, 95 %) from the numbers given."""
    one = scale.reading_spread(resolution_mm, PLACING_MM, 2).whole
    runs = next((n for n in range(1, 100)
                 if scale.student_95(scale.PRIOR_FREEDOM + n - 1) * one / math.sqrt(n) / asked_mm <= wanted), None)
    if runs is None:
        raise UsageError(f"--wanted {wanted:g}: not to be had with marks placed to {PLACING_MM} mm over {asked_mm:g} mm",
                         "ask for more length, or a wider certainty")
    lines = [dialect.line("heat", target=temp_c), dialect.line("relative-feed"),
             dialect.line("feed", length=asked_mm, feed=60 * speed_mm_s)]
    return Plan("extruder-plan", f"Feeding test of the extruder, {asked_mm:g} mm at {temp_c:g} °C", (
        f"Heat to {temp_c:g} °C, hotter rather than colder, and load filament you can mark: light filament, dark mark.",
        f"Mark it {asked_mm + 30:g} mm above a fixed edge of the extruder, so that feeding too much can still be seen.",
        f"Feed {asked_mm:g} mm at {speed_mm_s:g} mm/s, slowly, so that nothing slips.",
        "Measure from the same edge to the mark: that is what is left. If the mark went in, the number is negative.",
        f"Do it {runs} time{'s'[:runs != 1]}: with marks placed to {PLACING_MM} mm and a rule read to {resolution_mm:g} mm, "
        f"that makes ±{wanted:.1%}.",
    ), tuple(x for x in lines if x), f"omphalon extruder fit --steps N --asked {asked_mm:g} --mark {asked_mm + 30:g} "
                                     "--left MM …", settings={"runs": runs, "asked_mm": asked_mm})
