"""A bench, or a farm's run, as one page of HTML: self-contained, without scripts, for screen and
paper.
"""

from __future__ import annotations

import base64
import io
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from importlib import resources
from pathlib import Path
from typing import Any

from jinja2 import DictLoader, Environment, Template

from omphalon.answers.finding import Finding
from omphalon.answers.settings import GAINS
from omphalon.base.errors import shown
from omphalon.bench.bench import Bench
from omphalon.bench.facts import fact_words
from omphalon.bench.journal import Entry
from omphalon.bench.ranges import range_words
from omphalon.bench.settings import KINDS, InForce, setting_of, taken
from omphalon.bench.sheet import origin_words, spread_words, value_words
from omphalon.bench.work import State, reason, steps, verified
from omphalon.report.figure import draws, save_figure
from omphalon.tables.units import digits

MOST_FINDINGS, MOST_TRIALS = 50, 50
MOST_PICTURE_BYTES = 10_000_000
WIDE, HIGH, EDGE = 160, 36, 4  # a small plot, in its own units
KINDS_OF_PICTURE = {".png": "image/png", ".jpg": "image/jpeg", ".jpeg": "image/jpeg"}


@dataclass(frozen=True, kw_only=True)
class SettingRow:
    """A setting as the page shows it; `holds`: what it was measured for, `points`: its course."""

    words: str
    value: str
    spread: str
    origin: str
    doubt: str
    holds: str
    points: str
    course: str


@dataclass(frozen=True, kw_only=True)
class ChangeRow:
    """A setting that an evening set or confirmed: before, after, and what is known of it now."""

    words: str
    before: str
    after: str
    holds: str


def change_rows(bench: Bench, before: Mapping[str, InForce]) -> list[ChangeRow]:
    """What was set since these settings were in force."""
    state = bench.state()
    scale = bench.dialect(state.facts).gain_scale
    return [
        ChangeRow(
            words=KINDS[key].words,
            before=value_words(before[key], scale) if key in before else "not known",
            after=value_words(now, scale),
            holds="checked" if verified(key, state) else "not checked yet",
        )
        for key, now in state.settings.items()
        if key not in before or now.entry != before[key].entry
    ]


def page_of(bench: Bench, evening: Sequence[ChangeRow] | None = None) -> str:
    """The whole page; of an `evening` with what it changed.

    Raises UnreadableFile if facts or journal cannot be read.
    """
    state = bench.state()
    template = template_of("page.html.j2")
    findings = bench.journal.entries(kind="finding", most=MOST_FINDINGS)
    trials = bench.journal.entries(kind="trial", most=MOST_TRIALS)
    return template.render(
        name=shown(str(state.facts.get("printer.name", "A printer"))),
        loaded=state.filament and shown(state.filament),
        facts=[(k, shown(fact_words(v))) for k, v in state.facts.items() if k != "printer.name"],
        settings=_rows(bench, state),
        steps=steps(state),
        evening=evening,
        findings=[_finding(bench, e) for e in findings if not e.newer],
        trials=[_trial(bench, e) for e in trials if not e.newer],
    )


def template_of(name: str) -> Template:
    """A page's template; all share one set of looks."""
    files = resources.files("omphalon.report")
    sources = {n: (files / n).read_text(encoding="utf-8") for n in (name, "page.css")}
    environment = Environment(
        autoescape=True, trim_blocks=True, lstrip_blocks=True, loader=DictLoader(sources)
    )
    return environment.get_template(name)


def _rows(bench: Bench, state: State) -> list[SettingRow]:
    courses: dict[tuple[str, str | None], list[InForce]] = {}
    for entry in reversed(bench.journal.entries(kind="setting")):
        one = setting_of(entry)
        if one is not None:
            courses.setdefault((one.kind.key, one.filament), []).append(one)
    out, scale = [], bench.dialect(state.facts).gain_scale
    for key, setting in state.settings.items():
        why = reason(key, state)
        values = [_first_number(s, scale) for s in courses[(key, setting.filament)]]
        out.append(
            SettingRow(
                words=KINDS[key].words,
                value=value_words(setting, scale),
                spread=spread_words(setting, scale),
                origin=origin_words(setting),
                doubt=why[1] if why else "",
                holds=range_words(setting),
                points=_points(values),
                course=", then ".join(f"{v:.5g}" for v in values),
            )
        )
    return out


def _first_number(setting: InForce, gain_scale: float) -> float:
    numbers = {n: v for n, v in setting.value.items() if not isinstance(v, str)}
    name, number = next(iter(numbers.items()), ("", 0.0))
    return float(number) * (gain_scale if name in GAINS else 1.0)


def _points(values: Sequence[float]) -> str:
    """The corners of a line through values, oldest left, as SVG takes them."""
    if len(values) < 2:
        return ""
    low, span = min(values), (max(values) - min(values)) or 1.0
    across = (WIDE - 2 * EDGE) / (len(values) - 1)
    up = (HIGH - 2 * EDGE) / span
    return " ".join(
        f"{EDGE + n * across:.1f},{HIGH - EDGE - (v - low) * up:.1f}" for n, v in enumerate(values)
    )


def _finding(bench: Bench, entry: Entry) -> dict[str, Any]:
    document = entry.body["document"]
    return {
        "number": entry.id,
        "at": entry.at[:16].replace("T", " "),
        "kind": document["kind"],
        "verdict": document["verdict"],
        "because": shown(document["because"]),
        "lines": [shown(line) for line in document["lines"]],
        "warnings": [shown(w["message"]) for w in document["warnings"]],
        "command": shown("omphalon " + " ".join(entry.body["command"])),
        "inputs": [shown(i["name"]) for i in entry.body["inputs"]],
        "figure": _embedded(bench.place / "figures", entry.body.get("figure")),
    }


def _trial(bench: Bench, entry: Entry) -> dict[str, Any]:
    photo = entry.body["photo"]
    return {
        "at": entry.at[:16].replace("T", " "),
        "changed": [shown(c) for c in entry.body["changed"]],
        "outcome": shown(entry.body["outcome"]),
        "score": entry.body["score"],
        "photo": _embedded(bench.place / "data", photo and photo["data"]),
    }


def _embedded(folder: Path, name: object) -> str | None:
    """A picture as a data address, so that the page asks for nothing; None where it is gone."""
    if not isinstance(name, str) or Path(name).name != name:
        return None
    path = folder / name
    if not path.resolve().is_relative_to(folder.parent.resolve()):
        return None
    kind = KINDS_OF_PICTURE.get(path.suffix.lower(), "image/svg+xml")
    if not path.is_file() or path.stat().st_size > MOST_PICTURE_BYTES:
        return None
    return f"data:{kind};base64,{base64.b64encode(path.read_bytes()).decode()}"


def farm_page(results: Sequence[Any], compared: Finding) -> str:
    """The whole page.

    `results`: rows with printer, model, study, log, verdict, error and document.
    """
    return template_of("farm.html.j2").render(
        counts={v: sum(r.verdict == v for r in results) for v in ("change", "keep", "retest")},
        failed=[_row(r) for r in results if r.error],
        rows=[_row(r) for r in results if not r.error],
        printers=len({r.printer for r in results if r.printer}),
        compared=compared,
        table=[(row.label, row.cells) for row in compared.table],
        next=shown(str(compared.next)),
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
