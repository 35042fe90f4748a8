"""All lines of a bench from its dialect, with the values they replace as comments; and a listing
against the bench: what is the same within its digits, what differs and by which likely slip, what
is missing, what is there beside.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from omphalon.answers.settings import GAINS
from omphalon.bench.ranges import sets_of
from omphalon.bench.settings import KINDS, InForce, Kind, Taken
from omphalon.lines.dialect import Dialect
from omphalon.lines.editing import Filed
from omphalon.lines.listing import STORED, Listed, alike, decimals
from omphalon.lines.template import Entered
from omphalon.tables.units import digits, plural

SAME, DIFFERENT, MISSING, BESIDE = "same", "different", "missing", "not in the bench"
UNSTORED = "not stored yet"  # the printer still has what the bench replaced


def with_own_line(dialect: Dialect, facts: Mapping[str, Any]) -> Dialect:
    """A dialect with the bench's own line of pressure advance, where it has one."""
    return dialect.with_line("advance", facts.get("advance.line"), "bench.toml: advance.line")


def entered(setting: InForce, dialect: Dialect) -> tuple[Entered, ...]:
    """The lines that enter a setting; none where the dialect has none."""
    kind = setting.kind
    if not kind.line:
        return ()
    values = _scaled(setting.value, dialect) | ({"axis": kind.axis} if kind.axis else {})
    spread = _scaled(setting.spread, dialect)
    return dialect.for_tool(kind.tool).lines_within(kind.line, values, spread)


def entered_sets(setting: InForce, dialect: Dialect) -> tuple[Entered, ...]:
    """The lines that enter the gains of each target, where the dialect has a line for them."""
    own, name = dialect.for_tool(setting.kind.tool), f"{setting.kind.line}-at"
    sets = [_scaled(one, dialect) for one in sets_of(setting)]
    return tuple(line for one in sets for line in own.lines_within(name, one, {}))


def _scaled(fields: Mapping[str, Any], dialect: Dialect) -> dict[str, Any]:
    """Fields of a setting, gains in the dialect's scale."""
    return {k: v * dialect.gain_scale if k in GAINS else v for k, v in fields.items()}


def filed(settings: Mapping[str, InForce], dialect: Dialect) -> tuple[list[Filed], list[Kind]]:
    """The lines of the settings in force that belong into a settings file, and the kinds of those
    that have none there.
    """
    found: list[Filed] = []
    without = []
    for key in KINDS:
        if key not in settings:
            continue
        kind = settings[key].kind
        template = dialect.for_tool(kind.tool).templates.get(kind.line)
        elsewhere = _elsewhere(settings[key], dialect)
        if template is None or template.section is None or elsewhere:
            without.append(kind)
            continue
        known = template.filled(axis=kind.axis or None, axis_lower=kind.axis.lower() or None)
        pairs = zip(known.lines, entered(settings[key], dialect), strict=True)
        found += [Filed(one, line) for one, line in pairs]
    return found, without


def value_words(setting: InForce, gain_scale: float = 1.0, *, to_enter: bool = False) -> str:
    """A setting's value, gains in the controller's scale; with the digits that its interval
    deserves, or as it is to be entered.
    """
    several = len(setting.kind.fields) > 1
    parts = []
    for name, unit in zip(setting.kind.fields, setting.kind.units, strict=True):
        value = setting.value[name]
        if name in GAINS:
            value = value * gain_scale
        half = None if to_enter else setting.spread.get(name)
        text = value if isinstance(value, str) else f"{value:.{4 if several else 6}g}"
        if half:
            text = digits(value, half)
        head = f"{name} " if several and name != "shaper" else ""
        parts.append(head + text + (f" {unit}" if unit and name not in GAINS else ""))
    of = f" (full power is {gain_scale:g})" if set(setting.kind.fields) & {*GAINS} else ""
    return ", ".join(parts) + of


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
    rows: dict[str | None, list[str]] = {None: []}
    by_hand = []
    for key in KINDS:
        setting = settings.get(key)
        if setting is None or (start and not _at_start(setting, dialect)):
            continue
        if not start and _elsewhere(setting, dialect):
            words = f"; {setting.kind.words}: {value_words(setting, to_enter=True)}"
            sliced = dialect.in_slicer(setting.kind.line)
            there = "in the slicer's profile" if sliced else "omphalon bench sheet --start"
            by_hand.append(f"{words} (of {setting.filament or 'every filament'}: {there})")
            continue
        old = before.get(key)
        words = f"; {setting.kind.words}" + (
            f", was {value_words(old, dialect.gain_scale)}" if old else ""
        )
        lines = (*entered(setting, dialect), *entered_sets(setting, dialect))
        for line in lines:
            own = rows.setdefault(line.section, [])
            if words:
                own.append(words if line.section is None else f"#{words[1:]}")
            own.append(line.text)
            words = ""
        if not lines:
            value = value_words(setting, dialect.gain_scale)
            by_hand.append(f"; {setting.kind.words}: {value} (no line in the dialect)")
    codes = rows.pop(None)
    yield from codes
    for section, own in sorted(rows.items()):
        yield from (f"[{section}]", *own)
    yield from by_hand
    stores = [dialect.line("store"), dialect.line("list")] if codes and not start else []
    yield from (line for line in stores if line)


def _elsewhere(setting: InForce, dialect: Dialect) -> bool:
    """Whether a setting is not the controller's to keep: what a filament asks for is said at the
    start of a print, where nobody says that it lives in the controller.
    """
    usual = "controller" if setting.filament is None else "start"
    return setting.kind.of_filament and dialect.lives.get(setting.kind.line, usual) != "controller"


