"""omphalon bench new | set | show | next | journal; the other commands are registered below."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import TYPE_CHECKING

import click

from omphalon.answers.commands import marked
from omphalon.answers.settings import GAINS
from omphalon.base.errors import OmphalonError, UsageError, echoed, shown
from omphalon.cli.bench.common import (
    as_document,
    document,
    in_bench,
    iso_date,
    loaded,
    plain_json,
    table,
    take_found,
)
from omphalon.cli.bench.lines import readback, sheet
from omphalon.cli.bench.work import adopt, back_up, changed, report, restore, revert, trial
from omphalon.cli.groups import InOrder
from omphalon.cli.numbers import choice
from omphalon.cli.proposed import as_here, proposed

if TYPE_CHECKING:
    from omphalon.bench.bench import Bench
    from omphalon.bench.journal import Entry
    from omphalon.bench.settings import InForce

MOST_SHOWN, FIRST = 30, 3


ORDER = (
    *("new", "set", "show", "next", "adopt", "revert", "changed", "trial", "journal"),
    *("sheet", "readback", "report", "back-up", "restore"),
)


@click.group(cls=InOrder, order=ORDER)
def bench() -> None:
    """One printer's folder: facts, settings, journal, and what to do next."""


@bench.command("new", short_help="Make a bench for a printer.")
@click.argument("folder", metavar="DIR")
@click.option("--set", "facts", multiple=True, metavar="KEY=VALUE", help="A fact to begin with.")
@click.option("--listing", metavar="LISTING", help="What the printer lists, or its settings file.")
@click.option("--dialect", metavar="FILE", help="Its lines; a copy goes into the bench.")
def new(folder: str, facts: tuple[str, ...], listing: str | None, dialect: str | None) -> None:
    """Make a bench in DIR: facts to fill in, an empty journal, folders for data and prints.

    What a LISTING holds goes into the journal as the settings found, before anything is changed.

    \b
    Example:
      omphalon bench new fulmar --set printer.name=Fulmar --set extruder.drive=bowden
    """
    from omphalon.bench.bench import make
    from omphalon.bench.facts import checked
    from omphalon.lines.dialect import SHIPPED, load_dialect
    from omphalon.lines.listing import read_listing

    pairs = [_pair(fact) for fact in facts]
    for key, value in pairs:
        checked(key, value)
    text = read_listing(listing) if listing is not None else None
    if dialect is not None:
        load_dialect(dialect)
        named = dialect if dialect in SHIPPED else Path(dialect).name
        pairs.append(("controller.dialect", named))
    made = make(Path(folder))
    if dialect is not None and dialect not in SHIPPED:
        shutil.copyfile(dialect, made.place / named)
    made.set_facts(dict(pairs))
    click.echo(f"a bench for one printer: {echoed(folder)}")
    if text is not None:
        try:
            take_found(made, text)
        except OmphalonError:
            shutil.rmtree(made.place)  # made just now: the next try finds it as it was
            raise
    click.echo(
        f"next    fill in {echoed(folder)}/bench.toml, then: cd {echoed(folder)} && ", nl=False
    )
    click.echo(proposed("bench next"))


def _pair(text: str) -> tuple[str, str]:
    key, equals, value = text.partition("=")
    if not equals or not value.strip():
        raise UsageError(f"{echoed(text)}: not of the form KEY=VALUE", "for example bed.x=220")
    return key.strip(), value.strip()


@bench.command("set", short_help="Set a fact in bench.toml.")
@click.argument("facts", nargs=-1, required=True, metavar="KEY=VALUE...")
@in_bench
def set_(one: Bench, facts: tuple[str, ...]) -> None:
    """Set facts in bench.toml; comments and order stay.

    \b
    Example:
      omphalon bench set nozzle.width=0.6 filament.red-pla.temp=210
    """
    from omphalon.bench.facts import checked
    from omphalon.lines.dialect import load_dialect

    pairs = [_pair(fact) for fact in facts]
    for key, value in pairs:
        if checked(key, value) and key == "controller.dialect":
            load_dialect(one.dialect_path({key: value}))
    one.set_facts(dict(pairs))
    for key, value in pairs:
        click.echo(f"{key} = {shown(value)}")


