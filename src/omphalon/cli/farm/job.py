"""A farm's job is a command of ours: its words go in at the same door, the answer comes out as the
document that --json prints.
"""

from __future__ import annotations

import os
from typing import Any

import click

from omphalon import __version__
from omphalon.cli import omphalon, sentence_of
from omphalon.cli.benched import WITHIN
from omphalon.farm.manifest import ColumnUse, Study

STUDIES = ("heater", "extruder", "axis", "flow", "advance", "shaper", "motion", "probe")
# of the options of a fit: those that say how an answer leaves, which a farm settles
LEFT_OUT = frozenset(
    ("as_json", "plot", "quiet", "force", "bench", "no_record", "template", "ask", "readings")
)
FILES = frozenset(("log_x", "log_y", "printed", "dialect"))
IN_PIECES = frozenset(("column", "steps", "summaries"))  # parts that may hold blanks


def warm() -> None:
    """Import what most jobs need, once a worker; its work is one thread's."""
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    import omphalon.readers.acceleration
    import omphalon.studies.heater.fit
    import omphalon.studies.shaper.fit  # noqa: F401


def answered(words: list[str]) -> dict[str, Any]:
    """What a command answers: its document, or one with the error's sentence and exit code.

    Parameters
    ----------
    words : of the command line, behind the program's name

    Raises
    ------
    MemoryError
        If the machine has too little: that is no answer.
    """
    try:
        answer = omphalon.main(words, "omphalon", standalone_mode=False, obj=WITHIN)
        document: dict[str, Any] = answer.document(__version__)
        return document
    except MemoryError:
        raise
    except Exception as error:
        text, code = sentence_of(error)
        return {"omphalon": __version__, "kind": f"{words[0]}-fit", "error": text, "exit": code}


def studies() -> dict[str, Study]:
    """What a manifest's row of each study may hold, read off the commands themselves."""
    out = {}
    for name in STUDIES:
        group = omphalon.get_command(click.Context(omphalon), name)
        assert isinstance(group, click.Group)
        params = [p for p in group.commands["fit"].params if p.name not in LEFT_OUT]
        options = {p.opts[-1][2:]: _choice(p) for p in params if isinstance(p, click.Option)}
        argument = next((p for p in params if isinstance(p, click.Argument)), None)
        if "x" in options and "y" in options:  # logs of axes: a row says which
            argument = None
        if argument is None:
            options["axis"] = ColumnUse(flag="--axis")
        log = "axis" if argument is None else "several" if argument.nargs == -1 else "one"
        out[name] = Study(options=options, log=log)
    return out


def _choice(option: click.Option) -> ColumnUse:
    takes = "one"
    if option.name in FILES:
        takes = "file"
    elif option.nargs == 2:
        takes = "pair"
    elif option.name in IN_PIECES and option.multiple:
        takes = "pieces"
    elif option.multiple:
        takes = "several"
    return ColumnUse(flag=option.opts[-1], takes=takes)
