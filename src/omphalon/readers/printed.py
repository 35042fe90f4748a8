"""What the test prints of ours say of themselves."""

from __future__ import annotations

from typing import Any

from omphalon.errors import UsageError
from omphalon.readers.text import MB, SizeLimit, read_text
from omphalon.shapes import parsed

PRINT = SizeLimit(30 * MB, 30 * MB, "give the print that `omphalon advance plan` wrote")
HEAD, MARK = 12, "; plan "  # the line in which a print says what it is


def read_plan(path: str) -> dict[str, Any]:
    """What a print of ours says of itself.

    Raises
    ------
    UsageError
        If the file is none of ours, or cannot be read.
    """
    text = read_text(path, PRINT)
    plan = next((line[len(MARK) :] for line in text.lines[:HEAD] if line.startswith(MARK)), "")
    try:
        found: dict[str, Any] = parsed(plan, {"print": str})
        return found
    except ValueError as error:
        raise UsageError(
            f"{text.source}: not a print that omphalon wrote, or one of an earlier version",
            "give the file that was printed, or plan it again",
        ) from error
