"""A ladder read from its picture: through the built program on the shipped scan, kept in every form
and spoiled in many ways; edges and pose on drawings whose truth is known. The scan was made with a
pressure advance of 0.52 s.
"""

import io
import json
import struct
import zlib

import numpy as np
import pytest
from PIL import Image
from scipy import ndimage

from conftest import SAMPLES
from omphalon.physics.edges import course
from omphalon.physics.pose import Pose, homography, moved
from omphalon.readers.picture import read_picture

TRUE_S = 0.52
SCAN, PRINT = SAMPLES / "ladder-scan.jpg", SAMPLES / "ladder.gcode"


def scan():
    with Image.open(SCAN) as scan:
        return scan.copy()


def answer(run, folder, picture, *words, **how):
    """The answer to a picture kept as asked, as JSON, and the exit code."""
    name = how.pop("name", "scan.png")
    picture.save(folder / name, **how)
    done = run("advance", "fit", name, "--print", str(PRINT), "--json", *words)
    assert not done.stderr, done.stderr
    return json.loads(done.stdout), done.returncode


def coloured(picture):
    """Green lines on a red plate: alike in brightness, apart in colour."""
    share = np.asarray(picture, float)[..., None] / 255
    return Image.fromarray(
        (np.array([150.0, 60, 60]) * (1 - share) + np.array([40.0, 150, 60]) * share).astype("u1")
    )


def turned(picture):
    """Turned by the camera, and said so beside the pixels."""
    exif = picture.getexif()
    exif[0x0112] = 6
    return {"picture": picture.transpose(Image.Transpose.ROTATE_90), "exif": exif}


@pytest.mark.slow
@pytest.mark.parametrize(
    "made",
    [
        lambda s: {"picture": s},
        lambda s: {"picture": s.transpose(Image.Transpose.FLIP_LEFT_RIGHT)},
        lambda s: {"picture": s.rotate(180)},
        lambda s: {"picture": Image.eval(s, lambda v: 255 - v), "name": "dark.webp", "quality": 95},
        lambda s: {"picture": s.convert("RGB").convert("CMYK"), "name": "scan.tif"},
        lambda s: {
            "picture": Image.fromarray(np.asarray(s).astype("u2") * 200),
            "name": "deep.png",
        },
        lambda s: {"picture": coloured(s)},
        lambda s: {**turned(s), "name": "turned.jpg", "quality": 92},
    ],
    ids=["plain", "mirrored", "upside-down", "dark", "cmyk", "16-bit", "colour", "exif"],
)
def test_the_scan_in_any_form_gives_its_value(run, tmp_path, made):
    found, code = answer(run, tmp_path, **made(scan()))
    assert found["verdict"] == "change" and code == 0
    half = found["spread"]["advance_s"]
    assert half < 0.012 and abs(found["settings"]["advance_s"] - TRUE_S) < half
    told = found["evidence"]["picture"]
    assert (
        told["lines"] == 50
        and not told["left_out"]
        and told["um_a_pixel"] == pytest.approx(63.5, rel=0.01)
    )


@pytest.mark.slow
def test_of_two_ladders_the_one_that_is_pointed_at_is_read(run, tmp_path):
    one = np.asarray(scan())
    both = Image.fromarray(np.concatenate([one, np.rot90(one, 2)], axis=1))
    at = f"{one.shape[1] // 2}:{one.shape[0] // 2}"
    found, _ = answer(run, tmp_path, both, "--print-at", at)
    assert abs(found["settings"]["advance_s"] - TRUE_S) < found["spread"]["advance_s"]
    done = run("advance", "fit", "scan.png", "--print", str(PRINT), "--print-at", "9000:50")
    assert done.returncode == 2 and "not inside a picture" in done.stderr


def covered(share):
    """A part of the picture hidden by a card."""
    out = np.asarray(scan()).copy()
    out[:, : int(share * out.shape[1])] = 90
    return Image.fromarray(out)


def glaring(*rows):
    """Lines that mirror the lamp: a wide white stripe over each."""
    out = np.asarray(scan()).copy()
    for low, high in rows:
        out[low:high] = 255
    return Image.fromarray(out)


@pytest.mark.parametrize(
    "made, reason",
    [
        (lambda: covered(0.6), "five rings|hidden|cut off"),
        (lambda: scan().resize((520, 480)), "pixels wide"),
        (lambda: Image.fromarray(ndimage.gaussian_filter(np.asarray(scan()), 5)), "blurred"),
        (lambda: Image.eval(scan(), lambda v: min(255, max(0, (v - 60) * 9))), "overexposed"),
        (lambda: Image.new("L", (900, 700), 90), "five rings"),
        (
            lambda: Image.fromarray(
                np.random.default_rng(1).integers(0, 255, (800, 900)).astype("u1")
            ),
            "five rings",
        ),
    ],
    ids=["hidden", "few-pixels", "blurred", "clipped", "empty", "noise"],
)
def test_a_picture_that_carries_no_value_says_why(run, tmp_path, made, reason):
    found, code = answer(run, tmp_path, made())
    assert found["verdict"] == "retest" and code == 3
    assert any(part in found["because"] for part in reason.split("|")), found["because"]
    assert found["settings"] == {}


