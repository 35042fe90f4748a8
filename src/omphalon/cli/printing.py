"""What all test prints share on the command line: the printer, the line, speeds, temperatures."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any, ClassVar
from zlib import crc32

import click

from omphalon.base.errors import UsageError
from omphalon.cli.known import bed_size, centred, fact, held, of_filament
from omphalon.cli.numbers import Measure, Numbers, numbers_of
from omphalon.cli.options import PRINT, flag, number, text, typed
from omphalon.tables.constants import FILAMENT_MM
from omphalon.tables.tools import FIRST, Tool

if TYPE_CHECKING:
    from omphalon.cli.common import Leaving
    from omphalon.lines.dialect import Dialect
    from omphalon.prints.job import Job

NEEDS_OUT = "it belongs to a print: give --out FILE too"


@dataclass(frozen=True)
class BedSize:
    """A bed: two sides, or its diameter, mm."""

    x_mm: float
    y_mm: float
    round: bool


class BedSizes(click.ParamType):  # type: ignore[type-arg]
    """X:Y, or round:D."""

    name = "X:Y"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        if not isinstance(value, str):
            return value
        rounded = value.lower().startswith("round:")
        size, count = (value[6:], 1) if rounded else (value, 2)
        found = numbers_of(size, Measure("size"), count, "--bed", "220:220 or round:180")
        return BedSize(found[0], found[-1], rounded)


class Speeds(click.ParamType):  # type: ignore[type-arg]
    """A speed, or several with colons between, from the slowest on."""

    name = "MM_S"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        if not isinstance(value, str):
            return value
        count = value.count(":") + 1
        return tuple(
            sorted(numbers_of(value, Measure("speed", 1, 1000), count, "--fast", "60:120"))
        )


@dataclass(frozen=True, kw_only=True)
class PrintOptions:
    """Options of a test print."""

    section: ClassVar[str] = PRINT

    bed: BedSize = typed(
        "--bed",
        BedSizes(),
        "Size of the bed, mm; round:D for a round one.",
        default="220:220",
        bench=bed_size,
    )
    centred: bool = flag(
        "--centred",
        "The printer's zero is in the bed's middle.  [round beds: always]",
        bench=centred,
    )
    height_mm: float = number(
        "--height", "size", "How high the printer can go.", default=220.0, bench=fact("bed.height")
    )
    margin_mm: float = number("--margin", "distance", "Kept free at the bed's edge.", default=5.0)
    at: tuple[float, float] | None = typed(
        "--at",
        Numbers("X:Y", Measure("length"), "110:110"),
        "Middle of the print.  [the bed's middle]",
    )
    nozzle_mm: float = number(
        "--nozzle",
        "size",
        "Nozzle's width.",
        within=(0.1, 2),
        default=0.4,
        bench=fact("nozzle.width"),
    )
    filament_mm: float = number(
        "--filament",
        "size",
        "Filament's width.",
        within=(1, 4),
        default=FILAMENT_MM,
        bench=of_filament("width"),
    )
    layer_mm: float | None = number("--layer", "size", "Layer's height.  [half the nozzle]")
    width_mm: float | None = number("--width", "size", "Line's width.  [1.125 nozzles]")
    slow_mm_s: float = number(
        "--slow", "speed", "Slow speed of the test.", within=(1, 1000), default=22.0
    )
    fast_mm_s: tuple[float, ...] | None = typed(
        "--fast",
        Speeds(),
        "Fast speed of the test; of a ladder up to three.  [direct 90, bowden 60]",
    )
    first_mm_s: float = number(
        "--first", "speed", "First layer and digits.", within=(1, 1000), default=20.0
    )
    travel_mm_s: float = number(
        "--travel-speed",
        "speed",
        "Speed of moves without plastic.",
        within=(1, 1000),
        default=150.0,
    )
    acceleration_mm_s2: float | None = number(
        "--acceleration",
        "acceleration",
        "Of the whole print.  [direct 1800, bowden 600]",
        within=(50, 50000),
    )
    acceleration_line: str | None = text(
        "--acceleration-line", "Line that sets it: '… {acceleration:.0f} …'.", metavar="TEMPLATE"
    )
    temp_c: float = number(
        "--temp",
        "feeding temperature",
        "Nozzle's temperature.",
        default=215.0,
        bench=of_filament("temp"),
    )
    bed_temp_c: float = number(
        "--bed-temp",
        "bed temperature",
        "Bed's temperature; 0 leaves it off.",
        default=60.0,
        bench=of_filament("bed_temp"),
    )
    retract_mm: float | None = number(
        "--retract", "distance", "Retraction.  [direct 0.7, bowden 4.4]", within=(0, 20)
    )
    retract_mm_s: float = number(
        "--retract-speed", "speed", "Speed of the retraction.", within=(1, 200), default=32.0
    )
    fan: float = number("--fan", "share", "Part fan after the first layer, 0 to 1.", default=1.0)


@dataclass(frozen=True, kw_only=True)
class PrintDefaults:
    """What a print takes where nothing else was given."""

    fast_mm_s: float
    acceleration_mm_s2: float
    retract_mm: float


def job_of(
    options: PrintOptions,
    defaults: PrintDefaults,
    tool: Tool = FIRST,
    width_mm: float | None = None,
    most_speeds: int = 1,
) -> Job:
    """The job these options ask for. `width_mm`: of the line, where another option says it.
    `most_speeds`: fast speeds that the print can have.
    """
    from omphalon.prints.job import Bed, Job

    size = options.bed
    fast, *faster = options.fast_mm_s or (None,)
    if len(faster) >= most_speeds:
        raise UsageError(
            f"--fast: {len(faster) + 1} speeds, and this print has room for {most_speeds}",
            "give as many; three are for a ladder that is scanned: advance plan --style ladder",
        )
    own = {
        "fast_mm_s": fast,
        "acceleration_mm_s2": options.acceleration_mm_s2,
        "retract_mm": options.retract_mm,
    }
    chosen = replace(defaults, **{name: value for name, value in own.items() if value is not None})
    return Job(
        bed=Bed(
            x_mm=size.x_mm,
            y_mm=size.y_mm,
            round=size.round,
            centred=options.centred or size.round,
            height_mm=options.height_mm,
            margin_mm=options.margin_mm,
        ),
        at=options.at,
        nozzle_mm=options.nozzle_mm,
        filament_mm=options.filament_mm,
        layer_mm=options.layer_mm or round(options.nozzle_mm / 2, 3),
        width_mm=width_mm or options.width_mm or round(options.nozzle_mm * 1.125, 3),
        slow_mm_s=options.slow_mm_s,
        fast_mm_s=chosen.fast_mm_s,
        faster_mm_s=tuple(faster),
        first_mm_s=options.first_mm_s,
        travel_mm_s=options.travel_mm_s,
        acceleration_mm_s2=chosen.acceleration_mm_s2,
        temp_c=options.temp_c,
        bed_temp_c=options.bed_temp_c,
        retract_mm=chosen.retract_mm,
        retract_mm_s=options.retract_mm_s,
        fan=options.fan,
        tool=tool.number,
        printer=_printer(),
    )


def _printer() -> str:
    """The printer of the bench that is in use, told from others of its name."""
    found = held()
    if found is None:
        return ""
    bench, state = found
    place = crc32(str(bench.place.resolve()).encode())
    return f"{state.facts.get('printer.name', '')} {place:08x}".strip()


def print_lines(how: Leaving, options: PrintOptions) -> Dialect:
    """The dialect of a print, with the line that sets the acceleration as it was given."""
    return how.lines().with_line("acceleration", options.acceleration_line, "--acceleration-line")
