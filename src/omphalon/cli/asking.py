"""--ask: what a fit needs and was not given is asked for, one question at a time; the answers
become the command line that would have given them.
"""

from __future__ import annotations

import shlex
import statistics
from collections.abc import Sequence
from typing import Any, TypeAlias

import click

from omphalon.base.errors import UsageError, echoed
from omphalon.cli.benched import known_of
from omphalon.cli.numbers import Measure, parsed
from omphalon.cli.options import Argument, Ask, Option, record_of

OTHERS = 3  # readings that a further one is held against
STRANGE = 5.0  # of their own scatter, beyond which it is asked again
LEAST_SCATTER = 0.004  # of their size: less is no scatter of a hand's
BACK = "back"  # takes the last reading back
Parameter: TypeAlias = "Option | Argument"


def questions(command: click.Command) -> dict[str, tuple[Parameter, Ask]]:
    """What a command asks for, in the order of its options."""
    return {
        param.name or "": (param, param.ask)
        for param in command.params
        if isinstance(param, (Option, Argument)) and param.ask is not None
    }


def answers_to(ctx: click.Context, args: list[str]) -> list[str]:
    """The command line with what was asked for."""
    args = [word for word in args if word != "--ask"]
    args += _Conversation(ctx, args).answers()
    words = " ".join(ctx.command_path.split()[1:])
    click.echo(f"the same at once: omphalon {words} {shlex.join(args)}\n", err=True)
    return args


