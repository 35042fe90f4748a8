"""A test print ready to be written."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

from omphalon.prints.advance import Label
from omphalon.prints.job import Job
from omphalon.prints.strokes import Stroke, Survey, gcode_lines


@dataclass(frozen=True)
class TestPrint:
    """Strokes, made anew at each call; the comment header; the lines that set things."""

    style: str
    job: Job
    strokes: Callable[[], Iterator[Stroke]]
    labels: tuple[Label, ...]
    head: tuple[str, ...]
    set_line: Callable[[float], str]
    acceleration_line: str | None
    last_line: str | None
    whole: Survey

    @property
    def side_view(self) -> bool:
        """Whether a picture shows it from the side."""
        return self.style == "tower"

    @property
    def title(self) -> str:
        """What a picture says above it."""
        return (
            "Ringing print"
            if self.style == "ringing"
            else f"Pressure advance, {self.style}: values in s"
        )

    def lines(self) -> Iterator[str]:
        return gcode_lines(
            self.job,
            self.strokes(),
            self.head,
            self.set_line,
            self.acceleration_line,
            self.last_line,
        )
