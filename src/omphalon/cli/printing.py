"""What all test prints share on the command line: the printer, the line, speeds, temperatures."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from omphalon.cli.common import Measure, by_hand, number, numbers_of, options
from omphalon.constants import FILAMENT_MM
from omphalon.errors import UsageError

if TYPE_CHECKING:
    from omphalon.cli.common import Leaving
    from omphalon.lines.dialect import Dialect
    from omphalon.prints.job import Job

SIZE, DISTANCE, SPEED = Measure("size"), Measure("distance"), Measure("speed", 1, 1000)
printing = options(
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
    number("--temp", "hotend temperature", "Nozzle's temperature.", least=150, default=215.0),
    number("--bed-temp", "bed temperature", "Bed's temperature; 0 leaves it off.", default=60.0),
    number("--retract", "distance", "Retraction.  [direct 0.7, bowden 4.4]", within=(0, 20)),
    number("--retract-speed", "speed", "Speed of the retraction.", within=(1, 200), default=32.0),
    number("--fan", "share", "Part fan after the first layer, 0 to 1.", default=1.0),
)


def job_of(given: dict[str, Any], fast: float, acceleration: float, retract: float) -> Job:
    """The job these options ask for; `fast`, `acceleration` and `retract` where they were not
    given.
    """
    from omphalon.prints.job import Bed, Job

    rounded = given["bed"].lower().startswith("round:")
    sizes = numbers_of(
        given["bed"][6 if rounded else 0 :],
        SIZE,
        1 if rounded else 2,
        "--bed",
        "220:220 or round:180",
    )
    bed = Bed(
        x_mm=sizes[0],
        y_mm=sizes[-1],
        round=rounded,
        centred=given["centred"] or rounded,
        height_mm=given["height"],
        margin_mm=given["margin"],
    )
    at = (
        None
        if given["at"] is None
        else numbers_of(given["at"], Measure("length"), 2, "--at", "110:110")
    )

    def or_else(name: str, usual: float) -> float:
        return usual if given[name] is None else given[name]

    return Job(
        bed=bed,
        at=None if at is None else (at[0], at[1]),
        nozzle_mm=given["nozzle"],
        filament_mm=given["filament"],
        layer_mm=or_else("layer", round(given["nozzle"] / 2, 3)),
        width_mm=or_else("width", round(given["nozzle"] * 1.125, 3)),
        slow_mm_s=given["slow"],
        fast_mm_s=or_else("fast", fast),
        first_mm_s=given["first"],
        travel_mm_s=given["travel_speed"],
        acceleration_mm_s2=or_else("acceleration", acceleration),
        temp_c=given["temp"],
        bed_temp_c=given["bed_temp"],
        retract_mm=or_else("retract", retract),
        retract_mm_s=given["retract_speed"],
        fan=given["fan"],
        tool=click.get_current_context().params.get("tool") or 0,
    )


def print_lines(how: Leaving, given: dict[str, Any]) -> Dialect:
    """The dialect of a print, with the line that sets the acceleration as it was given."""
    return how.lines().with_line("acceleration", given["acceleration_line"], "--acceleration-line")


def refuse_printing(needs: str) -> None:
    """Refuse options of a print where none is written."""
    shared = click.command()(printing(lambda: None)).params
    given = next((o.opts[0] for o in shared if o.name and by_hand(o.name)), None)
    if given is not None:
        raise UsageError(f"{given} without {needs}", f"it belongs to a print: give {needs} too")
