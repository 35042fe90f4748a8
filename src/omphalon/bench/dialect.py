"""Lines for the printer: templates, one a setting, from a TOML file that a user can copy and edit."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass
from importlib import resources
from pathlib import Path

from omphalon.errors import UnknownFormat, UnreadableFile

KNOWN = ("steps", "hotend-gains", "bed-gains", "flow", "advance", "shaper", "acceleration", "store", "list",
         "hotend-oscillation", "bed-oscillation", "heat", "relative-feed", "feed", "home", "move")
SHIPPED = ("default", "stand-in")


@dataclass(frozen=True)
class Dialect:
    """Templates by setting, and the number that its gain lines take for full power."""

    name: str
    gain_scale: float
    templates: dict[str, str]

    def line(self, setting: str, **fields: object) -> str | None:
        """The line for a setting, or None where this dialect has no code for it."""
        template = self.templates.get(setting)
        if template is None:
            return None
        try:
            return template.format(**fields)
        except (KeyError, ValueError, IndexError, AttributeError) as error:
            raise UnknownFormat(f"dialect {self.name}: the template of '{setting}' cannot be filled ({error})",
                                "its fields are " + ", ".join("{" + f + "}" for f in fields)) from error

    def with_line(self, setting: str, template: str | None) -> Dialect:
        """This dialect with another template for one setting; the same where there is none."""
        return self if template is None else Dialect("--line", self.gain_scale, {**self.templates, setting: template})


def load_dialect(path: str | None = None) -> Dialect:
    """The dialect in a file, one that ships (by its name), or the default one."""
    if path is None or (path in SHIPPED and not Path(path).exists()):
        name = path or "default"
        raw = (resources.files("omphalon.bench") / "dialects" / f"{name}.toml").read_text(encoding="utf-8")
    else:
        name = Path(path).name
        try:
            raw = Path(path).read_text(encoding="utf-8")
        except (OSError, UnicodeDecodeError) as error:
            raise UnreadableFile(f"{path}: cannot be read as a dialect", "give a TOML text file") from error
    try:
        table = tomllib.loads(raw)
    except tomllib.TOMLDecodeError as error:
        raise UnknownFormat(f"{name}: not a TOML file ({error})", "compare it with the default dialect") from error
    lines = table.get("lines", {})
    scale = table.get("gain_scale", 255)
    strange = [k for k in lines if k not in KNOWN] if isinstance(lines, dict) else ["lines"]
    if strange or not all(isinstance(v, str) for v in lines.values()):
        raise UnknownFormat(f"{name}: unknown setting '{(strange or ['lines'])[0]}'", "it may have " + ", ".join(KNOWN))
    if isinstance(scale, bool) or not isinstance(scale, (int, float)) or scale <= 0:
        raise UnknownFormat(f"{name}: gain_scale must be a number above 0", "use 255, 100 or 1")
    return Dialect(str(table.get("name", name)), float(scale), dict(lines))
