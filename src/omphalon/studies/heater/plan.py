"""How to run the oscillation test on this printer."""

from __future__ import annotations

from omphalon.constants import OVER_TARGET_C
from omphalon.errors import UsageError
from omphalon.finding import Plan
from omphalon.heaters import is_hotend, kind_of
from omphalon.lines.dialect import Dialect
from omphalon.quantities import QUANTITIES
from omphalon.remarks import Remark
from omphalon.units import is_usual

LOWEST_TARGET_C = 35.0


def plan_heater(heater: str, target_c: float | None, cycles: int, dialect: Dialect) -> Plan:
    """The steps of the test and the line that starts it.

    Parameters
    ----------
    heater : hotend or bed
    target_c : None: a usual one
    cycles : to run
    dialect : the line that starts the test

    Raises
    ------
    UsageError
        If the target is no printing one.
    """
    goal = kind_of(heater).usual_target_c if target_c is None else target_c
    quantity = QUANTITIES[f"{heater} temperature"]
    if not LOWEST_TARGET_C <= goal <= quantity.highest:
        raise UsageError(
            f"--target {goal:g}: not a {heater}'s temperature",
            f"give one from {LOWEST_TARGET_C:g} to {quantity.highest:g} °C, the one you print at "
            f"({quantity.slip})",
        )
    odd = Remark("unusual-target", {"goal": goal, "heater": heater})
    warnings = () if is_usual(goal, quantity) else (odd,)
    start = dialect.line(
        f"{heater}-oscillation", index=kind_of(heater).index, target=goal, cycles=cycles
    )
    return Plan(
        "heater-plan",
        f"Oscillation test of the {heater} at {goal:g} °C",
        (
            "Fit what you print with: block, nozzle, sock, fan duct."
            if is_hotend(heater)
            else "Put the plate on that you print on, and close the door if you print with it "
            "closed.",
            *(
                (
                    "Park the nozzle in the middle, 5 to 10 mm above the bed, nothing loaded to "
                    "ooze on it.",
                    "Part fan on at the speed you print with, and left alone until the end.",
                )
                if is_hotend(heater)
                else ("Part fan off, hotend off; no draught over the plate.",)
            ),
            "Start from room temperature, settled: off for half an hour at least.",
            "Log temperature, target and power at least once a second, with time stamps, from "
            "start to end.",
            f"Start the test at the temperature you print at ({goal:g} °C), {cycles} cycles, "
            + (
                "with the line below."
                if start
                else "with your controller's own test: this dialect has no line."
            ),
            "See that the controller's own guards are on (a reading that stands still, a heater "
            "that runs away): what watches from a computer ends with it.",
            "Stay beside it. Pull the plug if the reading stands still while heating, jumps, or "
            f"passes {goal + OVER_TARGET_C:g} °C.",
            "Save the log as text: a CSV, or what the console showed.",
        ),
        () if start is None else (start,),
        f"omphalon heater fit LOG --heater {heater} --target {goal:g}"
        + (" --fan on" if is_hotend(heater) else ""),
        warnings=warnings,
        settings={"heater": heater, "target_c": goal, "cycles": cycles},
    )
