"""Dialects: templates of the printer's lines, one a setting, from a TOML file that a user can copy
and edit. Gains go into lines in the forms that controllers take (kp, ki and kd, times, a
proportional band, per loop).
"""

from __future__ import annotations

import functools
import math
import tomllib
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, fields, replace
from importlib import resources
from pathlib import Path

from omphalon.base.errors import UnknownFormat, UnreadableFile, UsageError, echoed
from omphalon.base.files import small_file
from omphalon.lines.template import WORD, Template, checked, fill
from omphalon.tables.tools import FIRST, Tool

FORMS = ("kp", "ki", "kd", "ti", "td", "kp_percent_band", "ki_per_loop", "kd_per_loop")
# form → what must be known of the loop to write it
NEEDS = {"kp_percent_band": "span_c", "ki_per_loop": "period_s", "kd_per_loop": "period_s"}
_OF_FIT = ("period_s", "filter_s", "band_c")
# what a tool of several has lines of its own for: `tool-steps`, …; `select` makes it the one in use
LINES_OF_TOOL = ("steps", "hotend-gains", "flow", "advance", "hotend-oscillation", "heat")
# setting whose line an option may give → that option's example
EXAMPLES = {"advance": "… {advance:.4f} …", "acceleration": "… {acceleration:.0f} …"}
KEYS = ("name", "gain_scale", "loop", "lines", "shaper-names")
EXAMPLE_OF = {
    "full_power": "use 255, 100 or 1",
    "period_s": "in seconds: 0.2",
    "filter_s": "in seconds: 1; or 0",
    "band_c": "in °C: 10; 0 where it always acts",
    "span_c": "in °C, as its band is a percentage of: 300",
}
PLACEHOLDER = "YOUR-OWN"
SHIPPED = ("default", "stand-in")
MOST_BYTES = 64_000


@dataclass(frozen=True, kw_only=True)
class ControlLoop:
    """What is known of a controller's loop (None: nothing; its full power is taken as a byte's).

    `period_s`: how often it works. `filter_s`: time constant of its derivative's filter. `band_c`:
    how near the target it starts to act. `full_power`: what stands for it in its gains. `span_c`:
    the range that its proportional band is a percentage of.
    """

    period_s: float | None = None
    filter_s: float | None = None
    band_c: float | None = None
    full_power: float = 255.0
    span_c: float | None = None

    def missing(self, forms: Iterable[str]) -> str | None:
        """The first thing that one of these forms of gains needs and nobody said."""
        return next((NEEDS[f] for f in forms if f in NEEDS and self.of(NEEDS[f]) is None), None)

    def of(self, name: str) -> float | None:
        """A thing by its name."""
        value: float | None = getattr(self, name)
        return value

    def for_question(self) -> dict[str, float]:
        """What a fit of gains wants to know, as far as it is known."""
        known = {f"loop_{n}" if n == "period_s" else n: self.of(n) for n in _OF_FIT}
        return {name: value for name, value in known.items() if value is not None}


LOOP_KEYS = tuple(field.name for field in fields(ControlLoop))


def in_all_forms(values: Mapping[str, object], loop: ControlLoop) -> dict[str, object]:
    """kp, ki and kd (for full power as the loop has it) with every other form beside them."""
    kp, ki, kd = (float(str(values[name])) for name in ("kp", "ki", "kd"))
    out: dict[str, object] = {**values, "ti": kp / ki if ki else 0.0}
    out["td"] = kd / kp if kp else 0.0
    if loop.span_c is not None and kp:
        out["kp_percent_band"] = 100 * loop.full_power / (kp * loop.span_c)
    if loop.period_s is not None:
        out |= {"ki_per_loop": ki * loop.period_s, "kd_per_loop": kd / loop.period_s}
    return out


