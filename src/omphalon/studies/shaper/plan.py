"""How to log a sweep, and the files for it: moves that sweep an axis, and a ringing print for those
without a sensor.
"""

from __future__ import annotations

from dataclasses import replace

from omphalon.answers.commands import Prose, command, prose
from omphalon.answers.finding import Plan
from omphalon.answers.remarks import Remark
from omphalon.base.errors import UsageError
from omphalon.lines.dialect import Dialect
from omphalon.prints.dryrun import Shake
from omphalon.prints.job import Job
from omphalon.prints.pieces import Bands, Ringing
from omphalon.prints.strokes import survey
from omphalon.studies.printed import TestPrint, plan_of


def plan_shaper(
    axis: str, bed_moves_y: bool, shake: Shake | None, job: Job, dialect: Dialect
) -> Plan:
    """The steps of the test on one axis; with a sweep of moves where one is asked for.

    `shake`: a sweep made of moves; None: the controller has its own.
    """
    where = (
        "the bed"
        if axis == "y" and bed_moves_y
        else "the print head, as near the nozzle as it goes"
    )
    steps: list[str | Prose] = [
        f"Axis {axis}: screw or clamp the sensor to {where}, rigidly and square, one of its own "
        f"axes along {axis}; no tape, no tie. "
        + (
            "A bed that moves in Y needs two mountings: the head for X, the bed for Y."
            if bed_moves_y
            else "One mounting on the head serves X and Y."
        ),
        prose(
            "Before anything moves, log five seconds with nobody near, and see whether the sensor "
            "is fit:",
            command("shaper check", "LOG", kind="rest"),
        ),
        "Log 1000 samples a second or more (3200 is good), in a range of 8 g or wider, with time "
        "stamps.",
        "Shapers off; belts, feet, table and spool as when you print; the head in the middle, a "
        "usual print height below it. Part fan and other fans off if you can.",
    ]
    warnings: tuple[Remark, ...] = ()
    if shake is None:
        steps.append(
            "Start the log, let the printer's own sweep of this axis run, 8 to 120 Hz in two "
            "minutes or more, stop the log. Where it has none, --out FILE writes one as plain "
            "moves."
        )
    else:
        shake.check(job.bed)
        steps += _sweep_steps(shake, dialect)
        warnings = _below_microstep(shake)
    steps.append("Touch nothing meanwhile. Do the other axis in a log of its own.")
    return Plan(
        "shaper-plan",
        f"Sweep of axis {axis} under an accelerometer",
        tuple(steps),
        (),
        prose(command("shaper fit", x="LOG", y="LOG")),
        warnings,
        settings={"axis": axis}
        if shake is None
        else {
            "axis": axis,
            "from_hz": shake.low_hz,
            "to_hz": shake.high_hz,
            "time_s": shake.duration_s,
        },
    )


# where an axis's modes lie lowest and highest, by what moves: label and words
Places = tuple[tuple[str, str], ...]
LOADS: Places = (("empty", "the bed empty"), ("loaded", "a kilogram in the middle of the bed"))
SPOTS: Places = (
    ("middle", "the head in the middle"),
    ("corner", "the head in a front corner"),
    ("far", "the head in the rear corner across"),
)
TOWERS: Places = (
    ("low", "the head in the middle, near the plate"),
    ("high", "as high as your tallest print"),
    ("edge", "near the plate's edge, beside a tower"),
)


def at_places(plan: Plan, axis: str, build: str) -> Plan:
    """The same at several places, or with loads: one shaper for all of them."""
    places = TOWERS if build == "delta" else SPOTS
    if build == "moving-bed" and axis == "y":
        places = LOADS
    named = "; ".join(f"{label}: {words}" for label, words in places)
    step = (
        f"Log it {len(places)} times, nothing else changed, and name each log: {named}. One shaper "
        "then serves all of them, and what lies between."
    )
    logs = tuple(f"{label}=LOG" for label, _ in places)
    return replace(
        plan, steps=(*plan.steps, step), next=prose(command("shaper fit", **{axis: logs}))
    )


