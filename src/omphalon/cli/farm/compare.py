"""omphalon farm compare: who is not like its fellows, and who has changed."""

from __future__ import annotations

import os

import click

from omphalon.cli.common import Answer, Leaving, answering
from omphalon.errors import UsageError


@click.command("compare", short_help="Who is not like its fellows, and who has changed.")
@click.argument("place", metavar="DIR")
@click.argument("earlier", metavar="[EARLIER]", required=False)
@answering(dialect=False, bench=False)
def compare(how: Leaving, place: str, earlier: str | None) -> Answer:
    """Hold the answers in DIR against each other, printers of one model together, and against those
    of an EARLIER run. Each one's interval counts; of those named, about one in twenty is wrong.

    \b
    Example:
      omphalon farm compare farm --plot fellows.png
    """
    from omphalon.farm.compare import compare_farms
    from omphalon.farm.compare_words import comparison_finding
    from omphalon.farm.store import read_results

    how.check(None)
    if earlier is not None and os.path.realpath(place) == os.path.realpath(earlier):
        raise UsageError("DIR and EARLIER are one folder", "give the folder of an earlier run")
    before = () if earlier is None else read_results(earlier)
    found = compare_farms(read_results(place), before)
    return comparison_finding(found, earlier is not None)
