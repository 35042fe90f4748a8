"""What the commands of pressure advance share: the line that sets it, the values of a print."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from omphalon.cli.common import Leaving
from omphalon.cli.known import fact, held, in_force, print_in_bench
from omphalon.cli.options import number, one_of, text
from omphalon.cli.printing import PrintDefaults

if TYPE_CHECKING:
    from omphalon.studies.advance.drives import Drive

DRIVES = ("direct", "bowden")
MOST_PLACES = 6


@dataclass(frozen=True, kw_only=True)
class LineOptions:
    """The line that sets pressure advance, and its present value."""

    line_template: str | None = text(
        "--line",
        "Line that sets the value: '… {advance:.4f} …'.",
        metavar="TEMPLATE",
        bench=fact("advance.line"),
    )


@dataclass(frozen=True, kw_only=True)
class SpanOptions(LineOptions):
    """The values that a print of pressure advance spans."""

    drive: str = one_of(
        "--drive",
        DRIVES,
        "Where the extruder sits.",
        default="direct",
        bench=fact("extruder.drive"),
    )
    start_s: float = number("--from", "advance", "Lowest pressure advance.", default=0.0)
    stop_s: float | None = number("--to", "advance", "Highest.  [direct 0.12, bowden 1.2]")
    present_s: float | None = number(
        "--advance",
        "advance",
        "Present value, set again at the end.",
        bench=in_force("advance", "advance"),
    )

    @property
    def usual(self) -> Drive:
        """What is usual for the drive."""
        from omphalon.studies.advance import drives

        return drives.DRIVES[self.drive]

    @property
    def highest_s(self) -> float:
        """The highest value, given or usual."""
        return self.usual.to_s if self.stop_s is None else self.stop_s

    def print_defaults(self) -> PrintDefaults:
        """Speeds and retraction of a print for the drive."""
        usual = self.usual
        return PrintDefaults(
            fast_mm_s=usual.fast_mm_s,
            acceleration_mm_s2=usual.acceleration_mm_s2,
            retract_mm=usual.retract_mm,
        )


def next_out() -> str:
    """Where the next print goes, by its style: in a bench, where a fit looks for it."""
    found = held()
    return "{style}.gcode" if found is None else print_in_bench(found[1], "advance-{style}")


def line_given(how: Leaving, line_template: str | None) -> dict[str, str]:
    """The option that gives the next print its line, with enough decimals for any step."""
    from omphalon.lines.template import Template

    if line_template is not None:
        line = Template(line_template)
        places = max(line.places("advance") or 0, MOST_PLACES)
        return {"line": line.with_places("advance", places).text}
    return {"dialect": "FILE" if how.dialect is None else how.dialect}
