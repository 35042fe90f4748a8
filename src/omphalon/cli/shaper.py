"""omphalon shaper plan | fit | check."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

import click

from omphalon.base.errors import UsageError, echoed
from omphalon.base.files import put_lines
from omphalon.cli.common import Answer, Leaving, answering, template
from omphalon.cli.groups import Asking, Verbs
from omphalon.cli.known import bed_moves_in_y, facts_of_bench, shaper_in_force
from omphalon.cli.numbers import Numbers
from omphalon.cli.options import Ask, Known, argument, flag, nested, number, one_of, text, typed
from omphalon.cli.printing import PrintDefaults, PrintOptions, job_of, print_lines
from omphalon.cli.shaper_check import check
from omphalon.cli.shaper_common import (
    FREQUENCY,
    SENSOR_AXES,
    BandsType,
    Labelled,
    LabelledLog,
    LimitOptions,
    LogOptions,
    OfferedOptions,
    present_field,
    read_logs,
)

if TYPE_CHECKING:
    from omphalon.bench.work import State
    from omphalon.prints.pieces import Bands
    from omphalon.recordings.recording import MotionLog
    from omphalon.studies.shaper.question import ShaperInUse

BY_AXIS = "name each by its axis, and measure an axis in one way"
SWEEP = PrintDefaults(fast_mm_s=90.0, acceleration_mm_s2=2000.0, retract_mm=0.7)
RINGING = PrintDefaults(fast_mm_s=90.0, acceleration_mm_s2=3000.0, retract_mm=0.7)


def _empty_log() -> Iterator[str]:
    yield (
        "# one row a sample: seconds, and the sensor's three axes in g; 1000 a second or more, "
        "while one axis sweeps"
    )
    yield "time_s,x_g,y_g,z_g"


@click.group(cls=Verbs)
def shaper() -> None:
    """Input shaper, and the acceleration that stays clean."""


@dataclass(frozen=True, kw_only=True)
class ShaperPlanOptions:
    """Options of `shaper plan`."""

    axis: str = one_of("--axis", ("x", "y"), "Which axis.", default="x")
    bed_moves_y: bool = flag(
        "--bed-moves-y", "The bed moves in Y: two mountings.", bench=bed_moves_in_y
    )
    places: bool = flag(
        "--places", "Say where, and with which load, to log for one shaper everywhere."
    )
    sweep: tuple[float, float] = typed(
        "--sweep", Numbers("FROM:TO", FREQUENCY, "8:120"), "Frequencies, Hz.", default="8:120"
    )
    rate_hz_s: float = number("--rate", "sweep rate", "How fast it sweeps.", default=0.8)
    microstep_mm: float = number(
        "--microstep", "fine length", "What one microstep of the axis moves.", default=0.0125
    )
    ringing: str | None = text(
        "--ringing", "Write a ringing print instead, for an axis without a sensor."
    )
    bands: Bands | None = typed(
        "--bands",
        BandsType(),
        "Acceleration of the ringing print by height, mm/s²: the shaper stays as it is set.",
        needs=("ringing",),
        remedy="name the file: --ringing FILE",
    )
    out: str | None = text(
        "--out", "Write the sweep as plain moves (G-code).", excludes=("ringing",)
    )
    print: PrintOptions = nested(PrintOptions)


@shaper.command("plan", short_help="How to log a sweep; writes one as moves, or a ringing print.")
@answering(ShaperPlanOptions)
def plan(how: Leaving, options: ShaperPlanOptions) -> Answer:
    """Say how to mount the sensor and log a sweep; write the sweep as plain moves, or a ringing
    print.

    \b
    Example:
      omphalon shaper plan --axis y --sweep 8:100 --dialect stand-in --out sweep-y.gcode
      omphalon shaper plan --ringing bands.gcode --bands 1000:4000:500 --dialect stand-in
    """
    how.check(out=options.out, ringing=options.ringing)
    from omphalon.prints.dryrun import Shake, shake_lines
    from omphalon.studies.shaper.plan import at_places, plan_ringing, plan_shaper

    chosen = print_lines(how, options.print)
    if options.ringing is not None:
        if options.bands is not None and options.print.acceleration_mm_s2 is not None:
            raise UsageError("--acceleration and --bands", "the bands say it; leave it out")
        found, printed = plan_ringing(job_of(options.print, RINGING), chosen, options.bands)
        put_lines(options.ringing, printed.lines(), ";")
        return found
    job = job_of(options.print, RINGING if options.out is None else SWEEP)
    if options.out is None:
        planned = plan_shaper(options.axis, options.bed_moves_y, None, job, chosen)
        return at_places(planned, options.axis, _build(options)) if options.places else planned
    low, high = options.sweep
    shake = Shake(
        axis=options.axis,
        low_hz=low,
        high_hz=high,
        rate_hz_s=options.rate_hz_s,
        acceleration_mm_s2=job.acceleration_mm_s2,
        at=job.middle,
        microstep_mm=options.microstep_mm,
    )
    planned = plan_shaper(options.axis, options.bed_moves_y, shake, job, chosen)
    line = chosen.line("acceleration", acceleration=job.acceleration_mm_s2)
    put_lines(options.out, shake_lines(shake, job.bed, line), ";")
    return at_places(planned, options.axis, _build(options)) if options.places else planned


def _build(options: ShaperPlanOptions) -> str:
    """What moves: by the bench, or as the options say."""
    found = facts_of_bench(build="printer.build").get("build")
    return str(found or ("moving-bed" if options.bed_moves_y else ""))


def _sensor(axis: str) -> Known:
    """The sensor's axis along X or Y, where its log is read."""

    def known(state: State, given: ShaperFitOptions) -> object:
        log = given.log_x if axis == "x" else given.log_y
        return None if not log else state.facts.get(f"sensor.{axis}")

    return known


