"""The forms in which controllers take gains (kp, ki and kd, times, a band, per loop), and
what must be known of a loop to write them.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, fields
from typing import TypedDict, cast

FORMS = ("kp", "ki", "kd", "ti", "td", "kp_percent_band", "ki_per_loop", "kd_per_loop")
# one of each must be in the line of gains
GAIN_FORMS = (("kp", "kp_percent_band"), ("ki", "ti", "ki_per_loop"), ("kd", "td", "kd_per_loop"))
# form → what must be known of the loop to write it
NEEDS = {"kp_percent_band": "span_c", "ki_per_loop": "period_s", "kd_per_loop": "period_s"}
_OF_FIT = ("period_s", "filter_s", "band_c")


class LoopFigures(TypedDict, total=False):
    """What a fit of gains needs to know of a loop, by the names of its question."""

    loop_period_s: float
    filter_s: float
    band_c: float


@dataclass(frozen=True, kw_only=True)
class ControlLoop:
    """What is known of a controller's loop (None: nothing; its full power is taken as a byte's).

    `period_s`: how often it works. `filter_s`: time constant of its derivative's filter. `band_c`:
    how near the target it starts to act. `full_power`: what stands for it in its gains. `span_c`:
    the range that its proportional band is a percentage of.
    """

    period_s: float | None = None
    filter_s: float | None = None
    band_c: float | None = None
    full_power: float = 255.0
    span_c: float | None = None

    def missing(self, forms: Iterable[str]) -> str | None:
        """The first thing that one of these forms of gains needs and nobody said."""
        return next((NEEDS[f] for f in forms if f in NEEDS and self.of(NEEDS[f]) is None), None)

    def of(self, name: str) -> float | None:
        """A thing by its name."""
        value: float | None = getattr(self, name)
        return value

    def for_question(self) -> LoopFigures:
        """What a fit of gains needs, as far as it is known."""
        known = {f"loop_{n}" if n == "period_s" else n: self.of(n) for n in _OF_FIT}
        return cast(LoopFigures, {n: value for n, value in known.items() if value is not None})


LOOP_KEYS = tuple(field.name for field in fields(ControlLoop))


def in_all_forms(values: Mapping[str, object], loop: ControlLoop) -> dict[str, object]:
    """kp, ki and kd (for full power as the loop has it) with every other form beside them."""
    kp, ki, kd = (float(str(values[name])) for name in ("kp", "ki", "kd"))
    out: dict[str, object] = {**values, "ti": kp / ki if ki else 0.0}
    out["td"] = kd / kp if kp else 0.0
    if loop.span_c is not None and kp:
        out["kp_percent_band"] = 100 * loop.full_power / (kp * loop.span_c)
    if loop.period_s is not None:
        out |= {"ki_per_loop": ki * loop.period_s, "kd_per_loop": kd / loop.period_s}
    return out


def as_gains(texts: Mapping[str, str], loop: ControlLoop) -> dict[str, str]:
    """Gains that are listed in any form as kp, ki and kd, with as many decimals as the digits
    carry; what is listed so already is left as it is.
    """
    if not set(texts) & set(FORMS[3:]):
        return dict(texts)
    low, mid, high = (
        _gains({n: _shifted(t, by) for n, t in texts.items()}, loop) for by in (-1, 0, 1)
    )
    others = {name: text for name, text in texts.items() if name not in FORMS}
    return others | {
        name: texts.get(name, _carried(low[name], mid[name], high[name])) for name in mid
    }


def _gains(values: Mapping[str, float], loop: ControlLoop) -> dict[str, float]:
    """kp, ki and kd, those of them that can be worked out."""
    kp, out = values.get("kp"), {}
    band, period = values.get("kp_percent_band"), loop.period_s
    if kp is None and band and loop.span_c:
        kp = 100 * loop.full_power / (band * loop.span_c)
    if kp is not None:
        out["kp"] = kp
        if "ti" in values:
            out["ki"] = kp / values["ti"] if values["ti"] else 0.0
        if "td" in values:
            out["kd"] = kp * values["td"]
    if period and "ki_per_loop" in values:
        out["ki"] = values["ki_per_loop"] / period
    if period and "kd_per_loop" in values:
        out["kd"] = values["kd_per_loop"] * period
    return out | {name: values[name] for name in ("ki", "kd") if name in values}


def _shifted(text: str, by: int) -> float:
    """A listed number, half of its last digit lower or higher."""
    places = len(text.lower().split("e")[0].partition(".")[2])
    return float(text) + by * 0.5 * 10.0**-places


def _carried(low: float, value: float, high: float) -> str:
    """A number with the decimals that its doubt leaves."""
    doubt = max(abs(low - value), abs(high - value), abs(high - low), 1e-12)
    places = next((p for p in range(12, -1, -1) if 0.5 * 10.0**-p >= doubt), 0)
    return f"{value:.{places}f}"
