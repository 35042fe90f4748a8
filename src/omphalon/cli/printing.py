"""What all test prints share on the command line: the printer, the line, speeds, temperatures."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any
from zlib import crc32

import click

from omphalon.base.errors import UsageError
from omphalon.cli.common import Measure, by_hand, filled, number, numbers_of
from omphalon.cli.groups import PRINT, section
from omphalon.cli.known import held
from omphalon.tables.constants import FILAMENT_MM

if TYPE_CHECKING:
    from omphalon.cli.common import Leaving
    from omphalon.lines.dialect import Dialect
    from omphalon.prints.job import Job

SIZE = Measure("size")
printing = section(
    PRINT,
    click.option(
        "--bed",
        default="220:220",
        show_default=True,
        metavar="X:Y",
        help="Size of the bed, mm; round:D for a round one.",
    ),
    click.option(
        "--centred",
        is_flag=True,
        help="The printer's zero is in the bed's middle.  [round beds: always]",
    ),
    number("--height", "size", "How high the printer can go.", default=220.0),
    number("--margin", "distance", "Kept free at the bed's edge.", default=5.0),
    click.option("--at", metavar="X:Y", help="Middle of the print.  [the bed's middle]"),
    number("--nozzle", "size", "Nozzle's width.", within=(0.1, 2), default=0.4),
    number("--filament", "size", "Filament's width.", within=(1, 4), default=FILAMENT_MM),
    number("--layer", "size", "Layer's height.  [half the nozzle]"),
    number("--width", "size", "Line's width.  [1.125 nozzles]"),
    number("--slow", "speed", "Slow speed of the test.", within=(1, 1000), default=22.0),
    number("--fast", "speed", "Fast speed of the test.  [direct 90, bowden 60]", within=(1, 1000)),
    number("--first", "speed", "First layer and digits.", within=(1, 1000), default=20.0),
    number(
        "--travel-speed",
        "speed",
        "Speed of moves without plastic.",
        within=(1, 1000),
        name="travel_mm_s",
        default=150.0,
    ),
    number(
        "--acceleration",
        "acceleration",
        "Of the whole print.  [direct 1800, bowden 600]",
        within=(50, 50000),
    ),
    click.option(
        "--acceleration-line",
        metavar="TEMPLATE",
        help="Line that sets it: '… {acceleration:.0f} …'.",
    ),
    number("--temp", "feeding temperature", "Nozzle's temperature.", default=215.0),
    number("--bed-temp", "bed temperature", "Bed's temperature; 0 leaves it off.", default=60.0),
    number("--retract", "distance", "Retraction.  [direct 0.7, bowden 4.4]", within=(0, 20)),
    number(
        "--retract-speed",
        "speed",
        "Speed of the retraction.",
        within=(1, 200),
        name="retract_mm_s",
        default=32.0,
    ),
    number("--fan", "share", "Part fan after the first layer, 0 to 1.", default=1.0),
)


def job_of(given: dict[str, Any], fast: float, acceleration: float, retract: float) -> Job:
    """The job these options ask for; `fast`, `acceleration` and `retract` where they were not
    given.
    """
    from omphalon.prints.job import Bed, Job

    rounded = given["bed"].lower().startswith("round:")
    size = given["bed"][6 if rounded else 0 :]
    sizes = numbers_of(size, SIZE, 1 if rounded else 2, "--bed", "220:220 or round:180")
    centred = given["centred"] or rounded
    at = None
    if given["at"] is not None:
        x, y = numbers_of(given["at"], Measure("length"), 2, "--at", "110:110")
        at = (x, y)
    usual = {
        "layer_mm": round(given["nozzle_mm"] / 2, 3),
        "width_mm": round(given["nozzle_mm"] * 1.125, 3),
        "fast_mm_s": fast,
        "acceleration_mm_s2": acceleration,
        "retract_mm": retract,
    }
    return filled(
        Job,
        given,
        bed=filled(Bed, given, x_mm=sizes[0], y_mm=sizes[-1], round=rounded, centred=centred),
        at=at,
        printer=_printer(),
        tool=click.get_current_context().params.get("tool") or 0,
        **{name: value for name, value in usual.items() if given[name] is None},
    )


def _printer() -> str:
    """The printer of the bench that is in use, told from others of its name."""
    found = held()
    if found is None:
        return ""
    bench, state = found
    place = crc32(str(bench.place.resolve()).encode())
    return f"{state.facts.get('printer.name', '')} {place:08x}".strip()


def print_lines(how: Leaving, given: dict[str, Any]) -> Dialect:
    """The dialect of a print, with the line that sets the acceleration as it was given."""
    return how.lines().with_line("acceleration", given["acceleration_line"], "--acceleration-line")


def refuse_printing(needs: str) -> None:
    """Refuse options of a print where none is written."""
    shared = click.command()(printing(lambda: None)).params
    if given := by_hand(*(option.name or "" for option in shared)):
        raise UsageError(f"{given} without {needs}", f"it belongs to a print: give {needs} too")