CLEAR_MM = 10.0  # that a mounted sensor needs around the strokes


def _sweep_steps(shake: Shake, dialect: Dialect) -> list[str]:
    """How to run the sweep of moves."""
    steps = []
    if dialect.line("acceleration", acceleration=shake.acceleration_mm_s2) is None:
        steps.append(
            f"Set the acceleration to {shake.acceleration_mm_s2:g} mm/s² on the printer: the "
            "dialect has no line for it."
        )
    strokes = f"{shake.stroke_mm(shake.low_hz):.1f} down to {shake.stroke_mm(shake.high_hz):.3f} mm"
    reach = shake.stroke_mm(shake.low_hz) / 2
    return [
        *steps,
        f"The controller's own limit of the acceleration of axis {shake.axis} caps the sweep "
        f"silently: it must allow {shake.acceleration_mm_s2:g} mm/s².",
        f"Move the head by hand {reach + CLEAR_MM:.0f} mm to both sides of x {shake.at[0]:g}, y "
        f"{shake.at[1]:g}, and up and down: the sensor and its cable must touch nothing, from the "
        "homing on.",
        f"Let the controller keep no more than {shake.corner_speed_mm_s:.1f} mm/s through a turn "
        "about (its corner speed), or the short strokes lose their shape.",
        f"Start the log, run the file ({shake.duration_s + 2 * shake.pause_s:.0f} s; strokes of "
        f"{strokes}), stop the log.",
    ]


def _below_microstep(shake: Shake) -> tuple[Remark, ...]:
    if shake.true_to_hz >= shake.high_hz:
        return ()
    facts = {"microstep": shake.microstep_mm, "frequency": shake.true_to_hz}
    return (Remark("below-microstep", **facts),)


def plan_ringing(job: Job, dialect: Dialect, bands: Bands | None = None) -> tuple[Plan, TestPrint]:
    """The ringing print and how to read it.

    `bands`: accelerations that rise by height, the shaper as it is set; None: one acceleration, no
    shaper, for the ripples' spacing. Raises UsageError if the speed is not reached between the
    steps of the wall, or bands are asked for and no line sets the acceleration.
    """
    job.check()
    figure = Ringing(bands=() if bands is None else bands.values)
    _refuse_too_fast(job, figure)
    line = dialect.line("acceleration", acceleration=(figure.bands or (job.acceleration_mm_s2,))[0])
    if figure.bands and line is None:
        raise UsageError(
            "no line that sets the acceleration: the bands need one",
            "give your controller's own with --acceleration-line '… {acceleration:.0f} …', or a "
            "dialect with --dialect FILE",
        )
    whole = survey(job, figure.strokes(job))
    printed = TestPrint(
        title="Ringing print",
        job=job,
        strokes=lambda: figure.strokes(job),
        labels=figure.labels(job),
        head=_bands_head(job, bands) if bands else _ringing_head(job, line is not None),
        set_line=lambda value: dialect.line("acceleration", acceleration=value) or "",
        acceleration_line=line,
        last_line=None,
        whole=whole,
        plan={"print": "ringing", "bands_mm_s2": list(figure.bands), **plan_of(job)},
    )
    settings = {
        "speed_mm_s": job.fast_mm_s,
        "time_s": whole.time_s,
        "filament_mm": whole.filament_mm,
    }
    if bands is not None:
        return Plan(
            "shaper-plan",
            f"Ringing print at {job.fast_mm_s:g} mm/s, {len(bands.values)} bands of acceleration, "
            f"{bands.start_mm_s2:g} to {bands.stop_mm_s2:g} mm/s²",
            _bands_steps(bands, figure, whole.time_s),
            (),
            prose(
                command(
                    "shaper check",
                    seen=("MM_S2",) * 2,
                    bands=bands.words,
                    axis="x",
                    acceleration="MM_S2",
                )
            ),
            settings={**settings, "bands_mm_s2": list(bands.values), "band_mm": figure.band_mm},
            picture=printed,
        ), printed
    return Plan(
        "shaper-plan",
        f"Ringing print at {job.fast_mm_s:g} mm/s, for an axis without a sensor",
        _ringing_steps(job, whole.time_s, line is not None),
        (),
        prose(
            command("shaper fit", ripple_x=("MM",) * 2, ripple_y=("MM",) * 2, speed=job.fast_mm_s)
        ),
        settings=settings,
        picture=printed,
    ), printed


