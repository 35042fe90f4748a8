"""The next print of pressure advance: finer, or reaching further."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

from omphalon.answers.commands import Command, command
from omphalon.studies.advance.question import AdvanceQuestion, Readout

TOWER_STEPS, LINE_STEPS = 40, 16  # of the next print
NICE = (1.0, 2.0, 2.5, 5.0, 10.0)


@dataclass(frozen=True, kw_only=True)
class NextPrint:
    """A further print: its range and its step (per mm of height on a tower, else per line)."""

    style: str
    drive: str
    start_s: float
    stop_s: float
    step_s: float
    line_given: Mapping[str, str]
    out: str
    for_eye: bool = False

    @property
    def command(self) -> Command:
        """The command that writes it."""
        return command(
            "advance plan",
            style=self.style,
            drive=self.drive,
            from_=f"{self.start_s:.6g}",
            to=f"{self.stop_s:.6g}",
            step=f"{self.step_s:g}",
            out=self.out,
            for_="eye" if self.for_eye else None,
            **self.line_given,
        )

    def __str__(self) -> str:
        """As a table of sentences takes it."""
        return f"`{self.command}`"


def next_print(
    read: Readout, question: AdvanceQuestion, start_s: float, stop_s: float
) -> NextPrint:
    """A print over a range, with round numbers."""
    step = _nice((stop_s - start_s) / (TOWER_STEPS if read.of_heights else LINE_STEPS))
    style = "tower" if read.of_heights else "ladder"
    return NextPrint(
        style=style,
        drive=read.drive.name,
        start_s=round(max(math.floor(start_s / step + 1e-9) * step, 0.0), 9),
        stop_s=round(math.ceil(stop_s / step - 1e-9) * step, 9),
        step_s=step,
        line_given=question.line_given,
        out=question.next_out.format(style=style),
        for_eye=style == "ladder" and read.by_eye,
    )


def refined(read: Readout, question: AdvanceQuestion, value: float, half: float) -> NextPrint:
    """Two or three intervals to both sides, never narrower than eye or caliper can use."""
    eye = read.drive.eye_s
    reach = max(2.0 * half, 3 * eye) if read.by_eye else max(3.0 * half, 5 * eye)
    return next_print(read, question, max(value - reach, 0.0), value + reach)


def _nice(value: float) -> float:
    """The nearest of 1, 2, 2.5, 5 times a power of ten."""
    power: float = 10.0 ** math.floor(math.log10(value))
    near: float = min((m * power for m in NICE), key=lambda v: abs(math.log(v / value)))
    return round(near, 9)
