"""What all test prints share on the command line: the printer, the line, speeds, temperatures; and how a print is written."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

import click

from omphalon.cli.common import ABOVE_ZERO, NOT_BELOW_ZERO, options

if TYPE_CHECKING:
    from omphalon.prints.job import Job

printing = options(
    click.option("--bed", default="220:220", show_default=True, metavar="X:Y", help="Size of the bed, mm; round:D for a round one."),
    click.option("--centred", is_flag=True, help="The printer's zero is in the bed's middle.  [round beds: always]"),
    click.option("--height", type=ABOVE_ZERO, default=220.0, show_default=True, metavar="MM", help="How high the printer can go."),
    click.option("--margin", type=NOT_BELOW_ZERO, default=5.0, show_default=True, metavar="MM", help="Kept free at the bed's edge."),
    click.option("--at", metavar="X:Y", help="Middle of the print.  [the bed's middle]"),
    click.option("--nozzle", type=ABOVE_ZERO, default=0.4, show_default=True, metavar="MM", help="Nozzle's width."),
    click.option("--filament", type=ABOVE_ZERO, default=1.75, show_default=True, metavar="MM", help="Filament's width."),
    click.option("--layer", type=ABOVE_ZERO, metavar="MM", help="Layer's height.  [half the nozzle]"),
    click.option("--width", type=ABOVE_ZERO, metavar="MM", help="Line's width.  [1.125 nozzles]"),
    click.option("--slow", type=ABOVE_ZERO, default=20.0, show_default=True, metavar="MM_S", help="Slow speed of the test."),
    click.option("--fast", type=ABOVE_ZERO, metavar="MM_S", help="Fast speed of the test.  [direct 100, bowden 60]"),
    click.option("--first", type=ABOVE_ZERO, default=20.0, show_default=True, metavar="MM_S", help="First layer and digits."),
    click.option("--travel-speed", type=ABOVE_ZERO, default=150.0, show_default=True, metavar="MM_S", help="Ways without plastic."),
    click.option("--acceleration", type=ABOVE_ZERO, metavar="MM_S2", help="Of the whole print.  [direct 2000, bowden 600]"),
    click.option("--acceleration-line", metavar="TEMPLATE", help="Line that sets it: '… {acceleration:.0f} …'."),
    click.option("--temp", type=ABOVE_ZERO, default=215.0, show_default=True, metavar="C", help="Nozzle's temperature."),
    click.option("--bed-temp", type=NOT_BELOW_ZERO, default=60.0, show_default=True, metavar="C", help="Bed's; 0 leaves it off."),
    click.option("--retract", type=NOT_BELOW_ZERO, metavar="MM", help="Retraction.  [direct 0.8, bowden 4.5]"),
    click.option("--retract-speed", type=ABOVE_ZERO, default=35.0, show_default=True, metavar="MM_S", help="Its speed."),
    click.option("--fan", type=click.FloatRange(0, 1), default=1.0, show_default=True, metavar="F",
                 help="Part fan after the first layer, 0 to 1."),
)


def job_of(given: dict[str, Any], fast: float, acceleration: float, retract: float) -> Job:
    """The job these options ask for; `fast`, `acceleration` and `retract` where they were not given."""
    from omphalon.errors import UsageError
    from omphalon.prints.job import Bed, Job

    rounded = given["bed"].lower().startswith("round:")
    sizes = numbers_of(given["bed"][6 if rounded else 0:], 1 if rounded else 2, "--bed", "220:220 or round:180")
    bed = Bed(sizes[0], sizes[-1], rounded, given["centred"] or rounded, given["height"], given["margin"])
    layer = given["layer"] if given["layer"] is not None else round(given["nozzle"] / 2, 3)
    width = given["width"] if given["width"] is not None else round(given["nozzle"] * 1.125, 3)
    at = None if given["at"] is None else numbers_of(given["at"], 2, "--at", "110:110")
    if given["acceleration_line"] is not None and "{acceleration" not in given["acceleration_line"]:
        raise UsageError(f"--acceleration-line {given['acceleration_line']}: no {{acceleration}} in it",
                         "put it where the number belongs")
    return Job(bed, None if at is None else (at[0], at[1]), given["nozzle"], given["filament"], layer, width, given["slow"],
               given["fast"] if given["fast"] is not None else fast, given["first"], given["travel_speed"],
               given["acceleration"] if given["acceleration"] is not None else acceleration,
               given["temp"], given["bed_temp"], given["retract"] if given["retract"] is not None else retract,
               given["retract_speed"], given["fan"])


def numbers_of(text: str, count: int, option: str, example: str) -> list[float]:
    """Numbers between colons, as many as asked for."""
    from omphalon.errors import UsageError

    try:
        values = [float(x.replace(",", ".")) for x in text.split(":")]
    except ValueError:
        values = []
    if len(values) != count or not all(abs(v) < 1e6 for v in values):
        raise UsageError(f"{option} {text}: not {count} number{'s'[:count != 1]}{' with colons between' if count > 1 else ''}",
                         f"for example {example}")
    return values


def write_lines(path: str, lines: Iterable[str]) -> None:
    """Lines into a file, as they come."""
    from omphalon.errors import UnwritableFile

    try:
        with open(path, "w", encoding="utf-8") as file:
            file.writelines(line + "\n" for line in lines)
    except OSError as error:
        raise UnwritableFile(f"{path}: cannot be written ({error.strerror})", "choose another place") from error
