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

from omphalon.base.errors import UnknownFormat, UnreadableFile, UsageError, echoed
from omphalon.base.files import small_file
from omphalon.lines.gain_forms import FORMS, GAIN_FORMS, LOOP_KEYS, ControlLoop, in_all_forms
from omphalon.lines.template import WORD, Entered, Template, block, checked, fill
from omphalon.tables.tools import FIRST, Tool

# what a tool of several has lines of its own for: `tool-steps`, …; `select` makes it the one in use
LINES_OF_TOOL = ("steps", "hotend-gains", "flow", "advance", "hotend-oscillation", "heat")
# where a setting may live beside the controller, as an answer says it
LIVES = {
    "slicer": ": put it into the filament's profile in the slicer",
    "start": ": put it into the start of each print",
}
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
MOST_DIALECT_BYTES = 64_000


# setting → fields that its line may have; `axis_lower` is the axis in lower case
AXIS = ("axis", "axis_lower")
SETTINGS: dict[str, tuple[str, ...]] = {
    "steps": (*AXIS, "steps"),
    "hotend-gains": FORMS,
    "bed-gains": FORMS,
    "chamber-gains": FORMS,
    "hotend-gains-at": ("target", *FORMS),  # of a controller that keeps a set for each target
    "bed-gains-at": ("target", *FORMS),
    "flow": ("flow",),
    "advance": ("advance",),
    "shaper": (*AXIS, "shaper", "frequency", "damping"),
    "shaper-off": ("axis",),
    "acceleration": ("acceleration",),
    "probe-offset": ("offset",),
    "speed-limit": (*AXIS, "speed"),
    "acceleration-limit": (*AXIS, "acceleration"),
    "corner-limit": (*AXIS, "corner"),
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
    Tool(1).line(name): ("tool", *(f for f in SETTINGS[name] if f not in (*AXIS, "index")))
    for name in LINES_OF_TOOL
}
SETTINGS["select"] = ("tool",)
# settings: what is written of them must be what was found
KEPT = frozenset(("steps", "flow", "advance", "shaper", "acceleration", "probe-offset")) | {
    name for name in SETTINGS if name.endswith(("-limit", "-gains", "-gains-at"))
}


@dataclass(frozen=True)
class Dialect:
    """Templates by setting, what is known of the controller's loop, its words for shapers; where
    settings of a filament live (LIVES), as far as that is known.
    """

    name: str
    loop: ControlLoop
    templates: Mapping[str, Template]
    shaper_names: Mapping[str, str] = field(default_factory=dict)
    tool: Tool = FIRST
    lives: Mapping[str, str] = field(default_factory=dict)

    @property
    def gain_scale(self) -> float:
        """The number that its gain lines take for full power."""
        return self.loop.full_power

    def has_code(self, setting: str) -> bool:
        """Whether a setting can be sent, or stand in a print."""
        return setting in self.templates and self.templates[setting].section is None

    def line(self, setting: str, **values: object) -> str | None:
        """The code for a setting, or None where this dialect has none for it."""
        lines = self.lines_within(setting, values, {}) if self.has_code(setting) else ()
        return lines[0].text if lines else None

    def lines_within(
        self, setting: str, values: dict[str, object], spread: Mapping[str, float]
    ) -> tuple[Entered, ...]:
        """The lines of a setting, none where this dialect has none; a format that rounds it away,
        by more than a quarter of its half width, is refused.
        """
        template = self.templates.get(setting)
        if template is None:
            return ()
        if "axis" in values:
            values["axis_lower"] = str(values["axis"]).lower()
        if isinstance(values.get("shaper"), str):
            values["shaper"] = self.shaper_names.get(str(values["shaper"]), values["shaper"])
        if "-gains" in setting:
            values = in_all_forms(values, self.loop)
        room = {name: half / 4 for name, half in spread.items()}
        keeps = room if setting in KEPT else None
        return fill(template, values, f"dialect {self.name}: '{setting}'", keeps)

    def entering(
        self, *wanted: tuple[str, str, dict[str, object], dict[str, float]]
    ) -> tuple[str, ...]:
        """The lines that set what is wanted (setting, comment, values, half widths), then store and
        list; the comment where this dialect has no line for it.
        """
        rows = [
            self._entered(name, values, spread) or (Entered(f"; {comment}{self.where(name)}"),)
            for name, comment, values, spread in wanted
        ]
        sent = any(self.has_code(name) and not self.where(name) for name, *_ in wanted)
        ends = (self.line("store"), self.line("list")) if sent else ()
        given = [line for own in rows for line in own]
        return block([*given, *(Entered(line) for line in ends if line is not None)])

    def _entered(
        self, setting: str, values: dict[str, object], spread: Mapping[str, float]
    ) -> tuple[Entered, ...]:
        """The lines that enter a setting where it lives; none where that is the slicer."""
        lines = () if self.in_slicer(setting) else self.lines_within(setting, values, spread)
        at_start = self.lives.get(setting) == "start" and lines
        return (Entered(f"; {setting}{LIVES['start']}"), *lines) if at_start else lines

    def in_slicer(self, setting: str) -> bool:
        """Whether a setting lives in the slicer's profile."""
        return self.lives.get(setting) == "slicer"

    def where(self, setting: str) -> str:
        """Where a setting lives, behind its value; nothing where it is the controller's."""
        return LIVES.get(self.lives.get(setting, ""), "")

    def living(self, **places: str) -> Dialect:
        """This dialect, where settings live elsewhere than in the controller."""
        return replace(self, lives={**self.lives, **places})

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


