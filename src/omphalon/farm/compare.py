"""Printers that differ from the rest, or have changed: numbers; `compare_words` says them."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from omphalon.base.arrays import Array, Mask
from omphalon.base.errors import echoed
from omphalon.farm.figures import FIGURES, Figure
from omphalon.farm.store import JobAnswer
from omphalon.physics.comparison import (
    FEWEST_VALUES,
    Placement,
    changes,
    deviation_of,
    named,
    placed_among,
)


@dataclass(frozen=True, kw_only=True)
class Key:
    """Which number: of a figure, of what (hotend, x, …), of printers of one model."""

    figure: Figure
    of: str
    model: str

    @property
    def title(self) -> str:
        """In words: heater hotend: kp."""
        of = f" {self.of}" if self.of else ""
        model = f" ({echoed(self.model)})" if self.model else ""
        return f"{self.figure.study}{of}: {self.figure.words}{model}"


@dataclass(frozen=True, kw_only=True)
class Measured:
    """A printer's number, with the half width of its 95 % interval."""

    printer: str
    value: float
    half_width: float


@dataclass(frozen=True, kw_only=True)
class Placed:
    """A printer's number among the others': how far from their centre, the half width of that, how
    often by chance; `differs`: named. Distances of a ratio are shares.
    """

    measured: Measured
    away: float
    half_width: float
    chance: float
    differs: bool = False


@dataclass(frozen=True, kw_only=True)
class Comparison:
    """One number of all printers of a model; without a centre where they are too few."""

    key: Key
    placed: tuple[Placed, ...]
    centre: float | None
    spread: float

    @property
    def odd(self) -> list[Placed]:
        """Those that differ, the furthest first."""
        return sorted((p for p in self.placed if p.differs), key=lambda p: p.chance)


@dataclass(frozen=True, kw_only=True)
class Changed:
    """A printer's number then and now, the change with the half width of its interval (shares where
    it is a ratio), how often by chance; `differs`: named.
    """

    key: Key
    before: Measured
    after: Measured
    change: float
    half_width: float
    chance: float
    differs: bool = False


@dataclass(frozen=True, kw_only=True)
class FarmComparison:
    """All that was compared; `again`: numbers that a printer had twice; the later counts."""

    numbers: tuple[Comparison, ...]
    changed: tuple[Changed, ...]
    printers: int
    answers: int
    again: int

    @property
    def pictured(self) -> list[Comparison]:
        """The numbers worth a picture: in which somebody differs or has changed first, the surest
        first.
        """
        moved, held = {c.key for c in self.moved}, {c.key for c in self.changed}
        numbers = [c for c in self.numbers if c.centre is not None or c.key in held]
        return sorted(
            numbers, key=lambda c: (min((p.chance for p in c.odd), default=2.0), c.key not in moved)
        )

    def panel(self, one: Comparison) -> OthersPanel:
        """A number of all printers, by its size."""
        ordered = sorted(one.placed, key=lambda p: p.measured.value)
        held = {c.after.printer: c for c in self.changed if c.key == one.key}
        of = [held.get(p.measured.printer) for p in ordered]
        return OthersPanel(
            names=tuple(p.measured.printer for p in ordered),
            values=np.array([p.measured.value for p in ordered]),
            half_width=np.array([p.measured.half_width for p in ordered]),
            before=np.array([math.nan if c is None else c.before.value for c in of]),
            differs=np.array([p.differs for p in ordered]),
            changed=np.array([c is not None and c.differs for c in of]),
            centre=one.centre,
            spread=one.spread * (one.centre or 0.0) if one.key.figure.ratio else one.spread,
        )

    @property
    def odd(self) -> list[tuple[Comparison, Placed]]:
        """Who differs from the others, the surest first."""
        found = [(c, p) for c in self.numbers for p in c.odd]
        return sorted(found, key=lambda pair: pair[1].chance)

    @property
    def moved(self) -> list[Changed]:
        """Who changed, the surest first."""
        return sorted((c for c in self.changed if c.differs), key=lambda c: c.chance)


