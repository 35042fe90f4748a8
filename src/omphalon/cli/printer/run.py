"""What capture and tune share: a heater put through a course, the log of it kept."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import click

from omphalon.cli.benched import held
from omphalon.cli.common import choice, number, options, tool_option
from omphalon.constants import OVER_TARGET_C, STEP_C
from omphalon.errors import UsageError
from omphalon.heaters import KINDS, kind_of, of_tool, tool_of

if TYPE_CHECKING:
    from omphalon.lines.dialect import Dialect
    from omphalon.printer.capture import Captured
    from omphalon.printer.course import Course
    from omphalon.printer.kept import KeptPrinter

heated = options(
    click.option(
        "--heater",
        "which",
        type=choice(*KINDS),
        default="hotend",
        show_default=True,
        help="Which heater.",
    ),
    tool_option,
    number(
        "--target",
        "temperature",
        "The temperature you print at.  [210 hotend, 60 bed, 50 chamber]",
        least=35,
    ),
    number("--cycles", "count", "Of the oscillation test.", within=(3, 30), default=8),
    number(
        "--max-temp",
        "temperature",
        f"Heaters off above this.  [{OVER_TARGET_C:g} above the target]",
    ),
    click.option("--warm", is_flag=True, help="Do not wait until it is cold."),
    click.option("--force", is_flag=True, help="Replace files that Omphalon did not write."),
    click.option("--quiet", is_flag=True, help="Show no picture meanwhile."),
)


def one_heater(kind: str, tool: int | None) -> str:
    """The heater by its name; only a hotend is a tool's."""
    if tool and kind != "hotend":
        raise UsageError(f"--tool {tool} --heater {kind}", "a tool's heater is a hotend")
    return of_tool(kind, tool)


def goal_of(target: float | None, heater: str) -> float:
    """The target; where none is given the one that `heater plan` takes."""
    return kind_of(heater).usual_target_c if target is None else target


def course_of(
    dialect: Dialect, run: str, heater: str, target: float, cycles: int, fan: bool
) -> Course:
    """The course that a run is."""
    from omphalon.printer.course import HeatAndHold, Oscillation

    kind = kind_of(heater)
    if run != "oscillation":
        goal, lower = (
            dialect.line(f"{kind.name}-target", target=t) for t in (target, target - STEP_C)
        )
        if goal is None or lower is None:
            raise _no_line(dialect, f"{kind.name}-target")
        calm, blow = dialect.line("fan-off"), dialect.line("fan", counts=255)
        later = {
            "hold": [(kind.fan_after_s, blow)] if blow and kind.fan_after_s else [],
            "heat-up": [],
            "step": [(kind.hold_s, lower), (2 * kind.hold_s, goal)],
        }
        whole = kind.hold_s * (3 if run == "step" else 1)
        return HeatAndHold(heater, target, [*([calm] if calm else []), goal], later[run], whole)
    line = dialect.line(f"{kind.name}-oscillation", index=kind.index, target=target, cycles=cycles)
    if line is None:
        raise _no_line(dialect, f"{kind.name}-oscillation")
    return Oscillation(
        line, heater, target, dialect.line("fan", counts=255) if fan else None, cycles
    )


def _no_line(dialect: Dialect, setting: str) -> UsageError:
    own = f"tool-{setting}" if dialect.tool else setting
    return UsageError(f"the dialect {dialect.name} has no line {own}", "add it: --dialect FILE")


def refuse_low_limit(max_temp: float | None, target: float) -> None:
    """A limit that the target itself passes would end every run."""
    if max_temp is not None and max_temp <= target:
        raise UsageError(
            f"--max-temp {max_temp:g}: not above the target of {target:g} °C",
            f"leave it out for {OVER_TARGET_C:g} °C above the target",
        )


def run_course(
    printer: KeptPrinter,
    course: Course,
    heater: str,
    *,
    out: str | None,
    quiet: bool,
    max_temp: float | None = None,
    every: float = 1.0,
) -> Captured:
    """Put the printer through a course with a view of it."""
    from omphalon.report.live import view_for

    if every >= 1 or course.start():
        printer.ask_for_reports(every)
    with view_for(quiet, passing=out is None) as view:
        return printer.run(
            course,
            heater,
            view.show,
            out=out,
            every_s=every,
            max_temp_c=max_temp,
            arrives_s=arrives_within(heater, getattr(course, "target_c", None)),
        )


def arrives_within(heater: str, target_c: float | None) -> float | None:
    """How long a heater may take to a target, by the model that the bench's last fit found: twice
    its rise at full power, and a minute; None where no bench knows it.
    """
    found = held()
    entries = [] if found is None else found[0].journal.entries(kind="finding")
    whose = (kind_of(heater).name, tool_of(heater))
    for entry in entries:
        document = entry.body["document"]
        evidence = document["evidence"]
        own = (evidence.get("heater"), document.get("tool", 0)) == whose
        if entry.subject == "heater-fit" and own and target_c and evidence["model"]:
            model = evidence["model"]
            share = (target_c - model["ambient_c"]) / model["gain_c"]
            if not 0 < share < 1:
                return None
            return 60.0 - 2 * float(model["time_constant_s"]) * math.log(1 - share)
    return None


def cool_down(printer: KeptPrinter, heater: str, quiet: bool) -> None:
    """Wait until a heater is cold, where it is not."""
    from omphalon.printer.course import Cooling

    run_course(printer, Cooling(), heater, out=None, quiet=quiet)