def load_dialect(path: str | None = None) -> Dialect:
    """The dialect in a file, one that ships (by its name), or the default one."""
    if path is None or path in SHIPPED:
        return _shipped(path or "default")
    remedy = "give a TOML text file of templates"
    try:
        text = small_file(path, MOST_DIALECT_BYTES, "dialect", remedy).decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise UnreadableFile(f"{path}: cannot be read as a dialect", remedy) from error
    return _parsed(text, Path(path).name)


@functools.cache
def _shipped(name: str) -> Dialect:
    """A dialect that ships."""
    place = resources.files("omphalon.lines") / "dialects" / f"{name}.toml"
    return _parsed(place.read_text(encoding="utf-8"), name)


def _parsed(text: str, name: str) -> Dialect:
    try:
        table = tomllib.loads(text)
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
    """A line; or a table {section, line}, or several of them."""
    where = f"{name}: the template of '{setting}'"
    if not isinstance(entry, (dict, list)):
        return _complete(checked(entry, SETTINGS[setting], where), setting, where)
    rows = entry if isinstance(entry, list) else [entry]
    if not rows or any(not isinstance(r, dict) or set(r) != {"section", "line"} for r in rows):
        raise UnknownFormat(
            f"{where}: not of the form {{section, line}}, or a list of such",
            'write { section = "…", line = "…" }',
        )
    first, *further = (checked(r["line"], SETTINGS[setting], where, r["section"]) for r in rows)
    return _complete(replace(first, further=tuple(further)), setting, where)


def _complete(template: Template, setting: str, where: str) -> Template:
    """The template of a setting, which must say all of it.

    Raises UnknownFormat with the field that it forgets.
    """
    if setting not in KEPT:
        return template
    wanted = (
        (*GAIN_FORMS, *((("target",),) if setting.endswith("-at") else ()))
        if "-gains" in setting
        else [
            AXIS if name == "axis" else (name,)
            for name in SETTINGS[setting]
            if name not in ("axis_lower", "damping", "tool")
        ]
    )
    for names in wanted:
        if not set(names) & set(template.fields()):
            raise UnknownFormat(
                f"{where}: {{{names[0]}}} is missing: what is entered would not be what was found",
                "put it where the value belongs, in the line or in a further one",
            )
    return template


def _shaper_names(table: object, name: str) -> dict[str, str]:
    """Our shapers' names → the controller's words."""
    if not isinstance(table, dict) or not all(
        isinstance(v, str) and WORD.fullmatch(v) for v in table.values()
    ):
        raise UnknownFormat(
            f"{name}: [shaper-names] must hold plain words", 'for example two-hump = "twohump"'
        )
    return dict(table)
