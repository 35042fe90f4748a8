"""Write the sample data that ship with the package: python tools/make_samples.py"""

import gzip
import io
import pathlib
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from dataclasses import replace

import numpy as np
from PIL import Image

from omphalon.standin.bead import Nozzle, beads
from omphalon.standin.frame import heard
from omphalon.standin.reader import Reader, corner_bulge, ladder_csv, tower_csv
from omphalon.standin.samples import FULMAR_X, FULMAR_Y, SAMPLES

sys.path.insert(0, str(pathlib.Path(__file__).parents[1] / "benchmarks"))
from photo import Shot, photograph
from tower import Look, tower_photo

FOLDER = pathlib.Path(__file__).parents[1] / "src" / "omphalon" / "samples"
FULMAR_NOZZLE = Nozzle(lead_s=0.52)
FULMAR_AXES = (1.0002, 1.0052, 0.0021)  # how long X and Y come out, and how Y leans
HEAD = "# Fulmar, bowden, harbour-grey PETG: {}; made up by the stand-in printer"


def cube_csv(
    leads_s: tuple[float, float], nozzle: Nozzle, reader: Reader, side_mm: float = 30.0
) -> Iterator[str]:
    """The four corners of a cube's top layers, printed before and after with two values; the seam
    is at the rear left.
    """
    random = np.random.default_rng(reader.seed)
    names = ("front-left", "front-right", "rear-right", "rear-left")
    corners = ((0.0, 0.0), (side_mm, 0.0), (side_mm, side_mm), (0.0, side_mm))
    yield "print,corner,bulge_mm"
    for when, lead in zip(("before", "after"), leads_s, strict=True):
        lines = [f"LEAD {lead}", "PUSH 600", f"G1 X0 Y{side_mm} Z0.2 F3600"]
        for layer in range(8):
            lines += [
                f"G1 Z{0.2 * (layer + 1):.1f}",
                *(f"G1 X{x} Y{y} E{side_mm * 0.034:.4f} F3600" for x, y in corners),
            ]
        bead = next(beads(heard(lines), nozzle, random))
        found = [
            [corner_bulge(bead, bead.ends_mm[4 * layer + k]) for layer in range(3, 7)]
            for k in range(4)
        ]
        for name, bulges in zip(names, found, strict=True):
            seam = 0.14 if name == "rear-left" else 0.0
            off = random.normal(0, reader.caliper_mm * reader.careless)
            yield f"{when},{name},{np.mean(bulges) + seam + off:.2f}"


def printed(*words: str, group: str = "advance") -> list[str]:
    """A test print as the program plans it."""
    with tempfile.TemporaryDirectory() as folder:
        out = pathlib.Path(folder) / "print.gcode"
        subprocess.run(
            [
                sys.executable,
                "-m",
                "omphalon",
                group,
                "plan",
                "--drive",
                "bowden",
                "--dialect",
                "stand-in",
                "--out",
                str(out),
                "--quiet",
                *words,
            ],
            check=True,
        )
        return out.read_text(encoding="utf-8").splitlines()


def tower_heights() -> Iterator[str]:
    yield HEAD.format(
        "heights where the clean corner of the tower looks best, 0 s at its foot, 0.025 s a mm"
    )
    yield from tower_csv(printed("--style", "tower"), FULMAR_NOZZLE, Reader(seed=21), looks=4)


def ladder_widths() -> Iterator[str]:
    yield HEAD.format("widths of the ladder's lines just after speeding up and after slowing down")
    yield from ladder_csv(printed("--style", "ladder"), FULMAR_NOZZLE, Reader(seed=22))


def cube_corners() -> Iterator[str]:
    yield HEAD.format("corners of a cube at 0.35 s and at 0.52 s; the seam is at the rear left")
    yield from cube_csv((0.35, 0.52), FULMAR_NOZZLE, Reader(seed=23, careless=0.6))


def ladder_scan() -> bytes:
    """The ladder on a flatbed scanner, laid on it a little askew."""
    shot = Shot(
        dpi=400.0, turn_deg=-6.0, plastic=0.66, plate=0.17, glue=3, hairs=5, noise=0.004, seed=24
    )
    kept = io.BytesIO()
    scan = Image.fromarray(photograph(printed("--style", "ladder"), FULMAR_NOZZLE, shot))
    scan.save(kept, "JPEG", quality=72)
    return kept.getvalue()


def tower_silhouette() -> bytes:
    """The tower before a dark sheet, along its diagonal, the camera a little askew."""
    look = Look(
        size_px=(1500, 2000), roll_deg=1.2, plastic=0.7, behind=0.2, blur_px=0.8, noise=0.006
    )
    kept = io.BytesIO()
    photo = Image.fromarray(tower_photo(printed("--style", "tower"), FULMAR_NOZZLE, look))
    photo.save(kept, "JPEG", quality=72)
    return kept.getvalue()


def card_scans() -> dict[str, bytes]:
    """The test card on a flatbed scanner with an error of its own, and again, the plate turned by a
    quarter.
    """
    nozzle = replace(FULMAR_NOZZLE, swings={"x": FULMAR_X, "y": FULMAR_Y})
    kept = {}
    for name, turn, seed in (("card-1.jpg", 3.0, 26), ("card-2.jpg", 92.0, 27)):
        shot = Shot(
            dpi=300.0,
            turn_deg=turn,
            plastic=0.66,
            plate=0.17,
            glue=3,
            hairs=4,
            noise=0.004,
            seed=seed,
            scanner=(1.0015, 0.9993, 0.0008),
        )
        scan = Image.fromarray(photograph(printed(group="card"), nozzle, shot, FULMAR_AXES))
        file = io.BytesIO()
        scan.save(file, "JPEG", quality=72, dpi=(300, 300))
        kept[name] = file.getvalue()
    return kept


ALL = {
    **SAMPLES,
    "ladder.gcode": lambda: iter(printed("--style", "ladder")),
    "card.gcode": lambda: iter(printed(group="card")),
    "tower-heights.csv": tower_heights,
    "ladder-widths.csv": ladder_widths,
    "cube-corners.csv": cube_corners,
}

if __name__ == "__main__":
    for name, lines in ALL.items():
        text = ("\n".join(lines()) + "\n").encode("utf-8")
        (FOLDER / name).write_bytes(
            gzip.compress(text, 9, mtime=0) if name.endswith(".gz") else text
        )
        print(name, (FOLDER / name).stat().st_size, "bytes")
    pictures = {"ladder-scan.jpg": ladder_scan(), "tower.jpg": tower_silhouette(), **card_scans()}
    for name, scan in pictures.items():
        (FOLDER / name).write_bytes(scan)
        print(name, len(scan), "bytes")
