"""Times as logs write them: seconds, ISO 8601, or a clock that may pass midnight."""

from __future__ import annotations

import math
import re
from datetime import datetime

CLOCK = re.compile(r"(\d{1,2}):(\d{2}):(\d{2}(?:[.,]\d+)?)$")
DAY_S = 86400.0


def seconds(text: str) -> float:
    """Seconds from any origin; NaN where the text is no time. Clock times count from midnight."""
    text = text.strip()
    clock = CLOCK.match(text)
    if clock:
        hour, minute, second = clock.groups()
        return int(hour) * 3600 + int(minute) * 60 + float(second.replace(",", "."))
    try:
        return float(text)
    except ValueError:
        pass
    if len(text) >= 10 and text[4:5] == "-":
        try:
            moment = datetime.fromisoformat(text.replace("Z", "+00:00").replace(",", "."))
        except ValueError:
            return math.nan
        return (moment.replace(tzinfo=None) - datetime(2000, 1, 1)).total_seconds() - (
            moment.utcoffset().total_seconds() if moment.utcoffset() is not None else 0.0)  # type: ignore[union-attr]
    return math.nan


def is_clock(text: str) -> bool:
    """Whether a time is a clock's, which starts anew at midnight."""
    return CLOCK.match(text.strip()) is not None


def past_midnight(times: list[float]) -> list[float]:
    """Clock times with a day added after each fall of more than half a day."""
    out, days, last = [], 0.0, None
    for time in times:
        if last is not None and time + days < last - DAY_S / 2:
            days += DAY_S
        out.append(time + days)
        last = out[-1] if not math.isnan(time) else last
    return out
