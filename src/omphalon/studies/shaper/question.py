"""What is asked of an axis's input shaper, checked once."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from omphalon.base.errors import UsageError, echoed
from omphalon.physics.impulses import SHAPERS
from omphalon.physics.shaping import Limits
from omphalon.recordings.recording import GreyPicture, MotionLog

if TYPE_CHECKING:
    from omphalon.studies.shaper.modes import AxisReading

AXES = ("x", "y")
LOG_KINDS = ("sweep", "taps")


@dataclass(frozen=True, kw_only=True)
class ShaperInUse:
    """A shaper as it is set: name, frequency (Hz), damping."""

    shaper: str
    frequency_hz: float
    damping: float


@dataclass(frozen=True, kw_only=True)
class PlaceLog:
    """A log of one axis at one place, or with one load, or the picture of a card that was printed
    there: what its user calls it.
    """

    label: str
    log: MotionLog | GreyPicture


@dataclass(frozen=True, kw_only=True)
class ShaperQuestion:
    """Logs by axis (or of several `places`) with the sensor's axis, ripples (mm) by axis and the
    speed they were printed at, the shapers offered, the limits, the settings now in force by axis,
    what the logs hold, and axes that were read elsewhere.
    """

    logs: Mapping[str, MotionLog | GreyPicture]
    sensor: Mapping[str, str | None] = field(default_factory=dict)
    ripples_mm: Mapping[str, Sequence[float]] = field(default_factory=dict)
    speed_mm_s: float | None = None
    offered: tuple[str, ...] = tuple(SHAPERS)
    limits: Limits = field(default_factory=Limits)
    present: Mapping[str, ShaperInUse] = field(default_factory=dict)
    kind: str = "sweep"
    places: Mapping[str, tuple[PlaceLog, ...]] = field(default_factory=dict)
    read: Mapping[str, AxisReading] = field(default_factory=dict)
    read_card: Callable[[GreyPicture, str], AxisReading] | None = None

    def logs_of(self, axis: str) -> dict[str, MotionLog | GreyPicture]:
        """The logs of an axis by their labels; one alone has none."""
        if axis in self.logs:
            return {"": self.logs[axis]}
        return {place.label: place.log for place in self.places.get(axis, ())}

    def __post_init__(self) -> None:
        unknown = [name for name in self.offered if name not in SHAPERS]
        if unknown or not self.offered:
            raise UsageError(
                f"--offered {echoed(','.join(self.offered))}: no shaper "
                f"'{echoed((unknown or [''])[0])}'",
                "choose from " + ",".join(SHAPERS),
            )
        if not (self.logs or self.places or self.read) and not any(self.ripples_mm.values()):
            raise UsageError("no log", "give --x LOG and --y LOG, or --ripple-x MM with --speed")
        if any(self.ripples_mm.values()) and self.speed_mm_s is None:
            raise UsageError(
                "ripples without the speed",
                "give --speed MM_S, the speed of the wall that shows them",
            )


@dataclass(frozen=True, kw_only=True)
class ShaperCheckQuestion:
    """One axis's logs or pictures of a card (the last one is judged), the setting and the
    acceleration in use; and how the axis is read off a picture.
    """

    logs: tuple[MotionLog | GreyPicture, ...]
    axis: str
    setting: ShaperInUse
    acceleration_mm_s2: float
    sensor: str | None = None
    limits: Limits = field(default_factory=Limits)
    kind: str = "sweep"
    read_card: Callable[[GreyPicture, str], AxisReading] | None = None