@bench.command("show", short_help="Facts, and the settings in force.")
@loaded
@as_document
@in_bench
def show(one: Bench, filament: str | None, as_json: bool) -> None:
    """Show the facts, and each setting in force with its spread, origin, age, and whether it still
    holds.

    \b
    Example:
      omphalon bench show
    """
    from omphalon.bench.facts import fact_words
    from omphalon.bench.ranges import range_words
    from omphalon.bench.sheet import origin_words, spread_words, value_words
    from omphalon.bench.work import reason

    state = one.state()
    if filament is not None:
        state = one.with_filament(state, filament)
    rows = []
    for key, setting in state.settings.items():
        why = reason(key, state)
        rows.append((setting, why[1] if why else ""))
    scale = one.dialect(state.facts).gain_scale
    if as_json:
        document(
            "bench-show",
            facts=dict(state.facts),
            settings={
                s.kind.key: {
                    "value": s.value,
                    "spread": s.spread,
                    **_scaled(s, scale),
                    "how": s.how,
                    "entry": s.entry,
                    "at": s.at,
                    "filament": s.filament,
                    "ranges": s.ranges,
                    "doubt": why or None,
                }
                for s, why in rows
            },
        )
        return
    name = state.facts.get("printer.name", "a printer without a name")
    loaded = f", {state.filament} loaded" if state.filament else ""
    click.echo(f"{shown(str(name))}{shown(loaded)}\n")
    facts = [(k, fact_words(v)) for k, v in state.facts.items() if k != "printer.name"]
    table(facts)
    click.echo("" if facts else "  no facts yet: fill in bench.toml")
    if not rows:
        click.echo(f"  no settings yet:\n      {proposed('bench next')}")
        return
    table(
        [
            (
                s.kind.words,
                value_words(s, scale),
                spread_words(s, scale),
                origin_words(s),
                why.partition(":")[0] or ", ".join(filter(None, ("holds", range_words(s)))),
            )
            for s, why in rows
        ]
    )


@bench.command("next", short_help="What to measure now, and why.")
@click.option("--all", "every", is_flag=True, help="All that is due, not only the first three.")
@click.option("--seen", metavar="WORDS", help="What is wrong with a print, or with the printer.")
@as_document
@in_bench
def next_(one: Bench, every: bool, seen: str | None, as_json: bool) -> None:
    """Say what to measure now, in the order of work, why, how long it takes, the command that plans
    it and the one that answers; with --seen what may be behind a complaint, the likeliest first.

    \b
    Example:
      omphalon bench next
      omphalon bench next --seen 'ripples beside edges'
    """
    if seen is not None:
        return _seen(seen, as_json, one)
    from omphalon.bench.work import by_card, steps
    from omphalon.tables.order import ORDER

    found = steps(one.state())
    if as_json:
        rows = [
            {
                "setting": s.kind.key,
                "reason": s.reason,
                "why": s.why,
                "command": str(s.command),
                "then": str(s.then),
                "minutes": ORDER[s.kind.group].minutes,
                "grams": ORDER[s.kind.group].grams,
            }
            for s in found
        ]
        document("bench-next", steps=rows)
        return
    if not found:
        click.echo("nothing: every setting stands. Print something, and keep what came out:")
        again = proposed("bench trial", changed="TEXT", outcome="TEXT", score="N")
        click.echo(f"      {again}")
        return
    some, write = found if every else found[:FIRST], as_here()
    for number, step in enumerate(some, 1):
        work = ORDER[step.kind.group]
        grams = f", {work.grams} g" if work.grams else ""
        click.echo(f"{number:2}. {step.kind.words}: {shown(step.why)} ({work.minutes} min{grams})")
        if number == 1 or step.command != found[number - 2].command:
            click.echo(f"      {write(step.command)}\n      {write(step.then)}")
    if len(found) > len(some):
        click.echo(f"and {len(found) - len(some)} more:\n      {proposed('bench next', all=True)}")
    if len(groups := by_card(found)) > 1:
        words = " and ".join(groups)
        card = proposed("card plan", out="prints/card.gcode")
        click.echo(f"one card for {words}:\n      {card}")


def _did_you_mean(some: list[str], as_json: bool) -> None:
    """The complaints that words may mean, each with the command that says it."""
    if as_json:
        document("bench-next", seen=None, did_you_mean=some)
        return
    click.echo("did you mean")
    for name in some:
        click.echo(f"      {proposed('bench next', seen=name)}")