def _present(axis: str) -> Known:
    """The shaper in force of an axis that is measured."""

    def known(state: State, given: ShaperFitOptions) -> object:
        x = given.log_x or given.ripple_x_mm
        measured = x if axis == "x" else given.log_y or given.ripple_y_mm
        return shaper_in_force(axis)(state, given) if measured else None

    return known


@dataclass(frozen=True, kw_only=True)
class ShaperFitOptions:
    """Options of `shaper fit`."""

    log: str | None = argument("[LOG]")
    log_x: tuple[Labelled, ...] = typed(
        "--x",
        LabelledLog(),
        "Log of axis X; repeat for several places or loads: one shaper for all.",
        many=True,
        excludes=("log", "ripple_x_mm"),
        remedy=BY_AXIS,
        ask=Ask(words="the sensor's log of X, a file", may_miss=True),
        farm="file",
    )
    log_y: tuple[Labelled, ...] = typed(
        "--y",
        LabelledLog(),
        "Log of axis Y.",
        many=True,
        excludes=("log", "ripple_y_mm"),
        remedy=BY_AXIS,
        ask=Ask(words="the sensor's log of Y, a file", may_miss=True),
        farm="file",
    )
    sensor_x: str | None = one_of(
        "--sensor-x",
        SENSOR_AXES,
        "Sensor's axis that lay along X in X's log.  [from the log]",
        bench=_sensor("x"),
        needs=("log_x",),
    )
    sensor_y: str | None = one_of(
        "--sensor-y",
        SENSOR_AXES,
        "Sensor's axis that lay along Y in Y's log.  [from the log]",
        bench=_sensor("y"),
        needs=("log_y",),
    )
    printed: str | None = text(
        "--print",
        "The G-code of a card, where a LOG is its picture.  [the bench's, by the card's strip]",
        farm="file",
    )
    kind: str = one_of(
        "--kind",
        ("sweep", "taps", "mixed"),
        "What the logs hold; mixed: each of several by itself.",
        default="sweep",
    )
    reading: LogOptions = nested(LogOptions)
    ripple_x_mm: tuple[float, ...] = number(
        "--ripple-x",
        "fine length",
        "Ripple to ripple on a print, for X; may be repeated.",
        many=True,
    )
    ripple_y_mm: tuple[float, ...] = number(
        "--ripple-y", "fine length", "The same for Y.", many=True
    )
    speed_mm_s: float | None = number(
        "--speed",
        "speed",
        "Speed of the walls that show the ripples.",
        needs=("ripple_x_mm", "ripple_y_mm"),
        remedy="it belongs to ripples on a print; leave it out",
    )
    choice: OfferedOptions = nested(OfferedOptions)
    limit: LimitOptions = nested(LimitOptions)
    present_x: ShaperInUse | None = present_field("x", _present("x"))
    present_y: ShaperInUse | None = present_field("y", _present("y"))


