"""--ask: what a fit needs and was not given is asked for, one question at a time; the answers
become the command line that would have given them.
"""

from __future__ import annotations

import shlex
import statistics
from collections.abc import Sequence
from dataclasses import dataclass, replace

import click

from omphalon.cli.common import Measure, parsed
from omphalon.errors import UsageError, echoed

FELLOWS = 3  # readings that a further one is held against
STRANGE = 5.0  # of their own scatter, beyond which it is asked again
LEAST_SCATTER = 0.004  # of their size: less is no scatter of a hand's


@dataclass(frozen=True, kw_only=True)
class Asked:
    """One thing to ask for: the option it fills ("" for an argument), in words, and what it may be:
    a quantity, some words, or a file. `many`: again and again, until an empty answer; `beside`: the
    option whose reading belongs to each; `may_miss`: an empty answer leaves it out.
    """

    option: str
    told: str
    quantity: str = ""
    words: tuple[str, ...] = ()
    many: bool = False
    beside: str = ""
    may_miss: bool = False


AXIS = Asked(option="--axis", told="which axis", words=("x", "y", "z"))
# command → what it asks for, in this order
QUESTIONS: dict[str, tuple[Asked, ...]] = {
    "heater fit": (
        Asked(option="", told="the log of the oscillation test, a file"),
        Asked(option="--heater", told="which heater", words=("hotend", "bed")),
        Asked(option="--target", told="its target", quantity="temperature", may_miss=True),
    ),
    "extruder fit": (
        Asked(option="--steps", told="present steps per mm", quantity="steps"),
        Asked(option="--asked", told="length that was fed", quantity="size"),
        Asked(option="--mark", told="where the mark was, above the inlet", quantity="size"),
        Asked(option="--left", told="what was left of it", quantity="length", many=True),
    ),
    "axis fit": (
        AXIS,
        Asked(option="--steps", told="present steps per mm", quantity="steps"),
        Asked(
            option="--moved", told="what was measured", quantity="size", many=True, beside="--asked"
        ),
    ),
    "flow fit": (
        Asked(option="--flow", told="present flow, 1 is 100 %", quantity="flow"),
        Asked(option="--expected", told="width of one line", quantity="wall"),
        Asked(option="--wall", told="a wall's thickness", quantity="wall", many=True),
    ),
    "advance fit": (
        Asked(option="--drive", told="where the extruder sits", words=("direct", "bowden")),
        Asked(option="--from", told="the value at the tower's foot", quantity="advance"),
        Asked(option="--per-mm", told="by how much it grows a mm", quantity="advance"),
        Asked(option="--to", told="the value at its top", quantity="advance"),
        Asked(
            option="--height", told="height where the corner is best", quantity="size", many=True
        ),
    ),
    "shaper fit": (
        Asked(option="--x", told="the sensor's log of X, a file", may_miss=True),
        Asked(option="--y", told="the sensor's log of Y, a file", may_miss=True),
    ),
    "motion fit": (
        AXIS,
        Asked(option="--quantity", told="what was raised", words=("speed", "acceleration")),
        Asked(option="--pass", told="a level that passed", quantity="level", many=True),
        Asked(option="--fail", told="a level that failed", quantity="level", many=True),
    ),
    "probe fit": (
        Asked(option="--offset", told="present offset", quantity="length"),
        Asked(option="--drag", told="height at which paper drags", quantity="length", many=True),
    ),
}
# kinds of reading that are meant to differ from one another
SPREAD_OUT = ("--pass", "--fail")


def answers_to(ctx: click.Context, args: list[str]) -> list[str]:
    """The command line with what was asked for."""
    words = " ".join(ctx.command_path.split()[1:])
    args = [word for word in args if word != "--ask"]
    args += ask_for(QUESTIONS[words], args, _in_bench(ctx, words, args))
    click.echo(f"the same at once: omphalon {words} {shlex.join(args)}\n", err=True)
    return args


def _in_bench(ctx: click.Context, words: str, args: Sequence[str]) -> set[str]:
    """Options whose values the bench knows."""
    from omphalon.bench.bench import find_bench
    from omphalon.cli.benched import KNOWN

    named = next((args[n + 1] for n, w in enumerate(args[:-1]) if w == "--bench"), None)
    bench = find_bench(named)
    if bench is None:
        return set()
    state = bench.state()
    rows = KNOWN.get(words, {})
    known = {name for name, row in rows.items() if row(state, {}) is not None}
    return {param.opts[0] for param in ctx.command.params if param.name in known}


