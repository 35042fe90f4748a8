"""What the heater's codes mean, in sentences."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from omphalon.finding import Finding
from omphalon.recording import TemperatureLog
from omphalon.studies.answer import Oddity, Retest
from omphalon.studies.wording import noted, plural, retest_finding, warned
from omphalon.warned import Warned

PLAN = "run the oscillation test that `omphalon heater plan` describes"
REFUSALS = {
    "temperatures-only": (
        "the log has temperatures only: neither power nor target",
        "give the target with --target: the power is then worked out from the turns of the curve; "
        "better log both",
    ),
    "never-reached": (
        "the target of {goal:.0f} °C was never reached: the highest reading is {highest:.1f} "
        "°C{hint}",
        "let the heater get there, or give the right target with --target",
    ),
    "never-switched": (
        "the power never changes in this log: the heater was not switched",
        f"{PLAN}, and log its power",
    ),
    "hardly-switched": ("the heater switches fewer than twice in this log", PLAN),
    "few-cycles": (
        "{counted} in the log, at least {fewest} are needed",
        "repeat the test with more cycles: `omphalon heater plan --cycles 8`",
    ),
    "cycles-elsewhere": (
        "the cycles lie about {level:.0f} °C, the target is {goal:g} °C{hint}",
        "give the target that was in force: --target",
    ),
    "loose": (
        "the temperature does not follow the switching: its phase against the power is different "
        "in "
        "every cycle",
        "check that temperature and power are those of the same heater (--heater, --column)",
    ),
    "out-of-phase": (
        "the temperature does not follow the switching: its phase against the power is "
        "{phase:.0f}°, not near -180°",
        "check that temperature and power are those of the same heater (--heater, --column)",
    ),
    "no-swing": (
        "the swing of ±{swing:.2f} °C hardly stands out of noise ({noise:.2f} °C) and display "
        "steps "
        "({quantum:.2f} °C)",
        "log with a finer display, or let the test swing wider",
    ),
    "too-hot-for-it": (
        "the log reaches {top:.0f} °C: no {heater} does",
        "°F? name the column temp_f; or is it another heater (--heater)? A {heater} ends at "
        "{most:g} "
        "°C",
    ),
    "shifted": (
        "the model follows the log only if the heater switched {late:.1f} s off the times that "
        "power "
        "and curve tell: something else moved the temperature",
        "repeat the test with fan, room and target left alone, and log the power that is really "
        "put "
        "out",
    ),
    "misses": (
        "the model misses the log by {miss:.2f} °C near the target, where noise and display steps "
        "explain {sensor:.2f} °C: something else moved the temperature",
        "repeat the test with fan, room and target left alone, and with a report every second or "
        "faster",
    ),
    "unsure": (
        "whether the present gains are worse cannot be told: on {share:.0%} of what the heater "
        "may be "
        "they are as good",
        "log again with a report every 0.5 s or faster, more cycles, and nothing else changing",
    ),
    "short-log": (
        "the log (or the part chosen) is too short to judge a loop",
        "log from before the heat-up to some minutes into the hold",
    ),
    "ends-early": (
        "the log ends before the loop has held its target",
        "log on for a few minutes after the arrival",
    ),
    "never-near": (
        "the log never comes near {goal:g} °C: its highest reading is {highest:.1f} °C",
        "give the target that was in force: --target; or log until the loop holds",
    ),
}
HINTS = {
    "": "",
    "target": ": is the target in °F?",
    "log": ": are the log's temperatures °F? (name the column temp_f)",
}
ODDITIES = {
    "other-target": "the log's own target is {own:g} °C, not the {given:g} °C that was given",
    "switches-about": "no target in the log; it switches about {goal:g} °C",
    "no-power": "the log has no power; full power is taken where the reading is below the target, "
    "none where it is above",
    "off-curve": "{counted} far off the curve passed over, the first {first:.0f} s into the log",
    "off-model": "{counted} more than {limit:.1f} °C off the model passed over",
    "stands-still": "the reading stands still at {level:.2f} °C from {since:.0f} s into the log",
    "targets": "targets of {targets} °C in the log; the longest stretch, at {used:g} °C, was used",
    "switched-off": "the heater was switched off in the middle of the log; the longest stretch, at "
    "{used:g} °C, was used",
    "gaps": "{counted} in the log, the longest {longest:.0f} s",
    "drift": "holding took {first:.0%} of full power in the first cycles, {last:.0%} in the last",
    "above-allowed": "the log reaches {top:.1f} °C, above the {allowed:g} °C allowed",
    "jumps": "the reading jumps by {size:.0f} °C in one report, {counted}, first after "
    "{first:.0f} s",
    "rises-alone": "the temperature rises by {rise:.0f} °C while the power is 0, {start:.0f} to "
    "{end:.0f} s into the log",
    "hotter-than-usual": "the log reaches {top:.0f} °C; a {heater} rarely passes {usual:g}: °F?",
    "too-fast": "it heats by {pace:.1f} °C/s, which no bed does: a hotend's log?",
    "follows-loosely": "the model follows the log to {miss:.2f} °C near the target; noise and "
    "display "
    "steps explain {sensor:.2f} °C",
    "two-heaters": "log 1 and log {number} do not show the same heater: the cycles' {name} is "
    "{one:.3g} in one and {two:.3g} in the other",
    "swings-otherwise": "at the cycles' period of {period:.1f} s the model swings {ratio:.2f} "
    "times "
    "what was measured, {phase:+.0f}° apart",
    "thin": "peak sensitivity {sensitivity:.2f} (2 is calm, 3 is thin)",
    "seldom": "one report in {usual:.1f} s for cycles of {period:.1f} s",
    "nearly-all": "holding takes {holding:.0%} of full power before the part fan comes on",
    "never-full": "the power in the log never passes {most:.0%}, and {limit:.0%} is allowed",
}
# what is counted in a sentence
NOUNS = {
    "off-curve": "single report",
    "off-model": "report",
    "gaps": "gap",
    "jumps": "time",
    "few-cycles": "full cycle",
}
# row of a check → label, unit, decimals
ROWS = {
    "arrival_s": ("arrival", "s", 0),
    "creep_s": ("late by", "s", 0),
    "overshoot_c": ("overshoot", "°C", 2),
    "settle_s": ("settled at", "s", 0),
    "ripple_c": ("ripple", "°C", 2),
    "bias_c": ("bias", "°C", 2),
    "dip_c": ("dip, fan on", "°C", 2),
    "recovery_s": ("back after", "s", 0),
    "noise_c": ("sensor noise", "°C", 2),
    "jumps": ("sensor jumps", "", 0),
    "mean_power": ("mean power", "% of its most", 0),
    "busy": ("power at an end", "% of the hold", 0),
    "chatter": ("power moves", "% a report", 0),
}
TAME = (
    "it creeps to the target, or comes back late",
    "gains too tame: run the oscillation test and fit again, or --aim quick",
)
# sign of a bad loop → what it means, what to do
SIGNS = {
    "loose sensor": (
        "the reading jumps by more than a heater can do",
        "seat the sensor and check its plug; then log again",
    ),
    "power too weak": (
        "full power does not hold the target",
        "insulate the block, lower the fan or the target, or fit a stronger heater; gains cannot "
        "help",
    ),
    "sensor noise": (
        "the readings scatter more than a sound sensor's",
        "check wiring and shielding first; then fit with --aim gentle",
    ),
    "oscillating": (
        "the hold swings to and fro",
        "gains too hot: run the oscillation test and fit again",
    ),
    "windup": (
        "one long overshoot: the integral filled up during the heat-up",
        "let the integral start only near the target, or lower ki; fit again",
    ),
    "hot": (
        "it overshoots, or its power bangs between the limits while it holds",
        "gains too hot: run the oscillation test and fit again, or --aim gentle",
    ),
    "slow": TAME,
    "biased": (
        "the hold stands off the target",
        "ki is missing or its limit is reached: fit again",
    ),
}


def heater_warnings(
    oddities: Sequence[Oddity], logs: Sequence[TemperatureLog]
) -> tuple[Warned, ...]:
    """What was odd, and what the readers noted, each once."""
    return tuple(dict.fromkeys((*warned(map(_counted, oddities), ODDITIES), *noted(*logs))))


def refusal(kind: str, retest: Retest, logs: Sequence[TemperatureLog]) -> Finding:
    """A refusal in words."""
    facts = dict(retest.facts)
    facts["hint"] = HINTS[str(facts.get("fahrenheit", ""))]
    if retest.reason in NOUNS:
        facts["counted"] = plural(int(str(facts["count"])), NOUNS[retest.reason])
    filled = Retest(retest.reason, facts, tuple(map(_counted, retest.oddities)))
    return retest_finding(kind, filled, REFUSALS, ODDITIES, noted(*logs))


def _counted(oddity: Oddity) -> Oddity:
    """An oddity whose count is a number with its noun."""
    noun = NOUNS.get(oddity.sentence)
    if noun is None:
        return oddity
    counted = plural(int(str(oddity.facts["count"])), noun)
    return replace(oddity, facts={**oddity.facts, "counted": counted})
