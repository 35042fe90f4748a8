"""What may be written: checked before any work, and never over what is somebody else's."""

from __future__ import annotations

import contextlib
import os
import zipfile
from collections.abc import Sequence
from pathlib import Path

from omphalon.base.errors import UsageError, echoed

FIGURES = (".png", ".svg")
PICTURES = (*FIGURES, ".jpg", ".jpeg", ".gif", ".tif", ".tiff", ".webp", ".bmp", ".pdf")
# what a file of ours begins with, or holds near its beginning
HEADS = (
    b"<!DOCTYPE html>\n<!-- written by omphalon -->",
    b"; written by omphalon",
    b"# written by omphalon",
    b'{\n "omphalon":',
)
MARKS = {".png": b"Software\x00omphalon", ".svg": b"<dc:title>omphalon"}
HEAD_BYTES = 4096


def check_outputs(force: bool, inputs: Sequence[str], **outputs: str | None) -> None:
    """Refuse an output before any work: no folder, an input, the same file twice, or somebody
    else's file.

    `force`: whether a file that is not ours may be replaced; an input never. `outputs`: option name
    → path, None where it was not given.
    """
    seen: dict[str, str] = {}
    for name, path in outputs.items():
        if path is None:
            continue
        option, words = "--" + name.replace("_", "-"), echoed(path)
        target = Path(path)
        if "\x00" in path or not path:
            raise UsageError(f"{option} {words}: no file name", "give a name")
        if name == "plot" and target.suffix.lower() not in FIGURES:
            raise UsageError(
                f"--plot {words}: not a kind of figure", "end the name in " + " or ".join(FIGURES)
            )
        if name != "plot" and target.suffix.lower() in PICTURES:
            raise UsageError(
                f"{option} {words}: no picture is written there", "end the name otherwise"
            )
        if not target.resolve().parent.is_dir():
            raise UsageError(
                f"{option} {words}: the folder is not there", "make it first, or choose another"
            )
        if target.is_dir():
            raise UsageError(f"{option} {words}: is a folder", "give a file's name")
        if any(_same(path, other) for other in inputs):
            raise UsageError(
                f"{option} {words}: would overwrite what is read", "choose another name"
            )
        place = str(target.resolve())
        if place in seen:
            raise UsageError(
                f"{option} and {seen[place]} name one file", "give each a name of its own"
            )
        seen[place] = option
        if not force and target.is_file() and not is_ours(target):
            remedy = (
                "choose another name"
                if name == "template"
                else "choose another name, or --force to replace it"
            )
            raise UsageError(
                f"{option} {words}: stands there already, and Omphalon did not write it", remedy
            )


def _same(one: str, other: str) -> bool:
    try:
        return os.path.samefile(one, other)
    except OSError:
        return False


def is_ours(path: Path) -> bool:
    """Whether Omphalon wrote a file, by its header line or metadata; an empty one holds nothing to
    lose.
    """
    try:
        with open(path, "rb") as file:
            head = file.read(HEAD_BYTES)
    except OSError:
        return False
    if path.suffix.lower() == ".zip":
        with contextlib.suppress(OSError, zipfile.BadZipFile), zipfile.ZipFile(path) as archive:
            return "digests.json" in archive.namelist() and "bench.db" in archive.namelist()
    mark = MARKS.get(path.suffix.lower())
    return not head or head.startswith(HEADS) or (mark is not None and mark in head)