def test_the_file_of_another_print_is_refused(run, tmp_path):
    words = ("--style", "ladder", "--drive", "bowden", "--dialect", "stand-in")
    run("advance", "plan", *words, "--from", "0.1", "--to", "0.7", "--out", "other.gcode")
    done = run("advance", "fit", str(SCAN), "--print", "other.gcode", "--json")
    assert "other.gcode" in json.loads(done.stdout)["because"]


def png(width, height):
    """The head of a PNG of any size, with hardly anything behind it."""

    def chunk(kind, data):
        body = kind + data
        return struct.pack(">I", len(data)) + body + struct.pack(">I", zlib.crc32(body))

    head = struct.pack(">IIBBBBB", width, height, 8, 0, 0, 0, 0)
    rows = zlib.compress(b"\0" * 5000)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", rows) + chunk(b"IEND", b"")


def moving():
    kept = io.BytesIO()
    frames = [Image.new("L", (400, 400), v) for v in (10, 200)]
    frames[0].save(kept, "PNG", save_all=True, append_images=frames[1:])
    return kept.getvalue()


@pytest.mark.parametrize(
    "content, told",
    [
        (png(60_000, 60_000), "more than 120 million"),
        (png(1, 1), "hold no ladder"),
        (png(500, 500), "damaged or cut off"),
        (SCAN.read_bytes()[:60_000], "damaged or cut off"),
        (b"\x89PNG", "damaged or cut off"),
        (moving(), "2 pictures in one file"),
    ],
    ids=["bomb", "pixel", "short", "cut", "magic", "moving"],
)
def test_a_file_that_is_no_whole_picture_is_refused_in_a_line(run, tmp_path, content, told):
    (tmp_path / "scan.png").write_bytes(content)
    done = run("advance", "fit", "scan.png", "--print", str(PRINT))
    assert done.returncode == 1 and done.stderr.count("\n") == 1 and told in done.stderr


@pytest.mark.parametrize(
    "words, told",
    [
        ((str(SCAN),), "give --print FILE"),
        (("--print", str(PRINT), "--advance", "0.4"), "no readings; give --height"),
        ((str(SCAN), "--print", str(SCAN)), "a picture, not a text"),
        ((str(SCAN), "--print", str(SAMPLES / "tower-heights.csv")), "not a print that omphalon"),
        ((str(SCAN), "--print", "none.gcode"), "no such file"),
        (
            (str(SCAN), "--print", str(PRINT), "--height", "12"),
            "--height with a picture: it has no say",
        ),
        ((str(SCAN), "--print", str(PRINT), "--resolution", "0.01"), "with a picture"),
    ],
)
def test_a_picture_put_wrongly_is_refused_in_a_line(run, words, told):
    done = run("advance", "fit", *words)
    assert done.returncode in (1, 2) and told in done.stderr and done.stderr.count("\n") == 1


def test_other_prints_than_ladders_and_towers_are_named(run):
    run("advance", "plan", "--style", "corners", "--dialect", "stand-in", "--out", "c.gcode")
    done = run("advance", "fit", str(SCAN), "--print", "c.gcode")
    assert done.returncode == 2 and "corners" in done.stderr and "no ladder" in done.stderr


@pytest.fixture
def tower(run):
    words = ("--style", "tower", "--drive", "bowden", "--dialect", "stand-in")
    assert run("advance", "plan", *words, "--out", "tower.gcode").returncode == 0
    with Image.open(SAMPLES / "tower.jpg") as photo:
        return photo.copy()


def test_a_tower_s_outline_gives_its_value(run, tmp_path, tower):
    words = ("--print", "tower.gcode", "--readings", "out.csv", "--plot", "out.png", "--json")
    found = json.loads(run("advance", "fit", str(SAMPLES / "tower.jpg"), *words).stdout)
    half = found["spread"]["advance_s"]
    assert half < 0.03 and abs(found["settings"]["advance_s"] - TRUE_S) < half
    with Image.open(tmp_path / "out.png") as drawn:
        assert drawn.size == (1280, 800)
    told = ("--from", "0", "--per-mm", "0.025", "--to", "1.2", "--drive", "bowden", "--json")
    again = json.loads(run("advance", "fit", "out.csv", *told).stdout)
    assert again["settings"]["advance_s"] == pytest.approx(found["settings"]["advance_s"], abs=0.01)


