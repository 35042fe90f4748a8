"""What a controller printed at the end of its own test: labelled numbers in any order and wording,
found by the trade's words.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from omphalon.readers.text import LOG, read_text
from omphalon.recordings.reports import LONGEST_REPORT, report_of
from omphalon.tables.units import plain_number

# what is labelled → the words for it
WORDS = {
    "low": r"low(?:est)?|min(?:imum)?",
    "high": r"high(?:est)?|max(?:imum)?",
    "bias": r"bias|middle",
    "half": r"d|half(?:[ _-]?width)?",
    "gain": r"k_?u|k_?cr|ultimate[ _]gain",
    "period": r"t_?u|p_?u|t_?cr|(?:ultimate[ _])?period",
    "kp": r"k_?p|proportional",
    "ki": r"k_?i|integral",
    "kd": r"k_?d|derivative",
}
NUMBER = r"[-+]?\d+(?:[.,]\d+)?(?:[eE][-+]?\d+)?"
LABELLED = re.compile(
    rf"(?<![A-Za-z_])(?:{'|'.join(f'(?P<{name}>{words})' for name, words in WORDS.items())})"
    rf"(?![A-Za-z])(?:[ _][A-Za-z]{{1,11}}){{0,2}}[\"' \t]*[:=]?[ \t]*(?P<number>{NUMBER})"
    r"\s?(?P<unit>ms\b)?",
    re.IGNORECASE,
)
LETTER = re.compile(r"[A-Za-z]")  # a row of a table has none, and there may be many
FEWEST_CYCLES = 3  # cycles: two words like low and high may stand in any text


@dataclass(frozen=True, kw_only=True)
class ControllerResult:
    """Cycles as (lowest, highest, length; °C, s; a length of None: it names none), the power's
    middle and half width in its counts, ultimate gain and period (s), gains; None where it says
    nothing of them.
    """

    cycles: tuple[tuple[float, float, float | None], ...]
    bias: float | None = None
    half: float | None = None
    gain: float | None = None
    period_s: float | None = None
    gains: tuple[float, float, float] | None = None

    @property
    def of_test(self) -> bool:
        """Whether its gains come from a test, and are not merely listed."""
        return bool(self.cycles) or self.gain is not None or self.period_s is not None

    @property
    def tells(self) -> bool:
        """Whether it can answer for a log that there is not."""
        return len(self.cycles) >= FEWEST_CYCLES or self.gains is not None


def controller_result(path: str) -> ControllerResult:
    """What a text holds of a controller's own result. Of figures that are named again and again the
    last one counts.
    """
    last: dict[str, float] = {}
    cycles: list[tuple[float, float, float | None]] = []
    waiting: dict[str, float] = {}
    for line in read_text(path, LOG).lines:
        line = line[:LONGEST_REPORT]
        if LETTER.search(line) is None or report_of(line) is not None:
            continue
        found = dict(_labelled(line))
        waiting |= {name: found[name] for name in ("low", "high") if name in found}
        if len(waiting) == 2:
            cycles.append((waiting["low"], waiting["high"], _above_zero(found.get("period"))))
            waiting = {}
        last |= found
    gains = [last[name] for name in ("kp", "ki", "kd") if name in last]
    return ControllerResult(
        cycles=tuple(cycles),
        bias=last.get("bias"),
        half=last.get("half"),
        gain=_above_zero(last.get("gain")),
        period_s=_above_zero(last.get("period")),
        gains=(gains[0], gains[1], gains[2]) if len(gains) == 3 else None,
    )


def _above_zero(value: float | None) -> float | None:
    """A gain or a length; what is 0 or less is none."""
    return value if value is not None and value > 0 else None


def _labelled(line: str) -> Iterator[tuple[str, float]]:
    """Each labelled number of a line, by what it is."""
    for found in LABELLED.finditer(line):
        name = next(n for n in WORDS if found[n])
        value = plain_number(found["number"])
        yield name, value / 1000 if found["unit"] else value