def ask_for(questions: Sequence[Asked], args: Sequence[str], known: set[str]) -> list[str]:
    """The words of the command line that the answers make."""
    given = {word.split("=")[0] for word in args if word.startswith("--")} | known
    bare = [w for n, w in enumerate(args) if w[:2] != "--" and (n == 0 or args[n - 1][:2] != "--")]
    out: list[str] = []
    for row in questions:
        one = _level(row, [*args, *out])
        if one.option in given or (one.option == "" and bare):
            continue
        if bare and one.many:
            continue  # a file holds the readings
        if one.many:
            out += _several(one)
        else:
            answer = _once(one)
            out += [answer] if answer and not one.option else []
            out += [one.option, answer] if answer and one.option else []
    return out


def _level(one: Asked, words: Sequence[str]) -> Asked:
    """A level is of what was raised: the speed, unless the acceleration was named."""
    if one.quantity != "level":
        return one
    return replace(one, quantity="acceleration" if "acceleration" in words else "speed")


def _once(one: Asked) -> str:
    """One answer that can be one."""
    while True:
        answer = _typed(f"{one.told}{_may_be(one)}")
        if not answer and one.may_miss:
            return ""
        fault = _fault(one, answer)
        if fault is None:
            return answer
        click.echo(f"  {fault}", err=True)


def _several(one: Asked) -> list[str]:
    """Readings until an empty answer; one that does not fit its fellows is asked again."""
    out: list[str] = []
    sizes: list[float] = []
    while True:
        beside = []
        if one.beside:
            length = _typed(f"what was asked, reading {len(sizes) + 1}{_may_be(one)}, Enter: done")
            if not length:
                break
            asked = Asked(option=one.beside, told="", quantity=one.quantity)
            if (fault := _fault(asked, length)) is not None:
                click.echo(f"  {fault}", err=True)
                continue
            beside = [one.beside, length]
        answer = _reading(one, sizes, beside)
        if not answer:
            break
        out += [*beside, one.option, answer]
        sizes.append(_size(one, answer, beside))
    return out


def _reading(one: Asked, sizes: Sequence[float], beside: Sequence[str]) -> str:
    doubted = ""
    while True:
        so_far = f"; so far {', '.join(f'{s:g}' for s in sizes)}" if sizes and not beside else ""
        end = "" if beside else ", Enter: done"
        text = f"{one.told}, reading {len(sizes) + 1}{_may_be(one)}{so_far}{end}"
        answer = _typed(text)
        if not answer and not beside:
            return ""
        fault = _fault(one, answer)
        if fault is not None:
            click.echo(f"  {fault}", err=True)
        elif answer != doubted and not _fits(one, _size(one, answer, beside), sizes):
            doubted = answer
            others = "the others" if beside else ", ".join(f"{s:g}" for s in sizes)
            click.echo(
                f"  {echoed(answer)} does not fit {others}: look again, and type what it is",
                err=True,
            )
        else:
            return answer


def _size(one: Asked, answer: str, beside: Sequence[str]) -> float:
    """What readings are compared by: themselves, or their share of what was asked."""
    value = parsed(answer, Measure(one.quantity, reading=True), one.option).value
    if not beside:
        return float(value)
    length = parsed(beside[1], Measure(one.quantity, reading=True), beside[0]).value
    return float(value / length)


def _fits(one: Asked, size: float, fellows: Sequence[float]) -> bool:
    """Whether a reading lies where its fellows do, by their own scatter."""
    if len(fellows) < FELLOWS or one.option in SPREAD_OUT:
        return True
    middle = statistics.median(fellows)
    scatter = 1.5 * statistics.median(abs(f - middle) for f in fellows)
    return abs(size - middle) <= STRANGE * max(scatter, LEAST_SCATTER * abs(middle), 1e-9)


def _may_be(one: Asked) -> str:
    """Unit and range, or the words, in brackets."""
    if one.words:
        return f" ({', '.join(one.words)})"
    if not one.quantity:
        return " (Enter: none)" if one.may_miss else ""
    quantity = Measure(one.quantity).quantity
    unit = f" {quantity.unit}" if quantity.unit else ""
    end = ", Enter: not told" if one.may_miss else ""
    return f" ({quantity.lowest:g} to {quantity.highest:g}{unit}{end})"


def _fault(one: Asked, answer: str) -> str | None:
    """What is wrong with an answer, or None."""
    if not answer:
        return "an answer is needed here"
    if one.words:
        return None if answer.lower() in one.words else f"one of {', '.join(one.words)}"
    if not one.quantity:
        return None
    try:
        parsed(answer, Measure(one.quantity, reading=True), one.option)
    except UsageError as error:
        return str(error)
    return None


def _typed(question: str) -> str:
    answer: str = click.prompt(question, default="", show_default=False, err=True)
    return answer.strip()