def as_gains(texts: Mapping[str, str], loop: ControlLoop) -> dict[str, str]:
    """Gains that are listed in any form as kp, ki and kd, with as many decimals as the digits
    carry; what is listed so already is left as it is.
    """
    if not set(texts) & set(FORMS[3:]):
        return dict(texts)
    low, mid, high = (
        _gains({n: _shifted(t, by) for n, t in texts.items()}, loop) for by in (-1, 0, 1)
    )
    others = {name: text for name, text in texts.items() if name not in FORMS}
    return others | {
        name: texts.get(name, _carried(low[name], mid[name], high[name])) for name in mid
    }


def _gains(values: Mapping[str, float], loop: ControlLoop) -> dict[str, float]:
    """kp, ki and kd, those of them that can be worked out."""
    kp, out = values.get("kp"), {}
    band, period = values.get("kp_percent_band"), loop.period_s
    if kp is None and band and loop.span_c:
        kp = 100 * loop.full_power / (band * loop.span_c)
    if kp is not None:
        out["kp"] = kp
        if "ti" in values:
            out["ki"] = kp / values["ti"] if values["ti"] else 0.0
        if "td" in values:
            out["kd"] = kp * values["td"]
    if period and "ki_per_loop" in values:
        out["ki"] = values["ki_per_loop"] / period
    if period and "kd_per_loop" in values:
        out["kd"] = values["kd_per_loop"] * period
    return out | {name: values[name] for name in ("ki", "kd") if name in values}


def _shifted(text: str, by: int) -> float:
    """A listed number, half of its last digit lower or higher."""
    places = len(text.lower().split("e")[0].partition(".")[2])
    return float(text) + by * 0.5 * 10.0**-places


def _carried(low: float, value: float, high: float) -> str:
    """A number with the decimals that its doubt leaves."""
    doubt = max(abs(low - value), abs(high - value), abs(high - low), 1e-12)
    places = next((p for p in range(12, -1, -1) if 0.5 * 10.0**-p >= doubt), 0)
    return f"{value:.{places}f}"


# setting → fields that its line may have
SETTINGS: dict[str, tuple[str, ...]] = {
    "steps": ("axis", "steps"),
    "hotend-gains": FORMS,
    "bed-gains": FORMS,
    "chamber-gains": FORMS,
    "flow": ("flow",),
    "advance": ("advance",),
    "shaper": ("axis", "shaper", "frequency", "damping"),
    "shaper-off": ("axis",),
    "acceleration": ("acceleration",),
    "speed-limit": ("axis", "speed"),
    "acceleration-limit": ("axis", "acceleration"),
    "corner-limit": ("axis", "corner"),
    "store": (),
    "list": (),
    "hotend-oscillation": ("index", "target", "cycles"),
    "bed-oscillation": ("index", "target", "cycles"),
    "chamber-oscillation": ("index", "target", "cycles"),
    "heat": ("target",),
    "cool": (),
    "relative-feed": (),
    "feed": ("length", "feed"),
    "home": ("axis",),
    "absolute": (),
    "move": ("axis", "length", "feed"),
    "hotend-target": ("target",),
    "bed-target": ("target",),
    "tool-target": ("tool", "target"),
    "chamber-target": ("target",),
    "bed-heat": ("target",),
    "fan": ("counts",),
    "fan-off": (),
    "report": (),
    "report-every": ("seconds",),
    "number": ("number",),
    "identify": (),
    "break": (),
    "halt": (),
}
SETTINGS |= {
    Tool(1).line(name): ("tool", *(f for f in SETTINGS[name] if f not in ("axis", "index")))
    for name in LINES_OF_TOOL
}
SETTINGS["select"] = ("tool",)
# settings: what is written of them must be what was found
KEPT = frozenset(("steps", "flow", "advance", "shaper", "acceleration")) | {
    name for name in SETTINGS if name.endswith(("-limit", "-gains"))
}


