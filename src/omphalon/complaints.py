"""From what is seen on a print, or heard at the printer, to what tells: the causes of each
complaint, the likeliest first, among them what no setting mends. One table, which `start`, `bench
next` and the docs read.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from difflib import get_close_matches

from omphalon.errors import UsageError, echoed
from omphalon.tables import table_by


@dataclass(frozen=True, kw_only=True)
class Cause:
    """What may be behind a complaint: in words, and the setting's key whose measurement tells;
    "" where it is no matter of a setting, and what to look at then.
    """

    words: str
    key: str = ""
    look: str = ""


@dataclass(frozen=True, kw_only=True)
class Complaint:
    """What is seen or heard, words by which it is known, and its causes, the likeliest first."""

    seen: str
    known_by: str
    causes: tuple[Cause, ...]


def _no_setting(words: str, look: str) -> Cause:
    return Cause(words=words, look=look)


# likelihoods are judgements
COMPLAINTS: Mapping[str, Complaint] = table_by(
    "seen",
    Complaint(
        seen="corners bulge",
        known_by="corner corners bulge bulges bulging round rounded blob blobs fat ends seam zits",
        causes=(
            Cause(words="too little pressure advance", key="advance"),
            Cause(words="too much plastic on the whole", key="flow"),
            _no_setting("filament that took up water", "dry it, and print a line into the air"),
        ),
    ),
    Complaint(
        seen="lines are thin or broken at corners",
        known_by="thin gap gaps after behind corner corners starved start starts line lines broken",
        causes=(
            Cause(words="too much pressure advance: thin up to the corner", key="advance"),
            Cause(words="too little of it: a bulge, and thin behind it", key="advance"),
            Cause(words="too little plastic on the whole", key="flow"),
            _no_setting("a nozzle that is partly clogged", "push filament through by hand"),
        ),
    ),
    Complaint(
        seen="ripples beside edges",
        known_by="ripple ripples ringing ghost ghosts ghosting echo echoes waves wavy edge edges",
        causes=(
            Cause(words="a resonance that no shaper takes out", key="shaper-x"),
            Cause(words="the bed's or the gantry's resonance", key="shaper-y"),
            _no_setting("a loose belt, wheel or screw", "shake head and bed by hand, power off"),
        ),
    ),
    Complaint(
        seen="the first layer does not stick",
        known_by="first layer stick sticks adhesion peels off lifts warps warping loose bed",
        causes=(
            Cause(words="the nozzle's zero too high", key="probe-offset"),
            Cause(words="a bed that does not hold its temperature", key="bed-gains"),
            _no_setting("grease on the plate", "wash it with soap and water"),
        ),
    ),
    Complaint(
        seen="the first layer is squeezed flat",
        known_by="first layer squeezed flat elephant foot too low scratches nozzle plate ridges",
        causes=(
            Cause(words="the nozzle's zero too low", key="probe-offset"),
            Cause(words="too much plastic on the whole", key="flow"),
        ),
    ),
    Complaint(
        seen="bands up the wall in time with the temperature",
        known_by="band bands banding temperature swings wobbles stripes walls glossy matt heater",
        causes=(
            Cause(words="gains that let the hotend swing", key="hotend-gains"),
            Cause(words="gains that let the bed swing", key="bed-gains"),
            _no_setting("a screw of Z that is bent or dry", "measure the bands: the screw's lead?"),
        ),
    ),
    Complaint(
        seen="the temperature overshoots or will not settle",
        known_by="temperature overshoot overshoots settle swings hot cold heater hotend slow",
        causes=(
            Cause(words="gains that do not fit the hotend", key="hotend-gains"),
            Cause(words="gains that do not fit the bed", key="bed-gains"),
            _no_setting(
                "a sensor that sits loose", "pull at its wires, cold: omphalon heater check"
            ),
        ),
    ),
    Complaint(
        seen="parts are too long or too short",
        known_by="part parts short long size wrong dimensions mm accurate too large small scale",
        causes=(
            Cause(words="steps of an axis", key="steps-x"),
            Cause(words="steps of the other axis", key="steps-y"),
            Cause(words="walls that are too thick", key="flow"),
            _no_setting("plastic that shrinks", "scale the part: some by 0.3 %, some by 2 %"),
        ),
    ),
    Complaint(
        seen="parts are not square",
        known_by="square skew skewed angle lean leaning rhombus parallelogram diagonal",
        causes=(
            _no_setting(
                "axes that are not at a right angle", "omphalon card plan tells by how much"
            ),
            Cause(words="X and Y of unlike steps", key="steps-x"),
        ),
    ),
    Complaint(
        seen="gaps between lines, weak walls",
        known_by="gaps gap between lines weak walls under thin holes missing extrusion too little",
        causes=(
            Cause(words="steps of the extruder", key="steps-e"),
            Cause(words="too little flow", key="flow"),
            _no_setting("a wheel that grinds, a nozzle that clogs", "feed 100 mm by hand and look"),
        ),
    ),
    Complaint(
        seen="walls too thick, blobs all over",
        known_by="thick walls blobs too much over extrusion rough surface full",
        causes=(
            Cause(words="too much flow", key="flow"),
            Cause(words="steps of the extruder", key="steps-e"),
            _no_setting("filament that took up water", "dry it, and print a line into the air"),
        ),
    ),
    Complaint(
        seen="layers are shifted, it loses steps when fast",
        known_by="shift shifted layers lost loses steps fast skips skipping stalls thud bang",
        causes=(
            Cause(words="more speed than a motor has", key="speed-limit-x"),
            Cause(words="more acceleration than a motor has", key="acceleration-limit-x"),
            _no_setting("a pulley whose grub screw is loose", "mark shaft and pulley, and print"),
        ),
    ),
    Complaint(
        seen="it hums and shakes loudly",
        known_by="hum hums loud noise shakes shaking vibrates vibration rattles",
        causes=(
            Cause(words="a resonance that no shaper takes out", key="shaper-x"),
            _no_setting(
                "something loose, or feet that do not stand", "press here and there by hand"
            ),
        ),
    ),
    Complaint(
        seen="threads between parts",
        known_by="thread threads string strings stringing hairs oozing ooze",
        causes=(
            _no_setting("filament that took up water", "dry it, and print a line into the air"),
            Cause(
                words="a nozzle hotter than it says: gains, or a loose sensor", key="hotend-gains"
            ),
            Cause(words="too little pressure advance, and a retraction to suit", key="advance"),
        ),
    ),
)
LEAST_SHARE = 0.5  # of the words that are said
LIKE, NEARLY = 0.8, 0.9  # a word that is misspelt, and what it counts


def complaint_of(said: str) -> Complaint:
    """The complaint that these words mean.

    Raises UsageError if none has most of them; with what is known.
    """
    words = {word.rstrip("s") for word in re.findall(r"[^\W\d_]{3,}", said.lower())}
    words -= {"the", "and", "are", "not", "very", "when", "with", "does", "have", "has"}

    def shared(one: Complaint) -> float:
        known = {w.rstrip("s") for w in re.findall(r"\w{3,}", f"{one.known_by} {one.seen}")}
        near = [word for word in words - known if get_close_matches(word, known, 1, LIKE)]
        return len(words & known) + NEARLY * len(near)

    best = max(COMPLAINTS.values(), key=shared)
    if not words or shared(best) < max(LEAST_SHARE * len(words), NEARLY):
        known = "; ".join(COMPLAINTS)
        raise UsageError(f"--seen '{echoed(said)}': no such complaint", f"one of: {known}")
    return best
