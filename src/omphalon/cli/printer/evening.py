"""omphalon printer tune without a group: all that is due, in the order of work, step by step."""

from __future__ import annotations

import shlex
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from omphalon.base.errors import OmphalonError, StillHot, UsageError, echoed, shown
from omphalon.base.files import put_bytes
from omphalon.bench.work import EveningStep, evening_steps
from omphalon.cli.asking import typed
from omphalon.cli.bench.common import table, take_found
from omphalon.cli.benched import GUIDED, WITHIN, within_environment
from omphalon.cli.common import bench_field
from omphalon.cli.groups import OnceEach, Verbs
from omphalon.cli.known import HELD, fact, held
from omphalon.cli.options import nested, takes, text
from omphalon.cli.printer.send import ask_by_name, show_lines
from omphalon.cli.printer.setter import Setter
from omphalon.cli.printer.wire import (
    PORT_HELP,
    AgreeOptions,
    Wired,
    agreed_dialect,
    at_printer,
    confirmed,
)
from omphalon.cli.proposed import proposed
from omphalon.tables.heaters import HEATERS
from omphalon.tables.order import ORDER
from omphalon.tables.tools import Tool

if TYPE_CHECKING:
    from omphalon.answers.finding import Finding
    from omphalon.bench.bench import Bench
    from omphalon.bench.journal import Entry

AT_THE_WIRE = ("heater", "extruder")  # groups that have a tune of their own
# options of a group's plan, beside its axis; groups whose plan writes a print or a file of moves
PLANS = {"advance": ("--style", "tower")}
WRITES = ("flow", "shaper", "advance")
CHOICES = "Enter: begin; s: not tonight; q: end here"
AFTER = "Enter: go on; r: this step once more; q: end here"


class Evening(Verbs):
    """A group whose bare call is the evening; a word that is no command stays an error."""

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        asks_help = {"-h", "--help"} & set(args[:1])
        if not args or (args[0].startswith("-") and not asks_help):
            args = ["evening", *args]
        return super().parse_args(ctx, args)


@dataclass(frozen=True, kw_only=True)
class EveningOptions:
    """Options of `printer tune` without a group."""

    port: str | None = text("--port", PORT_HELP, metavar="PORT", bench=fact("controller.port"))
    agree: AgreeOptions = nested(AgreeOptions)
    bench: str | None = bench_field()


@click.command("evening", cls=OnceEach, short_help="All that is due, step by step (no group).")
@takes(EveningOptions)
def evening(options: EveningOptions) -> int:
    """Go through all that is due, in the order of work: plan, heat, measure, fit, set, store, read
    back, check. Each step can be skipped, repeated, or left for another day; what was measured is
    in the bench, so that an evening that ends goes on where it stood.

    \b
    Example:
      omphalon printer tune --port socket://127.0.0.1:5555
    """
    opened = held()
    if opened is None:
        from omphalon.cli.start import bench_by_questions

        click.echo("no bench here yet: a folder for this printer\n", err=True)
        bench, _ = bench_by_questions(options.port or "")
    else:
        bench = opened[0]
    state = bench.state()
    click.get_current_context().meta[HELD] = (bench, state)
    port = options.port or state.facts.get("controller.port")
    if port is None:
        raise UsageError("no port", f"give --port; these are there: {proposed('printer list')}")
    speed = state.facts.get("controller.speed")
    at = Wired(
        port=str(port),
        speed=int(speed) if isinstance(speed, (int, float)) else None,
        dialect=bench.dialect_path(state.facts),
    )
    lines = agreed_dialect(at, options.agree.yes)
    if not state.settings:
        with at_printer(at, lines) as printer:
            take_found(bench, printer.listing())
    with within_environment("OMPHALON_BENCH", str(bench.place)):
        return _Session(bench=bench, at=at, agree=options.agree).run()


def _command(words: Sequence[str], who: str = GUIDED) -> Any:
    """Another command, in this process; its answer."""
    program = click.get_current_context().find_root().command
    return program.main(list(words), prog_name="omphalon", standalone_mode=False, obj=who)


def _one_of(question: str, answers: Sequence[str]) -> str:
    """One of some answers; anything else is asked again."""
    while (answer := typed(question).lower()) not in answers:
        click.echo(f"  one of {', '.join(filter(None, answers))}, or Enter", err=True)
    return answer


def _file(words: str, others: str = "Enter: another day", *answers: str) -> str:
    """A file that is there, or one of the other answers; "" where there is none yet."""
    while answer := typed(f"{words}: a file; {others}"):
        if answer in answers or Path(answer).is_file():
            return answer
        click.echo(f"  {echoed(answer)} is not there", err=True)
    return ""


