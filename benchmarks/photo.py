"""Pictures of a print of the stand-in's, as a flatbed scanner or a hand-held camera takes them.

A bead is a strip with round sides, lit from one side: diffuse light by the cosine of its slope, a
highlight where the slope mirrors the lamp, a shadow on the plate behind it. The plate has a grain,
glue, stray hairs of plastic; the lens bends, the light falls off, the picture is blurred, noisy and
kept as JPEG.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
from scipy import ndimage

from omphalon.base.arrays import Array
from omphalon.standin.bead import BIN_MM, FINE_MM, Bead, Nozzle, beads
from omphalon.standin.frame import Move, moves_in

MM_PER_INCH = 25.4
MARGIN_MM = 9.0
PIECE_MM = 3.0
TILE = 2.0  # px: how far beyond its edge a piece is drawn


@dataclass(frozen=True)
class Shot:
    """How a picture is taken. With `dpi` by a scanner, else by a camera of `size_px` (width,
    height), tilted by `tilt_deg` towards `tilt_to_deg`; both turned by `turn_deg`.

    Tones are shares of white; the light comes from `light_deg` at `height_deg` above the plate.
    `falloff` is how much darker one side of the picture is, `glue` and `hairs` are counts, `lens`
    is the distortion at the corner, `blur_px` a standard deviation, `glare` the lines (by number)
    that mirror the lamp. `scanner` is how long it makes its columns and rows, and how its rows
    lean.
    """

    dpi: float | None = 600.0
    size_px: tuple[int, int] = (4000, 3000)
    turn_deg: float = 0.0
    tilt_deg: float = 0.0
    tilt_to_deg: float = 30.0
    distance_mm: float = 260.0
    mirrored: bool = False
    plastic: float = 0.72
    plate: float = 0.16
    light_deg: float = 75.0
    height_deg: float = 50.0
    ambient: float = 0.55
    gloss: float = 0.15
    falloff: float = 0.12
    grain: float = 0.03
    glue: int = 6
    hairs: int = 6
    lens: float = 0.0
    blur_px: float = 1.0
    noise: float = 0.012
    quality: int = 90
    exposure: float = 1.0
    glare: tuple[int, ...] = ()
    seed: int = 0
    scanner: tuple[float, float, float] = (1.0, 1.0, 0.0)


@dataclass(frozen=True)
class _View:
    """Where a pixel looks at the plate, and back; `scale` is px a mm at the middle."""

    size: tuple[int, int]
    to_plate: Array
    lens: float
    scale: float

    def plate(self, rows: Array, columns: Array) -> tuple[Array, Array]:
        """Places (mm) that pixels see."""
        height, width = self.size
        half = math.hypot(width, height) / 2
        u, v = (columns - width / 2) / half, (rows - height / 2) / half
        bent = 1 + self.lens * (u * u + v * v)
        u, v = u * bent * half, v * bent * half
        h = self.to_plate
        below = h[2, 0] * u + h[2, 1] * v + 1.0
        return (
            (h[0, 0] * u + h[0, 1] * v + h[0, 2]) / below,
            (h[1, 0] * u + h[1, 1] * v + h[1, 2]) / below,
        )

    def pixel(self, x: Array, y: Array) -> tuple[Array, Array]:
        """Row and column where places are seen."""
        height, width = self.size
        half = math.hypot(width, height) / 2
        u, v, below = np.linalg.inv(self.to_plate) @ np.stack([x, y, np.ones_like(x)])
        u, v = u / below / half, v / below / half
        bent_u, bent_v = u, v
        for _ in range(4):
            bent = 1 + self.lens * (bent_u**2 + bent_v**2)
            bent_u, bent_v = u / bent, v / bent
        return bent_v * half + height / 2, bent_u * half + width / 2


def photograph(
    lines: list[str], nozzle: Nozzle, shot: Shot, axes: tuple[float, float, float] = (1.0, 1.0, 0.0)
) -> Array:
    """The picture of a print, (rows, columns), 0 to 255 as bytes; `axes`: how long X and Y come out
    of one, and by how much Y leans towards X.
    """
    random = np.random.default_rng([shot.seed, 5])
    asked = moves_in(lines)
    laid = [_misled_bead(bead, axes) for bead in beads(asked, nozzle, random)]
    moves = [_misled(move, axes) for move in asked]
    view = _view(moves, shot)
    picture = _plate(view, shot, random)
    numbered = -1
    for bead in laid:
        is_line = len(bead.moves) > 2 and bead.moves[1].speed_mm_s > bead.moves[0].speed_mm_s
        numbered += is_line
        _lay(picture, view, bead, shot, is_line and numbered in shot.glare)
    _hairs(picture, view, moves, shot, random)
    return _exposed(picture, shot, random)


def _misled(move: Move, axes: tuple[float, float, float]) -> Move:
    """A move of a printer whose X and Y are too long or short, or not square."""
    x, y, lean = axes
    return replace(
        move,
        x0=x * move.x0 + lean * move.y0,
        x1=x * move.x1 + lean * move.y1,
        y0=y * move.y0,
        y1=y * move.y1,
    )


def _misled_bead(bead: Bead, axes: tuple[float, float, float]) -> Bead:
    """A bead of such a printer: it rides in time as it is told, and only its way is another."""
    moves = tuple(_misled(move, axes) for move in bead.moves)
    return replace(bead, moves=moves)


def _view(moves: list[Move], shot: Shot) -> _View:
    """The picture's size and its homography: scans straight down, cameras through a pinhole."""
    fed = [m for m in moves if m.fed_mm > 0 and m.length_mm > 0]
    xs = [v for m in fed for v in (m.x0, m.x1)]
    ys = [v for m in fed for v in (m.y0, m.y1)]
    middle = np.array([(min(xs) + max(xs)) / 2, (min(ys) + max(ys)) / 2])
    wide = np.array([max(xs) - min(xs), max(ys) - min(ys)]) + 2 * MARGIN_MM
    turn = math.radians(shot.turn_deg)
    turned = np.array([[math.cos(turn), -math.sin(turn)], [math.sin(turn), math.cos(turn)]])
    flip = np.diag([-1.0 if shot.mirrored else 1.0, -1.0])  # rows run downwards
    reach = np.abs(turned) @ wide
    if shot.dpi is not None:
        scale = shot.dpi / MM_PER_INCH
        size = (math.ceil(reach[1] * scale), math.ceil(reach[0] * scale))
        tilt_row = np.zeros(2)
    else:
        size = shot.size_px[1], shot.size_px[0]
        scale = 0.88 * min(size[0] / reach[1], size[1] / reach[0])
        towards, tilt = math.radians(shot.tilt_to_deg), math.radians(shot.tilt_deg)
        scale *= 1 - 0.35 * math.sin(tilt)
        focal_px = scale * shot.distance_mm
        tilt_row = math.tan(tilt) / focal_px * np.array([math.cos(towards), math.sin(towards)])
    flat = turned @ flip / scale
    if shot.tilt_deg and shot.dpi is None:  # seen at a slant: longer along the tilt's direction
        along = np.array([math.cos(towards), math.sin(towards)])
        flat = flat @ (np.eye(2) + (1 / math.cos(tilt) - 1) * np.outer(along, along))
    plate = np.eye(3)
    plate[:2, :2] = flat + np.outer(middle, tilt_row)
    plate[:2, 2], plate[2, :2] = middle, tilt_row
    wide, high, lean = shot.scanner
    plate = plate @ np.linalg.inv(np.array([[wide, lean, 0.0], [0.0, high, 0.0], [0.0, 0.0, 1.0]]))
    return _View(size, plate, shot.lens, scale)


