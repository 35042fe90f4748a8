"""A walk over the options of every command, beside its example."""

import re
import shlex
from pathlib import Path

import click

from omphalon.cli import omphalon

# what is no number, hardly one, or one of another kind
VALUES = (
    "0",
    "1",
    "-1",
    "2",
    "0.5",
    "60",
    "95",
    "255",
    "1e9",
    "nan",
    "inf",
    "x",
    "",
    "40 %",
    "1,5",
)
NUMBERS = ("0.03", "0.7", "1", "3", "12", "60", "210", "1000", "9600")
# how an answer leaves, and what it is recorded with
LEAVING = ("as_json", "quiet", "force", "bench", "no_record", "plot", "template", "dialect", "out")
LEAVING += ("ask",)
APART = ("demo", "start", "printer", "farm")  # they wait, or take long


def commands(group, ctx, words=()):
    """Every command, by its words."""
    for name in group.list_commands(ctx):
        one = group.get_command(ctx, name)
        if one is None or (not words and name in APART):
            continue
        if isinstance(one, click.Group):
            yield from commands(one, ctx, (*words, name))
        else:
            yield (*words, name), one


def examples():
    """Every command's example, and the command."""
    for words, command in commands(omphalon, click.Context(omphalon)):
        found = re.search(r"^ *omphalon (.*)$", command.help or "", re.M)
        yield shlex.split(found[1]) if found else list(words), command


def drawn_line(every, random):
    """An example with one or two options more, or with other values of its own."""
    line, command = every[int(random.integers(len(every)))]
    line = list(line)
    options = [p for p in command.params if isinstance(p, click.Option)]
    for one in random.choice(options, min(len(options), int(random.integers(1, 3))), replace=False):
        for name in set(one.opts) & set(line) if not one.is_flag else ():
            at = line.index(name)  # another value in its place
            del line[at : at + 2]
        line += _drawn(one, random)
    bench = any("--bench" in p.opts for p in options) and "--bench" not in line
    return line + (["--bench", "b"] if bench and random.uniform() < 0.5 else [])


def _drawn(option, random):
    """An option with a value that it may or may not take, perhaps twice."""
    if option.is_flag:
        return [str(random.choice(option.opts))]
    choices = getattr(option.type, "choices", None)
    pool = [*choices, "x"] if choices else VALUES
    times = 1 + int(random.uniform() < 0.15)
    return [w for _ in range(times) for w in (option.opts[0], str(random.choice(list(pool))))]


def answered(program, words, folder, aside):
    """What a command answers and prints; None where it is refused, or no fit, check or plan."""
    done = program.run([*words, "--json"], folder, aside)
    if done.returncode not in (0, 3, 4):
        return None
    printed = [Path(folder, w).read_bytes() for w in words if w.endswith(".gcode")]
    return done.stdout, printed


def idle(program, line, command, folder, aside):
    """The options that are taken beside an example, one at a time, and change nothing: a number at
    none of several values.
    """
    usual = answered(program, line, folder, aside)
    for one in command.params:
        if not isinstance(one, click.Option) or one.name in LEAVING or one.opts[0] in line:
            continue
        choices = getattr(one.type, "choices", None) or NUMBERS
        more = [[one.opts[0], *[str(c)] * one.nargs] for c in choices]
        more = [[one.opts[0]]] if one.is_flag else more
        seen = (answered(program, [*line, *m], folder, aside) for m in more)
        taken = [s for s in seen if s is not None]
        if taken and all(s == usual for s in taken):
            yield one.opts[0]
