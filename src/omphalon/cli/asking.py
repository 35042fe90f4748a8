"""--ask: what a fit needs and was not given is asked for, one question at a time; the answers
become the command line that would have given them.
"""

from __future__ import annotations

import shlex
import statistics
from collections.abc import Sequence
from dataclasses import dataclass

import click

from omphalon.base.errors import UsageError, echoed
from omphalon.cli.common import Measure, parsed
from omphalon.tables.rows import grouped, rows_of

OTHERS = 3  # readings that a further one is held against
STRANGE = 5.0  # of their own scatter, beyond which it is asked again
LEAST_SCATTER = 0.004  # of their size: less is no scatter of a hand's
BACK = "back"  # takes the last reading back


@dataclass(frozen=True, kw_only=True)
class Asked:
    """One thing that a command asks for: the option it fills ("" for a file), in words; what
    may be answered is the option's own type, or a `quantity` where that is a text. `many`:
    again and again, until an empty answer; `beside`: the option whose reading belongs to each;
    `apart`: readings are meant to differ from one another; `may_miss`: an empty answer leaves
    it out; `not_of`: the axis for which it is not asked.
    """

    command: str
    words: str
    option: str = ""
    quantity: str = ""
    many: bool = False
    beside: str = ""
    apart: bool = False
    may_miss: bool = False
    not_of: str = ""


# command → what it asks for, in this order
QUESTIONS = grouped("command", rows_of("questions", Asked))


def answers_to(ctx: click.Context, args: list[str]) -> list[str]:
    """The command line with what was asked for."""
    words = " ".join(ctx.command_path.split()[1:])
    args = [word for word in args if word != "--ask"]
    args += _Conversation(ctx, words, args).answers(QUESTIONS[words])
    click.echo(f"the same at once: omphalon {words} {shlex.join(args)}\n", err=True)
    return args


