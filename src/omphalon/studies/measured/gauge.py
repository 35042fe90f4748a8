"""A flat gauge to print and measure: outside and inside lengths in X and Y."""

from __future__ import annotations

from omphalon.answers.commands import command, prose
from omphalon.answers.finding import Plan
from omphalon.base.errors import UsageError
from omphalon.lines.dialect import Dialect
from omphalon.prints.job import Job
from omphalon.prints.pieces import Gauge
from omphalon.studies.printed import TestPrint, plain_print, print_steps

SHARES = (0.25, 0.6, 1.0)  # of the longest: jaws reach between the frames
SHORTEST_MM = 80.0  # in a shorter one the frames lie too near for jaws


def plan_gauge(longest_mm: float, job: Job, dialect: Dialect) -> tuple[Plan, TestPrint]:
    """The gauge, and how to read it.

    Raises UsageError if it is too small for a caliper's jaws, or does not fit the bed.
    """
    if longest_mm < SHORTEST_MM:
        raise UsageError(
            f"--longest {longest_mm:g}: a caliper's jaws do not reach between the frames",
            f"give {SHORTEST_MM:g} mm or more",
        )
    gauge = Gauge(tuple(float(round(longest_mm * share)) for share in SHARES))
    outside = ", ".join(f"{v:g}" for v in gauge.outside_mm)
    inside = ", ".join(f"{v:g}" for v in gauge.inside_mm(job))
    printed = plain_print(
        f"Gauge: {outside} mm outside, {inside} mm inside",
        job,
        lambda: gauge.strokes(job),
        gauge.labels(job),
        (
            f"axes: a gauge of frames, {outside} mm outside, {inside} mm inside, in X and in Y",
            "the numbers on each frame's front are its outside and its inside length; where they "
            "read the right way up, X runs from left to right",
            "measure at the middle of the sides, not at the corners or the first layers",
        ),
        dialect.line("acceleration", acceleration=job.acceleration_mm_s2),
    )
    whole = printed.whole
    return Plan(
        "axis-plan",
        f"A gauge for X and Y: {outside} mm outside, {inside} mm inside",
        (
            *print_steps(printed),
            "Let it cool, and leave it on the plate until then. Zero the caliper.",
            "Measure each frame outside and inside, in X and in Y, at the middle of the sides and "
            "above the first layers: twelve lengths, twice each.",
            prose(
                "Write a file with the columns axis, kind, asked_mm, moved_mm. The line's width "
                "makes outside too long and inside too short, and does not affect the steps. An "
                "empty file:",
                command("axis fit", template="FILE"),
            ),
        ),
        (),
        prose(command("axis fit", "READINGS.csv", steps=("x=N", "y=N"))),
        settings={
            "outside_mm": list(gauge.outside_mm),
            "inside_mm": list(gauge.inside_mm(job)),
            "time_s": whole.time_s,
            "filament_mm": whole.filament_mm,
        },
        picture=printed,
    ), printed
