"""A tower's outline in a photo along its diagonal: how far its clean corner stands out at every
height, held against the bands in which any value is right.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from scipy import ndimage

from omphalon.answers.remarks import Refusal
from omphalon.base.arrays import Array
from omphalon.base.shapes import OneOf, Shape, Some, Within
from omphalon.base.stages import begins
from omphalon.physics.pose import shrunk
from omphalon.physics.scale import robust_deviation
from omphalon.recordings.recording import GreyPicture, Reading, Readings
from omphalon.studies.advance.question import AdvanceQuestion
from omphalon.tables.units import Number

COARSE_PX = 1000  # rows of the picture in which the tower is sought
SKY, MIDDLE = 0.03, 0.06  # of the rows: what is behind alone; around the middle: tower alone
ALIKE = 0.08  # how much wider or narrower a row may be that is the tower's
WHOLE, TALL = 0.85, 1.06  # of its height must be seen; more, and it is not seen along a diagonal
FAINT = 12.0  # grey levels between the tower and what is behind it
REACH_MM, SHARE = 0.9, 0.3  # around an edge; of that, at both ends, its two levels are read
INSIDE_MM = (0.7, 2.0)  # from the clean corner's outline: where the top is read
LEAST_PX_MM, MOST_BLUR_MM = 15.0, 0.12  # pixels a mm; the outline's own blur
INNER_MM = 0.2  # of a band at both its ends is passed over
FOOT_MM, READING_MM = 3.0, 1.0  # brim and squeezed layers; height that one reading stands for
LEAST_FALL_MM, STEEP = 0.03, 10.0  # from the foot to the top; of that in deviations of a quarter
ROUGHER = 1.5  # the seam is that much rougher than the clean corner


PLAN: Shape = {
    "print": str,
    "drive": OneOf("direct", "bowden"),
    "start": Within(0, 10),
    "stop": Within(0, 10),
    "per_mm": Within(1e-7, 10),
    "side_mm": Within(5, 500),
    "height_mm": Within(2, 1000),
    "bands_mm": Some(Some(Within(0, 1000), 2, 2), 1, 8),
    "width_mm": Within(0.05, 5),
    "layer_mm": Within(0.02, 3),
}


@dataclass(frozen=True, kw_only=True)
class Silhouette:
    """A tower in its picture: height (mm) of each of its layers and how far the clean corner stands
    out there, less what it does in the bands (mm), both (n,); readings of them; the deviation of
    one reading and what all share; pixels.
    """

    picture: GreyPicture
    plan: Mapping[str, Any]
    height_mm: Array
    out_mm: Array
    readings: Readings
    read_mm: float
    shared_mm: float
    px_a_mm: float

    def asked(self, question: AdvanceQuestion) -> AdvanceQuestion:
        """The question with what the print itself says."""
        return replace(
            question,
            start_s=self.plan["start"],
            per_mm=self.plan["per_mm"],
            stop_s=self.plan["stop"],
            drive=question.drive or self.plan["drive"],
            read_mm=self.read_mm,
            shared_mm=self.shared_mm,
        )


def outline_csv(seen: Silhouette) -> Iterator[str]:
    """What was read, as rows of a readings file that `advance fit` reads."""
    yield "height_mm,bulge_mm"
    for row in seen.readings.rows:
        yield f"{row.value('height_mm'):.3f},{row.value('bulge_mm'):.4f}"


def silhouette(picture: GreyPicture, plan: Mapping[str, Any]) -> Silhouette:
    """Read a tower that stands before something plain, the clean corner to the right.

    `picture`: upright. Raises Refusal where the picture does not show what is needed.
    """
    begins("the tower is looked for")
    rows, left, right = _seen(picture.grey, plan)
    begins("its outline is measured")
    wide_mm = _across_mm(plan)
    scale = float(np.median(right - left)) / wide_mm
    if scale < LEAST_PX_MM:
        raise Refusal("tower-small", seen=scale, least=LEAST_PX_MM)
    left, _ = _edges(picture.grey, rows, left, -scale)
    right, blur = _edges(picture.grey, rows, right, scale)
    if not blur / scale < MOST_BLUR_MM:
        raise Refusal("blurred", seen=blur / scale, most=MOST_BLUR_MM)
    known = np.isfinite(left) & np.isfinite(right)
    if known.mean() < WHOLE:
        raise Refusal("tower-unseen", seen=float(known.mean()))
    rows, left, right = rows[known], left[known], right[known]
    turn = math.atan(np.polyfit(rows, (left + right) / 2, 1)[0])
    # upright: along the tower's axis, downwards, and across it
    down = rows * math.cos(turn) + right * math.sin(turn)
    out = right * math.cos(turn) - rows * math.sin(turn)
    wide = np.polyval(np.polyfit(down, (right - left) * math.cos(turn), 1), down) / wide_mm
    top = _top(picture.grey, turn, down, out, scale)
    order = np.argsort(down)
    down, out, wide = down[order], out[order], wide[order]
    fallen = np.concatenate([[down[0] - top], np.diff(down)]) / wide
    height = plan["height_mm"] - np.cumsum(fallen)
    _refuse_turned(height, out / scale, left[order] / scale, plan["layer_mm"])
    return _against_bands(picture, plan, height, out / wide.mean(), scale)


def _across_mm(plan: Mapping[str, Any]) -> float:
    """From one outline to the other, along the diagonal that is seen."""
    return float(plan["side_mm"] * math.sqrt(2) + plan["width_mm"])


def _seen(grey: Any, plan: Mapping[str, Any]) -> tuple[Array, Array, Array]:
    """The tower's rows, and about where its two outlines cross them."""
    shrink = max(grey.shape[0] / COARSE_PX, 1.0)
    small = shrunk(grey, shrink)
    sky = ndimage.gaussian_filter1d(np.median(small[: int(SKY * len(small)) + 2], axis=0), 5)
    off = small - sky
    middle = [slice(int((0.5 - MIDDLE) * n), int((0.5 + MIDDLE) * n) + 1) for n in off.shape]
    amount = float(np.median(off[middle[0], middle[1]]))
    if abs(amount) < FAINT:
        raise Refusal("tower-faint")
    names, _ = ndimage.label(off * np.sign(amount) > abs(amount) / 2)
    own = names == names[off.shape[0] // 2, off.shape[1] // 2]
    some = own.any(axis=1)
    first, last = np.argmax(own, axis=1), own.shape[1] - 1 - np.argmax(own[:, ::-1], axis=1)
    wide = np.where(some, last - first + 1, 0)
    centre = len(small) // 2
    upper = wide[: centre + 1][some[: centre + 1]]
    usual = float(np.median(upper)) if len(upper) else 0.0
    fits = np.abs(wide - usual) < ALIKE * usual
    if not fits[centre] or usual > 0.97 * own.shape[1]:
        raise Refusal("tower-unseen", seen=0.0)
    low = centre - int(np.argmin(np.append(fits[centre::-1], False))) + 1
    high = centre + int(np.argmin(np.append(fits[centre:], False))) - 1
    share = (high - low) / usual * _across_mm(plan) / plan["height_mm"]
    cut = low < 3 or first[centre] == 0 or last[centre] == own.shape[1] - 1
    if share < WHOLE or cut:
        raise Refusal("tower-unseen", seen=min(share, WHOLE))
    if share > TALL:
        raise Refusal("tower-aside")
    rows = np.arange(int(low * shrink), int(high * shrink))
    at = np.clip(np.rint(rows / shrink).astype(int), low, high)
    return rows.astype(float), (first[at] + 0.5) * shrink, (last[at] + 0.5) * shrink


def _edges(grey: Any, rows: Array, near: Array, outward: float) -> tuple[Array, float]:
    """Where an outline crosses each row, NaN where it is not seen, and its usual blur, in pixels.
    `outward`: pixels a mm, below 0 where the tower lies to the right of it.
    """
    reach = int(REACH_MM * abs(outward))
    steps = np.arange(-reach, reach + 1) * (1 if outward < 0 else -1)
    at = np.rint(near).astype(int)[:, None] + steps
    inside = (at.min(axis=1) >= 0) & (at.max(axis=1) < grey.shape[1])
    strip = grey[rows.astype(int)[:, None], np.clip(at, 0, grey.shape[1] - 1)].astype(float)
    count = int(SHARE * len(steps))
    behind, body = (np.median(part, axis=1) for part in (strip[:, :count], strip[:, -count:]))
    with np.errstate(divide="ignore", invalid="ignore"):
        level = (ndimage.uniform_filter1d(strip, 3, axis=1) - behind[:, None]) / (body - behind)[
            :, None
        ]
    k = np.clip(np.argmax(level >= 0.5, axis=1), 1, len(steps) - 1)
    n = np.arange(len(rows))
    low, high = level[n, k - 1], level[n, k]
    with np.errstate(divide="ignore", invalid="ignore"):
        place = at[n, k - 1] + (0.5 - low) / (high - low) * (steps[1] - steps[0])
        blur = float(np.nanmedian(1 / np.maximum(high - low, 1e-3))) / math.sqrt(2 * math.pi)
    good = inside & (np.abs(body - behind) > FAINT) & (high > low)
    return np.where(good, place, np.nan), blur


def _top(grey: Any, turn: float, down: Array, out: Array, scale: float) -> float:
    """Where the tower ends, beside its clean corner, along its axis."""
    upper = np.argsort(down)[: max(int(2 * scale), 20)]
    start, edge = float(down.min()), float(np.median(out[upper]))
    across = edge - np.linspace(*INSIDE_MM, 15) * scale
    along = start + np.arange(-2.0 * scale, 1.5 * scale, 0.5)
    columns = across[None, :] * math.cos(turn) + along[:, None] * math.sin(turn)
    rows = along[:, None] * math.cos(turn) - across[None, :] * math.sin(turn)
    seen = ndimage.map_coordinates(grey.astype(np.float32), [rows, columns], order=1).mean(axis=1)
    count = len(seen) // 4
    behind, body = np.median(seen[:count]), np.median(seen[-count:])
    level = (seen - behind) / (body - behind) if body != behind else np.zeros(len(seen))
    return float(along[int(np.argmax(level >= 0.5))])


def _by_layer(height: Array, values: Array, layer_mm: float) -> tuple[Array, Array]:
    """Middle heights of layers, and the mean of values in each."""
    number = np.floor(height / layer_mm).astype(int)
    kept = number >= 0
    count = np.bincount(number[kept])
    sums = np.bincount(number[kept], values[kept])
    full = count > 0.6 * np.median(count[count > 0])
    return np.asarray((np.flatnonzero(full) + 0.5) * layer_mm), sums[full] / count[full]


def _refuse_turned(height: Array, out: Array, left: Array, layer_mm: float) -> None:
    """Refuse a picture that has the seam where the clean corner should be."""
    body = height > FOOT_MM
    rough = [
        robust_deviation(np.diff(_by_layer(height[body], side[body], layer_mm)[1], n=2))
        for side in (out, left)
    ]
    if rough[0] > ROUGHER * rough[1]:
        raise Refusal("tower-turned")


def _against_bands(
    picture: GreyPicture, plan: Mapping[str, Any], height: Array, out: Array, scale: float
) -> Silhouette:
    """The outline less the straight line through the bands."""
    layers, seen = _by_layer(height, out, plan["layer_mm"])
    whole = layers < plan["height_mm"] - plan["layer_mm"]  # the last one's upper edge is round
    layers, seen = layers[whole], seen[whole]
    ends = [(a + INNER_MM, b - INNER_MM) for a, b in plan["bands_mm"]]
    bands = [(layers > a) & (layers < b) for a, b in ends]
    if not all(band.sum() > 1 for band in bands):
        raise Refusal("tower-unseen", seen=0.0)
    both = np.logical_or(*bands)
    line = np.polyfit(layers[both], seen[both], 1)
    seen = seen - np.polyval(line, layers)
    wide = [
        (layers > a - plan["layer_mm"]) & (layers < b + plan["layer_mm"])
        for a, b in plan["bands_mm"]
    ]
    body = (layers > FOOT_MM) & ~np.logical_or(*wide)
    rough = float(np.std(np.diff(seen[body], n=2)) / math.sqrt(6))
    quarter = max(int(body.sum() / 4), 1)
    fall = float(np.median(seen[body][:quarter]) - np.median(seen[body][-quarter:]))
    if fall < max(LEAST_FALL_MM, STEEP * rough / math.sqrt(quarter)):
        raise Refusal("tower-flat", fall=fall)
    groups = np.floor(layers / READING_MM).astype(int)
    rows = []
    for group in np.unique(groups[body]):
        some = body & (groups == group)
        at, mean = float(layers[some].mean()), float(seen[some].mean())
        where = f"{at:.1f} mm up"
        numbers = {
            "height_mm": Number(at, 1e-3, f"{at:.3f}"),
            "bulge_mm": Number(mean, 1e-4, f"{mean:.4f}"),
        }
        rows.append(Reading(where, numbers))
    each = max(READING_MM / plan["layer_mm"], 1.0)
    fewest = min(int(band.sum()) for band in bands)
    return Silhouette(
        picture=picture,
        plan=plan,
        height_mm=layers,
        out_mm=seen,
        readings=Readings(picture.source, tuple(rows)),
        read_mm=max(rough / math.sqrt(each), 0.002),
        shared_mm=max(rough / math.sqrt(fewest), 0.002),
        px_a_mm=scale,
    )
