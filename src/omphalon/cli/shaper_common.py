"""What the shaper's commands share: how logs are read, the limits, the shapers in force."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from omphalon.base.errors import UsageError, echoed
from omphalon.cli.common import ColumnNames, columns_named
from omphalon.cli.known import shaper_in_force, shapers_offered
from omphalon.cli.numbers import Measure, numbers_of, parsed
from omphalon.cli.options import Known, number, one_of, typed
from omphalon.tables.constants import SHAPER_NAMES

if TYPE_CHECKING:
    from omphalon.bench.work import State
    from omphalon.physics.shaping import Limits
    from omphalon.readers.acceleration import AxesWanted
    from omphalon.recordings.recording import GreyPicture, MotionLog
    from omphalon.studies.shaper.modes import AxisReading
    from omphalon.studies.shaper.question import ShaperInUse

SENSOR_AXES = ("x", "y", "z")
FREQUENCY, DAMPING = Measure("frequency"), Measure("damping")
UNITS = ("g", "m/s²", "mm/s²", "m/s2", "mm/s2")


@dataclass(frozen=True, kw_only=True)
class LogOptions:
    """How a log is read."""

    unit: str | None = one_of("--unit", UNITS, "Unit of the logs.  [from the header, or gravity]")
    every_s: float | None = number(
        "--every",
        "interval",
        "Seconds between samples that are numbered, not timed;",
        excludes=("rate_hz",),
    )
    rate_hz: float | None = number("--rate", "rate", "or samples a second.")
    columns: tuple[tuple[str, str], ...] = typed(
        "--column", ColumnNames(), "Column of time, x, y or z.", many=True, farm="pieces"
    )

    def wanted(self) -> AxesWanted:
        """How the logs are read."""
        from omphalon.readers.acceleration import AxesWanted

        every = self.every_s if self.rate_hz is None else 1 / self.rate_hz
        unit = None if self.unit is None else self.unit.replace("2", "²")
        return AxesWanted(unit=unit, every_s=every, columns=columns_named(self.columns))


def read_logs(
    paths: Sequence[str], printed: str | None, reading: LogOptions
) -> tuple[list[MotionLog | GreyPicture], Callable[[GreyPicture, str], AxisReading]]:
    """Logs, and pictures of test cards among them, with what reads an axis off a picture."""
    from omphalon.cli.card import cards_of
    from omphalon.readers.acceleration import read_motion
    from omphalon.readers.picture import is_picture, read_picture
    from omphalon.studies.card.modes import axis_on_card

    pictured = any(map(is_picture, paths))
    if printed is not None and not pictured:
        raise UsageError("--print without a picture", "give the card's picture, or leave it out")
    cards, wanted = cards_of(printed) if pictured else [], reading.wanted()
    logs = [read_picture(p) if is_picture(p) else read_motion(p, wanted) for p in paths]
    return logs, lambda picture, axis: axis_on_card(picture, cards, printed, axis)


def _drift_of_places(state: State, given: Any) -> float | None:
    """Of an axis whose shaper was fitted for several places: those need no drift of their own."""
    from omphalon.studies.shaper.fit import DRIFT_OF_PLACES

    setting = state.settings.get(f"shaper-{getattr(given, 'axis', None)}")
    return DRIFT_OF_PLACES if setting is not None and "places" in setting.ranges else None


@dataclass(frozen=True, kw_only=True)
class LimitOptions:
    """What may stay."""

    ringing_mm: float = number(
        "--ringing-limit", "fine length", "Ringing that is allowed.", default=0.01
    )
    rounding_mm: float = number(
        "--rounding-limit", "fine length", "Rounding of corners.", default=0.10
    )
    drift: float = number(
        "--drift",
        "share",
        "How far a resonance may drift, as a share.",
        within=(0, 0.3),
        default=0.05,
        bench=_drift_of_places,
    )

    def limits(self) -> Limits:
        """The limits."""
        from omphalon.physics.shaping import Limits

        return Limits(ringing_mm=self.ringing_mm, rounding_mm=self.rounding_mm, drift=self.drift)


@dataclass(frozen=True)
class Labelled:
    """A log, and what its user calls the place where it was taken."""

    label: str
    path: str

    @property
    def written(self) -> str:
        """As it was given."""
        return self.path if self.label == Path(self.path).name else f"{self.label}={self.path}"


class LabelledLog(click.ParamType):  # type: ignore[type-arg]
    """A log, or LABEL=LOG."""

    name = "[LABEL=]LOG"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        if not isinstance(value, str):
            return value
        label, equals, path = value.partition("=")
        if not equals or Path(value).exists():
            return Labelled(Path(value).name, value)
        if not label.strip() or not path:
            raise UsageError(f"{echoed(value)}: not LABEL=LOG", "for example --x corner=log.csv")
        return Labelled(label.strip(), path)


class ShaperType(click.ParamType):  # type: ignore[type-arg]
    """A shaper in force."""

    name = "NAME:HZ:DAMPING"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        from omphalon.studies.shaper.question import ShaperInUse

        if not isinstance(value, str):
            return value
        option = param.opts[0] if param is not None else "the shaper"
        name, colon, rest = value.partition(":")
        if name.lower() not in SHAPER_NAMES or not colon or rest.count(":") != 1:
            raise UsageError(
                f"{option} {echoed(value)}: not NAME:HZ:DAMPING", "for example mzv:42:0.05"
            )
        frequency, damping = rest.split(":")
        return ShaperInUse(
            shaper=name.lower(),
            frequency_hz=parsed(frequency, FREQUENCY, option).value,
            damping=parsed(damping, DAMPING, option).value,
        )


def present_field(axis: str, bench: Known) -> Any:
    """The shaper of an axis that is now in force."""
    help = f"Shaper of {axis.upper()} now in force, for example mzv:42:0.05."
    return typed(f"--present-{axis}", ShaperType(), help, bench=bench)


@dataclass(frozen=True, kw_only=True)
class InUseOptions:
    """The shapers in force."""

    present_x: ShaperInUse | None = present_field("x", shaper_in_force("x"))
    present_y: ShaperInUse | None = present_field("y", shaper_in_force("y"))

    def by_axis(self) -> dict[str, ShaperInUse]:
        """The shapers in force by axis."""
        both = {"x": self.present_x, "y": self.present_y}
        return {axis: one for axis, one in both.items() if one is not None}


class Names(click.ParamType):  # type: ignore[type-arg]
    """Several names with commas between."""

    name = "NAMES"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        if not isinstance(value, str):
            return value
        return tuple(name.strip().lower() for name in value.split(","))


@dataclass(frozen=True, kw_only=True)
class OfferedOptions:
    """The shapers to choose from."""

    offered: tuple[str, ...] = typed(
        "--offered",
        Names(),
        "Shapers the controller has.",
        default=",".join(SHAPER_NAMES),
        bench=shapers_offered,
    )


class BandsType(click.ParamType):  # type: ignore[type-arg]
    """Bands of acceleration by height."""

    name = "FROM:TO:STEP"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        from omphalon.prints.pieces import Bands

        if not isinstance(value, str):
            return value
        example = "500:4000:500"
        start, stop, step = numbers_of(value, Measure("acceleration"), 3, "--bands", example)
        return Bands(start_mm_s2=start, stop_mm_s2=stop, step_mm_s2=step)
