"""omphalon advance plan | fit | check."""

from __future__ import annotations

from typing import Any

import click

from omphalon.cli.common import ABOVE_ZERO, NOT_BELOW_ZERO, answering, check_plot, chosen_readings, leave
from omphalon.cli.printing import job_of, printing, write_lines

DRIVE = click.Choice(["direct", "bowden"])
LINE = click.option("--line", "template", metavar="TEMPLATE", help="Line that sets the value: '… {advance:.4f} …'.")


@click.group()
def advance() -> None:
    """Pressure advance, in seconds, for one filament."""


@advance.command("plan", short_help="Writes the test print: tower, ladder or corners.")
@click.option("--style", type=click.Choice(["tower", "ladder", "corners"]), required=True, help="Which test print.")
@click.option("--drive", type=DRIVE, default="direct", show_default=True, help="Where the extruder sits.")
@click.option("--from", "start", type=float, default=0.0, show_default=True, metavar="S", help="Lowest value.")
@click.option("--to", "stop", type=float, metavar="S", help="Highest value.  [direct 0.1, bowden 1]")
@click.option("--step", type=float, metavar="S", help="Per mm of height (tower), line or corner.  [some 50 mm, or 21 of them]")
@LINE
@click.option("--advance", "present", type=NOT_BELOW_ZERO, metavar="S", help="Present value, set again at the end.")
@click.option("--side", type=click.FloatRange(15, 200), default=40.0, show_default=True, metavar="MM", help="Tower's side.")
@click.option("--layers", type=click.IntRange(1, 50), default=5, show_default=True, help="Layers of each corner.")
@click.option("--out", required=True, metavar="FILE", help="Where to write the print (G-code).")
@printing
@answering()
def plan(style: str, drive: str, start: float, stop: float | None, step: float | None, template: str | None,
         present: float | None, side: float, layers: int, out: str, as_json: bool, dialect: str | None, quiet: bool,
         plot: str | None, **given: Any) -> None:
    """Write a test print for pressure advance as plain G-code, and say how to print and read it.

    Controllers share no code for pressure advance: give your controller's own line with --line, or in a dialect.

    \b
    Example:
      omphalon advance plan --style tower --drive bowden --dialect stand-in --out tower.gcode --plot tower.png
    """
    check_plot(plot)
    from omphalon.bench.dialect import load_dialect
    from omphalon.studies.advance.drives import DRIVES, TOWER_MM
    from omphalon.studies.advance.plan import AdvanceAsked, plan_advance

    usual = DRIVES[drive]
    stop = usual.to_s if stop is None else stop
    usual_step = (stop - start) / TOWER_MM if style == "tower" else (stop - start) / 20
    job = job_of(given, usual.fast_mm_s, usual.acceleration_mm_s2, usual.retract_mm)
    chosen = load_dialect(dialect).with_line("advance", template).with_line("acceleration", given["acceleration_line"])
    asked = AdvanceAsked(style, start, stop, usual_step if step is None else step, drive, present, side,
                         usual.slow_stretch_mm, usual.fast_stretch_mm, usual.leg_mm, usual.foot_mm, layers)
    found, printed = plan_advance(asked, job, chosen)
    write_lines(out, printed.lines())
    leave(found, as_json, quiet, plot)


@advance.command("fit", short_help="The value from what was read off the print.")
@click.argument("readings", required=False, metavar="[READINGS.csv]")
@click.option("--from", "start", type=NOT_BELOW_ZERO, metavar="S", help="Tower: value at its foot.")
@click.option("--per-mm", type=ABOVE_ZERO, metavar="S", help="Tower: how much the value grows with a mm of height.")
@click.option("--to", "stop", type=ABOVE_ZERO, metavar="S", help="Tower: value at its top.")
@click.option("--height", "height_mm", multiple=True, metavar="MM", help="Height where the corner is best; once for each reading.")
@click.option("--value", "advance_s", multiple=True, metavar="S", help="Value of a line or corner,")
@click.option("--score", multiple=True, metavar="N", help="and its score (higher is better),")
@click.option("--bulge", "bulge_mm", multiple=True, metavar="MM", help="or its corner's bulge (positive), also with --height.")
@click.option("--drive", type=DRIVE, help="Where the extruder sits.  [from the values]")
@click.option("--advance", "present", type=NOT_BELOW_ZERO, metavar="S", help="Present value.")
@click.option("--resolution", type=ABOVE_ZERO, metavar="MM", help="What the caliper reads to.  [from the digits]")
@LINE
@answering()
def fit(readings: str | None, start: float | None, per_mm: float | None, stop: float | None, drive: str | None,
        present: float | None, resolution: float | None, template: str | None, as_json: bool, plot: str | None,
        dialect: str | None, quiet: bool, **given: Any) -> None:
    """Turn what was read off a tower, a ladder or corners into the pressure advance.

    READINGS.csv holds height_mm (where the tower's corner is best), or height_mm and bulge_mm, advance_s and bulge_mm,
    advance_s and score, or advance_s with the widths speedup_mm and slowdown_mm just after a line's two ticks.

    \b
    Example:
      omphalon advance fit tower-heights.csv --from 0 --per-mm 0.02 --to 1 --drive bowden --advance 0.35
    """
    check_plot(plot)
    from omphalon.bench.dialect import load_dialect
    from omphalon.studies.advance.fit import COLUMNS, AdvanceQuestion, fit_advance

    rows = chosen_readings(readings, given, COLUMNS, ("reader",))
    question = AdvanceQuestion(start, per_mm, stop, drive, present, resolution)
    leave(fit_advance(rows, question, load_dialect(dialect).with_line("advance", template)), as_json, quiet, plot)


@advance.command("check", short_help="Did it help? Corners before and after.")
@click.argument("readings", required=False, metavar="[READINGS.csv]")
@click.option("--before", multiple=True, metavar="MM", help="A corner's bulge before; once for each corner.")
@click.option("--after", multiple=True, metavar="MM", help="A corner's bulge after.")
@click.option("--seam", metavar="CORNER", help="The corner with the seam: left out.")
@click.option("--resolution", type=ABOVE_ZERO, metavar="MM", help="What the caliper reads to.  [from the digits]")
@answering()
def check(readings: str | None, before: tuple[str, ...], after: tuple[str, ...], seam: str | None, resolution: float | None,
          as_json: bool, plot: str | None, dialect: str | None, quiet: bool) -> None:
    """Judge whether a cube's corners are better than before, against the caliper's error.

    READINGS.csv holds print (before or after) and corner with bulge_mm, or with diagonal_mm across the cube, x_mm and y_mm.

    \b
    Example:
      omphalon advance check cube-corners.csv --seam rear-left
    """
    check_plot(plot)
    from omphalon.studies.advance.check import check_advance, told_corners

    leave(check_advance(told_corners(readings, before, after), seam, resolution), as_json, quiet, plot)
