"""Options as records: what a field may say, and what is wrong with one is seen when the command is loaded."""

from dataclasses import dataclass

import click
import pytest

from omphalon.base.errors import UsageError
from omphalon.cli import omphalon
from omphalon.cli.options import nested, number, parameters, takes, text
from omphalon.recordings.columns import TABLES


@dataclass(frozen=True, kw_only=True)
class Line:
    width_mm: float = number("--width", "size", "Width.", default=0.4)
    out: str | None = text("--out", "Where to.")


@dataclass(frozen=True, kw_only=True)
class Asked:
    speed_mm_s: float | None = number(
        "--speed", "speed", "Speed.", needs=("out",), remedy="say where"
    )
    slow: float | None = number("--slow", "speed", "Slow.", excludes=("speed_mm_s",))
    count: int = number(
        "--count", "count", "Count.", default=3, idle=lambda o: "--slow" if o.slow else ""
    )
    line: Line = nested(Line)


@click.command()
@takes(Asked)
def command(options):
    click.echo(repr(options))


WORDS = {
    "--width 0.6": "Asked(speed_mm_s=None, slow=None, count=3, line=Line(width_mm=0.6, out=None))",
    "--speed 30 --out f": "Asked(speed_mm_s=30.0, slow=None, count=3, "
    "line=Line(width_mm=0.4, out='f'))",
    "--speed 30": "--speed without --out; say where",
    "--slow 5 --speed 30 --out f": "--slow and --speed; give one of the two",
    "--slow 5 --count 4": "--count with --slow: it has no say there; leave it out",
    "--count 1.5": "--count 1.5",
}


@pytest.mark.parametrize("words", WORDS)
def test_a_record_is_filled_or_refused(words, capsys):
    try:
        command.main(words.split(), standalone_mode=False)
        said = capsys.readouterr().out
    except UsageError as error:
        said = str(error)
    assert said.startswith(WORDS[words])


def test_a_rule_that_names_no_field_and_a_name_twice_are_seen_at_once():
    @dataclass(frozen=True, kw_only=True)
    class Lonely:
        slow: float = number("--slow", "speed", "Slow.", needs=("fast",))

    @dataclass(frozen=True, kw_only=True)
    class Twice(Line):
        inner: Line = nested(Line)

    for kind, told in ((Lonely, "Lonely.slow names fast"), (Twice, "twice")):
        with pytest.raises(TypeError, match=told):
            parameters(kind)


@pytest.mark.parametrize("table", sorted(set(TABLES) - {"advance check", "motion"}))
def test_every_number_of_a_table_is_an_option_of_its_fit(table):
    fit = omphalon.get_command(click.Context(omphalon), table).commands["fit"]
    names = {param.name for param in fit.params}
    assert {c.name for c in TABLES[table] if c.quantity} <= names
