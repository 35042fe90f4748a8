"""The command line: parse, call one study, show, exit. Heavy imports sit inside the commands."""

from __future__ import annotations

import codecs
import importlib
import os
import sys
from typing import Any

import click

from omphalon import __version__
from omphalon.base.errors import OmphalonError, shown
from omphalon.tables.order import ORDER

# the commands in the order of the work, and what --help says of each; loaded when they are needed
COMMANDS = {
    "start": "A few questions make a bench; what to measure first.",
    **{group: work.help for group, work in ORDER.items()},
    "card": "Advance, shaper and X against Y, from pictures of one printed card.",
    "trial": "Stepped prints of temperature, retraction, speed or flow, judged by eye.",
    "bench": "One printer's folder: facts, settings, journal, and what to do next.",
    "printer": "Work at the printer: capture, send, tune over the wire.",
    "farm": "Many printers: their logs in one go, compared.",
    "demo": "Tune up a made-up printer: sample data, answers, figures.",
}
FOLDERS = ("bench", "printer", "farm")  # groups of many commands


class Loading(click.Group):
    """A group whose commands are modules of this room, each imported when it is called."""

    def __init__(self, *args: Any, **more: Any) -> None:
        super().__init__(*args, **more)
        self.commands = dict.fromkeys(COMMANDS, click.Command("later"))  # by which a typo is told

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, name: str) -> click.Command | None:
        if name not in COMMANDS:
            return None
        place = f"{name}.group" if name in FOLDERS else name
        command: click.Command = getattr(importlib.import_module(f"omphalon.cli.{place}"), name)
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Commands"):
            formatter.write_dl(list(COMMANDS.items()))


@click.group(
    cls=Loading, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100}
)
@click.version_option(__version__, prog_name="omphalon")
def omphalon() -> None:
    """Turn small experiments on a 3D printer into settings, with intervals and reasons.

    \b
    Every group knows three verbs:
      plan    how to run the test on this printer
      fit     what was measured becomes the new setting: change, keep or retest
      check   judges the setting afterwards, on a fresh measurement

    \b
    Example:
      omphalon start
      omphalon demo
    """


# what a console that knows no such sign is shown instead
PLAIN = {
    "±": "+-",
    "°": " deg ",
    "²": "2",
    "³": "3",
    "–": "-",
    "−": "-",
    "…": "...",
    "×": "x",
    "÷": "/",
    "µ": "u",
    "·": "*",
    "√": "sqrt",
    "Σ": "sum",
    "≤": "<=",
    "≥": ">=",
    "π": "pi",
    "ζ": "damping",
    "’": "'",
    "“": '"',
    "”": '"',
    "→": "->",
    "↑": "^",
    "↓": "v",
}


def _plain_letters(error: UnicodeError) -> tuple[str, int]:
    """Signs that the console cannot show, in plain letters."""
    if not isinstance(error, UnicodeEncodeError):
        raise error
    return "".join(PLAIN.get(c, "?") for c in error.object[error.start : error.end]), error.end


def _first_words() -> list[str]:
    from omphalon.cli.start import first_words

    return first_words()


# how many threads NumPy's libraries use: on problems as small as ours more than one only wait
# for one another
THREADS = ("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS", "MKL_NUM_THREADS")


def one_thread() -> None:
    """Keep NumPy to one thread, in this process and those it starts; before NumPy is loaded."""
    for name in THREADS:
        os.environ.setdefault(name, "1")


def main() -> None:
    """Run; every error leaves as one line on standard error and an exit code."""
    one_thread()
    codecs.register_error("omphalon-plain", _plain_letters)
    for stream in (sys.stdout, sys.stderr):
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="omphalon-plain")
    try:
        args = sys.argv[1:] or _first_words()
        answer = omphalon.main(args, prog_name="omphalon", standalone_mode=False)
        code = getattr(answer, "exit_code", answer)
        sys.stdout.flush()
    except click.exceptions.NoArgsIsHelpError as error:
        click.echo(error.ctx.get_help() if error.ctx else "", err=True)
        code = 2
    except BrokenPipeError:
        sys.stderr.close()
        code = 1
    except Exception as error:  # the last door: a user never sees a traceback
        if os.environ.get("OMPHALON_DEBUG") == "1" and not isinstance(error, EXPECTED):
            raise
        code = _say(*sentence_of(error))
    try:
        sys.stdout.flush()
    except OSError:  # said already; the interpreter would try again, and exit with 120
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
    sys.exit(code if isinstance(code, int) else 0)


EXPECTED = (OmphalonError, click.ClickException, click.exceptions.Abort, OSError, MemoryError)


def sentence_of(error: Exception) -> tuple[str, int]:
    """What a user is told of an error, and the exit code that goes with it."""
    if isinstance(error, OmphalonError):
        return str(error), error.exit_code
    if isinstance(error, click.exceptions.Abort):
        return "stopped", 1
    if isinstance(error, click.MissingParameter) and error.param and error.ctx:
        problem = " ".join(error.format_message().split()).rstrip(".")
        asks = any("--ask" in param.opts for param in error.ctx.command.params)
        where = "the printer lists what it holds (M503); --ask asks for it; " if asks else ""
        return f"{problem}; {where}see '{error.ctx.command_path} --help'", 2
    if isinstance(error, click.UsageError):
        at = error.ctx.command_path if error.ctx else "omphalon"
        return f"{' '.join(error.format_message().split()).rstrip('.')}; see '{at} --help'", 2
    if isinstance(error, click.ClickException):
        return " ".join(error.format_message().split()), 1
    if isinstance(error, OSError):
        return f"the output cannot be written ({error.strerror})", 1
    if isinstance(error, MemoryError):
        return "not enough memory for this file; cut out the part that holds the test", 1
    return (
        f"a fault of omphalon itself ({type(error).__name__}: {' '.join(str(error).split())}); "
        "please report it with the file that caused it (OMPHALON_DEBUG=1 shows where)",
        1,
    )


def _say(line: str, code: int) -> int:
    click.echo(f"omphalon: {shown(line)}", err=True)
    return code
