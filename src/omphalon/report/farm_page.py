"""A farm's run as one page of HTML: self-contained, without scripts, for screen and paper."""

from __future__ import annotations

import base64
import io
from collections.abc import Mapping, Sequence
from typing import Any

from omphalon.bench.settings import KINDS, taken
from omphalon.errors import shown
from omphalon.finding import Finding
from omphalon.report.figure import draws, save_figure
from omphalon.report.page import template_of
from omphalon.units import digits


def farm_page(results: Sequence[Any], compared: Finding) -> str:
    """The whole page.

    Parameters
    ----------
    results : rows with printer, model, study, log, verdict, error and document
    compared : the printers held against each other
    """
    return template_of("farm.html.j2").render(
        counts={v: sum(r.verdict == v for r in results) for v in ("change", "keep", "retest")},
        failed=[_row(r) for r in results if r.error],
        rows=[_row(r) for r in results if not r.error],
        printers=len({r.printer for r in results if r.printer}),
        compared=compared,
        table=[(row.label, row.cells) for row in compared.table],
        next=shown(compared.next.replace("`", "")),
        figure=_figure(compared),
    )


def _figure(compared: Finding) -> str | None:
    if not draws(compared):
        return None
    drawn = io.BytesIO()
    save_figure(compared, drawn, ".svg")
    return f"data:image/svg+xml;base64,{base64.b64encode(drawn.getvalue()).decode()}"


def _row(result: Any) -> dict[str, Any]:
    document = result.document
    return {
        "printer": shown(result.printer),
        "model": shown(result.model),
        "study": result.study,
        "log": shown(result.log),
        "verdict": result.verdict,
        "error": shown(result.error),
        "because": shown(str(document.get("because", ""))),
        "settings": _settings(document),
        "warnings": [shown(w["message"]) for w in document.get("warnings", ())],
    }


def _settings(document: Mapping[str, Any]) -> list[str]:
    """The settings in words, each with its spreads."""
    out = []
    for one in taken(document):
        kind, parts = KINDS[one.key], []
        for field, unit in zip(kind.fields, kind.units, strict=True):
            value, half = one.value[field], one.spread.get(field)
            name = field if len(kind.fields) > 1 and field != "shaper" else ""
            text = value if isinstance(value, str) else digits(value, half)
            parts.append(f"{name} {text}{f' ± {half:.2g}' if half else ''} {unit}".strip())
        out.append(f"{kind.words}: {', '.join(parts)}")
    return out