def _plate(view: _View, shot: Shot, random: np.random.Generator) -> Array:
    """The empty plate: its grain, glue."""
    height, width = view.size
    grain = ndimage.gaussian_filter(
        random.standard_normal((height, width), dtype=np.float32), max(0.05 * view.scale, 0.6)
    )
    picture = shot.plate * (1 + shot.grain * grain / grain.std())
    for _ in range(shot.glue):
        place = random.uniform(0, [height, width])
        size = random.uniform(2, 9) * view.scale
        low = np.maximum((place - size).astype(int), 0)
        high = np.minimum((place + size).astype(int) + 1, [height, width])
        rows, columns = np.mgrid[low[0] : high[0], low[1] : high[1]]
        off = np.hypot(rows - place[0], (columns - place[1]) * random.uniform(0.5, 1)) / size
        spot = np.clip((1 - off) * 8, 0, 1) * random.uniform(-0.25, 0.35)
        picture[low[0] : high[0], low[1] : high[1]] *= 1 + spot
    return np.asarray(picture, dtype=np.float32)


def _lay(picture: Array, view: _View, bead: Bead, shot: Shot, glare: bool) -> None:
    """One bead over the plate, piece by piece; its shadow first."""
    start = 0.0
    for move, end in zip(bead.moves, bead.ends_mm.tolist(), strict=True):
        count = max(math.ceil(move.length_mm / PIECE_MM), 1)
        for n in range(count):
            a, b = n / count, (n + 1) / count
            told = (end - start) / move.length_mm
            _piece(picture, view, move, (a, b), (start, told, bead), shot, glare)
        start = end