@dataclass(frozen=True)
class Dialect:
    """Templates by setting, what is known of the controller's loop, and its words for shapers."""

    name: str
    loop: ControlLoop
    templates: Mapping[str, Template]
    shaper_names: Mapping[str, str] = field(default_factory=dict)
    tool: Tool = FIRST

    @property
    def gain_scale(self) -> float:
        """The number that its gain lines take for full power."""
        return self.loop.full_power

    def line(self, setting: str, **values: object) -> str | None:
        """The line for a setting, or None where this dialect has no code for it."""
        return self.line_within(setting, values, {})

    def line_within(
        self, setting: str, values: dict[str, object], spread: Mapping[str, float]
    ) -> str | None:
        """The same; a format that rounds a setting away, by more than a tenth of its spread, is
        refused.
        """
        template = self.templates.get(setting)
        if template is None:
            return None
        if isinstance(values.get("shaper"), str):
            values["shaper"] = self.shaper_names.get(str(values["shaper"]), values["shaper"])
        if setting.endswith("-gains"):
            values = in_all_forms(values, self.loop)
        room = {name: half / 10 for name, half in spread.items()}
        keeps = room if setting in KEPT else None
        return fill(template, values, f"dialect {self.name}: '{setting}'", keeps)

    def entering(
        self, *wanted: tuple[str, str, dict[str, object], dict[str, float]]
    ) -> tuple[str, ...]:
        """The lines that set what is wanted (setting, comment, values, half widths), then store and
        list; the comment where this dialect has no line for it.
        """
        lines = [self.line_within(name, values, spread) for name, _, values, spread in wanted]
        rows = zip(lines, wanted, strict=True)
        shown = tuple(f"; {row[1]}" if line is None else line for line, row in rows)
        ends = (self.line("store"), self.line("list")) if any(lines) else ()
        return (*shown, *(line for line in ends if line is not None))

    def for_tool(self, tool: Tool) -> Dialect:
        """The lines of one tool of several, in place of the plain ones, which are tool 0's; a
        setting that has none for it is left out.
        """
        if not tool:
            return self
        own: dict[str, str] = {name: tool.line(name) for name in LINES_OF_TOOL}
        own |= {"hotend-target": "tool-target", "cool": "tool-target", "select": "select"}
        templates = {n: t for n, t in self.templates.items() if n not in own}
        for name, of_tool in own.items():
            if of_tool in self.templates:
                target = 0 if name == "cool" else None
                templates[name] = self.templates[of_tool].filled(tool=tool.number, target=target)
        return replace(self, tool=tool, templates=templates)

    def with_loop(self, **known: object) -> Dialect:
        """This dialect, where more is known of the controller's loop than its file says."""
        given = {name: float(str(value)) for name, value in known.items() if value is not None}
        return replace(self, loop=replace(self.loop, **given))

    def with_line(self, setting: str, template: str | None, option: str = "--line") -> Dialect:
        """This dialect with another template for one setting; the same where there is none.

        Raises UsageError where the template has no place for the value, or anything that does not
        belong.
        """
        if template is None:
            return self
        if PLACEHOLDER in template.upper():
            raise UsageError(
                f"{option} {echoed(template)}: a placeholder, no line of a printer",
                f"write your controller's own: '{EXAMPLES[setting]}'",
            )
        try:
            line = checked(template, SETTINGS[setting], f"{option} '{echoed(template)}'")
        except UnknownFormat as wrong:
            raise UsageError(wrong.problem, wrong.remedy) from wrong
        value = SETTINGS[setting][-1]
        if value not in line.fields():
            raise UsageError(
                f"{option} {echoed(template)}: no {{{value}}} in it",
                f"put it where the number belongs: '{EXAMPLES[setting]}'",
            )
        if template.lstrip().startswith(";"):
            raise UsageError(
                f"{option} {echoed(template)}: a comment, no command",
                f"for example '{EXAMPLES[setting]}'",
            )
        return replace(self, name=option, templates={**self.templates, setting: line})


@functools.cache
def _shipped(name: str) -> str:
    """The text of a dialect that ships."""
    place = resources.files("omphalon.lines") / "dialects" / f"{name}.toml"
    return place.read_text(encoding="utf-8")