def _finding_of(entry: Entry) -> Finding:
    """What is to be set of a finding in the journal."""
    from omphalon.answers.finding import Finding
    from omphalon.answers.settings import settings_in

    document = entry.body["document"]
    return Finding(
        kind=document["kind"],
        verdict=document["verdict"],
        because=document["because"],
        settings=tuple(settings_in(document)),
        lines=tuple(document["lines"]),
    )


@dataclass(kw_only=True)
class _Session:
    """An evening at one printer. `skipped`: steps that are left for another day."""

    bench: Bench
    at: Wired
    agree: AgreeOptions
    skipped: set[EveningStep] = field(default_factory=set)

    def __post_init__(self) -> None:
        self.before = self.bench.state().settings

    def run(self) -> int:
        """Step by step, until nothing is due or the user ends it."""
        done = 0
        try:
            while (job := next(iter(self._left()), None)) is not None:
                done += 1
                if not self._step(job, done):
                    break
        except click.exceptions.Abort:
            click.echo(
                f"\nended here; it goes on with\n  {proposed('printer tune evening')}", err=True
            )
            raise
        return self._end()

    def _left(self) -> list[EveningStep]:
        """What is due, without what is left for another day."""
        return [job for job in evening_steps(self.bench.state()) if job not in self.skipped]

    def _step(self, job: EveningStep, number: int) -> bool:
        """One step, as often as it is asked for; whether to go on."""
        left = len(self._left())
        minutes = f" ({ORDER[job.group].minutes} min)" if ORDER[job.group].minutes else ""
        click.echo(f"\nstep {number}, {left} left: {job.words}: {job.why}{minutes}")
        answer = _one_of(CHOICES, ("", "s", "q"))
        again = answer == ""
        while again:
            self._tried(job)
            answer = _one_of(AFTER, ("", "r", "q"))
            again = answer == "r"
        if job in self._left():
            self.skipped.add(job)
            if answer != "q":
                click.echo(f"left for another day: {job.words}")
        return answer != "q"

    def _tried(self, job: EveningStep) -> None:
        """The work of a step; an error is reported, and the evening goes on."""
        from omphalon.cli import sentence_of

        try:
            self._work(job)
        except StillHot:
            raise
        except (OmphalonError, click.ClickException) as error:
            click.echo(shown(sentence_of(error)[0]), err=True)

    def _work(self, job: EveningStep) -> None:
        waiting = None if job.checks else self._waiting(job)
        if waiting is not None:
            click.echo(f"measured {waiting.at[:16].replace('T', ' ')} UTC, and not yet set")
            if _one_of("Enter: set it now; m: measure again", ("", "m")) == "":
                self._put(job, _finding_of(waiting))
                return
        if job.group == "heater":
            self._ask_target(job.keys[0].split("-")[0])
        if job.group in AT_THE_WIRE and not job.checks:
            which = ("--heater", job.keys[0].split("-")[0]) if job.group == "heater" else ()
            self._run("printer", "tune", job.group, *which, *job.of_tool, *self._wire())
        elif job.checks:
            self._check(job)
        else:
            self._measured(job)

    def _waiting(self, job: EveningStep) -> Entry | None:
        """A finding of this step that an evening which ended did not set."""
        from omphalon.bench.settings import days_since, taken

        for entry in self.bench.waiting():
            found = {one.key for one in taken(entry.body["document"])}
            if found & set(job.keys) and days_since(entry.at) == 0:
                return entry
        return None

    def _ask_target(self, heater: str) -> None:
        """The temperature at which a heater prints, for a bench that does not know it."""
        key = f"heaters.{heater}_target"
        while key not in self.bench.facts():
            usual = f"{HEATERS[heater].usual_target_c:g}"
            answer = typed(f"at how many °C does the {heater} print? Enter: {usual}")
            try:
                self.bench.set_facts({key: answer or usual})
            except OmphalonError as error:
                click.echo(f"  {error}", err=True)

    def _run(self, *words: str) -> Any:
        """A command of ours, shown before it runs."""
        click.echo(f"\nrun     omphalon {shlex.join(words)}")
        return _command(words)

    def _wire(self) -> tuple[str, ...]:
        """The options that lead to the printer."""
        given = {"--port": self.at.port, "--speed": self.at.speed, "--dialect": self.at.dialect}
        words = [w for name, v in given.items() if v is not None for w in (name, str(v))]
        allowed = [w for line in self.agree.allowed for w in ("--allow", line)]
        return (*words, *allowed, *(("--yes",) if self.agree.yes else ()))

    def _measured(self, job: EveningStep) -> None:
        """A step that takes a hand, a print or a sensor: plan, do, type in, fit, set, check."""
        for axis in job.axes or ("",):
            self._plan(job, axis)
        finding = self._fit(job)
        if finding is not None and finding.verdict != "retest":
            self._put(job, finding)

    def _plan(self, job: EveningStep, axis: str) -> None:
        """The plan; its print or moves are sent where the user wants that."""
        of_axis = ("--axis", axis) if axis and job.group in ("axis", "shaper") else ()
        print_of = self._print_of(job, axis)
        out = ("--out", print_of) if print_of else ()
        planned = self._run(
            job.group, "plan", *PLANS.get(job.group, ()), *of_axis, *out, *job.of_tool
        )
        if self._sent(print_of) or not planned.lines:
            return
        if confirmed("send these lines now, one at a time?", without=False):
            self._moves(planned.lines)

    def _print_of(self, job: EveningStep, axis: str) -> str:
        """The file that the plan of a step writes; "" where it writes none."""
        if job.group not in WRITES:
            return ""
        name = "-".join(filter(None, (job.group, axis, *PLANS.get(job.group, ())[1:])))
        return str(self.bench.place / "prints" / f"{name}.gcode")

    def _sent(self, print_of: str) -> bool:
        """Whether there is a file to print; it is sent where the user wants that."""
        if not Path(print_of).is_file():
            return False
        if confirmed(f"send {echoed(print_of)} now?", without=False):
            self._run("printer", "send", print_of, *self._wire())
        return True

    def _moves(self, lines: Sequence[str]) -> None:
        """Moves one at a time: the user measures after each."""
        show_lines(lines)
        dialect = self.at.lines()
        ask_by_name(lines, dialect, self.agree.allowed)
        with at_printer(self.at, dialect) as printer:
            for line in lines:
                typed(f"Enter: send {shown(line)}")
                printer.tell(line, slow=True)

    def _fit(self, job: EveningStep) -> Finding | None:
        """The fit of what was measured; None where there is nothing yet."""
        if job.group == "shaper":
            logs = {axis: _file(f"the log of axis {axis}") for axis in job.axes}
            given = [w for axis, log in logs.items() if log for w in (f"--{axis}", log)]
            return self._run("shaper", "fit", *given) if given else None
        given = self._readings(job)
        return self._run(job.group, "fit", *given, *job.of_tool) if given else None

    def _readings(self, job: EveningStep) -> list[str]:
        """A file of readings, or that they are asked for; nothing where there are none yet."""
        answer = _file("what was measured", "Enter: type it in; s: another day", "s")
        asks = ("--ask",) if not answer or job.group == "flow" else ()  # how wide a wall should be
        return [] if answer == "s" else [*filter(None, [answer]), *asks]

    def _put(self, job: EveningStep, finding: Finding) -> None:
        """The new setting into the printer, and into the bench; checked where that can be."""
        dialect = self.at.lines().for_tool(job.tool)
        with at_printer(self.at, dialect) as printer:
            setter = Setter(
                printer=printer,
                dialect=dialect,
                keys=tuple(Tool.in_key(one.key)[0] for one in finding.settings),
                found=printer.listing(),
                without=self.agree.yes,
            )
            setter.put(finding)

    def _check(self, job: EveningStep) -> None:
        """A fresh measurement, judged."""
        if job.group == "heater":
            heater = job.keys[0].split("-")[0]
            which, out = ("--heater", heater, *job.of_tool), f"{heater}-hold.csv"
            self._run("printer", "capture", "--run", "hold", *which, "--out", out, *self._wire())
            self._run("heater", "check", out, *which)
        elif job.group == "shaper":
            for axis in job.axes:
                self._sent(self._print_of(job, axis))
                if log := _file(f"a fresh log of axis {axis}, shapers on"):
                    self._run("shaper", "check", log, "--axis", axis)
        else:
            click.echo("measure once more, as before")
            self._sent(self._print_of(job, ""))
            if job.group == "axis":
                planned = _command(["axis", "plan", "--axis", job.axes[0]], WITHIN)
                self._moves(planned.lines)
            given = self._readings(job)
            if given:
                self._run(job.group, "check", *given, *job.of_tool)

    def _end(self) -> int:
        """The evening in a table, and as a page: before, after, what is left."""
        from omphalon.report.page import change_rows, page_of

        changed, left = change_rows(self.bench, self.before), evening_steps(self.bench.state())
        click.echo("\nbefore and after" if changed else "\nnothing was set")
        table([(row.words, row.before, "→", row.after, row.holds) for row in changed])
        click.echo("\nwhat is left" if left else "\nnothing is due")
        table([(job.words, job.why) for job in left])
        out = self.bench.place / "evening.html"
        put_bytes(str(out), page_of(self.bench, changed).encode())
        click.echo(f"page    {echoed(str(out))}")
        return 0