class _Conversation:
    """What was given, and what each option takes."""

    def __init__(self, ctx: click.Context, words: str, args: list[str]) -> None:
        self.params = {name: param for param in ctx.command.params for name in param.opts}
        given, _, _ = ctx.command.make_parser(ctx).parse_args(list(args))
        # Click has a sign of its own for what is not given
        self.given = {k: v for k, v in given.items() if isinstance(v, (str, list, tuple)) and v}
        self.file = next(
            (
                self.given.get(p.name or "")
                for p in ctx.command.params
                if p.param_type_name != "option"
            ),
            None,
        )
        bench = self.given.get("bench")
        self.known = _in_bench(words, bench if isinstance(bench, str) else None)

    def answers(self, questions: Sequence[Asked]) -> list[str]:
        """The words of the command line that the answers make."""
        out: list[str] = []
        axes = self._axes_in_file(questions)
        for one in questions:
            name = self.params[one.option].name if one.option else ""
            if name in self.given or name in self.known or (self.file and one.many):
                continue
            if one.option == "" and self.file:
                continue
            if (axes and one.option == "--axis") or (
                one.not_of and self.given.get("name") == one.not_of
            ):
                continue
            if axes and one.quantity == "steps":
                for axis in axes:
                    answer = self._ask(one, f"{one.words} of {axis}", "", False)
                    out += [one.option, f"{axis}={answer}"]
            elif one.many:
                out += self._several(one)
            else:
                answer = self._ask(one, one.words, "", one.may_miss)
                self.given[name or ""] = answer
                out += [word for word in (one.option, answer) if word] if answer else []
        return out

    def _axes_in_file(self, questions: Sequence[Asked]) -> list[str]:
        """The axes that a file of readings tells by itself."""
        if (
            not any(one.option == "--axis" for one in questions)
            or not isinstance(self.file, str)
            or "name" in self.given
        ):
            return []
        from omphalon.readers.readings import read_readings
        from omphalon.recordings.columns import AXIS as COLUMNS
        from omphalon.recordings.columns import MOTION

        columns = COLUMNS if any(q.quantity == "steps" for q in questions) else MOTION
        rows = read_readings(self.file, columns).rows
        return sorted({row.words["axis"] for row in rows if row.words.get("axis")})

    def _several(self, one: Asked) -> list[str]:
        """Readings until an empty answer; `back` takes the last of them back."""
        taken: list[tuple[list[str], float]] = []
        while True:
            number, beside = len(taken) + 1, []
            if one.beside:
                length = self._ask(one, f"what was asked, reading {number}", ", Enter: done")
                if length and length != BACK:
                    beside = [one.beside, length]
                answer = self._reading(one, number, taken, beside) if beside else length
            else:
                answer = self._reading(one, number, taken, beside)
            if not answer:
                return [word for words, _ in taken for word in words]
            if answer == BACK:
                gone = taken.pop()[0][-1] if taken and not beside else "nothing"
                click.echo(f"  {gone} taken back", err=True)
            else:
                size, _ = self._size(one, answer, beside)
                taken.append(([*beside, one.option, answer], size))

    def _reading(
        self, one: Asked, number: int, taken: Sequence[tuple[list[str], float]], beside: list[str]
    ) -> str:
        """A reading; one that does not fit the others is asked again."""
        sizes, doubted = [size for _, size in taken], ""
        so_far = f"; so far {', '.join(f'{s:g}' for s in sizes)}" if sizes and not beside else ""
        ends = f"{so_far}{'' if beside else ', Enter: done'}"
        ends += f", {BACK}: not the last one" if number == 2 else ""
        while True:
            answer = self._ask(one, f"{one.words}, reading {number}", ends, may_end=not beside)
            if not answer or answer in (BACK, doubted) or one.apart:
                return answer
            if _fits(*self._size(one, answer, beside), sizes):
                return answer
            doubted = answer
            others = "the others" if beside else ", ".join(f"{s:g}" for s in sizes)
            words = f"does not fit {others}: look again, and type what it is"
            click.echo(f"  {echoed(answer)} {words}", err=True)

    def _ask(self, one: Asked, words: str, ends: str, may_end: bool = True) -> str:
        """An answer that can be one, or that ends or takes back."""
        while True:
            answer = typed(f"{words}{self._may_be(one)}{ends}")
            if answer == BACK or (not answer and may_end):
                return answer
            fault = self._fault(one, answer)
            if fault is None:
                return answer
            click.echo(f"  {fault}", err=True)

    def _measure(self, one: Asked) -> Measure | None:
        """The quantity of an answer, where it is a number."""
        if one.quantity:
            return Measure(one.quantity, reading=True)
        if one.apart:  # a level is of what was raised
            raised = str(self.given.get("quantity") or "speed")
            return Measure(raised, reading=True)
        kind = self.params[one.option].type if one.option else None
        return kind if isinstance(kind, Measure) else None

    def _choices(self, one: Asked) -> Sequence[str]:
        kind = self.params[one.option].type if one.option else None
        return tuple(kind.choices) if isinstance(kind, click.Choice) else ()

    def _size(self, one: Asked, answer: str, beside: Sequence[str]) -> tuple[float, float]:
        """What readings are compared by, themselves or their share of what was asked, and the step
        in which it was read.
        """
        measure = self._measure(one)
        assert measure is not None
        number = parsed(answer, measure, one.option)
        whole = abs(parsed(beside[1], measure, beside[0]).value) if beside else 1.0
        return abs(number.value) / whole if beside else number.value, number.step / whole

    def _may_be(self, one: Asked) -> str:
        """Unit and range, or the words, in brackets."""
        choices, measure = self._choices(one), self._measure(one)
        if choices:
            return f" ({', '.join(choices)}{', Enter: not known' if one.may_miss else ''})"
        if measure is None:
            return " (Enter: none)" if one.may_miss else ""
        row = measure.quantity
        low = row.lowest if measure.lowest is None else measure.lowest
        high = row.highest if measure.highest is None else measure.highest
        end = ", Enter: not known" if one.may_miss else ""
        return f" ({low:g} to {high:g}{f' {row.unit}' if row.unit else ''}{end})"

    def _fault(self, one: Asked, answer: str) -> str | None:
        """What is wrong with an answer, or None."""
        choices, measure = self._choices(one), self._measure(one)
        if not answer:
            return "an answer is needed here"
        if choices:
            return None if answer.lower() in choices else f"one of {', '.join(choices)}"
        if measure is not None:
            try:
                parsed(answer, measure, one.option)
            except UsageError as error:
                return str(error)
        return None


def _in_bench(words: str, named: str | None) -> set[str]:
    """Parameters whose values the bench knows."""
    from omphalon.bench.bench import find_bench
    from omphalon.cli.known import KNOWN

    bench = find_bench(named)
    if bench is None:
        return set()
    state = bench.state()
    rows = KNOWN.get(words, {})
    return {name for name, row in rows.items() if row(state, {}) is not None}


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