def load_dialect(path: str | None = None) -> Dialect:
    """The dialect in a file, one that ships (by its name), or the default one."""
    if path is None or path in SHIPPED:
        name = path or "default"
        raw = _shipped(name)
    else:
        name = Path(path).name
        try:
            remedy = "give a TOML text file of templates"
            raw = small_file(path, MOST_BYTES, "dialect", remedy).decode("utf-8-sig")
        except UnicodeDecodeError as error:
            raise UnreadableFile(f"{path}: cannot be read as a dialect", remedy) from error
    try:
        table = tomllib.loads(raw)
    except (tomllib.TOMLDecodeError, RecursionError) as error:
        raise UnknownFormat(
            f"{name}: not a TOML file ({error})", "compare it with the default dialect"
        ) from error
    return _dialect(table, name)


def _dialect(table: dict[str, object], name: str) -> Dialect:
    """A parsed file as a dialect, every entry checked."""
    strange = [k for k in table if k not in KEYS]
    if strange:
        raise UnknownFormat(
            f"{name}: unknown key '{echoed(strange[0])}'",
            "it may have name, [loop], [lines], [shaper-names]",
        )
    lines = table.get("lines", {})
    unknown = [k for k in lines if k not in SETTINGS] if isinstance(lines, dict) else ["lines"]
    if unknown or not isinstance(lines, dict):
        raise UnknownFormat(
            f"{name}: unknown setting '{echoed(unknown[0])}'", "it may have " + ", ".join(SETTINGS)
        )
    templates = {k: _template(v, k, name) for k, v in lines.items()}
    loop = _loop(table, name)
    for setting, template in templates.items():
        missing = loop.missing(template.fields())
        if missing is not None:
            raise UnknownFormat(
                f"{name}: the template of '{setting}' has a form of gains that needs {missing}",
                f"say it under [loop]: {missing} = {'0.2' if missing == 'period_s' else '300'}",
            )
    dialect = Dialect(
        echoed(str(table.get("name", name))),
        loop,
        templates,
        _shaper_names(table.get("shaper-names", {}), name),
    )
    from omphalon.lines.codes import refuse_heating  # which knows dialects

    refuse_heating(dialect)
    return dialect


def _loop(table: Mapping[str, object], name: str) -> ControlLoop:
    """What a file says of the controller's loop; gain_scale is another word for its full power."""
    rows = table.get("loop", {})
    if not isinstance(rows, dict) or not set(rows) <= set(LOOP_KEYS):
        raise UnknownFormat(f"{name}: [loop] is of another form", f"it has {', '.join(LOOP_KEYS)}")
    said = {f"[loop] {key}": (key, value) for key, value in rows.items()}
    if "gain_scale" in table:
        said = {"gain_scale": ("full_power", table["gain_scale"]), **said}
    found = {}
    for words, (key, value) in said.items():
        least = 0 if key in ("filter_s", "band_c") else 1e-9
        if (
            isinstance(value, bool)
            or not isinstance(value, int | float)
            or not math.isfinite(value)
            or not least <= value <= 1e6
        ):
            raise UnknownFormat(f"{name}: {words} must be a number above 0", EXAMPLE_OF[key])
        found[key] = float(value)
    return ControlLoop(**found)


def _template(entry: object, setting: str, name: str) -> Template:
    """A line, or a table {section, line}."""
    where = f"{name}: the template of '{setting}'"
    if isinstance(entry, dict):
        if set(entry) != {"section", "line"}:
            raise UnknownFormat(
                f"{where}: not of the form {{section, line}}", 'write { section = "…", line = "…" }'
            )
        return checked(entry["line"], SETTINGS[setting], where, entry["section"])
    return checked(entry, SETTINGS[setting], where)


def _shaper_names(table: object, name: str) -> dict[str, str]:
    """Our shapers' names → the controller's words."""
    if not isinstance(table, dict) or not all(
        isinstance(v, str) and WORD.fullmatch(v) for v in table.values()
    ):
        raise UnknownFormat(
            f"{name}: [shaper-names] must hold plain words", 'for example two-hump = "twohump"'
        )
    return dict(table)