def _piece(
    picture: Array,
    view: _View,
    move: Move,
    part: tuple[float, float],
    laid: tuple[float, float, Bead],
    shot: Shot,
    glare: bool,
) -> None:
    start, told, bead = laid
    along = np.array([move.x1 - move.x0, move.y1 - move.y0]) / move.length_mm
    ends = np.array([[move.x0, move.y0]]) + np.outer(part, along) * move.length_mm
    pad = 1.3
    corners = (ends[:, None] + pad * np.array([[1, 1], [1, -1], [-1, 1], [-1, -1]])).reshape(-1, 2)
    rows, columns = view.pixel(corners[:, 0], corners[:, 1])
    height, width = view.size
    low = int(max(rows.min() - TILE, 0)), int(max(columns.min() - TILE, 0))
    high = int(min(rows.max() + TILE, height)) + 1, int(min(columns.max() + TILE, width)) + 1
    if low[0] >= high[0] or low[1] >= high[1]:
        return
    here = picture[low[0] : high[0], low[1] : high[1]]
    r, c = np.mgrid[low[0] : low[0] + here.shape[0], low[1] : low[1] + here.shape[1]]
    x, y = view.plate(r.astype(float), c.astype(float))
    s = (x - move.x0) * along[0] + (y - move.y0) * along[1]
    d = -(x - move.x0) * along[1] + (y - move.y0) * along[0]
    if len(bead.side_mm):
        d = d - np.interp(start + told * s, np.arange(len(bead.side_mm)) * FINE_MM, bead.side_mm)
    first, last = part[0] * move.length_mm, part[1] * move.length_mm
    ours = (s >= first if part[0] > 0 else True) & (s < last if part[1] < 1 else True)
    inside = np.clip((start + told * s) / BIN_MM - 0.5, 0, len(bead.width_mm) - 1)
    wide = np.maximum(np.interp(inside, np.arange(len(bead.width_mm)), bead.width_mm), 0.0)
    beyond = np.maximum(np.maximum(-s, s - move.length_mm), 0.0)
    off = np.hypot(d, beyond) * np.where(d < 0, -1.0, 1.0)
    thick = max(move.z, 0.05)
    soft = 0.7 / view.scale
    cover = np.clip(0.5 + (wide / 2 - np.abs(off)) / soft, 0, 1) * ours
    light = math.radians(shot.light_deg)
    # the lamp's direction across the line: positive lights the left flank of the way
    across = -along[1] * math.cos(light) + along[0] * math.sin(light)
    shadow = thick / math.tan(math.radians(shot.height_deg)) * abs(across)
    behind = -np.sign(across) * off - wide / 2
    dark = np.clip(1 - behind / max(shadow, 1e-3), 0, 1) * (behind > -0.05) * (wide > 0.05) * ours
    here *= 1 - 0.45 * (1 - shot.ambient) * dark * (1 - cover)
    shade = _shade(off, wide, thick, across, shot, glare)
    here *= 1 - cover
    here += cover * shot.plastic * shade


def _shade(off: Array, wide: Array, thick: float, across: float, shot: Shot, glare: bool) -> Array:
    """How bright the bead's surface is at a distance from its middle: flat on top, round sides."""
    flat = np.maximum(wide / 2 - thick / 2, 0.0)
    slope = np.clip((np.abs(off) - flat) / (thick / 2), 0, 0.98) * np.sign(off)
    up = np.sqrt(1 - slope**2)
    height = math.radians(shot.height_deg)
    lit = math.sin(height) * up + math.cos(height) * across * slope
    mirror = np.cos(np.arcsin(np.clip(slope, -1, 1)) - across * (math.pi / 4 - height / 2))
    shine = shot.gloss * np.maximum(mirror, 0) ** 60
    if glare:
        shine = shine + 1.5 * np.maximum(up, 0) ** 8
    return np.asarray(
        shot.ambient + (1 - shot.ambient) * np.maximum(lit, 0) / math.sin(height) + shine
    )


def _hairs(
    picture: Array, view: _View, moves: list[Move], shot: Shot, random: np.random.Generator
) -> None:
    """Thin threads of plastic that the nozzle drew on its way."""
    ways = [m for m in moves if m.fed_mm == 0 and 4 < m.length_mm < 200]
    for n in random.choice(len(ways), min(shot.hairs, len(ways)), replace=False):
        way = ways[int(n)]
        t = np.linspace(0, random.uniform(0.3, 0.9), int(way.length_mm * view.scale))
        sway = random.uniform(-1.5, 1.5) * np.sin(math.pi * t)
        rows, columns = view.pixel(
            way.x0 + (way.x1 - way.x0) * t, way.y0 + (way.y1 - way.y0) * t + sway
        )
        r, c = rows.astype(int), columns.astype(int)
        seen = (r >= 0) & (c >= 0) & (r < view.size[0]) & (c < view.size[1])
        r, c = r[seen], c[seen]
        picture[r, c] += 0.35 * (shot.plastic - picture[r, c])


def _exposed(picture: Array, shot: Shot, random: np.random.Generator) -> Array:
    """Uneven light, blur, noise, eight bits, JPEG's losses."""
    import io

    from PIL import Image

    height, width = picture.shape
    rows = np.linspace(-0.5, 0.5, height, dtype=np.float32)[:, None]
    columns = np.linspace(-0.5, 0.5, width, dtype=np.float32)[None, :]
    light = 1 + shot.falloff * (0.7 * rows + columns) - 0.5 * shot.falloff * (rows**2 + columns**2)
    picture *= light * shot.exposure
    picture = ndimage.gaussian_filter(picture, shot.blur_px)
    picture += shot.noise * random.standard_normal(picture.shape, dtype=np.float32)
    np.clip(picture, 0, 1, out=picture)
    coarse = (255 * picture + 0.5).astype(np.uint8)
    kept = io.BytesIO()
    Image.fromarray(coarse).save(kept, "JPEG", quality=shot.quality)
    opened = Image.open(kept)
    opened.draft("L", None)
    return np.asarray(opened)