def _seen(words: str, as_json: bool, bench: Bench) -> None:
    """What may be behind a complaint, and what tells."""
    from omphalon.bench.settings import KINDS
    from omphalon.bench.work import planned, reason
    from omphalon.tables.complaints import complaint_of

    meant, state, write = complaint_of(words), bench.state(), as_here()
    if not meant.certain:
        return _did_you_mean([one.seen for one in meant.complaints], as_json)
    one = meant.complaints[0]
    rows: list[dict[str, str | None]] = []
    for cause in meant.causes:
        why = reason(cause.key, state) if cause.key else None
        stands = "measured, and it stands" if why is None else why[1]
        rows.append(
            {
                "cause": cause.words,
                "setting": cause.key or None,
                "state": stands if cause.key else None,
                "command": str(write(planned(KINDS[cause.key], state))) if cause.key else None,
                "look": cause.look or None,
            }
        )
    if as_json:
        document("bench-next", seen=one.seen, causes=rows)
        return
    click.echo(f"{one.seen}: what it may be, the likeliest first")
    for number, row in enumerate(rows, 1):
        if row["setting"]:
            click.echo(f"{number:2}. {row['cause']} ({shown(str(row['state']))})")
            click.echo(f"      {row['command']}")
        else:
            trial = "`" in str(row["look"])  # a command of ours tells more
            click.echo(f"{number:2}. {row['cause']}{'' if trial else ': no setting mends it'}")
            for part in marked(str(row["look"])).parts:
                click.echo(f"      {part}")


@bench.command("journal", short_help="What was measured, set and changed.")
@click.option(
    "--kind", type=choice("finding", "setting", "part", "check", "trial"), help="Only these."
)
@click.option("--since", metavar="DATE", help="Only from then on (ISO, UTC).")
@click.option("--grep", metavar="TEXT", help="Only entries with this text in them.")
@as_document
@click.option("--csv", "as_csv", is_flag=True, help="Print a table.")
@in_bench
def journal(
    one: Bench, kind: str | None, since: str | None, grep: str | None, as_json: bool, as_csv: bool
) -> None:
    """List the journal, newest first.

    \b
    Example:
      omphalon bench journal --kind setting
    """
    if as_json and as_csv:
        raise UsageError("--json and --csv", "give one of the two")
    whole = as_json or as_csv
    found = one.journal.entries(
        kind, iso_date(since) if since else None, grep, -1 if whole else MOST_SHOWN
    )
    if as_json:
        document("bench-journal", entries=[vars(e) for e in found])
    elif as_csv:
        import csv
        import sys

        writer = csv.writer(sys.stdout, lineterminator="\n")
        writer.writerow(["entry", "at", "kind", "subject", "filament", "body"])
        for e in found:
            body = plain_json(e.body)
            writer.writerow([e.id, e.at, *map(shown, (e.kind, e.subject, e.filament or "")), body])
    elif not found:
        click.echo("nothing")
    else:
        scale = one.dialect(one.facts()).gain_scale
        table(
            [
                (str(e.id), e.at[:16].replace("T", " "), e.kind, e.subject, _brief(e, scale))
                for e in found
            ]
        )


def _scaled(setting: InForce, gain_scale: float) -> dict[str, object]:
    """Gains in the controller's scale, beside those for a power of 0…1."""
    own = {n: v * gain_scale for n, v in setting.value.items() if n in GAINS}
    return {"scaled": {**own, "full_power": gain_scale}} if own else {}


def _brief(entry: Entry, gain_scale: float) -> str:
    """An entry in a few words; gains in the controller's scale."""
    if entry.newer:
        return "of a newer omphalon"
    if entry.kind == "finding":
        return f"{entry.body['document']['verdict']}: {entry.body['document']['because']}"[:60]
    if entry.kind == "setting":
        value = ", ".join(
            v if isinstance(v, str) else f"{v * (gain_scale if n in GAINS else 1):.5g}"
            for n, v in entry.body["value"].items()
        )
        gains = set(entry.body["value"]) & {*GAINS}
        value += f" (full power is {gain_scale:g})" if gains else ""
        return f"{entry.body['how']} {value}"
    return str(
        entry.body.get("note") or entry.body.get("verdict") or entry.body.get("outcome") or ""
    )[:60]


for command in (adopt, revert, changed, trial, sheet, readback, report, back_up, restore):
    bench.add_command(command)