@dataclass(frozen=True, kw_only=True)
class OthersPanel:
    """One number of many printers: names, values (n,) with half widths (n,), those before (n,), NaN
    where there is none, which differ from the others or have changed, and the centre and standard
    deviation of the others, where there are enough of them.
    """

    names: tuple[str, ...]
    values: Array
    half_width: Array
    before: Array
    differs: Mask
    changed: Mask
    centre: float | None
    spread: float


def compare_farms(
    results: Sequence[JobAnswer], earlier: Sequence[JobAnswer] = ()
) -> FarmComparison:
    """Printers against the others, and against an earlier run.

    `earlier`: of the run that it is held against; empty: none.
    """
    now, again = _numbers(results)
    numbers = [_compared(key, list(found.values())) for key, found in now.items()]
    chances = np.array([p.chance for c in numbers for p in c.placed if c.centre is not None])
    sure = iter(named(chances))
    numbers = [
        c
        if c.centre is None
        else replace(c, placed=tuple(replace(p, differs=bool(next(sure))) for p in c.placed))
        for c in numbers
    ]
    before, _ = _numbers(earlier)
    moved = [
        _moved(key, before[key][name], measured)
        for key, found in now.items()
        for name, measured in found.items()
        if name in before.get(key, {})
    ]
    marks = named(np.array([c.chance for c in moved]))
    return FarmComparison(
        numbers=tuple(numbers),
        changed=tuple(replace(c, differs=bool(m)) for c, m in zip(moved, marks, strict=True)),
        printers=len({r.printer for r in results}),
        answers=sum(not r.error for r in results),
        again=again,
    )


def _numbers(results: Sequence[JobAnswer]) -> tuple[dict[Key, dict[str, Measured]], int]:
    """Each number by printer; of a number that a printer has twice the later row's counts."""
    out: dict[Key, dict[str, Measured]] = {}
    again = 0
    for result in results:
        if result.error or result.verdict == "retest":
            continue
        for figure in FIGURES:
            if figure.study != result.study:
                continue
            for of, value, half_width in figure.pick(result.document):
                if figure.ratio and value <= 0:
                    continue
                key = Key(figure=figure, of=of, model=result.model)
                again += result.printer in out.get(key, {})
                out.setdefault(key, {})[result.printer] = Measured(
                    printer=result.printer, value=value, half_width=half_width
                )
    return out, again


def _scaled(figure: Figure, found: Sequence[Measured]) -> tuple[Array, Array]:
    """Values and deviations as they are compared: a ratio by its logarithm."""
    values = np.array([m.value for m in found])
    deviations = deviation_of(np.array([m.half_width for m in found]))
    return (np.log(values), deviations / values) if figure.ratio else (values, deviations)


def _compared(key: Key, found: list[Measured]) -> Comparison:
    if len(found) < FEWEST_VALUES:
        alone = [Placed(measured=m, away=0.0, half_width=math.inf, chance=1.0) for m in found]
        return Comparison(key=key, placed=tuple(alone), centre=None, spread=0.0)
    usual: Placement = placed_among(*_scaled(key.figure, found))
    placed = tuple(
        Placed(measured=m, away=float(away), half_width=float(half), chance=float(chance))
        for m, away, half, chance in zip(
            found, usual.away, usual.half_width, usual.chance, strict=True
        )
    )
    centre = math.exp(usual.centre) if key.figure.ratio else usual.centre
    return Comparison(key=key, placed=placed, centre=centre, spread=usual.spread)


def _moved(key: Key, before: Measured, after: Measured) -> Changed:
    values, deviations = _scaled(key.figure, (before, after))
    change = np.array([values[1] - values[0]])
    half, chance = changes(change, np.array([float(np.hypot(*deviations))]))
    return Changed(
        key=key,
        before=before,
        after=after,
        change=float(change[0]),
        half_width=float(half[0]),
        chance=float(chance[0]),
    )
