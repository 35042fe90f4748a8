"""omphalon shaper check: a setting on a fresh log, a sensor at rest, bands that eyes have read."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import click

from omphalon.base.errors import UsageError
from omphalon.cli.common import Answer, Leaving, answering
from omphalon.cli.groups import OnceEach
from omphalon.cli.known import in_force
from omphalon.cli.options import (
    Known,
    argument,
    nested,
    number,
    one_of,
    refuse_without,
    text,
    typed,
)
from omphalon.cli.shaper_common import SENSOR_AXES, BandsType, LimitOptions, LogOptions, read_logs
from omphalon.tables.constants import ASSUMED_DAMPING, SHAPER_NAMES

if TYPE_CHECKING:
    from omphalon.answers.finding import Finding
    from omphalon.bench.work import State
    from omphalon.prints.pieces import Bands
    from omphalon.studies.shaper.question import ShaperInUse
    from omphalon.tables.units import Number

IN_FORCE = "say which axis and what is in force"


def _shaper(field: str) -> Known:
    """A field of the axis's shaper."""
    return lambda state, given: in_force(f"shaper-{given.axis or 'x'}", field)(state, given)


def _acceleration(state: State, given: ShaperCheckOptions) -> object:
    """The acceleration, where a setting is judged: a sensor at rest needs none."""
    return None if given.kind == "rest" else in_force("acceleration", "acceleration")(state, given)


def _at_rest_beside(options: ShaperCheckOptions) -> str:
    return "--kind rest" if options.kind == "rest" else ""


@dataclass(frozen=True, kw_only=True)
class ShaperCheckOptions:
    """Options of `shaper check`."""

    logs: tuple[str, ...] = argument("[LOG] [LATER]", several=True)
    axis: str | None = one_of("--axis", ("x", "y"), "Which axis.", idle=_at_rest_beside)
    sensor: str | None = one_of(
        "--sensor", SENSOR_AXES, "Sensor's axis along it.  [from the log]", idle=_at_rest_beside
    )
    shaper: str | None = one_of(
        "--shaper", SHAPER_NAMES, "Shaper in force.", bench=_shaper("shaper"), idle=_at_rest_beside
    )
    frequency_hz: float | None = number(
        "--frequency",
        "frequency",
        "Its frequency.",
        bench=_shaper("frequency"),
        idle=_at_rest_beside,
    )
    damping: float = number(
        "--damping", "damping", "Its damping.", default=ASSUMED_DAMPING, bench=_shaper("damping")
    )
    acceleration_mm_s2: float | None = number(
        "--acceleration",
        "acceleration",
        "Acceleration in use.",
        bench=_acceleration,
        idle=_at_rest_beside,
    )
    seen_mm_s2: tuple[Number, ...] = number(
        "--seen",
        "acceleration",
        "Highest band of a ringing print without ripple; repeat for each person, 0: none.",
        least=0,
        reading=True,
        many=True,
        needs=("bands",),
        remedy="give the bands that were printed",
        idle=_at_rest_beside,
    )
    bands: Bands | None = typed(
        "--bands", BandsType(), "The bands of that print, mm/s².", needs=("seen_mm_s2",)
    )
    printed: str | None = text(
        "--print",
        "The G-code of a card, where a LOG is its picture.  [the bench's, by the card's strip]",
    )
    kind: str = one_of("--kind", ("sweep", "taps", "rest"), "What the logs hold.", default="sweep")
    reading: LogOptions = nested(LogOptions)
    limit: LimitOptions = nested(LimitOptions)

    def in_force(self) -> ShaperInUse | None:
        """The setting, where it was named."""
        from omphalon.studies.shaper.question import ShaperInUse

        if self.shaper is None or self.frequency_hz is None:
            return None
        return ShaperInUse(shaper=self.shaper, frequency_hz=self.frequency_hz, damping=self.damping)


@click.command(
    "check", cls=OnceEach, short_help="Does a setting still fit? One log, or before and after."
)
@answering(ShaperCheckOptions, dialect=False)
def check(how: Leaving, options: ShaperCheckOptions) -> Answer:
    """Judge whether a setting still fits a fresh log; with two logs, before and after a repair.

    A LOG may be the picture of a test card too, with --print. With --kind rest, whether a sensor
    that nobody moves is fit for a sweep: no setting is needed. With --seen, whether what eyes see
    on a ringing print of bands agrees with what is in use.

    \b
    Example:
      omphalon shaper check sweep-y.csv.gz --axis y --shaper ei --frequency 31 --acceleration 900
      omphalon shaper check sensor-rest.csv.gz --kind rest
      omphalon shaper check --seen 700 --seen 800 --bands 300:1500:100 --axis y --acceleration 900
    """
    logs = options.logs
    how.check(*logs, options.printed)
    if len(logs) > 2:
        raise UsageError(f"{len(logs)} logs", "give one log, or two: before and after")
    if len(set(logs)) < len(logs):
        raise UsageError("before and after are one log", "give two, or one")
    if options.kind == "rest":
        return _at_rest(options)
    if options.bands is not None:
        return _seen(options, options.bands)
    return _on_logs(options)


def _at_rest(options: ShaperCheckOptions) -> Finding:
    from omphalon.readers.acceleration import read_motion
    from omphalon.studies.shaper.check_words import sensor_answer

    if len(options.logs) != 1:
        raise UsageError(
            f"--kind rest with {len(options.logs)} logs", "give one log of a sensor at rest"
        )
    return sensor_answer(read_motion(options.logs[0], options.reading.wanted()))


def _seen(options: ShaperCheckOptions, bands: Bands) -> Finding:
    from omphalon.readers.acceleration import read_motion
    from omphalon.studies.shaper.bands import BandsQuestion
    from omphalon.studies.shaper.check_words import bands_answer

    logs, axis, acceleration = options.logs, options.axis, options.acceleration_mm_s2
    if len(logs) > 1:
        raise UsageError(f"--seen with {len(logs)} logs", "give one log, or none")
    if axis is None or acceleration is None:
        raise refuse_without(options, IN_FORCE, "axis", "acceleration_mm_s2")
    question = BandsQuestion(
        seen_mm_s2=tuple(one.value for one in options.seen_mm_s2),
        bands=bands,
        axis=axis,
        acceleration_mm_s2=acceleration,
        setting=options.in_force(),
        log=read_motion(logs[0], options.reading.wanted()) if logs else None,
        sensor=options.sensor,
        limits=options.limit.limits(),
        kind=options.kind,
    )
    return bands_answer(question)


def _on_logs(options: ShaperCheckOptions) -> Finding:
    from omphalon.studies.shaper.check_words import shaper_check_answer
    from omphalon.studies.shaper.question import ShaperCheckQuestion

    logs, axis = options.logs, options.axis
    setting, acceleration = options.in_force(), options.acceleration_mm_s2
    if not logs:
        raise UsageError("no log", "give a fresh log, or --seen with --bands")
    if axis is None or setting is None or acceleration is None:
        names = ("axis", "shaper", "frequency_hz", "acceleration_mm_s2")
        raise refuse_without(options, IN_FORCE, *names)
    read, read_card = read_logs(logs, options.printed, options.reading)
    question = ShaperCheckQuestion(
        logs=tuple(read),
        axis=axis,
        setting=setting,
        acceleration_mm_s2=acceleration,
        sensor=options.sensor,
        limits=options.limit.limits(),
        kind=options.kind,
        read_card=read_card,
    )
    return shaper_check_answer(question)