class _Conversation:
    """What was given, and what each option takes."""

    def __init__(self, ctx: click.Context, args: list[str]) -> None:
        self.command = ctx.command
        self.params = {param.name or "": param for param in ctx.command.params}
        given, _, _ = ctx.command.make_parser(ctx).parse_args(list(args))
        # Click has a sign of its own for what is not given
        self.given = {k: v for k, v in given.items() if isinstance(v, (str, list, tuple)) and v}
        files = (p.name for p in ctx.command.params if isinstance(p, click.Argument))
        self.file = next((self.given[name] for name in files if name in self.given), None)
        bench = self.given.get("bench")
        self.known = _in_bench(ctx.command, bench if isinstance(bench, str) else None)

    def answers(self) -> list[str]:
        """The words of the command line that the answers make."""
        out: list[str] = []
        asked = questions(self.command)
        axes = self._axes_in_file([one for _, one in asked.values()])
        for name, (param, one) in asked.items():
            if name in self.given or name in self.known or (self.file and one.many):
                continue
            if self.file and isinstance(param, click.Argument):
                continue
            if (axes and name == "axis") or one.unless(self._record()):
                continue
            if axes and one.each_axis:
                for axis in axes:
                    answer = self._ask(param, one, f"{one.words} of {axis}", "", False)
                    out += [param.opts[0], f"{axis}={answer}"]
            elif one.many:
                out += self._several(param, one)
            else:
                answer = self._ask(param, one, one.words, "", one.may_miss)
                self.given[name] = answer
                option = [param.opts[0]] if isinstance(param, click.Option) else []
                out += [*option, answer] if answer else []
        return out

    def _record(self) -> Any:
        """What was given so far, as the command's record."""
        return record_of(self.command.callback.record, self.given)  # type: ignore[union-attr]

    def _axes_in_file(self, asked: Sequence[Ask]) -> list[str]:
        """The axes that a file of readings tells by itself."""
        if "axis" not in self.params or not isinstance(self.file, str) or "axis" in self.given:
            return []
        from omphalon.readers.readings import read_readings
        from omphalon.recordings.columns import AXIS as COLUMNS
        from omphalon.recordings.columns import MOTION

        columns = COLUMNS if any(one.each_axis for one in asked) else MOTION
        rows = read_readings(self.file, columns).rows
        return sorted({row.words["axis"] for row in rows if row.words.get("axis")})

    def _several(self, param: Parameter, one: Ask) -> list[str]:
        """Readings until an empty answer; `back` takes the last of them back."""
        taken: list[tuple[list[str], float]] = []
        beside_of = self.params.get(one.beside)
        while True:
            count, beside = len(taken) + 1, []
            if isinstance(beside_of, Option):
                words = f"the length commanded, reading {count}"
                length = self._ask(param, one, words, ", Enter: done")
                if length and length != BACK:
                    beside = [beside_of.opts[0], length]
                answer = self._reading(param, one, count, taken, beside) if beside else length
            else:
                answer = self._reading(param, one, count, taken, beside)
            if not answer:
                return [word for words, _ in taken for word in words]
            if answer == BACK:
                gone = taken.pop()[0][-1] if taken and not beside else "nothing"
                click.echo(f"  {gone} taken back", err=True)
            else:
                size, _ = self._size(param, one, answer, beside)
                taken.append(([*beside, param.opts[0], answer], size))

    def _reading(
        self,
        param: Parameter,
        one: Ask,
        count: int,
        taken: Sequence[tuple[list[str], float]],
        beside: list[str],
    ) -> str:
        """A reading; one that does not fit the others is asked again."""
        sizes, doubted = [size for _, size in taken], ""
        so_far = f"; so far {', '.join(f'{s:g}' for s in sizes)}" if sizes and not beside else ""
        ends = f"{so_far}{'' if beside else ', Enter: done'}"
        ends += f", {BACK}: not the last one" if count == 2 else ""
        while True:
            words = f"{one.words}, reading {count}"
            answer = self._ask(param, one, words, ends, may_end=not beside)
            if not answer or answer in (BACK, doubted) or one.levels_of:
                return answer
            if _fits(*self._size(param, one, answer, beside), sizes):
                return answer
            doubted = answer
            others = "the others" if beside else ", ".join(f"{s:g}" for s in sizes)
            words = f"does not fit {others}: look again, and type what it is"
            click.echo(f"  {echoed(answer)} {words}", err=True)

    def _ask(self, param: Parameter, one: Ask, words: str, ends: str, may_end: bool = True) -> str:
        """An answer that can be one, or that ends or takes back."""
        while True:
            answer = typed(f"{words}{self._may_be(param, one)}{ends}")
            if answer == BACK or (not answer and may_end):
                return answer
            fault = self._fault(param, one, answer)
            if fault is None:
                return answer
            click.echo(f"  {fault}", err=True)

    def _measure(self, param: Parameter, one: Ask) -> Measure | None:
        """The quantity of an answer, where it is a number."""
        if one.each_axis:
            return Measure("steps", reading=True)
        if one.levels_of:
            return Measure(str(self.given.get(one.levels_of) or "speed"), reading=True)
        return param.type if isinstance(param.type, Measure) else None

    def _size(
        self, param: Parameter, one: Ask, answer: str, beside: Sequence[str]
    ) -> tuple[float, float]:
        """What readings are compared by, themselves or their share of what was asked, and the step
        in which it was read.
        """
        measure = self._measure(param, one)
        assert measure is not None
        number = parsed(answer, measure, param.opts[0])
        whole = abs(parsed(beside[1], measure, beside[0]).value) if beside else 1.0
        return abs(number.value) / whole if beside else number.value, number.step / whole

    def _may_be(self, param: Parameter, one: Ask) -> str:
        """Unit and range, or the words, in brackets."""
        choices, measure = _choices(param), self._measure(param, one)
        if choices:
            return f" ({', '.join(choices)}{', Enter: not known' if one.may_miss else ''})"
        if measure is None:
            return " (Enter: none)" if one.may_miss else ""
        row = measure.quantity
        low = row.lowest if measure.lowest is None else measure.lowest
        high = row.highest if measure.highest is None else measure.highest
        end = ", Enter: not known" if one.may_miss else ""
        return f" ({low:g} to {high:g}{f' {row.unit}' if row.unit else ''}{end})"

    def _fault(self, param: Parameter, one: Ask, answer: str) -> str | None:
        """What is wrong with an answer, or None."""
        choices, measure = _choices(param), self._measure(param, one)
        if not answer:
            return "an answer is needed here"
        if choices:
            return None if answer.lower() in choices else f"one of {', '.join(choices)}"
        if measure is not None:
            try:
                parsed(answer, measure, param.opts[0])
            except UsageError as error:
                return str(error)
        return None


def _choices(param: Parameter) -> Sequence[str]:
    return tuple(param.type.choices) if isinstance(param.type, click.Choice) else ()


def _in_bench(command: click.Command, named: str | None) -> set[str]:
    """Options whose values the bench knows."""
    from omphalon.bench.bench import find_bench

    bench = find_bench(named)
    if bench is None:
        return set()
    state, nothing = bench.state(), record_of(command.callback.record, {})  # type: ignore[union-attr]
    return {n for n, known in known_of(command).items() if known(state, nothing) is not None}


def _fits(size: float, step: float, others: Sequence[float]) -> bool:
    """Whether a reading lies where the others do, by their scatter; never is one doubted that
    stands there already, or a step of the caliper beside it.
    """
    if len(others) < OTHERS or any(abs(size - f) <= 1.001 * step for f in others):
        return True
    middle = statistics.median(others)
    scatter = 1.5 * statistics.median(abs(f - middle) for f in others)
    return abs(size - middle) <= STRANGE * max(scatter, LEAST_SCATTER * abs(middle), 1e-9)


def typed(question: str) -> str:
    """What is typed to a question, asked beside the answer's own stream."""
    answer: str = click.prompt(question, default="", show_default=False, err=True)
    return answer.strip()
