"""What stands where the printer was told to go, by how it is built: an axis a motor, two motors
that move both axes, or three towers; and what a caliper reads of its moves and of its parts.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

import numpy as np

from omphalon.base.arrays import Array

LINE_MM = 0.12  # by which a part's outside is too wide
CALIPER_MM = 0.02
PARTS_MM = (30.0, 60.0, 90.0, 120.0)
TOWER_DEG = (90.0, 210.0, 330.0)


@dataclass(frozen=True, kw_only=True)
class Build:
    """A printer's kinematics as they are, not as it believes them.

    `true_steps`: what each motor needs a mm of its belt or screw. `square_deg`: by how much the
    angle between X and Y is less than a right one. `shrinks`: by what share parts shrink in X and
    in Y. `arm_mm` and `radius_mm`: of three towers, and what it believes them to be too short by.
    """

    kind: str = "moving-bed"
    true_steps: Mapping[str, float]
    square_deg: float = 0.0
    shrinks: tuple[float, float] = (0.0, 0.0)
    arm_mm: float = 215.0
    radius_mm: float = 105.0
    arm_off_mm: float = 0.0
    radius_off_mm: float = 0.0

    def place(self, asked: Array, steps: Mapping[str, float]) -> Array:
        """Where the nozzle stands, (3,) mm, that was told to be at `asked`, under these steps."""
        share = np.array([steps[a] / self.true_steps[a] for a in "XYZ"])
        if self.kind == "delta":
            return self._hung(self._carriages(asked) * share)
        x, y, z = asked
        if self.kind == "crossed-belts":
            one, other = (x + y) * share[0], (x - y) * share[1]
            x, y, z = (one + other) / 2, (one - other) / 2, z * share[2]
        else:
            x, y, z = asked * share
        lean = np.radians(self.square_deg)
        return np.array([x + y * np.sin(lean), y * np.cos(lean), z])

    def _towers(self, radius_mm: float) -> Array:
        angle = np.radians(TOWER_DEG)
        return radius_mm * np.stack([np.cos(angle), np.sin(angle)], axis=1)

    def _carriages(self, asked: Array) -> Array:
        """How high it drives the three carriages, as it believes its arms and its radius to be."""
        arm, radius = self.arm_mm - self.arm_off_mm, self.radius_mm - self.radius_off_mm
        away = np.sum((self._towers(radius) - asked[:2]) ** 2, axis=1)
        height: Array = asked[2] + np.sqrt(arm**2 - away) - np.sqrt(arm**2 - radius**2)
        return height

    def _hung(self, height_mm: Array) -> Array:
        """Where three arms of the true length meet below carriages of these heights."""
        at = np.column_stack([self._towers(self.radius_mm), height_mm])
        # differences of the three spheres' equations: x and y as lines in z
        sides = 2 * (at[1:] - at[0])
        known = np.sum(at[1:] ** 2, axis=1) - np.sum(at[0] ** 2)
        slope, start = (np.linalg.solve(sides[:, :2], v) for v in (-sides[:, 2], known))
        across = start - at[0, :2]
        a, b = 1 + slope @ slope, slope @ across - at[0, 2]
        c = across @ across + at[0, 2] ** 2 - self.arm_mm**2
        z = (-b - np.sqrt(b**2 - a * c)) / a
        rest = np.sqrt(self.arm_mm**2 - self.radius_mm**2)
        return np.array([*(start + slope * z), z + rest])

    def corners(self, side_mm: float, steps: Mapping[str, float]) -> Array:
        """The corners of a square that was printed around the middle, (4, 2) mm."""
        half = side_mm / 2
        asked = [(-half, -half), (half, -half), (half, half), (-half, half)]
        middle = np.array([0.0, 0.0]) if self.kind == "delta" else np.array([100.0, 100.0])
        there = [self.place(np.array([*(middle + p), 0.2]), steps)[:2] for p in asked]
        printed: Array = np.array(there) * (1 - np.array(self.shrinks))
        return printed

    def parts_csv(self, steps: Mapping[str, float], seed: int = 0) -> Iterator[str]:
        """Outside lengths of squares of several sizes, by caliper."""
        random = np.random.default_rng(seed)
        yield "axis,asked_mm,moved_mm,kind"
        for asked in PARTS_MM:
            at = self.corners(asked, steps)
            for axis, (start, end) in (("x", (0, 1)), ("y", (1, 2))):
                length = float(np.linalg.norm(at[end] - at[start])) + LINE_MM
                yield f"{axis},{asked:g},{length + random.normal(0, CALIPER_MM):.2f},outside"
