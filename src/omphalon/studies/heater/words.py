"""The rows and lines in which a heater's answer is shown."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from omphalon.finding import Shown, digits
from omphalon.lines.dialect import Dialect
from omphalon.physics.loop import Gains
from omphalon.physics.oscillation import Ultimate
from omphalon.physics.thermal import ThermalFit
from omphalon.recording import TemperatureLog
from omphalon.studies.heater.excerpt import Excerpt, heater_at
from omphalon.studies.heater.tuning import HeaterQuestion, Tuned, fan_blew, promised_range

UNITS = {"kp": "per °C", "ki": "per °C·s", "kd": "per °C/s"}


def headline(
    heater: str,
    target_c: float,
    scaled: Gains,
    half: tuple[float, float, float],
    old: Gains | None,
    scale: float,
) -> tuple[Shown, ...]:
    """The settings, old and new, each with its spread; the gain with its times below."""
    rows = [
        Shown(
            f"{heater} at {target_c:.0f} °C", ("present", "new", "", f"(full power is {scale:g})")
        )
    ]
    for name, share in zip(UNITS, half, strict=True):
        new = getattr(scaled, name)
        before = "–" if old is None else digits(getattr(old, name))
        rows.append(
            Shown(
                name,
                (
                    before,
                    digits(new, share * new),
                    "± " + digits(share * new, least=2),
                    UNITS[name],
                ),
            )
        )
    if scaled.ki > 0:
        rows.append(
            Shown(
                "as times",
                (
                    "",
                    "",
                    "",
                    f"kp, integral {digits(scaled.kp / scaled.ki)} s, "
                    f"derivative {digits(scaled.kd / scaled.kp)} s",
                ),
            )
        )
    return tuple(rows)


def assumed(
    logs: Sequence[TemperatureLog], question: HeaterQuestion, gain_scale: float, tuned: Tuned
) -> str:
    """What was taken for granted, in one line: fan, scale of power, the controller's period and
    filter.
    """
    heater = question.heater or heater_at(tuned.loop.target_c)
    fan = "on" if fan_blew(heater, question) else "off"
    told = "" if question.fan_on is not None else " (--fan if not: it weighs most)"
    scale = logs[0].power_scale
    power = "no power in the log" if scale is None else f"{scale:g} is full power in the log"
    return (
        f"part fan {fan} during the test{told}; {power}, {gain_scale:g} in the gains; the "
        "controller works every "
        f"{tuned.loop.period_s:g} s, its derivative filtered over {tuned.loop.filter_s:g} s, up "
        f"to {tuned.loop.limit:.0%} of power"
    )


def rows(
    tests: Sequence[Excerpt], fit: ThermalFit, tuned: Tuned, cycle: Ultimate, taken: str
) -> tuple[Shown, ...]:
    """The evidence as a small table."""
    test, m = tests[0], fit.model
    (gain, period), spread = (
        np.median(tuned.ultimates, axis=0),
        1.96 * np.std(tuned.ultimates, axis=0, ddof=1),
    )

    def measured(value: float, spread: float, unit: str) -> str:
        return f"{digits(value, spread, 2)} ± {digits(spread, least=2)} {unit}"

    found = [
        Shown(
            "cycles",
            (
                f"{test.found.count} of {measured(cycle.period_s, cycle.period_spread_s, 's')}, "
                f"swing ±{test.swing_c:.2f} °C, noise {test.noise_c:.2f} °C",
            ),
        ),
        Shown(
            "ultimate gain",
            (f"{measured(cycle.gain, cycle.gain_spread, 'per °C')}, phase {cycle.phase_deg:.0f}°",),
        ),
        Shown(
            "model",
            (
                f"{'one mass' if fit.masses == 1 else 'two masses'}, {m.holding_power:.0%} of "
                "full power holds "
                f"{test.target_c:.0f} °C",
            ),
        ),
        Shown(
            "its own limit",
            (
                f"{measured(gain, spread[0], 'per °C')}, period "
                f"{measured(period, spread[1], 's')}, "
                f"dead time {measured(m.dead_time_s, fit.spread('dead_time_s'), 's')}",
            ),
        ),
    ]
    found.append(
        Shown("predicted", ("overshoot", "settled at", "dip, fan on", "ripple", "sensitivity"))
    )
    over, dip = (
        "{:.2f}–{:.2f}".format(*promised_range(v[:, 0]))
        for v in (tuned.doubt.overshoot_c, tuned.doubt.dip_c)
    )
    for n, label in enumerate(tuned.labels):
        run = tuned.run
        found.append(
            Shown(
                "  " + label,
                (
                    f"{run.overshoot_c[0, n]:.2f} °C",
                    f"{run.settle_s[0, n]:.0f} s",
                    f"{run.dip_c[0, n]:.2f} °C",
                    f"{run.ripple_c[0, n]:.2f} °C",
                    f"{tuned.sensitivity[n]:.2f}",
                ),
            )
        )
        if n == 0:
            found.append(Shown("    95 % range", (over, "", dip, "", "2 calm, 3 thin")))
    found.append(Shown("assumed", (taken,)))
    return tuple(found)


def number_lines(dialect: Dialect, heater: str, scaled: Gains) -> tuple[str, ...]:
    """The lines that set, store and list the gains, or the values as a comment where the dialect
    has no code.
    """
    fields = {"kp": scaled.kp, "ki": scaled.ki, "kd": scaled.kd}
    line = dialect.line(f"{heater}-gains", **fields)
    if line is None:
        line = f"; {heater} gains: kp {scaled.kp:.5g}, ki {scaled.ki:.5g}, kd {scaled.kd:.5g}"
    return tuple(x for x in (line, dialect.line("store"), dialect.line("list")) if x is not None)