@shaper.command("fit", cls=Asking, short_help="Shapers and acceleration from accelerometer logs.")
@template(_empty_log)
@answering(ShaperFitOptions)
def fit(how: Leaving, options: ShaperFitOptions) -> Answer:
    """Turn accelerometer logs into the shapers and the acceleration that keep ringing and rounding
    below their limits.

    One LOG by itself is of the axis that moves in it. A LOG is a table with time_s and three axes
    in g, m/s² or mm/s² (x_g, y_g, z_g).

    \b
    Example:
      omphalon shaper fit --x sweep-x.csv.gz --y sweep-y.csv.gz --plot shaper.png
      omphalon shaper fit --y empty=sweep-y.csv.gz --y loaded=sweep-y-later.csv.gz
    """
    paths = [one.path for one in (*options.log_x, *options.log_y)]
    how.check(options.log, *paths)
    from omphalon.readers.acceleration import read_motion
    from omphalon.readers.picture import is_picture
    from omphalon.studies.shaper.question import PlaceLog, ShaperQuestion
    from omphalon.studies.shaper.words import shaper_answer

    logged = [path for path in paths if not is_picture(path)]  # a card shows both axes
    twice = next((path for n, path in enumerate(logged) if path in logged[:n]), None)
    if twice is not None:
        raise UsageError(f"{echoed(twice)} is given twice", "log each axis and place by itself")
    read_paths, read_card = read_logs(paths, options.printed, options.reading)
    every = iter(read_paths)
    read = {
        axis: tuple(PlaceLog(label=one.label, log=next(every)) for one in some)
        for axis, some in (("x", options.log_x), ("y", options.log_y))
        if some
    }
    for axis, some in read.items():
        if len({one.label for one in some}) < len(some):
            raise UsageError(f"--{axis}: two logs of one label", "give each its own: LABEL=LOG")
    logs = {axis: some[0].log for axis, some in read.items() if len(some) == 1}
    if options.log is not None:
        alone = read_motion(options.log, options.reading.wanted())
        logs = {_moved(alone): alone}
    ripples = {"x": options.ripple_x_mm, "y": options.ripple_y_mm}
    present = {"x": options.present_x, "y": options.present_y}
    for axis, one in present.items():
        if one is not None and axis not in {*logs, *read} and not ripples[axis]:
            raise UsageError(f"--present-{axis} without --{axis}", "give both")
    question = ShaperQuestion(
        logs=logs,
        sensor={"x": options.sensor_x, "y": options.sensor_y},
        ripples_mm=ripples,
        speed_mm_s=options.speed_mm_s,
        offered=options.choice.offered,
        limits=options.limit.limits(),
        present={axis: one for axis, one in present.items() if one is not None},
        kind=options.kind,
        places={axis: some for axis, some in read.items() if len(some) > 1},
        read_card=read_card,
    )
    return shaper_answer(question, how.lines())


def _moved(log: MotionLog) -> str:
    """The axis that moved in a log, by the sensor's own; asked for where it is neither X nor Y."""
    from omphalon.studies.shaper.modes import SENSOR_AXES

    axis = SENSOR_AXES[int(log.acceleration_mm_s2.std(axis=0).argmax())]
    if axis not in ("x", "y"):
        raise UsageError(
            f"{echoed(log.source)}: its sensor's {axis} moves most: of which axis is it?",
            "give it with --x or --y",
        )
    return axis


shaper.add_command(check)
