"""A farm's run as one page of HTML: self-contained, without scripts, for screen and paper."""

from __future__ import annotations

import base64
import io
from collections.abc import Mapping, Sequence
from typing import Any

from omphalon.errors import shown
from omphalon.finding import Finding
from omphalon.report.figure import draws, save_figure
from omphalon.report.page import template_of
from omphalon.units import digits

# a setting's words and unit; those that are not here stand in results.csv
SETTINGS = {
    "kp": ("kp", ""),
    "ki": ("ki", ""),
    "kd": ("kd", ""),
    "steps_per_mm": ("", "steps a mm"),
    "flow": ("flow", ""),
    "advance_s": ("", "s"),
    "offset_mm": ("offset", "mm"),
    "frequency_hz": ("", "Hz"),
    "speed_mm_s": ("", "mm/s"),
    "acceleration_mm_s2": ("", "mm/s²"),
}


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
        "settings": _settings(document.get("settings", {}), document.get("spread", {})),
        "warnings": [shown(w["message"]) for w in document.get("warnings", ())],
    }


def _settings(settings: Mapping[str, Any], spread: Mapping[str, Any]) -> list[str]:
    """The settings in words, with their spreads; those of an axis in one line."""
    out = []
    for name, value in settings.items():
        half_width = spread.get(name)
        if isinstance(value, Mapping) and name != "scaled":
            out.append(f"{name}: " + " ".join(_settings(value, half_width or {})))
        elif name == "shaper":
            out.append(str(value))
        elif name in SETTINGS and not isinstance(value, Mapping):
            before, unit = SETTINGS[name]
            told = digits(value, half_width) + (f" ± {half_width:.2g}" if half_width else "")
            out.append(f"{before} {told} {unit}".strip())
    return out