@pytest.mark.parametrize(
    "made, reason",
    [
        (lambda t: t.transpose(Image.Transpose.FLIP_LEFT_RIGHT), "it is the seam"),
        (lambda t: t.crop((0, 900, *t.size)), "stands out"),
        (lambda t: t.crop((0, 0, 1100, t.size[1])), "outline"),
        (lambda t: t.resize((300, 400)), "pixels wide"),
        (lambda t: Image.new("L", t.size, 90), "stands out"),
        (lambda t: Image.eval(t, lambda v: 100 + v // 40), "stands out"),
        (lambda t: t.resize((100, 133)).resize(t.size), "blurred"),
    ],
    ids=["mirrored", "top cut off", "side cut off", "small", "empty", "faint", "blurred"],
)
def test_a_tower_that_cannot_be_read_says_why(run, tmp_path, tower, made, reason):
    made(tower).save(tmp_path / "photo.png")
    done = run("advance", "fit", "photo.png", "--print", "tower.gcode", "--json")
    found = json.loads(done.stdout)
    assert found["verdict"] == "retest" and reason in found["because"], found["because"]
    assert found["settings"] == {}


@pytest.mark.slow
def test_lines_that_glare_are_left_out_and_the_widths_are_written(run, tmp_path):
    upright = scan().rotate(-6, resample=Image.Resampling.BICUBIC, fillcolor=40)
    out = np.asarray(upright).copy()
    middle = out.shape[0] // 2
    out[middle - 60 : middle + 60, out.shape[1] // 3 : 2 * out.shape[1] // 3] = 255
    words = ("--readings", "widths.csv", "--plot", "seen.png")
    found, _ = answer(run, tmp_path, Image.fromarray(out), *words)
    gone = found["evidence"]["picture"]["left_out"]
    assert 0 < len(gone) < 12 and set(gone.values()) <= {"glare", "broken-up", "unlike", "not-seen"}
    assert any(w["code"] == "rungs-unread" for w in found["warnings"])
    assert abs(found["settings"]["advance_s"] - TRUE_S) < found["spread"]["advance_s"]
    rows = (tmp_path / "widths.csv").read_text().splitlines()
    assert sum(not r.startswith("#") for r in rows) == 1 + 50 - len(gone)
    again = json.loads(run("advance", "fit", "widths.csv", "--drive", "bowden", "--json").stdout)
    assert again["settings"]["advance_s"] == pytest.approx(found["settings"]["advance_s"], abs=0.01)
    with Image.open(tmp_path / "seen.png") as drawn:
        assert drawn.size == (1280, 800)


SLANT = np.array([[9.0, -2.0, 300.0], [1.5, -8.0, 900.0], [8e-4, 5e-4, 1.0]])


def test_a_homography_is_found_again():
    plate = np.random.default_rng(2).uniform(0, 80, (12, 2))
    found = homography(plate, moved(SLANT, plate), np.ones(12))
    assert np.allclose(found, SLANT / SLANT[2, 2], rtol=1e-6)


@pytest.mark.parametrize("light", [True, False])
@pytest.mark.parametrize("wide", [0.3, 0.45, 0.7])
def test_edges_of_a_drawn_strip_lie_where_they_were_drawn(light, wide):
    scale = 20.0
    grid = (np.arange(1000) + 0.0) / scale
    off = np.abs(grid[:, None] - 25.013)
    strip = np.clip(0.5 + (wide / 2 - off) * scale, 0, 1) * np.ones((1, 1400))
    strip = ndimage.gaussian_filter(strip, 1.0)
    grey = (60 + 120 * (strip if light else 1 - strip)).astype("u1")
    pose = Pose(np.diag([scale, scale, 1.0]), light)
    seen = course(grey, pose, np.array([[5.0, 25.0], [65.0, 25.0]]))
    assert seen.good.mean() > 0.95
    assert np.median(seen.width_mm[seen.good]) == pytest.approx(
        wide, abs=0.006 if wide > 0.4 else 0.016
    )  # six pixels blurred
    middle = (seen.low_mm + seen.high_mm)[seen.good] / 2
    assert np.median(middle) == pytest.approx(0.013, abs=0.004)
    assert seen.mean(10, 20)[1] == 1.0 and seen.clipped == (0.0, 0.0)


def test_deep_pictures_keep_their_shades(tmp_path):
    shades = np.linspace(20_000, 22_000, 300 * 300).reshape(300, 300).astype("u2")
    Image.fromarray(shades).save(tmp_path / "deep.png")
    grey = read_picture(str(tmp_path / "deep.png")).grey
    assert grey.min() == 0 and grey.max() == 255 and np.diff(np.median(grey, axis=1)).min() >= 0
