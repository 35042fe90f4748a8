"""omphalon heater plan | fit | check."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from omphalon.cli.common import ABOVE_ZERO, NOT_BELOW_ZERO, answering, check_plot, leave, options, pairs

if TYPE_CHECKING:
    from omphalon.physics.loop import Gains

HEATERS = click.Choice(["hotend", "bed"])


@click.group()
def heater() -> None:
    """Gains that hold the hotend or the bed still at its temperature."""


@heater.command("plan", short_help="How to run the oscillation test.")
@click.option("--heater", "which", type=HEATERS, default="hotend", show_default=True, help="Which heater.")
@click.option("--target", type=float, metavar="C", help="The temperature you print at.  [210 hotend, 60 bed]")
@click.option("--cycles", type=int, default=8, show_default=True, help="How many times it switches on and off.")
@answering(plot=False)
def plan(which: str, target: float | None, cycles: int, as_json: bool, dialect: str | None, quiet: bool) -> None:
    """Say how to run the oscillation test on this printer.

    \b
    Example:
      omphalon heater plan --heater hotend --target 235 --cycles 8
    """
    from omphalon.bench.dialect import load_dialect
    from omphalon.studies.heater.plan import plan_heater

    leave(plan_heater(which, target, cycles, load_dialect(dialect)), as_json, quiet)


reading = options(
    click.option("--heater", "which", type=HEATERS, help="Which heater the log shows.  [worked out]"),
    click.option("--every", type=ABOVE_ZERO, metavar="S", help="Seconds between reports, for a log without time."),
    click.option("--column", multiple=True, metavar="NAME=HEADER",
                 help="Column of time, temperature, power or target."),
    click.option("--full-power", type=ABOVE_ZERO, metavar="N", help="What stands for full power, in log and gains."),
    click.option("--max-temp", type=ABOVE_ZERO, metavar="C", help="Warn where the log passes this."),
)


@heater.command("fit", short_help="Gains from the log of an oscillation test.")
@click.argument("logs", nargs=-1, required=True, metavar="LOG...")
@reading
@click.option("--target", type=ABOVE_ZERO, metavar="C", help="The target.  [from the log]")
@click.option("--gain-scale", type=ABOVE_ZERO, metavar="N", help="Full power in the gains, if unlike the log's.  [255]")
@click.option("--aim", type=click.Choice(["quick", "even", "gentle"]), default="even", show_default=True,
              help="Fast recovery, a balance, or no overshoot.")
@click.option("--fan", type=click.Choice(["on", "off"]), help="The part fan during the test.  [on hotend, off bed]")
@click.option("--fan-cooling", type=click.FloatRange(0, 3), metavar="F",
              help="Heat lost more with the fan on.  [0.4 hotend, 0.15 bed]")
@click.option("--power-limit", type=click.FloatRange(0, 1, min_open=True), default=1.0, metavar="F",
              help="Share of full power the controller may use.  [1]")
@click.option("--loop-period", type=click.FloatRange(0.01, 2), default=0.2, metavar="S", show_default=True,
              help="How often the controller works.")
@click.option("--filter", "filter_s", type=click.FloatRange(0, 30, min_open=True), default=1.0, metavar="S",
              show_default=True, help="Time constant of its derivative's filter.")
@click.option("--kp", type=ABOVE_ZERO, metavar="N", help="Present gains, in the controller's scale: kp with ki and kd,")
@click.option("--ki", type=NOT_BELOW_ZERO, metavar="N", help="per °C·s,")
@click.option("--kd", type=NOT_BELOW_ZERO, metavar="N", help="per °C/s;")
@click.option("--ti", type=ABOVE_ZERO, metavar="S", help="or kp with integral")
@click.option("--td", type=NOT_BELOW_ZERO, metavar="S", help="and derivative time.")
@answering()
def fit(logs: tuple[str, ...], which: str | None, every: float | None, column: tuple[str, ...],
        full_power: float | None, max_temp: float | None, target: float | None, gain_scale: float | None, aim: str,
        fan: str | None, fan_cooling: float | None, power_limit: float, loop_period: float, filter_s: float,
        as_json: bool, plot: str | None, dialect: str | None, quiet: bool, **present: float | None) -> None:
    """Turn the LOG of an on/off oscillation test into gains; several LOGs of one heater are fitted together.

    A LOG is a CSV with a header, or the text a serial console showed.

    \b
    Example:
      omphalon heater fit hotend-oscillation.csv --plot hotend.png
    """
    check_plot(plot)
    from omphalon.bench.dialect import load_dialect
    from omphalon.readers.temperature import Reading, read_temperature
    from omphalon.studies.heater.fit import fit_heater
    from omphalon.studies.heater.tuning import HeaterQuestion

    question = HeaterQuestion(which, target, aim, power_limit, loop_period, filter_s, gain_scale or full_power,
                              _present(**present), None if fan is None else fan == "on", fan_cooling, max_temp)
    lines = load_dialect(dialect)
    how = Reading(which, full_power, every, pairs(column))
    leave(fit_heater([read_temperature(log, how) for log in logs], question, lines), as_json, quiet, plot)


def _present(kp: float | None, ki: float | None, kd: float | None, ti: float | None,
             td: float | None) -> Gains | None:
    """The present gains from either form, or None; part of them is a mistake."""
    from omphalon.errors import UsageError
    from omphalon.physics.loop import Gains

    given = tuple(name for name, value in zip(("kp", "ki", "kd", "ti", "td"), (kp, ki, kd, ti, td), strict=True)
                  if value is not None)
    if not given:
        return None
    if kp is not None and ki is not None and kd is not None and len(given) == 3:
        return Gains(kp, ki, kd)
    if kp is not None and ti is not None and td is not None and len(given) == 3:
        return Gains(kp, kp / ti, kp * td)
    raise UsageError("present gains: " + ", ".join("--" + name for name in given) + " is neither form",
                     "give --kp --ki --kd, or --kp --ti --td")


@heater.command("check", short_help="Judges a loop from the log of a heat-up and a hold.")
@click.argument("log")
@click.argument("later", required=False)
@reading
@click.option("--target", "target_c", type=ABOVE_ZERO, metavar="C", required=True,
              help="The temperature it should hold.")
@click.option("--from", "from_s", type=NOT_BELOW_ZERO, metavar="S", help="Judge only from here on.")
@click.option("--to", "to_s", type=ABOVE_ZERO, metavar="S", help="Judge only up to here.")
@click.option("--fan-at", "fan_at_s", type=ABOVE_ZERO, metavar="S", help="When the part fan came on.  [found]")
@answering()
def check(log: str, later: str | None, which: str | None, every: float | None, column: tuple[str, ...],
          full_power: float | None, max_temp: float | None, as_json: bool, plot: str | None, dialect: str | None,
          quiet: bool, target_c: float, **where: float | None) -> None:
    """Judge a loop from the LOG of a heat-up and a hold, the part fan coming on late in it.

    With two logs, LOG is the one before the change and LATER the one after; LATER is judged.

    \b
    Example:
      omphalon heater check hold-before.csv hold-after.csv --target 235 --plot check.png
    """
    check_plot(plot)
    from omphalon.errors import UsageError
    from omphalon.readers.temperature import Reading, read_temperature
    from omphalon.studies.heater.check import CheckQuestion, check_heater

    begin, end = where["from_s"], where["to_s"]
    if begin is not None and end is not None and begin >= end:
        raise UsageError(f"--from {begin:g} --to {end:g}: upside down", "give the earlier time first")
    how = Reading(which, full_power, every, pairs(column))
    logs = [read_temperature(path, how) for path in (log, later) if path is not None]
    leave(check_heater(logs, CheckQuestion(target_c, which, max_temp_c=max_temp, **where)), as_json, quiet, plot)
