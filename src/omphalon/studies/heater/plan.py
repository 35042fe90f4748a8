"""How to run a test of a heater on this printer."""

from __future__ import annotations

from dataclasses import dataclass

from omphalon.answers.commands import Prose, command, prose
from omphalon.answers.finding import Plan
from omphalon.answers.remarks import Remark
from omphalon.base.errors import UsageError
from omphalon.lines.dialect import Dialect
from omphalon.tables.constants import OVER_TARGET_C, STEP_C
from omphalon.tables.heaters import HEATERS
from omphalon.tables.quantities import QUANTITIES
from omphalon.tables.units import is_usual

LOWEST_TARGET_C = 35.0  # lower, a room may hold it
TITLES = {
    "oscillation": "Oscillation test",
    "step": "Step of the target and back",
    "heat-up": "Heat-up and hold",
}


@dataclass(frozen=True, kw_only=True)
class HeaterTest:
    """Which heater, its target (None: a usual one), and how it is excited: by the controller's own
    test of so many cycles, by a step of the target and back, or by a heat-up and a hold.
    """

    heater: str
    target_c: float | None = None
    cycles: int = 8
    style: str = "oscillation"

    @property
    def goal_c(self) -> float:
        """The target."""
        return HEATERS[self.heater].usual_target_c if self.target_c is None else self.target_c


def plan_heater(test: HeaterTest, dialect: Dialect) -> Plan:
    """The steps of the test and the lines that run it.

    Raises UsageError if the target is no printing one.
    """
    heater, goal = test.heater, test.goal_c
    quantity = QUANTITIES[f"{heater} temperature"]
    if not LOWEST_TARGET_C <= goal <= quantity.highest:
        raise UsageError(
            f"--target {goal:g}: not a {heater}'s temperature",
            f"give one from {LOWEST_TARGET_C:g} to {quantity.highest:g} °C, the one you print at "
            f"({quantity.slip})",
        )
    odd = Remark("unusual-target", goal=goal, heater=heater)
    lines, run = _run(test, dialect)
    own = test.style == "oscillation"
    fan = "on" if heater == "hotend" and own else None
    return Plan(
        "heater-plan",
        f"{TITLES[test.style]} of the {heater} at {goal:g} °C",
        (
            *_made_ready(heater, own),
            "Start from a settled room temperature: heaters off for at least half an hour. When "
            "cold, hotend and bed should read the same; if not, a sensor is of the wrong type.",
            "Log temperature, target and power at least once a second, with time stamps, from "
            "start to end.",
            *run,
            "See that the controller's own guards are on (a reading that stands still, a heater "
            "that runs away): a computer that watches may fail.",
            "Stay beside it. Pull the plug if the reading stands still while heating, jumps, or "
            f"passes {goal + OVER_TARGET_C:g} °C.",
            "Save the log as text: a CSV, or what the console showed.",
        ),
        lines,
        prose(command("heater fit", "LOG", heater=heater, target=goal, fan=fan)),
        warnings=() if is_usual(goal, quantity) else (odd,),
        settings={"heater": heater, "target_c": goal, "cycles": test.cycles, "style": test.style},
    )


def _made_ready(heater: str, own: bool) -> tuple[str, ...]:
    """What stands ready before anything is heated."""
    if heater != "hotend":
        return (
            "Put on the plate that you print on, and close the door if you print with it closed.",
            "Part fan off, hotend off; no draught over the plate.",
        )
    fan = (
        "Part fan on at printing speed; leave it alone until the end."
        if own
        else "Part fan off until the end."
    )
    return (
        "Mount everything as when you print: block, nozzle, sock, fan duct.",
        "Park the nozzle in the middle, 5 to 10 mm above the bed, with no filament loaded.",
        fan,
    )


def _run(test: HeaterTest, dialect: Dialect) -> tuple[tuple[str, ...], tuple[str | Prose, ...]]:
    """The lines, and what to do with them."""
    kind, goal = HEATERS[test.heater], test.goal_c
    if test.style == "oscillation":
        start = dialect.line(
            f"{kind.name}-oscillation", index=kind.index, target=goal, cycles=test.cycles
        )
        how = "the line below" if start else "your controller's own test: this dialect has no line"
        step = f"Start the test at the temperature you print at ({goal:g} °C), {test.cycles} cycles"
        return (() if start is None else (start,)), (f"{step}, with {how}.",)
    minutes = f"{kind.hold_s / 60:.0f} min"
    goals = (goal, goal - STEP_C, goal) if test.style == "step" else (goal,)
    found = [dialect.line(f"{kind.name}-target", target=each) for each in (*goals, 0)]
    words = " then ".join(f"{each:g} °C, and {minutes} after it is reached;" for each in goals)
    return tuple(line for line in found if line is not None), (
        f"Set the target, a line below for each: {words} then off. Any gains that hold it will do.",
        prose(
            "Or let a capture do it, which also saves the log:",
            command(
                "printer capture",
                run=test.style,
                heater=kind.name,
                target=goal,
                out=f"{test.style}.csv",
            ),
        ),
    )
