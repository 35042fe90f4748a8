"""What was seen in a picture of a ladder, in words and for a figure."""

from __future__ import annotations

from typing import Any

import numpy as np
from scipy import ndimage

from omphalon.finding import Shown
from omphalon.picture import AdvancePicture, EdgesLaid, LadderPicture
from omphalon.studies.advance.sight import LineSeen, Sight
from omphalon.warned import Warned

AGAIN = "see docs/advance.md for how to scan and photograph"
REFUSALS = {
    "no-ladder": (
        "no ladder is seen in the picture",
        f"show all of it, by itself, sharp, in contrast to the plate; {AGAIN}",
    ),
    "other-print": (
        "the lines in the picture are not those of {file}, or its digits and ticks are hidden",
        "give the file that was printed, and show its digits, ticks and first line too",
    ),
    "few-pixels": (
        "a line is {seen:.1f} pixels wide, {least:g} are needed",
        "scan with {dpi} dots per inch or more, or go nearer with the camera",
    ),
    "blurred": (
        "the edges are blurred by {seen:.2f} mm, where {most:.2f} mm can be read",
        f"take the picture again, in focus and at rest; {AGAIN}",
    ),
    "clipped": (
        "{count} of {total} lines, or the plate beside them, are as bright or as dark as the "
        "picture can be: edges cannot be placed",
        "take the picture with another exposure",
    ),
    "lines-missing": (
        "only {count} of {total} lines can be read",
        f"clean the plate, light it from the side, and show the whole print; {AGAIN}",
    ),
}
WHY = {
    "not-seen": "not seen",
    "glare": "the lamp mirrored in it",
    "broken-up": "broken up near a tick",
    "unlike": "its width or light is unlike its neighbours'",
}
FIGURE_MM = 0.08  # a pixel of the rectified picture
MARGIN_MM = 4.0
SQUARE_DEG = 8.0  # a tilt below that cannot be told from none


def seen_warnings(sight: Sight) -> list[Warned]:
    """Lines that could not be read, by the reason."""
    out = []
    for why, told in WHY.items():
        values = [f"{line.value_s:g}" for line in sight.lines if line.why == why]
        if values:
            plural = "s" if len(values) > 1 else ""
            out.append(Warned("line-left-out", f"line{plural} {', '.join(values)}: {told}"))
    return out


def seen_evidence(sight: Sight) -> dict[str, Any]:
    """What the picture is like and what was read in it."""
    return {
        "um_a_pixel": sight.um_a_pixel,
        "tilt_deg": sight.tilt_deg,
        "mirrored": sight.pose.mirrored,
        "channel": sight.picture.channel,
        "lines": len(sight.lines),
        "lines_read": len(sight.read),
        "left_out": {f"{line.value_s:g}": line.why for line in sight.lines if line.why},
        "even_width_mm": sight.even_mm,
        "edge_blur_mm": sight.blur_mm,
        "width_deviation_mm": sight.read_mm,
        "slant_mm": sight.shared_mm,
    }


def seen_rows(sight: Sight) -> tuple[Shown, ...]:
    """The same for a reader."""
    square = sight.tilt_deg < SQUARE_DEG
    told = "taken squarely" if square else f"{sight.tilt_deg:.0f}° off square"
    how = f"{sight.um_a_pixel:.0f} µm a pixel, {told}"
    mirrored = ", mirrored" if sight.pose.mirrored else ""
    even = f"{sight.even_mm:.3f} mm along their even start, edges blurred by {sight.blur_mm:.2f} mm"
    return (
        Shown("picture", (f"{len(sight.read)} of {len(sight.lines)} lines; {how}{mirrored}",)),
        Shown("lines", (even,)),
    )


def laid_over(sight: Sight, readings: AdvancePicture, left_out: list[str]) -> LadderPicture:
    """The picture brought square with what was measured in it.

    Parameters
    ----------
    sight : a ladder in its picture
    readings : the figure of the readings
    left_out : where the readings stand that the fit left out
    """
    places = np.array([p for s in (*sight.ladder.lines, *sight.ladder.others) for p in s.places])
    low, high = places.min(axis=0) - MARGIN_MM, places.max(axis=0) + MARGIN_MM
    x, y = (np.arange(low[k], high[k], FIGURE_MM) for k in (0, 1))
    at = sight.pose.seen_at(np.stack(np.meshgrid(x, y), axis=-1))
    grey = ndimage.map_coordinates(
        sight.picture.grey, [at[..., 1], at[..., 0]], order=1, output=np.uint8, mode="nearest"
    )
    gone = {name.removeprefix("line ") for name in left_out}
    start = sight.ladder.lines[0].places[0][0]
    up, down = sight.ticks_mm
    return LadderPicture(
        grey=grey,
        extent_mm=(float(low[0]), float(high[0]), float(low[1]), float(high[1])),
        edges=tuple(_edges(line, f"{line.value_s:g}" not in gone) for line in sight.lines),
        read_mm=((start + up[0], start + up[1]), (start + down[0], start + down[1])),
        readings=readings,
    )


def _edges(line: LineSeen, fits: bool) -> EdgesLaid:
    seen = line.course
    x, y = line.start_mm
    return EdgesLaid(
        x_mm=x + seen.along_mm,
        low_mm=np.where(seen.good, y + seen.low_mm, np.nan),
        high_mm=np.where(seen.good, y + seen.high_mm, np.nan),
        y_mm=y,
        value_s=line.value_s,
        counts=fits and line.why is None,
    )
