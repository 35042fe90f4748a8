"""A picture file as grey levels: PNG, JPEG, TIFF and their like, turned as its camera says."""

from __future__ import annotations

import warnings
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np

from omphalon.base.errors import OmphalonError, UnreadableFile, UsageError
from omphalon.base.files import open_file
from omphalon.base.stages import begins
from omphalon.readers.text import name_of
from omphalon.recordings.recording import GreyPicture

if TYPE_CHECKING:
    from PIL.Image import Image

MOST_PIXELS = 120_000_000
LEAST_SIDE = 200
FORMATS = ("PNG", "JPEG", "TIFF", "WEBP", "BMP")
STRIP = 512  # rows of a deep picture that are made grey at a time
MAGIC = (b"\x89PNG", b"\xff\xd8\xff", b"II*\x00", b"MM\x00*", b"RIFF", b"BM")


def is_picture(path: str) -> bool:
    """Whether a file begins as pictures do; False where it cannot be opened."""
    try:
        with open_file(path) as file:
            return file.read(4).startswith(MAGIC)
    except OSError:
        return False


def read_picture(path: str) -> GreyPicture:
    """Open a picture and make it grey: of brightness and single colours, what has most contrast.

    Raises UnreadableFile if it is no picture, cut, too large, too small, or several pictures in
    one.
    """
    from PIL import Image, ImageOps

    name = name_of(path)
    begins(f"{name} is read")
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            Image.MAX_IMAGE_PIXELS = None  # _refuse looks at the size before it is unpacked
            with open_file(path) as file, Image.open(file, formats=FORMATS) as opened:
                _refuse(name, opened)
                grey, channel = _grey(opened)
                grey.getexif().update(opened.getexif())
                dots = opened.info.get("dpi")
            del opened  # its colours need not lie beside what is made of them
            ImageOps.exif_transpose(grey, in_place=True)  # upright, however the camera was held
            dpi = float(dots[0]) if dots and float(dots[0]) > 1 else None
            return GreyPicture(name, np.asarray(grey), channel, dpi)
    except OmphalonError:
        raise
    except FileNotFoundError as error:
        raise UnreadableFile(f"{path}: no such file", "check the path") from error
    except (OSError, SyntaxError, ValueError, EOFError, MemoryError) as error:
        raise UnreadableFile(
            f"{name}: the picture is damaged or cut off, or of a kind that is not read",
            "save it again as PNG or JPEG",
        ) from error


def cut_around(picture: GreyPicture, column: int, row: int) -> GreyPicture:
    """The part of a picture around a pixel, as far as its nearest edges on both sides.

    Raises UsageError if the pixel does not lie well inside.
    """
    rows, columns = picture.grey.shape
    high, wide = min(row, rows - row), min(column, columns - column)
    if min(high, wide) < LEAST_SIDE / 2:
        raise UsageError(
            f"--print-at {column}:{row}: not inside a picture of {columns} x {rows} pixels",
            "give the pixel in the print's middle, counted from the upper left",
        )
    part = picture.grey[row - high : row + high, column - wide : column + wide]
    return replace(picture, grey=np.ascontiguousarray(part))


def _refuse(name: str, picture: Image) -> None:
    width, height = picture.size
    if width * height > MOST_PIXELS:
        raise UnreadableFile(
            f"{name}: {width} x {height} pixels, more than {MOST_PIXELS / 1e6:.0f} million",
            "cut out the print, or scan it with fewer dots per inch",
        )
    if min(width, height) < LEAST_SIDE:
        raise UnreadableFile(
            f"{name}: {width} x {height} pixels hold no ladder",
            "give the scan or photo itself, not a preview",
        )
    if getattr(picture, "n_frames", 1) > 1 and getattr(picture, "is_animated", True):
        raise UnreadableFile(
            f"{name}: {getattr(picture, 'n_frames', 2)} pictures in one file",
            "save the one that shows the ladder by itself",
        )


def _grey(picture: Image) -> tuple[Image, str]:
    """Eight bits of one channel, and its name. Deeper ones keep their middle 99.8 %."""

    if picture.mode in ("L", "1"):
        return picture.convert("L"), "grey"
    if picture.mode.startswith(("I", "F")):
        return _eight_bits(picture), "grey"
    colours = picture if picture.mode in ("RGB", "RGBA") else picture.convert("RGB")
    small = colours.reduce(4).convert("RGB")
    names = ("brightness", "red", "green", "blue")
    seen = [_contrast(small.convert("L")), *(_contrast(band) for band in small.split())]
    best = int(np.argmax(seen))
    if best == 0 or seen[best] < 1.3 * seen[0]:
        return colours.convert("L"), names[0]
    return colours.getchannel(best - 1), names[best]


def _eight_bits(picture: Image) -> Image:
    """A deeper picture in eight bits, strip by strip: it is large enough once."""
    from PIL import Image

    width, height = picture.size
    sample = picture.resize((max(width // 7, 1), max(height // 7, 1)), Image.Resampling.NEAREST)
    tones = np.asarray(sample, dtype=np.float32)
    known = tones[np.isfinite(tones)]
    if not len(known):
        raise ValueError("no brightness in it")
    low, high = np.quantile(known, [0.001, 0.999])
    grey = Image.new("L", picture.size)
    for top in range(0, height, STRIP):
        bottom = min(top + STRIP, height)
        deep = np.asarray(picture.crop((0, top, width, bottom)), dtype=np.float32)
        deep = np.nan_to_num((deep - low) * (255 / max(high - low, 1e-6)))
        grey.paste(Image.fromarray(np.clip(deep, 0, 255).astype(np.uint8)), (0, top))
    return grey


def _contrast(band: Any) -> float:
    """How far the rarest tones lie from the usual one: a print is a small part of its picture."""
    tones = np.asarray(band)[::2, ::2]
    low, middle, high = np.quantile(tones, [0.02, 0.5, 0.98])
    return float(max(high - middle, middle - low))
