"""Where a setting holds: the range that it was measured for, and the facts that may leave it."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from omphalon.answers.settings import GAINS
from omphalon.base.shapes import Some, fits
from omphalon.tables.rows import grouped, rows_of
from omphalon.tables.tools import Tool

if TYPE_CHECKING:
    from omphalon.bench.facts import Facts
    from omphalon.bench.settings import InForce

ENDS, LABELS, SETS = Some(float, 2, 2), Some(str, 1, 20), Some(Some(float, 4, 4), 2, 9)


@dataclass(frozen=True, kw_only=True)
class Holds:
    """One quantity for whose range a setting was measured: what a finding's evidence says of it
    (MEASURED), else its facts at that time; `filament.KEY` is of the filament that is loaded. A
    fact within `room` of the range does not leave it.
    """

    setting: str
    name: str
    unit: str = ""
    facts: tuple[str, ...] = ()
    room: float = 0.0
    measured: str = ""


HOLDS = grouped("setting", rows_of("ranges", Holds))


def _targets(evidence: Mapping[str, Any], axis: str) -> list[float]:
    every = evidence.get("over_range") or ()
    return [one["target_c"] for one in every] or [evidence["target_c"]]


def _speeds(evidence: Mapping[str, Any], axis: str) -> list[float]:
    return [one["fast_mm_s"] for one in evidence.get("speeds") or ()]


def _lengths(evidence: Mapping[str, Any], axis: str) -> list[float]:
    return evidence[axis].get("lengths_mm") or []


def _places(evidence: Mapping[str, Any], axis: str) -> list[str]:
    return [one["label"] for one in evidence[axis].get("places") or ()]


def _sets(evidence: Mapping[str, Any], axis: str) -> list[list[float]]:
    every = evidence.get("over_range") or ()
    return [[one["target_c"], *(one["alone"][gain] for gain in GAINS)] for one in every]


# what a finding's evidence has of a quantity, for the axis of its setting
MEASURED: Mapping[str, Callable[[Mapping[str, Any], str], list[Any]]] = {
    "targets": _targets,
    "speeds": _speeds,
    "lengths": _lengths,
    "places": _places,
    "sets": _sets,
}


def ranges_of(
    key: str,
    evidence: Mapping[str, Any],
    facts: Facts,
    filament: str | None,
    *,
    checked: bool = False,
) -> dict[str, list[Any]]:
    """The ranges for which a setting was measured just now, by the names of its quantities; of
    places their labels. A check that does not say what it covered was made under the facts.

    facts, filament: of its tool.
    """
    bare = Tool.in_key(key)[0]
    out = {}
    for one in HOLDS.get(bare, ()):
        values = _of_evidence(one, evidence, bare.rpartition("-")[2])
        if not values and (checked or not one.measured):
            values = list(_of_facts(one, facts, filament).values())
        if values:
            listed = fits(values, LABELS) or fits(values, SETS)
            out[one.name] = values if listed else [min(values), max(values)]
    return out


def _of_evidence(one: Holds, evidence: Mapping[str, Any], axis: str) -> list[Any]:
    """What a finding's evidence has of a quantity; nothing where it has none."""
    with contextlib.suppress(KeyError, TypeError, AttributeError):
        return MEASURED[one.measured](evidence, axis)
    return []


def _of_facts(one: Holds, facts: Facts, filament: str | None) -> dict[str, float]:
    """The facts of a quantity that are known, as their keys stand in a bench."""
    keys = [key.replace("filament.", f"filament.{filament}.") for key in one.facts]
    known = {key: facts.get(key) for key in keys}
    return {key: float(v) for key, v in known.items() if isinstance(v, int | float)}


def known_ranges(setting: InForce) -> Iterator[tuple[Holds, float, float]]:
    """The ranges that a setting in force was measured for."""
    for one in HOLDS.get(Tool.in_key(setting.kind.key)[0], ()):
        ends = setting.ranges.get(one.name)
        if ends is not None and fits(ends, ENDS):
            yield one, min(ends), max(ends)


def left(setting: InForce, facts: Facts, filament: str | None) -> str | None:
    """Which fact lies outside the range that a setting was measured for; None where none does.

    facts, filament: of its tool.
    """
    for one, low, high in known_ranges(setting):
        for key, value in _of_facts(one, facts, filament).items():
            if not low - one.room <= value <= high + one.room:
                ends = _words(one, low, high)
                return f"measured for {ends}, and {key} is {value:g} {one.unit}"
    return None


def sets_of(setting: InForce) -> Iterator[dict[str, float]]:
    """The gains of each target of a range, for a controller that keeps them apart: target, kp, ki
    and kd.
    """
    rows = setting.ranges.get("sets")
    for row in rows if rows is not None and fits(rows, SETS) else ():
        yield dict(zip(("target", *GAINS), row, strict=True))


def range_words(setting: InForce) -> str:
    """For what a setting holds: the ranges that its measurement covered."""
    words = [_words(*each) for each in known_ranges(setting) if each[0].measured]
    if fits(places := setting.ranges.get("places"), LABELS):
        words += map(str, places or ())
    return ", ".join(words)


def _words(one: Holds, low: float, high: float) -> str:
    ends = f"{low:g}" if low == high else f"{low:g} to {high:g}"
    return f"{ends} {one.unit}"
