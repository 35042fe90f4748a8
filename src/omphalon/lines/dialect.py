"""Dialects: templates of the printer's lines, one a setting, from a TOML file that a user can copy
and edit.
"""

from __future__ import annotations

import functools
import math
import tomllib
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from importlib import resources
from pathlib import Path

from omphalon.errors import UnknownFormat, UnreadableFile, UsageError, echoed
from omphalon.files import small_file
from omphalon.lines.template import WORD, Template, checked, fill

GAINS = ("kp", "ki", "kd")
# setting → fields that its line may have
SETTINGS: dict[str, tuple[str, ...]] = {
    "steps": ("axis", "steps"),
    "hotend-gains": GAINS,
    "bed-gains": GAINS,
    "flow": ("flow",),
    "advance": ("advance",),
    "shaper": ("axis", "shaper", "frequency", "damping"),
    "acceleration": ("acceleration",),
    "speed-limit": ("axis", "speed"),
    "acceleration-limit": ("axis", "acceleration"),
    "corner-limit": ("axis", "corner"),
    "store": (),
    "list": (),
    "hotend-oscillation": ("index", "target", "cycles"),
    "bed-oscillation": ("index", "target", "cycles"),
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
# settings: what is written of them must be what was found
KEPT = frozenset(
    ("steps", "hotend-gains", "bed-gains", "flow", "advance", "shaper", "acceleration")
) | {name for name in SETTINGS if name.endswith("-limit")}
# setting whose line an option may give → that option's example
EXAMPLES = {"advance": "… {advance:.4f} …", "acceleration": "… {acceleration:.0f} …"}
HEATER_INDEX = {"hotend": 0, "bed": -1}  # {index} in the line of an oscillation test
SHIPPED = ("default", "stand-in")
MOST_BYTES = 64_000


@dataclass(frozen=True)
class Dialect:
    """Templates by setting, the number that its gain lines take for full power, and its words for
    shapers.
    """

    name: str
    gain_scale: float
    templates: Mapping[str, Template]
    shaper_names: Mapping[str, str] = field(default_factory=dict)

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

    def with_scale(self, gain_scale: object) -> Dialect:
        """This dialect with another number for full power; the same where there is none."""
        return self if gain_scale is None else replace(self, gain_scale=float(str(gain_scale)))

    def with_line(self, setting: str, template: str | None, option: str = "--line") -> Dialect:
        """This dialect with another template for one setting; the same where there is none.

        Raises UsageError where the template has no place for the value, or anything that does not
        belong.
        """
        if template is None:
            return self
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
    strange = [k for k in table if k not in ("name", "gain_scale", "lines", "shaper-names")]
    if strange:
        raise UnknownFormat(
            f"{name}: unknown key '{echoed(strange[0])}'",
            "it may have name, gain_scale, [lines], [shaper-names]",
        )
    lines = table.get("lines", {})
    unknown = [k for k in lines if k not in SETTINGS] if isinstance(lines, dict) else ["lines"]
    if unknown or not isinstance(lines, dict):
        raise UnknownFormat(
            f"{name}: unknown setting '{echoed(unknown[0])}'", "it may have " + ", ".join(SETTINGS)
        )
    templates = {k: _template(v, k, name) for k, v in lines.items()}
    scale = table.get("gain_scale", 255)
    if (
        isinstance(scale, bool)
        or not isinstance(scale, int | float)
        or not math.isfinite(scale)
        or not 0 < scale <= 1e6
    ):
        raise UnknownFormat(f"{name}: gain_scale must be a number above 0", "use 255, 100 or 1")
    return Dialect(
        echoed(str(table.get("name", name))),
        float(scale),
        templates,
        _shaper_names(table.get("shaper-names", {}), name),
    )


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