def _at_start(setting: InForce, dialect: Dialect) -> bool:
    """Whether a setting belongs to the start of each print: no store keeps it."""
    line = setting.kind.line
    if setting.kind.of_filament:
        return _elsewhere(setting, dialect) and not dialect.in_slicer(line)
    unstored = line not in STORED or (dialect.has_code(line) and not dialect.has_code("store"))
    return bool(line) and unstored


@dataclass(frozen=True, kw_only=True)
class Compared:
    """One field of one setting: what the bench has, what the printer lists, and the verdict."""

    kind: Kind
    field: str
    bench: float | str | None
    listed: str | None
    verdict: str
    slip: str = ""


def kind_of(one: Listed) -> Kind | None:
    """The kind of setting that a listed line sets."""
    return next(
        (
            k
            for k in KINDS.values()
            if (k.line, k.tool) == (one.setting, one.tool) and k.axis in ("", one.axis)
        ),
        None,
    )


def found_settings(listing: Sequence[Listed], dialect: Dialect) -> list[Taken]:
    """What a listing holds, as settings; gains scaled back to a power of 0…1, shapers in our
    words.
    """
    ours = {v: k for k, v in dialect.shaper_names.items()}
    out: dict[str, Taken] = {}
    for one in listing:
        kind = kind_of(one)
        if kind is None or not set(kind.fields) <= set(one.values):
            continue
        value: dict[str, float | str] = {}
        for name in kind.fields:
            text = one.values[name]
            if name == "shaper":
                value[name] = ours.get(text, text)
            else:
                value[name] = float(text) / (dialect.gain_scale if name in GAINS else 1.0)
        out[kind.key] = Taken(key=kind.key, value=value, spread={})
    return list(out.values())


def compare(
    settings: Mapping[str, InForce],
    listing: Sequence[Listed],
    dialect: Dialect,
    before: Mapping[str, InForce],
) -> list[Compared]:
    """Every field of every setting that the dialect has a line for, and what is listed beside.

    `listing`: what the printer lists; of two lines that set the same the last one holds. `dialect`:
    its templates say how many digits the printer was given. `before`: what the settings in force
    replaced, where that is known.
    """
    there = {kind.key: one for one in listing if (kind := kind_of(one)) is not None}
    rows = []
    for key, kind in KINDS.items():
        setting, one = settings.get(key), there.get(key)
        if setting is None and one is None:
            continue
        own = dialect.for_tool(kind.tool)
        lives = dialect.lives.get(kind.line, "controller") == "controller"
        if kind.line not in own.templates or not lives or (kind.of_filament and one is None):
            continue  # what a filament asks for is set at the start of a print, not stored
        written = own.templates[kind.line].fields()
        for name in kind.fields:
            if name not in written and name not in GAINS:
                continue  # the controller has no place for it
            text = one.values.get(name) if one else None
            rows.append(_compared(kind, name, setting, text, own, before.get(key)))
    return rows


def _compared(
    kind: Kind,
    name: str,
    setting: InForce | None,
    text: str | None,
    dialect: Dialect,
    old: InForce | None,
) -> Compared:
    if setting is None:
        return Compared(kind=kind, field=name, bench=None, listed=text, verdict=BESIDE)
    given = _as_given(kind, name, setting.value[name], text, dialect)
    number = setting.value[name]
    shown = given if isinstance(number, str) else float(number) * _scale(name, dialect)
    verdict, why = MISSING, ""
    if text is not None:
        verdict = SAME if alike(given, text) else DIFFERENT
        if verdict == DIFFERENT:
            former = old and _as_given(kind, name, old.value[name], text, dialect)
            verdict = UNSTORED if former and alike(former, text) else DIFFERENT
            why = "" if verdict == UNSTORED or isinstance(number, str) else slip(given, text)
    return Compared(kind=kind, field=name, bench=shown, listed=text, verdict=verdict, slip=why)


def _scale(name: str, dialect: Dialect) -> float:
    return dialect.gain_scale if name in GAINS else 1.0


def _as_given(kind: Kind, name: str, value: float | str, text: str | None, dialect: Dialect) -> str:
    """A value as the printer was given it, in the digits that it lists."""
    if isinstance(value, str):
        return dialect.shaper_names.get(value, value)
    places = dialect.templates[kind.line].places(name)
    listed = decimals(text or "")
    digits = listed if places is None else min(places, listed)
    return f"{float(value) * _scale(name, dialect):.{digits}f}"


def slip(right: str, typed: str) -> str:
    """The single slip of hand that makes one number of another; nothing where there is none."""
    a, b = (t.lstrip("+-") for t in (right, typed))
    if right.startswith("-") != typed.startswith("-") and a == b:
        return "the sign is missing" if right.startswith("-") else "a sign too many"
    places = max(decimals(a), decimals(b))
    a, b = (f"{float(t):.{places}f}" for t in (a, b))
    if a.replace(".", "").strip("0") == b.replace(".", "").strip("0"):
        return "the decimal point is elsewhere"
    if len(a) == len(b):
        off = [k for k in range(len(a)) if a[k] != b[k]]
        if len(off) == 1:
            return f"one digit: {b[off[0]]} for {a[off[0]]}"
        digits = [k for k in range(len(a)) if a[k] != "."]
        swapped = len(off) == 2 and digits.index(off[1]) - digits.index(off[0]) == 1
        if swapped and a[off[0]] == b[off[1]] and a[off[1]] == b[off[0]]:
            return f"two digits swapped: {a[off[0]]}{a[off[1]]} became {b[off[0]]}{b[off[1]]}"
        return ""
    shorter, longer = sorted((a.replace(".", ""), b.replace(".", "")), key=len)
    if len(longer) - len(shorter) == 1 and any(
        longer[:k] + longer[k + 1 :] == shorter for k in range(len(longer))
    ):
        return "a digit is missing" if len(b) < len(a) else "a digit too many"
    return ""
