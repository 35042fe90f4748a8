"""A measured quantity's answer in words: one set for all, with the sentences of its row."""

from __future__ import annotations

from typing import Any

import numpy as np

from omphalon.answers.commands import marked
from omphalon.answers.finding import Finding, Shown, answer
from omphalon.answers.remarks import filled
from omphalon.answers.settings import Setting
from omphalon.lines.dialect import Dialect
from omphalon.recordings.recording import Readings
from omphalon.studies.measured.engine import Fitted, Measurand, Measurement, Question, fit
from omphalon.tables.order import comes_next
from omphalon.tables.units import digits

# the interval of a share that is kept
AS_MEASURED = "as far as these readings tell ({low:+.1%} to {high:+.1%})"


def measured_answer(
    quantity: Measurand[Question],
    readings: Readings,
    question: Question,
    dialect: Dialect | None,
    checking: bool = False,
) -> Finding:
    """The answer of a fit, or of a check: the same judgement, told without a new setting.

    `dialect`: templates of the lines to enter; None: they are comments.
    """
    kind = f"{quantity.group}-{'check' if checking else 'fit'}"
    return answer(
        kind,
        [readings],
        lambda: _finding(kind, fit(quantity, readings, question), dialect, checking),
    )


def facts_of(one: Measurement, matters: float = 0.0) -> dict[str, Any]:
    """What a row's sentences may say of one thing."""
    sample, good = one.sample, one.sample.measured[one.keep]
    off = one.estimate.value - sample.goal
    measured, value = float(good.mean()), one.estimate.value
    lengths = np.array([sample.goal]) if sample.commanded is None else sample.commanded[one.keep]
    commanded = float(lengths.mean())
    alike = np.ptp(lengths) == 0 and not one.offsets
    return {
        "name": sample.name,
        "NAME": sample.name.upper(),
        "value": value,
        "half": one.estimate.half_width,
        "goal": sample.goal,
        "present": sample.present,
        "best": one.best,
        "setting": one.setting,
        "hundredfold": 100 * one.setting,
        "off": abs(off),
        "shift": off,
        "percent": 100 * abs(off) / sample.goal,
        "share": abs(off) / sample.goal,
        "count": one.used,
        "measured": measured,
        "commanded": commanded,
        "first": float(lengths[0]),
        "formula": f"{sample.present:g} × {commanded:g} ÷ {measured:.10g}"
        if alike
        else f"{sample.present:g} ÷ {value:.8g}",
        "low": one.low,
        "high": one.high,
        "matters": matters,
        "beside": sample.beside,
    }


def _finding(kind: str, found: Fitted[Any], dialect: Dialect | None, checking: bool) -> Finding:
    quantity, keeps = found.quantity, found.verdict == "keep"
    facts = {**facts_of(found.one, quantity.matters), **quantity.facts(found.one)}
    steps = " ".join(f"--steps {m.sample.name}={m.setting:.4f}" for m in found.things)
    facts |= {"steps": steps, "rest": _rest(found)}
    facts["widest_percent"] = 100 * max(max(-m.low, m.high) for m in found.things)
    off = found.one.estimate.value - found.one.sample.goal
    coming = comes_next(quantity.group)
    state = 0 if keeps else 1 if off > 0 else 2
    settings = (
        Setting(quantity.key.format(name=m.sample.name), quantity.field, m.setting, m.half_width)
        for m in found.things
    )
    return Finding(
        kind=kind,
        verdict=found.verdict,
        because=filled(quantity.because[0 if keeps else 1], facts),
        means="" if checking else filled(quantity.means[state], facts),
        settings=() if checking else tuple(settings),
        evidence=quantity.evidence(found),
        warnings=found.remarks,
        lines=() if checking else _lines(found, dialect),
        next=marked(
            filled(quantity.again[0 if keeps else 1 if checking else 2], facts)
            + (f"; {coming}" if keeps and coming else "")
        ),
        headline=() if checking else _headline(found),
        table=tuple(quantity.table(found)),
        picture=found,
    )


def _rest(found: Fitted[Any]) -> str:
    """Say what error could still hide in the interval of a setting that is kept."""
    one, quantity = found.one, found.quantity
    if max(abs(one.low), abs(one.high)) <= quantity.matters:
        return quantity.unseen
    if one.wanted is None:
        return "it is too near to what would show to tell"
    return f"{one.wanted} readings would tell"


def _lines(found: Fitted[Any], dialect: Dialect | None) -> tuple[str, ...]:
    quantity, wanted = found.quantity, []
    for one in found.things:
        if one.verdict == "change":
            values = {"axis": one.sample.name.upper() or "E", quantity.field: one.setting}
            halves = {quantity.field: one.half_width}
            words = filled(quantity.comment, facts_of(one))
            wanted.append((quantity.line, words, values, halves))
    if dialect is None or not wanted:
        return tuple(f"; {comment}" for _, comment, _, _ in wanted)
    return dialect.entering(*wanted)


def _headline(found: Fitted[Any]) -> tuple[Shown, ...]:
    quantity = found.quantity
    several = any(m.sample.name for m in found.things)
    rows = [Shown(quantity.group, ("present", "new", "", "offset" if several else ""))]
    for one in found.things:
        name = f"{one.sample.name} {quantity.title}".strip()
        half = f"± {digits(one.half_width, least=2)}"
        last = offset_words(one) if several else quantity.unit
        new = digits(one.setting, one.half_width, least=1 if quantity.shifts else 3)
        rows.append(Shown(name, (f"{one.sample.present:g}", new, half, last)))
    return tuple(rows)


def offset_words(one: Measurement) -> str:
    """The zero error that was kept out of a scale."""
    offset = one.offsets.get("offset")
    return "–" if offset is None else f"{offset.value:+.2f} ± {offset.half_width:.2f} mm"
