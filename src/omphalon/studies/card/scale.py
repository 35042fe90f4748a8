"""X against Y, and how square they are, from the frame of a card in two scans a quarter turn apart:
an error of the scanner turns with the scanner, one of the printer with the print.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from omphalon.answers.remarks import Refusal, Remark
from omphalon.answers.settings import Setting
from omphalon.base.arrays import Array
from omphalon.prints.card import FRAME_MM
from omphalon.studies.card.sight import CardSight
from omphalon.studies.measured.axis import PLACING_MM

Grey = NDArray[np.uint8]
QUARTER_DEG, NEARLY_DEG = 90.0, 25.0  # between two scans, give or take
SAME_PX, SAME_LEVELS = 0.5, 4.0  # corners and grey levels of one scan that was turned in a program
LEAST_HALF, LEAST_HALF_DEG = 1e-4, 0.005  # what paper, plate and light leave open
MATTERS, MATTERS_DEG = 0.001, 0.05  # less is no matter: 0.15 mm over the card


@dataclass(frozen=True, kw_only=True)
class Frame:
    """A frame in one scan: X over Y, and by how much the angle between them is more than a right
    one, each with what its opposite sides differ by.
    """

    ratio: float
    ratio_apart: float
    square_deg: float
    apart_deg: float


@dataclass(frozen=True, kw_only=True)
class Scale:
    """X over Y and squareness with half widths, the scale of X itself where a length was measured,
    and the steps per mm in force; `crossed`: belts that move both axes, so that both have one value
    of steps, and what they differ by is no matter of it.
    """

    ratio: float
    ratio_half: float
    square_deg: float
    square_half_deg: float
    length: float | None
    length_half: float
    steps: Mapping[str, float]
    crossed: bool = False

    @property
    def remarks(self) -> tuple[Remark, ...]:
        """A word on axes that are not square."""
        odd = []
        if abs(self.square_deg) > max(self.square_half_deg, MATTERS_DEG):
            odd.append(Remark("not-square", off=self.square_deg, half=self.square_half_deg))
        if self.crossed and not self.alike:
            odd.append(Remark("unlike", share=self.ratio - 1, half=self.ratio_half))
        return tuple(odd)

    @property
    def alike(self) -> bool:
        """Whether X and Y are equally long, as far as it matters."""
        return abs(self.ratio - 1) <= max(self.ratio_half, MATTERS)

    @property
    def settings(self) -> tuple[Setting, ...]:
        """Steps of both axes: none where no length was measured."""
        if self.length is None or not self.steps:
            return ()
        both = self.length / math.sqrt(self.ratio)
        shares = {"x": self.length, "y": self.length / self.ratio}
        shares = dict.fromkeys(shares, both) if self.crossed else shares
        half = math.hypot(self.length_half, self.ratio_half)
        return tuple(
            Setting(f"steps-{axis}", "steps", self.steps[axis] / share, half * self.steps[axis])
            for axis, share in shares.items()
            if axis in self.steps
        )

    @property
    def keeps(self) -> bool:
        """Whether all is as it should be."""
        if self.length is None:
            return self.alike
        if self.crossed:
            both = self.length / math.sqrt(self.ratio)
            return abs(both - 1) <= max(self.length_half, MATTERS)
        off = max(abs(self.length - 1), abs(self.length / self.ratio - 1))
        return off <= max(self.length_half, MATTERS)


def frame_of(corners: Array) -> Frame:
    """What the corners (4, 2) of a frame that should be square say."""
    low, right, high, left = (corners[(n + 1) % 4] - corners[n] for n in range(4))
    x, y = [np.hypot(*low), np.hypot(*high)], [np.hypot(*left), np.hypot(*right)]
    angles = [
        _between(a, b) for a, b in ((low, -left), (low, right), (-high, right), (-high, -left))
    ]
    return Frame(
        ratio=float(np.mean(x) / np.mean(y)),
        ratio_apart=float(abs(x[0] - x[1]) / np.mean(x) + abs(y[0] - y[1]) / np.mean(y)) / 2,
        square_deg=float(np.mean(angles)) - 90,
        apart_deg=float(np.std(angles)),
    )


def _between(one: Array, two: Array) -> float:
    """The angle between two ways, in degrees."""
    return math.degrees(math.acos(one @ two / (np.hypot(*one) * np.hypot(*two))))


def one_scan(one: CardSight, two: CardSight) -> bool:
    """Whether two pictures are one scan, turned in a program: a plate that is laid down twice never
    lies alike to half a pixel, and never reads alike to a few grey levels.
    """
    first, second = one.picture.grey, two.picture.grey
    rows, columns = second.shape
    x, y = two.corners_px.T
    for quarters, corners in ((1, (y, columns - 1 - x)), (3, (rows - 1 - y, x))):
        apart = one.corners_px - np.stack(corners, axis=1)
        shift = np.rint(apart.mean(axis=0)).astype(int)
        if np.abs(apart - shift).max() > SAME_PX:
            continue
        a, b = _overlap(first, np.rot90(second, quarters), shift)
        if float(np.abs(a.astype(np.int16) - b).mean()) < SAME_LEVELS:
            return True
    return False


def _overlap(one: Grey, two: Grey, shift: NDArray[np.int_]) -> tuple[Grey, Grey]:
    """What both pictures show, the second moved by `shift` (x, y) pixels."""
    (x, y), (rows, columns) = shift, two.shape
    a = one[max(y, 0) : rows + y, max(x, 0) : columns + x]
    b = two[max(-y, 0) : max(-y, 0) + len(a), max(-x, 0) : max(-x, 0) + a.shape[1]]
    return a[: len(b), : b.shape[1]], b


def fit_scale(
    sights: Sequence[CardSight],
    length_mm: float | None,
    steps: Mapping[str, float],
    crossed: bool = False,
) -> Scale:
    """X against Y and squareness.

    `sights`: of one print: two scans, the plate turned by a quarter between them. `length_mm`: of
    the frame along X, outside, by caliper. `steps`: per mm in force, by axis. Raises Refusal where
    one picture, or a photo, leaves the scanner's own error in it.
    """
    frames = [frame_of(s.corners_px) for s in sights]
    if not all(s.scanned for s in sights):
        raise Refusal("photo-scale")
    if len(frames) < 2:
        off = frames[0]
        raise Refusal("one-scan", share=off.ratio - 1, angle=off.square_deg)
    turned = (sights[1].turn_deg - sights[0].turn_deg) % 180
    if abs(turned - QUARTER_DEG) > NEARLY_DEG:
        raise Refusal("no-quarter", turned=min(turned, 180 - turned))
    if one_scan(*sights):
        raise Refusal("turned-copy")
    one, two = frames
    card = sights[0].card
    side = card.size_mm - 2 * FRAME_MM
    wide = float(np.mean([s.widths_mm for s in sights]))
    length = None if length_mm is None else (length_mm - wide) / side
    if length_mm is not None and length is not None and abs(length - 1) > 0.1:
        raise Refusal("no-such-frame", length=length_mm, side=side + wide)
    return Scale(
        ratio=math.sqrt(one.ratio * two.ratio),
        ratio_half=math.hypot(LEAST_HALF, (one.ratio_apart + two.ratio_apart) / 2),
        square_deg=(one.square_deg + two.square_deg) / 2,
        square_half_deg=math.hypot(LEAST_HALF_DEG, (one.apart_deg + two.apart_deg) / 2),
        length=length,
        length_half=2 * PLACING_MM["outside"] / side,
        steps=steps,
        crossed=crossed,
    )
