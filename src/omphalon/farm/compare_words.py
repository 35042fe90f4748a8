"""A comparison of printers in words."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

from omphalon.answers.commands import prose
from omphalon.answers.finding import Finding, Shown
from omphalon.answers.remarks import Remark
from omphalon.base.errors import echoed
from omphalon.farm.compare import Changed, Comparison, FarmComparison, Key, Measured, Placed
from omphalon.physics.comparison import FEWEST_VALUES
from omphalon.tables.units import digits

MOST_ROWS = 12  # of each table on the screen; the document has all


def comparison_finding(found: FarmComparison, earlier: bool) -> Finding:
    """What was compared, who differs, and what that points at.

    `earlier`: whether there was an earlier run to hold it against. `keep` where nobody differs,
    `change` where somebody does, `retest` where nothing could be compared.
    """
    words = [c for c in found.numbers if c.centre is not None]
    differs = bool(found.odd or found.moved)
    verdict = "change" if differs else "keep" if words or found.changed else "retest"
    return Finding(
        kind="farm-compare",
        verdict=verdict,
        because=_because(found, words, earlier),
        evidence=_evidence(found),
        warnings=_warnings(found),
        next=prose(_next(found, verdict)),
        table=_rows(found),
        picture=found if found.pictured else None,
    )


def _because(found: FarmComparison, apart: Sequence[Comparison], earlier: bool) -> str:
    if not apart and not found.changed:
        return (
            f"no number with an interval stands in the answers of {FEWEST_VALUES} printers of one "
            f"model ({found.printers} printers, {found.answers} answers)"
        )
    odd, moved = {p.measured.printer for _, p in found.odd}, {c.after.printer for c in found.moved}
    parts = []
    if apart:
        parts.append(
            f"{_listed(odd)} from the others beyond chance" if odd else
            "no printer differs from the others beyond chance"
        )  # fmt: skip
    if earlier:
        parts.append(
            f"{_listed(moved, 'has', 'have')} changed" if moved
            else "none has changed since beyond chance" if found.changed
            else "no number stands in both runs"
        )  # fmt: skip
    many = f"{len(apart)} number{'s' * (len(apart) != 1)}"
    return f"{'; '.join(parts)} ({many} of {found.printers} printers compared)"


def _listed(names: set[str], one: str = "differs", many: str = "differ") -> str:
    some = sorted(names)
    shown = ", ".join(map(echoed, some[:6])) + (f" and {len(some) - 6} more" if some[6:] else "")
    return f"{shown} {one if len(some) == 1 else many}"


def _short(key: Key) -> str:
    """The number in few words, for a row that names the printer."""
    return f"{key.of} {key.figure.words}".strip() if key.of else key.figure.words


def _value(key: Key, one: Measured) -> str:
    return f"{digits(one.value, one.half_width)} {key.figure.unit}".rstrip()


def _distance(key: Key, away: float, half_width: float) -> str:
    if key.figure.ratio:
        low, mid, high = (100 * math.expm1(away + s * half_width) for s in (-1, 0, 1))
        half = max(high - low, 1e-9) / 2
        places = max(1 - math.floor(math.log10(half)), 0)
        return f"{mid:+.{places}f} ± {half:.{places}f} %"
    return f"{away:+.2g} ± {half_width:.2g} {key.figure.unit}".rstrip()


def _points(key: Key, away: float) -> str:
    return key.figure.high if away > 0 else key.figure.low


def _rows(found: FarmComparison) -> tuple[Shown, ...]:
    out: list[Shown] = []
    if found.odd:
        out.append(Shown("differs", ("value", "the others", "away")))
        out += [_odd_row(number, one) for number, one in found.odd[:MOST_ROWS]]
    if found.moved:
        out.append(Shown("changed", ("now", "before", "change")))
        out += [_moved_row(one) for one in found.moved[:MOST_ROWS]]
    return tuple(out)


def _odd_row(number: Comparison, one: Placed) -> Shown:
    key = number.key
    centre = digits(number.centre or 0.0, one.measured.half_width)
    cells = (_value(key, one.measured), centre, _distance(key, one.away, one.half_width))
    return Shown(f"  {echoed(one.measured.printer)}, {_short(key)}", cells)


def _moved_row(one: Changed) -> Shown:
    key = one.key
    before = digits(one.before.value, one.before.half_width)
    cells = (_value(key, one.after), before, _distance(key, one.change, one.half_width))
    return Shown(f"  {echoed(one.after.printer)}, {_short(key)}", cells)


def _next(found: FarmComparison, verdict: str) -> str:
    """What the surest finding points at."""
    if verdict == "retest":
        return (
            f"fit more printers of one model: {FEWEST_VALUES} can be compared; or give an earlier "
            "run"
        )
    first: list[tuple[str, str, str]] = [
        (p.measured.printer, _short(c.key), _points(c.key, p.away)) for c, p in found.odd
    ] + [(c.after.printer, _short(c.key), _points(c.key, c.change)) for c in found.moved]
    pointed: dict[str, str] = {}
    for printer, what, points in first:
        if points:
            pointed.setdefault(printer, f"{echoed(printer)} ({what}: {points})")
    if not pointed:
        return "look at those named first" if first else "nothing; compare again next month"
    some = list(pointed.values())[:4]
    return "look at " + ", ".join(some)


def _warnings(found: FarmComparison) -> tuple[Remark, ...]:
    out = []
    few = sum(c.centre is None for c in found.numbers)
    if few:
        said = "one-alone" if few == 1 else "few-alike"
        out.append(Remark(said, count=few, fewest=FEWEST_VALUES))
    if found.again:
        out.append(
            Remark("one-again") if found.again == 1 else Remark("several-again", count=found.again)
        )
    return tuple(out)


def _evidence(found: FarmComparison) -> dict[str, Any]:
    return {
        "printers": found.printers,
        "answers": found.answers,
        "odd": sorted({p.measured.printer for _, p in found.odd}),
        "moved": sorted({c.after.printer for c in found.moved}),
        "numbers": [_number(c) for c in found.numbers],
        "changes": [_changed(c) for c in found.changed],
    }


def _named(key: Key) -> dict[str, Any]:
    return {
        "study": key.figure.study,
        "of": key.of or None,
        "name": key.figure.name,
        "model": key.model or None,
        "unit": key.figure.unit or None,
        "as_share": key.figure.ratio,
    }


def _number(one: Comparison) -> dict[str, Any]:
    words = one.centre is not None
    return {
        **_named(one.key),
        "centre": one.centre,
        "others_deviation": one.spread if words else None,
        "printers": [_placed(p, one.key, words) for p in one.placed],
    }


def _placed(one: Placed, key: Key, named: bool) -> dict[str, Any]:
    return {
        "printer": one.measured.printer,
        "value": one.measured.value,
        "half_width": one.measured.half_width,
        "away": one.away if named else None,
        "away_half_width": one.half_width if named else None,
        "chance": one.chance if named else None,
        "differs": one.differs,
        "points_at": (_points(key, one.away) or None) if one.differs else None,
    }


def _changed(one: Changed) -> dict[str, Any]:
    return {
        **_named(one.key),
        "printer": one.after.printer,
        "before": one.before.value,
        "now": one.after.value,
        "change": one.change,
        "half_width": one.half_width,
        "chance": one.chance,
        "differs": one.differs,
        "points_at": (_points(one.key, one.change) or None) if one.differs else None,
    }
