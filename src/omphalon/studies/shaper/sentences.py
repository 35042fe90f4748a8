"""What the shaper's codes mean, in sentences."""

from __future__ import annotations

REFUSALS = {
    "few-taps": (
        "{log}: {count} taps stand out of the log, {fewest} at least are needed",
        "tap eight times, two seconds apart, each harder than the noise; or run a sweep",
    ),
    "no-decays": (
        "{log}: no free decays stand out of the noise",
        "tap harder; if the log holds a sweep, leave out --kind taps",
    ),
    "no-sweep": (
        "{log}: no sweep runs through this log",
        "log a slow sweep of one axis, 8 to 120 Hz in two minutes or more; for taps give --kind "
        "taps",
    ),
    "narrow": (
        "{log}: the test shows only {low:.0f} to {high:.0f} Hz",
        "sweep from 5 or 10 Hz to 100 Hz or more",
    ),
    "faint": (
        "{log}: the sweep hardly stands out of the noise on the sensor's {sensor}",
        "sweep with more acceleration, mount the sensor firmly, or name its axis (--sensor-x, "
        "--sensor-y)",
    ),
    "short": (
        "{log}: {duration:.1f} s are too short",
        "log the whole test, with a second before and after",
    ),
    "still": ("{log}: the readings never change", "check the sensor's wiring and its rate"),
    "clipped": (
        "{log}: the sensor's {sensor} is clipped at {end:.0f} m/s², {times} times",
        "sweep with less acceleration, or set the sensor to a wider range",
    ),
    "lost": (
        "{log}: {share:.0%} of the samples are missing",
        "use a shorter cable or a slower rate; log the test again",
    ),
    "gap": ("{log}: a gap of {gap:.2f} s at {at:.1f} s", "log the test again in one piece"),
    "slow-samples": (
        "{log}: {rate:.0f} samples a second are too few for a sweep to {highest:.0f} Hz or more",
        "sample at least {enough:.0f} times a second, or end the sweep lower",
    ),
    "patchy": (
        "{log}: the sweep is seen in only {share:.0%} of its frequencies",
        "sweep with more acceleration, and mount the sensor firmly",
    ),
    "no-such-ripples": (
        "axis {axis}: ripples {spacing:g} mm apart at {speed:g} mm/s make {frequency:.0f} Hz",
        "no frame swings so; measure over several ripples and divide, and check the wall's speed",
    ),
    "short-rest": (
        "{log}: {duration:.1f} s are too short",
        "log five seconds of the sensor, with nobody near the printer",
    ),
    "all-still": (
        "{log}: the readings never change: the sensor is dead, or its step larger than its noise",
        "tap it while it logs; if still nothing changes, check its wiring",
    ),
    "moved": (
        "{log}: the sensor's {sensor} changes by {much:.2g} m/s² on the way: turned or pushed",
        "log five seconds in which nobody touches it",
    ),
    "knocked": (
        "{log}: the sensor's {sensor} jumps by {much:.2g} m/s²: somebody knocked, or its wires are "
        "loose",
        "log five seconds in which nobody touches it; if it jumps again, look at plug and wires; "
        "if the log holds a sweep, leave out --kind rest",
    ),
    "all-clean": (
        "{some} of {count} looks found no ripple up to the last band of {to:g} mm/s²",
        "print bands that reach further, until ripple is plain to see",
    ),
    "none-clean": (
        "{some} of {count} looks found ripple in the first band of {from_:g} mm/s² already",
        "print bands that start lower; if the first still ripples, fit the shaper anew",
    ),
    "unsure-eyes": (
        "ripple starts to be seen at {value:.0f} ± {half_width:.0f} mm/s²: too wide to hold "
        "against a limit",
        "let two or three more look, each without hearing what the last one said",
    ),
    "ripples-apart": (
        "axis {axis}: the ripples' spacings differ by {share:.0%}",
        "measure over several ripples and divide by their number; two frequencies need a sensor",
    ),
}
ODDITIES = {
    "missing": "samples are missing for up to {gap:.0f} ms",
    "hardly-moves": "{log}: the sensor's {sensor} hardly moves; its {most} moves most",
    "upright": "{log}: the sensor's {sensor} points up or down, but axis {axis} does not",
    "skewed": "{log}: a second axis of the sensor moves {share:.0%} as much as the first",
    "spread-out": "axis {axis}: the motion is spread over {count} resonances",
    "broad": "axis {axis}: the resonance at {frequency:.0f} Hz is broad (damping {damping:.2f})",
    "unexplained": "axis {axis}: the modes leave {share:.0%} of the response unexplained",
    "gravity": "gravity reads {size:.2f} m/s², not 9.81: the unit or the sensor's scale is off",
    "tilted": "gravity lies {tilt:.0f}° off the sensor's {sensor}: it is mounted askew",
    "axis-still": "the sensor's {sensor} never changes: it is dead, or its step is larger than its "
    "noise",
    "hum": "something hums at {frequency:.0f} Hz with {size:.2f} m/s²",
    "ripples": "axis {axis}: one frequency, its damping assumed as {damping:g}; what else swings "
    "is "
    "not seen",
    "one-looker": "one look at the bands was taken on trust",
    "one-spacing": "axis {axis}: a single spacing",
    "swapped-files": "the log given for x moves the sensor's y, and the one for y its x",
}
# what makes a sensor at rest unfit for a sweep, and what to do
UNFIT = {
    "slow": (
        "{rate:.0f} samples a second are too few: a sweep to 130 Hz needs {enough:.0f}",
        "raise the sensor's rate, 1000 a second or more",
    ),
    "lossy": (
        "{share:.0%} of the samples are missing",
        "use a shorter cable or a slower rate",
    ),
    "broken": (
        "a gap of {gap:.2f} s at {at:.1f} s",
        "let nothing else run on the machine that logs, use a shorter cable or a slower rate",
    ),
    "noisy": (
        "the sensor's {sensor} is too noisy: {noise:.0f} mm/s²/√Hz",
        "check plug, wires and supply; set a narrower range; or use another sensor",
    ),
}
LIMITED = {
    "ringing": "ringing",
    "rounding": "rounding",
    "both": "ringing and rounding alike",
}
