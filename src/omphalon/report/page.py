"""A bench as one page of HTML: self-contained, without scripts, for screen and paper."""

from __future__ import annotations

import base64
from collections.abc import Sequence
from dataclasses import dataclass
from importlib import resources
from pathlib import Path
from typing import Any

from jinja2 import DictLoader, Environment, Template

from omphalon.bench.bench import Bench
from omphalon.bench.facts import fact_words
from omphalon.bench.journal import Entry
from omphalon.bench.settings import KINDS, InForce, setting_of
from omphalon.bench.sheet import origin_words, spread_words, value_words
from omphalon.bench.work import State, reason, steps
from omphalon.errors import shown

MOST_FINDINGS, MOST_TRIALS = 50, 50
MOST_PICTURE_BYTES = 10_000_000
WIDE, HIGH, EDGE = 160, 36, 4  # a small plot, in its own units
KINDS_OF_PICTURE = {".png": "image/png", ".jpg": "image/jpeg", ".jpeg": "image/jpeg"}


@dataclass(frozen=True, kw_only=True)
class SettingRow:
    """A setting as the page shows it: words, value, spread, origin, doubt, and its course."""

    words: str
    value: str
    spread: str
    origin: str
    doubt: str
    points: str
    course: str


def page_of(bench: Bench) -> str:
    """The whole page.

    Raises
    ------
    UnreadableFile
        If facts or journal cannot be read.
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
    out = []
    for key, setting in state.settings.items():
        why = reason(key, state)
        values = [_first_number(s) for s in courses[(key, setting.filament)]]
        out.append(
            SettingRow(
                words=KINDS[key].words,
                value=value_words(setting),
                spread=spread_words(setting),
                origin=origin_words(setting),
                doubt=why[1] if why else "",
                points=_points(values),
                course=", then ".join(f"{v:.5g}" for v in values),
            )
        )
    return out


def _first_number(setting: InForce) -> float:
    numbers = (v for v in setting.value.values() if not isinstance(v, str))
    return float(next(numbers, 0.0))


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
