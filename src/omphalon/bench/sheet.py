"""All lines of a bench from its dialect, with the values they replace as comments."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from omphalon.bench.settings import KINDS, InForce
from omphalon.lines.dialect import Dialect
from omphalon.lines.listing import STORED
from omphalon.settings import GAINS
from omphalon.units import plural


def entered(setting: InForce, dialect: Dialect) -> str | None:
    """The line that enters a setting; None where the dialect has none."""
    kind = setting.kind
    if not kind.line:
        return None

    def scaled(fields: Mapping[str, Any]) -> dict[str, Any]:
        return {k: v * dialect.gain_scale if k in GAINS else v for k, v in fields.items()}

    values = {**scaled(setting.value), **({"axis": kind.axis} if kind.axis else {})}
    return dialect.for_tool(kind.tool).line_within(kind.line, values, scaled(setting.spread))


def value_words(setting: InForce, gain_scale: float = 1.0) -> str:
    """A setting's value in short, gains in the controller's scale."""
    several = len(setting.kind.fields) > 1
    parts = []
    for name, unit in zip(setting.kind.fields, setting.kind.units, strict=True):
        value = setting.value[name]
        if name in GAINS:
            value = value * gain_scale
        text = value if isinstance(value, str) else f"{value:.{4 if several else 6}g}"
        head = f"{name} " if several and name != "shaper" else ""
        parts.append(head + text + (f" {unit}" if unit and name not in GAINS else ""))
    return ", ".join(parts)


def origin_words(setting: InForce) -> str:
    """Where a setting came from, when, and how old it is."""
    days = setting.age_days
    age = f"{setting.at[:10]}, {plural(days, 'day')} old" if days >= 1 else "today"
    return f"{setting.how} {age}, entry {setting.entry}"


def spread_words(setting: InForce, gain_scale: float = 1.0) -> str:
    """The spread of a setting in its own unit: of gains in the controller's scale, of a shaper the
    frequency's; nothing where none is known.
    """
    name = "frequency" if "frequency" in setting.spread else next(iter(setting.spread), "")
    if not name:
        return ""
    if name in GAINS:
        parts = [f"{setting.spread[k] * gain_scale:.2g}" for k in GAINS if k in setting.spread]
        return f"± {', '.join(parts)}"
    unit = dict(zip(setting.kind.fields, setting.kind.units, strict=True))[name]
    return f"± {setting.spread[name]:.2g} {unit}".rstrip()


def sheet_lines(
    settings: Mapping[str, InForce], before: Mapping[str, InForce], dialect: Dialect, start: bool
) -> Iterator[str]:
    """The lines to enter, in the order of work.

    `before`: what each replaced, where that is known. `dialect`: templates; those with a section
    are grouped under it. `start`: only what belongs to the start of a print: what a filament asks
    for, and what no store keeps.
    """
    rows: list[tuple[str | None, str, str]] = []
    by_hand = []
    for key in KINDS:
        setting = settings.get(key)
        if setting is None or (start and not _at_start(setting)):
            continue
        if not start and setting.kind.of_filament:
            words = f"; {setting.kind.words}: {value_words(setting)}"
            by_hand.append(f"{words} (of {setting.filament}: omphalon bench sheet --start)")
            continue
        old = before.get(key)
        words = f"; {setting.kind.words}" + (
            f", was {value_words(old, dialect.gain_scale)}" if old else ""
        )
        line = entered(setting, dialect)
        if line is None:
            value = value_words(setting, dialect.gain_scale)
            by_hand.append(f"; {setting.kind.words}: {value} (no line in the dialect)")
        else:
            rows.append((dialect.templates[setting.kind.line].section, words, line))
    sections = sorted({s for s, _, _ in rows if s is not None})
    for section in [None, *sections]:
        if section is not None:
            yield f"[{section}]"
        for where, words, line in rows:
            if where == section:
                mark = "#" if section is not None else ";"
                yield mark + words[1:]
                yield line
    yield from by_hand
    stores = [dialect.line("store"), dialect.line("list")] if rows and not start else []
    yield from (line for line in stores if line)


def _at_start(setting: InForce) -> bool:
    return setting.kind.of_filament or (bool(setting.kind.line) and setting.kind.line not in STORED)
