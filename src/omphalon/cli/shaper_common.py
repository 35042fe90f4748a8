"""What the shaper's commands share: how logs are read, and the limits."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import click

from omphalon.base.errors import UsageError, echoed
from omphalon.cli.common import Command, Measure, choice, number, numbers_of, options, pairs, parsed
from omphalon.tables.constants import SHAPER_NAMES

if TYPE_CHECKING:
    from omphalon.physics.shaping import Limits
    from omphalon.prints.pieces import Bands
    from omphalon.readers.acceleration import AxesWanted
    from omphalon.studies.shaper.question import ShaperInUse

SENSOR, FREQUENCY, DAMPING = choice("x", "y", "z"), Measure("frequency"), Measure("damping")
READ = (
    click.option(
        "--unit",
        type=choice("g", "m/s²", "mm/s²", "m/s2", "mm/s2"),
        help="Unit of the logs.  [from the header, or gravity]",
    ),
    number("--every", "interval", "Seconds between samples that are numbered, not timed;"),
    number("--rate", "rate", "or samples a second."),
    click.option(
        "--column", multiple=True, metavar="NAME=HEADER", help="Column of time, x, y or z."
    ),
)


def logging(*more: str) -> Callable[[Command], Command]:
    """The options that say how a log is read; `more` are kinds of log beside a sweep and taps."""
    return options(
        click.option(
            "--kind",
            type=choice("sweep", "taps", *more),
            default="sweep",
            show_default=True,
            help="What the logs hold.",
        ),
        *READ,
    )


limits = options(
    number("--ringing-limit", "fine length", "Ringing that may stay.", default=0.01),
    number("--rounding-limit", "fine length", "Rounding of corners.", default=0.10),
    number(
        "--drift",
        "share",
        "How far a resonance may wander, as a share.",
        within=(0, 0.3),
        default=0.05,
    ),
)


IN_USE = options(
    click.option(
        "--present-x",
        metavar="NAME:HZ:DAMPING",
        help="Shaper of X now in force, for example mzv:42:0.05.",
    ),
    click.option("--present-y", metavar="NAME:HZ:DAMPING", help="Shaper of Y now in force."),
)
OFFERED = click.option(
    "--offered",
    default=",".join(SHAPER_NAMES),
    show_default=True,
    metavar="NAMES",
    help="Shapers the controller has.",
)


def names_of(offered: str) -> tuple[str, ...]:
    """The shapers that a controller has, by the option."""
    return tuple(name.strip().lower() for name in offered.split(","))


def shapers_in_use(given: dict[str, Any]) -> dict[str, ShaperInUse]:
    """The shapers in force by axis, by the options."""
    words = {axis: given[f"present_{axis}"] for axis in "xy"}
    return {a: _in_use(text, f"--present-{a}") for a, text in words.items() if text is not None}


def _in_use(text: str, option: str) -> ShaperInUse:
    from omphalon.studies.shaper.question import ShaperInUse

    name, colon, rest = text.partition(":")
    if name.lower() not in SHAPER_NAMES or not colon or rest.count(":") != 1:
        raise UsageError(f"{option} {echoed(text)}: not NAME:HZ:DAMPING", "for example mzv:42:0.05")
    frequency, damping = rest.split(":")
    return ShaperInUse(
        shaper=name.lower(),
        frequency_hz=parsed(frequency, FREQUENCY, option).value,
        damping=parsed(damping, DAMPING, option).value,
    )


def wanted_of(given: dict[str, Any]) -> AxesWanted:
    """How the logs are read, by the options."""
    from omphalon.readers.acceleration import AxesWanted

    every, rate = given["every_s"], given["rate_hz"]
    if every is not None and rate is not None:
        raise UsageError("--every and --rate", "give one of the two")
    every = every if rate is None else 1 / rate
    unit = None if given["unit"] is None else given["unit"].replace("2", "²")
    return AxesWanted(unit=unit, every_s=every, columns=pairs(given["column"]))


def limits_of(given: dict[str, Any]) -> Limits:
    """The limits, by the options."""
    from omphalon.physics.shaping import Limits

    return Limits(
        ringing_mm=given["ringing_limit_mm"],
        rounding_mm=given["rounding_limit_mm"],
        drift=given["drift"],
    )


def bands_of(text: str) -> Bands:
    """FROM:TO:STEP as bands."""
    from omphalon.prints.pieces import Bands

    start, stop, step = numbers_of(text, Measure("acceleration"), 3, "--bands", "500:4000:500")
    return Bands(start_mm_s2=start, stop_mm_s2=stop, step_mm_s2=step)
