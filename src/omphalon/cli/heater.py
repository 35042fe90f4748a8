"""omphalon heater plan | fit."""

from __future__ import annotations

import click

from omphalon.cli.common import answering, check_plot, leave, pairs

HEATERS = click.Choice(["hotend", "bed"])
ABOVE_ZERO = click.FloatRange(min=0, min_open=True)
NOT_BELOW_ZERO = click.FloatRange(min=0)


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


@heater.command("fit", short_help="Gains from the log of an oscillation test.")
@click.argument("log")
@click.option("--heater", "which", type=HEATERS, help="Which heater the log shows.  [worked out]")
@click.option("--target", type=ABOVE_ZERO, metavar="C", help="The target.  [from the log]")
@click.option("--full-power", type=ABOVE_ZERO, metavar="N", help="What stands for full power, in log and gains.")
@click.option("--gain-scale", type=ABOVE_ZERO, metavar="N", help="Full power in the gains, if unlike the log's.  [255]")
@click.option("--every", type=ABOVE_ZERO, metavar="S", help="Seconds between reports, for a log without time.")
@click.option("--column", multiple=True, metavar="NAME=HEADER", help="Column of time, temperature, power or target.")
@click.option("--aim", type=click.Choice(["quick", "even", "gentle"]), default="even", show_default=True,
              help="Fast recovery, a balance, or no overshoot.")
@click.option("--power-limit", type=click.FloatRange(0, 1, min_open=True), default=1.0, metavar="F",
              help="Share of full power the controller may use.  [1]")
@click.option("--loop-period", type=click.FloatRange(0.01, 2), default=0.2, metavar="S", show_default=True,
              help="How often the controller works.")
@click.option("--kp", type=NOT_BELOW_ZERO, metavar="N", help="Present gains, all three, in the controller's scale.")
@click.option("--ki", type=NOT_BELOW_ZERO, metavar="N")
@click.option("--kd", type=NOT_BELOW_ZERO, metavar="N")
@answering()
def fit(log: str, which: str | None, target: float | None, full_power: float | None, gain_scale: float | None,
        every: float | None, column: tuple[str, ...], aim: str, power_limit: float, loop_period: float,
        kp: float | None, ki: float | None, kd: float | None, as_json: bool, plot: str | None, dialect: str | None,
        quiet: bool) -> None:
    """Turn the LOG of an on/off oscillation test into gains.

    LOG is a CSV with a header, or the text a serial console showed.

    \b
    Example:
      omphalon heater fit hotend-oscillation.csv --plot hotend.png
    """
    check_plot(plot)
    from omphalon.bench.dialect import load_dialect
    from omphalon.readers.temperature import Reading, read_temperature
    from omphalon.studies.heater.fit import HeaterQuestion, fit_heater

    question = HeaterQuestion(which, target, aim, power_limit, loop_period, gain_scale or full_power,
                              _present(kp, ki, kd))
    lines = load_dialect(dialect)
    recorded = read_temperature(log, Reading(which, full_power, every, pairs(column)))
    leave(fit_heater(recorded, question, lines), as_json, quiet, plot)


def _present(kp: float | None, ki: float | None, kd: float | None):  # type: ignore[no-untyped-def]
    """The present gains, or None; part of them is a mistake."""
    from omphalon.errors import UsageError
    from omphalon.physics.loop import Gains

    if kp is None and ki is None and kd is None:
        return None
    if kp is None or ki is None or kd is None:
        raise UsageError("--kp, --ki and --kd: only some of them are given", "give all three, or none")
    return Gains(kp, ki, kd)
