"""omphalon bench changed | adopt | revert | trial."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import click

from omphalon.base.errors import UsageError, echoed, shown
from omphalon.base.files import put_bytes
from omphalon.cli.bench.common import columns, in_bench, iso_date, plain_note, table
from omphalon.cli.common import tool_field
from omphalon.cli.groups import OnceEach
from omphalon.cli.numbers import choice
from omphalon.cli.options import takes, text
from omphalon.cli.proposed import proposed
from omphalon.cli.writing import check_outputs
from omphalon.tables.parts import PARTS, PARTS_OF_TOOL
from omphalon.tables.tools import SETTINGS_OF_TOOL, Tool

if TYPE_CHECKING:
    from omphalon.bench.bench import Bench
    from omphalon.bench.journal import Entry
    from omphalon.bench.work import State


@dataclass(frozen=True, kw_only=True)
class ChangedOptions:
    """Options of `bench changed`."""

    note: str = text("--note", "A note on it.", metavar="TEXT", default="", shown=False)
    to: str | None = text("--to", "A nozzle's width in mm, or the filament's name.", metavar="WHAT")
    tool: Tool = tool_field()


@click.command("changed", cls=OnceEach, short_help="A part was changed: what no longer holds?")
@click.argument("part", type=choice(*PARTS))
@takes(ChangedOptions)
@in_bench
def changed(one: Bench, part: str, options: ChangedOptions) -> None:
    """Record that a PART was changed, and say which settings it makes stale; hotend is block,
    sensor, cartridge and nozzle at once. A nozzle's width, and the filament that is loaded now,
    become facts.

    \b
    Example:
      omphalon bench changed nozzle --to 0.6 --note hardened
    """
    to, tool = options.to, options.tool
    facts = dict.fromkeys(("nozzle", "hotend"), "nozzle.width") | {"filament": "printer.loaded"}
    fact = facts.get(part)
    if tool and part not in PARTS_OF_TOOL:
        raise UsageError(f"--tool {tool} with {part}", "it is no part of a tool")
    if fact is not None:
        fact = tool.fact(fact)
    if to is not None and fact is None:
        raise UsageError(f"--to {echoed(to)} with {part}", "it is a nozzle's or a filament's")
    if to is not None and fact is not None:
        one.set_facts({fact: to})
    state, note = one.state(), {"note": plain_note(options.note)}
    filament = state.loaded.get(tool) if part == "filament" else None
    one.journal.append("part", tool.own(part), note, filament)
    click.echo(f"the {part}{tool.of} was changed; {_out_of_date(state, part, tool)}")
    if fact is not None and to is None:
        had = f"still {state.facts[fact]}" if fact in state.facts else "not known"
        again = proposed("bench set", f"{fact}=VALUE")
        click.echo(f"{fact} is {had}: say what it is now\n        {again}")
    if part == "filament" and to is not None:
        _say_unknown(state, to)
    click.echo(f"next    {proposed('bench next')}")


def _out_of_date(state: State, part: str, tool: Tool) -> str:
    """The settings in force that no longer hold, in rows; a word where there are none."""
    from omphalon.bench.settings import KINDS

    stale = {
        tool.setting(key): why
        for key, why in PARTS[part].items()
        if not tool or key in SETTINGS_OF_TOOL
    }
    rows = [(KINDS[key].words, why) for key, why in stale.items() if key in state.settings]
    if not rows:
        return "nothing that it bears on was measured yet"
    return "out of date now:\n" + "\n".join(columns(rows))


def _say_unknown(state: State, filament: str) -> None:
    """Which facts of a filament the bench does not know."""
    from omphalon.bench.facts import FILAMENT

    keys = [one.key for one in FILAMENT if f"filament.{filament}.{one.key}" not in state.facts]
    if keys:
        click.echo(f"not known of {echoed(filament)} yet: {', '.join(keys)}; say them with")
        pair = f"filament.{echoed(filament)}.{keys[0]}=VALUE"
        click.echo(f"        {proposed('bench set', pair)}")


@click.command("adopt", short_help="Make a finding the setting in force.")
@click.argument("finding", required=False, type=int, metavar="[FINDING]")
@click.option("--all", "every", is_flag=True, help="All findings that were not adopted yet.")
@in_bench
def adopt(one: Bench, finding: int | None, every: bool) -> None:
    """Make a FINDING (its entry; the newest if not given) the setting in force, and print the lines
    that enter it. One at a time: two things changed at once cannot be told apart.

    \b
    Example:
      omphalon bench adopt
    """
    from omphalon.bench.settings import KINDS

    if finding is not None:
        chosen = [_named(one, finding)]
    else:
        waiting = one.waiting()
        if not waiting:
            raise UsageError(
                "no finding waits to be adopted", "measure something: omphalon bench next"
            )
        chosen = list(reversed(waiting)) if every else waiting[:1]
    for entry in chosen:
        doubts = one.doubts(entry)
        found = one.adopt(entry)
        _keep_line(one, entry)
        lines = entry.body["document"]["lines"]
        kept = [f"; {KINDS[each.key].words}: kept as it is" for each in found]
        for line in lines or kept:
            click.echo(shown(line))
        for doubt in doubts:
            click.echo(f"warning: {shown(doubt)}", err=True)
    _say_entering(one, [line for entry in chosen for line in entry.body["document"]["lines"]])
    left = [str(e.id) for e in one.waiting()]
    if left:
        click.echo(f"waiting: {', '.join(left)}", err=True)


def _say_entering(one: Bench, lines: Sequence[str]) -> None:
    """How lines come into the printer, and are read back; comments are for a hand."""
    facts = one.facts()
    dialect = one.dialect(facts)
    stored = [line for line in lines if not line.startswith(";")]
    if not stored or any(f"; {name}{dialect.where(name)}" in lines for name in dialect.lives):
        return
    steps = [proposed("bench readback", "LISTING")]
    if any(line.startswith("[") for line in stored):
        sheet = proposed("bench sheet", into="FILE", out="NEW-FILE")
        steps = [sheet, proposed("bench readback", "NEW-FILE")]
    elif facts.get("controller.port"):
        sheet = proposed("bench sheet", out="sheet.txt")
        steps = [sheet, proposed("printer send", "sheet.txt", readback=True)]
    click.echo("next    enter and store these lines, then read them back:", err=True)
    for step in steps:
        click.echo(f"        {step}", err=True)


def _keep_line(one: Bench, entry: Entry) -> None:
    """The line of pressure advance that was given with a finding stays in the bench."""
    words = entry.body["command"]
    if entry.subject == "advance-fit" and "--line" in words[:-1]:
        line = str(words[words.index("--line") + 1])
        if one.facts().get("advance.line") != line:
            one.set_facts({"advance.line": line})
            click.echo(f"advance.line = {shown(line)} is kept in bench.toml", err=True)


def _named(one: Bench, number: int) -> Entry:
    """The finding with this number; one that gives no setting is refused."""
    from omphalon.bench.settings import taken

    entry = one.journal.entry(number)
    if entry is None or entry.kind != "finding":
        raise UsageError(f"entry {number}: no finding", "omphalon bench journal --kind finding")
    if not taken(entry.body["document"]):
        raise UsageError(
            f"entry {number}: {entry.body['document']['verdict']}, and no setting in it",
            "adopt the finding of a fit that gives one",
        )
    return entry


@click.command("revert", short_help="Go back to what was in force before.")
@click.argument("setting", required=False, metavar="[SETTING]")
@click.option("--to", "date", metavar="DATE", help="As it was at that date (ISO, UTC).")
@click.option("--entry", type=int, metavar="N", help="To what this entry of the journal set.")
@in_bench
def revert(one: Bench, setting: str | None, date: str | None, entry: int | None) -> None:
    """Go back to what was in force before the last setting, or before the last one of a SETTING
    (as `bench show --json` names it: flow, steps-e), at a DATE, or by an entry. Nothing is
    forgotten; a second time goes further back.

    \b
    Example:
      omphalon bench revert
    """
    from omphalon.bench.settings import KINDS
    from omphalon.bench.sheet import entered, value_words
    from omphalon.lines.template import Entered, block

    if sum(one is not None for one in (setting, date, entry)) > 1:
        raise UsageError("SETTING, --to and --entry", "give one of them")
    if setting is not None and setting not in KINDS:
        raise UsageError(f"{echoed(setting)}: no setting", f"one of {', '.join(KINDS)}")
    back = one.before(iso_date(date) if date is not None else None, setting, entry)
    if not back:
        raise UsageError("nothing older is known", "omphalon bench journal --kind setting")
    one.revert(back)
    state = one.state()
    dialect = one.dialect(state.facts)
    lines: list[Entered] = []
    for each in back:
        now = state.settings.get(each.entry.subject)
        if now is not None:
            words = Entered(f"; {now.kind.words}: {value_words(now, dialect.gain_scale)}")
            lines += entered(now, dialect) or (words,)
    sent = any(line.section is None and not line.text.startswith(";") for line in lines)
    ends = [dialect.line("store"), dialect.line("list")] if sent else []
    for shown_line in block([*lines, *(Entered(end) for end in ends if end)]):
        click.echo(shown_line)


@click.command("trial", short_help="Record a trial print, or rank them.")
@click.option("--changed", "changes", multiple=True, metavar="TEXT", help="What was changed.")
@click.option("--outcome", metavar="TEXT", help="How the print is.")
@click.option("--score", type=float, metavar="N", help="How good, higher is better.")
@click.option("--photo", help="A picture of it.")
@click.option("--rank", is_flag=True, help="Show which changes made the most difference.")
@in_bench
def trial(
    one: Bench,
    changes: tuple[str, ...],
    outcome: str | None,
    score: float | None,
    photo: str | None,
    rank: bool,
) -> None:
    """Record a trial print: what was changed since the last one, and what came out; or rank them.

    \b
    Example:
      omphalon bench trial --changed "fan 60 %" --outcome "cleaner bridges" --score 7
    """
    from omphalon.bench.journal import ranked

    if rank:
        rows = ranked(one.journal.entries(kind="trial"))
        if not rows:
            raise UsageError("no trials with scores to compare", "give --score with each trial")
        table([(r.change, f"{r.difference:+.2g}", r.certainty) for r in rows])
        _best_so_far(one)
        return
    if outcome is None:
        raise UsageError("a trial without its outcome", "give --outcome TEXT, and --changed TEXT")
    if score is not None and not abs(score) <= 1000:
        raise UsageError(f"--score {score}: no score", "a number between -1000 and 1000")
    number = one.trial([plain_note(c) for c in changes], plain_note(outcome), score, photo)
    click.echo(f"recorded as entry {number}")
    if len(changes) > 1:
        click.echo(
            f"warning: {len(changes)} things changed at once: their effects cannot be told apart",
            err=True,
        )


def _best_so_far(one: Bench) -> None:
    """The print with the highest score, what had been changed up to it, and what was set then."""
    from omphalon.bench.settings import setting_of
    from omphalon.bench.sheet import value_words

    trials = sorted(one.journal.entries(kind="trial"), key=lambda e: e.id)
    best = max((t for t in trials if t.body["score"] is not None), key=lambda t: t.body["score"])
    changes = [shown(c) for t in trials if t.id <= best.id for c in t.body["changed"]]
    click.echo(
        f"\nbest    entry {best.id}, {best.at[:10]}, score {best.body['score']:g}: "
        f"{shown(best.body['outcome'])}\n        after {'; '.join(changes) or 'no change'}"
    )
    then = {
        (e.subject, e.filament): found
        for e in reversed(one.journal.entries(kind="setting"))
        if e.id < best.id and e.filament in (None, best.filament) and (found := setting_of(e))
    }
    scale = one.dialect(one.facts()).gain_scale
    table([(f"      {s.kind.words}", value_words(s, scale)) for s in then.values()])


@click.command("report", short_help="One page with everything.")
@click.option("--out", default="report.html", show_default=True, help="The page.")
@click.option("--force", is_flag=True, help="Replace a file that Omphalon did not write.")
@in_bench
def report(one: Bench, out: str, force: bool) -> None:
    """Write one page with facts, settings and their history, findings with figures, trials, and
    what is next. It needs no network and no script, and prints on paper.

    \b
    Example:
      omphalon bench report --out fulmar.html
    """
    from omphalon.report.page import page_of

    check_outputs(force, (), out=out)
    put_bytes(out, page_of(one).encode())
    click.echo(f"page    {echoed(out)}")


@click.command("back-up", short_help="Everything into one archive.")
@click.argument("file")
@click.option("--force", is_flag=True, help="Replace an existing file.")
@in_bench
def back_up(one: Bench, file: str, force: bool) -> None:
    """Put the whole bench into one archive, FILE.zip.

    \b
    Example:
      omphalon bench back-up fulmar-backed-up.zip
    """
    from omphalon.bench.archive import pack

    if Path(file).resolve().is_relative_to(one.place.resolve()):
        raise UsageError(f"{echoed(file)}: inside the bench", "keep a back-up somewhere else")
    check_outputs(force, (), file=file)
    packed = pack(one, Path(file))
    click.echo(f"backed up {packed.files} files into {echoed(file)}")
    if packed.left_out:
        click.echo(f"left out  {', '.join(map(echoed, packed.left_out))}: no part of the bench")


@click.command("restore", short_help="A bench from an archive.")
@click.argument("file")
@click.argument("folder", metavar="DIR")
def restore(file: str, folder: str) -> None:
    """Make a bench in DIR from a back-up FILE; every part of it is checked.

    \b
    Example:
      omphalon bench restore fulmar.zip fulmar-again
    """
    from omphalon.bench.archive import unpack

    count = unpack(Path(file), Path(folder))
    click.echo(f"restored {count} files into {echoed(folder)}")