def _refuse_too_fast(job: Job, figure: Ringing) -> None:
    """The speed must be reached between the steps, in the slowest band too."""
    slowest = min(figure.bands, default=job.acceleration_mm_s2)
    need = job.fast_mm_s**2 / slowest
    if need > figure.side_mm / 3:
        instead = "bands that start higher" if figure.bands else "more acceleration"
        raise UsageError(
            f"--fast {job.fast_mm_s:g} is not reached between the steps at {slowest:g} mm/s²",
            f"choose {0.95 * (figure.side_mm / 3 * slowest) ** 0.5:.0f} mm/s, or {instead}",
        )


def _bands_head(job: Job, bands: Bands) -> tuple[str, ...]:
    """The comment that heads a print of bands."""
    return (
        f"ringing print in bands: outer speed {job.fast_mm_s:g} mm/s, acceleration "
        f"{bands.words} mm/s² from the foot to the top",
        *_made_for(job),
        "the shaper as it is set; the numbers on the plate, front to rear, are the bands upwards",
        "find the highest band without ripples after the steps: left and right walls tell X, front "
        "and rear walls tell Y",
    )


def _bands_steps(bands: Bands, figure: Ringing, time_s: float) -> tuple[str, ...]:
    return (
        "The shaper as you mean to print with it, pressure advance as it is.",
        f"Print the file: about {time_s / 60:.0f} min. The acceleration of the last band stays in "
        "force: set yours again.",
        f"Each band is {figure.band_mm:g} mm high and ends with a rib at the right of the front "
        "wall and at the rear of the right wall. The numbers on the plate inside, front to rear, "
        "are the bands from the foot upwards.",
        "Look in side light, an arm's length away, for ripples after the steps. Left and right "
        "walls tell X, front and rear walls tell Y. Name the highest band in which none is seen.",
        "Let two or three others look too, without telling them the others' answers.",
    )


def _made_for(job: Job) -> tuple[str, ...]:
    return (
        f"for a {job.bed.words}; nozzle {job.nozzle_mm:g}, line {job.width_mm:g} x "
        f"{job.layer_mm:g} mm; {job.temp_c:g} °C, bed {job.bed_temp_c:g} °C",
    )


def _ringing_head(job: Job, sets: bool) -> tuple[str, ...]:
    """The comment that heads the print; `sets`: whether a line of it sets the acceleration."""
    return (
        f"ringing print: walls with sharp steps, outer speed {job.fast_mm_s:g} mm/s, acceleration "
        f"{job.acceleration_mm_s2:g} mm/s²"
        + ("" if sets else ": set it on the printer, no line here does"),
        *_made_for(job),
        "shapers off; ripples after the steps: sides along X (front, rear) tell Y, sides along Y "
        "(left, right) tell X",
        "measure over several ripples, away from the corner, and divide by their number",
    )


def _ringing_steps(job: Job, time_s: float, sets: bool) -> tuple[str, ...]:
    by_hand = (
        f" Set the acceleration to {job.acceleration_mm_s2:g} mm/s² first: the dialect has no line "
        "for it."
    )
    return (
        "Shapers off, pressure advance as it is. Put it where you print most.",
        f"Print the file: about {time_s / 60:.0f} min." + ("" if sets else by_hand),
        "Look in side light for ripples after each step. Front and rear walls tell Y, left and "
        "right walls tell X.",
        "Measure over three to five ripples with the caliper and divide by their number, on two "
        "walls for each axis.",
    )
