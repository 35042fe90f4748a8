"""omphalon farm show: many benches in one table."""

from __future__ import annotations

import click

from omphalon.cli.bench.common import as_document, document, table
from omphalon.errors import shown


@click.command("show", short_help="Many benches in one table: stale, due, failed checks, next.")
@click.argument("places", nargs=-1, required=True, metavar="DIR...")
@as_document
def show(places: tuple[str, ...], as_json: bool) -> int:
    """What each bench of DIR… waits for: settings gone stale since a part was changed, settings due
    (never measured, old, known too widely, standing on newer ones), checks that failed, and what
    comes next. A folder that holds benches stands for them.

    \b
    Example:
      omphalon farm show museum
    """
    from omphalon.farm.benches import benches_in, look

    rows = [look(place) for each in places for place in benches_in(each)]
    if as_json:
        document("farm-show", benches=[vars(row) for row in rows])
    else:
        head = ("printer", "set", "stale", "due", "failed", "next")
        cells = [
            (
                shown(r.printer),
                *(("–",) * 4 if r.error else map(str, (r.settings, r.stale, r.due, r.failed))),
                shown(r.error or r.next),
            )
            for r in rows
        ]
        table([head, *cells])
    return 1 if any(r.error for r in rows) else 0
