"""A command's options as one frozen dataclass, whose fields say all there is to say of an option:
its name, what it can be, its help, where a bench knows it, how it is asked for, what it needs or
excludes. From such a class come Click's options, and the record that the command is called with.
"""

from __future__ import annotations

import dataclasses
import functools
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, NotRequired, TypeAlias, TypedDict, TypeVar, Unpack

import click
from click.core import ParameterSource

from omphalon.base.errors import UsageError
from omphalon.cli.numbers import Measure, choice

if TYPE_CHECKING:
    from omphalon.bench.work import State
    from omphalon.recordings.recording import Column
    from omphalon.tables.units import Number

Command: TypeAlias = Callable[..., Any]
Given = TypeVar("Given")
# where a bench knows an option from: its state, and the record of what was given by hand
Known: TypeAlias = "Callable[[State, Any], Any]"
OWN, OF_BENCH, PRINT, ANSWER = "Options", "Printer (a bench knows these)", "Print", "Answer"


@dataclass(frozen=True, kw_only=True)
class Ask:
    """How --ask asks for an option: in words. `many`: again and again, until an empty answer;
    `beside`: the field whose reading belongs to each; `levels_of`: the field that says what is
    raised, readings being meant to differ; `may_miss`: an empty answer leaves it out; `each_axis`:
    once for each axis of a file; `unless`: whether it is not asked, by what was given.
    """

    words: str
    many: bool = False
    beside: str = ""
    levels_of: str = ""
    may_miss: bool = False
    each_axis: bool = False
    unless: Callable[[Any], bool] = lambda given: False


class More(TypedDict):
    """What any option may say of itself beside its name, its kind and its help.

    `bench`: where a bench knows it from. `needs`: fields of which one must be given beside it;
    `remedy`: what to do where none is. `excludes`: fields that must not be. `idle`: from the record
    the words beside which it has no say; "" where it has. `shown`: whether help shows the default.
    `farm`: what a cell of a manifest holds of it: "file", "pieces" that may hold blanks, "" where
    it has no column there.
    """

    default: NotRequired[Any]
    required: NotRequired[bool]
    many: NotRequired[bool]
    section: NotRequired[str]
    metavar: NotRequired[str]
    bench: NotRequired[Known]
    ask: NotRequired[Ask | str]
    needs: NotRequired[tuple[str, ...]]
    remedy: NotRequired[str]
    excludes: NotRequired[tuple[str, ...]]
    idle: NotRequired[Callable[[Any], str]]
    shown: NotRequired[bool]
    farm: NotRequired[str]


class Described:
    """What a parameter of ours knows beside what Click knows of it."""

    more: More
    ask: Ask | None
    section: str  # the heading in help under which it stands

    def describe(self, more: More) -> None:
        """Take in what its field says."""
        self.more = more
        asked = more.get("ask")
        self.ask = Ask(words=asked) if isinstance(asked, str) else asked
        self.section = more.get("section", OF_BENCH if "bench" in more else "")


class Option(click.Option, Described):
    """An option that comes from a field."""


class Argument(click.Argument, Described):
    """An argument that comes from a field."""


def described(names: list[str], help: str, more: More, **click_options: Any) -> Option:
    """Click's option, and what its field says beside."""
    default = more.get("default")
    option = Option(
        names,
        help=help,
        **({} if default is None else {"default": default}),
        required=more.get("required", False),
        multiple=more.get("many", False),
        show_default=more.get("shown", default is not None),
        metavar=more.get("metavar"),
        **click_options,
    )
    option.describe(more)
    return option


def option(name: str, help: str, more: More, **click_options: Any) -> Any:
    """A field that is an option, with what Click alone knows of it."""
    default = () if more.get("many") else more.get("default")
    made = functools.partial(_named, name, help, more, click_options)
    return field(default=default, metadata={"made": made})


def _named(
    name: str, help: str, more: More, click_options: dict[str, Any], field_name: str
) -> Option:
    return described([name, field_name], help, more, **click_options)


def number(
    name: str,
    quantity: str,
    help: str,
    *,
    least: float | None = None,
    within: tuple[float, float] | None = None,
    reading: bool = False,
    count: int = 1,
    **more: Unpack[More],
) -> Any:
    """A number of a quantity, perhaps in a narrower range; `reading`: as it was written, with its
    digits; `count`: so many of them.
    """
    low, high = (least, None) if within is None else within
    kind = Measure(quantity, low, high, reading)
    more.setdefault("metavar", kind.metavar)
    return option(name, help, more, type=kind, nargs=count)


def typed(name: str, kind: click.ParamType[Any], help: str, **more: Unpack[More]) -> Any:
    """A value that a type of its own reads, once, at the door."""
    more.setdefault("metavar", kind.name)
    return option(name, help, more, type=kind)


def text(name: str, help: str, **more: Unpack[More]) -> Any:
    """A text: a file, where nothing else is said."""
    more.setdefault("metavar", "FILE")
    return option(name, help, more)


def one_of(name: str, choices: Sequence[str], help: str, **more: Unpack[More]) -> Any:
    """One of some words."""
    return option(name, help, more, type=choice(*choices))


def flag(name: str, help: str, **more: Unpack[More]) -> Any:
    """Yes, or no where it is not given."""
    own: More = {"default": False, "shown": False, **more}
    return option(name, help, own, is_flag=True)


def column(columns: Sequence[Column], **more: Unpack[More]) -> Any:
    """Repeated readings: the option of the column that has the field's name."""

    def made(field_name: str) -> click.Parameter:
        one = next(c for c in columns if c.name == field_name and c.quantity is not None)
        kind = Measure(one.quantity or "", reading=True)
        own: More = {"many": True, "metavar": kind.metavar, **more}
        return described([one.option, field_name], one.help, own, type=kind)

    return field(default=(), metadata={"made": made})


def argument(stands_as: str, *, several: bool = False, **more: Unpack[More]) -> Any:
    """A word without a name: a file."""

    def made(field_name: str) -> click.Parameter:
        one = Argument(
            [field_name],
            metavar=stands_as,
            required=more.get("required", False),
            nargs=-1 if several else 1,
        )
        one.describe(more)
        return one

    return field(default=() if several else None, metadata={"made": made})


def nested(
    kind: type[Any],
    *,
    idle: Callable[[Any], str] | None = None,
    needs: tuple[str, ...] = (),
    remedy: str = "give both",
) -> Any:
    """A record within a record: options that several commands share. `idle`: from the outer record
    the words beside which none of them has a say; `needs`: fields of it of which one must be given.
    """
    metadata = {"nested": kind, "idle": idle, "needs": needs, "remedy": remedy}
    return field(default=None, metadata=metadata)


def _fields(kind: type[Any]) -> Iterator[dataclasses.Field[Any]]:
    """A record's fields, its own before those that it shares."""
    by_name = {one.name: one for one in dataclasses.fields(kind)}
    for base in kind.__mro__:
        for name in base.__dict__.get("__annotations__", {}):
            if name in by_name:
                yield by_name.pop(name)


def parameters(kind: type[Any]) -> Mapping[str, click.Parameter]:
    """A record's parameters by their fields' names, those of records within it in their place.

    A class's `section` holds for its options that say none. Raises TypeError where two have one
    name, or a rule names no field.
    """
    found: dict[str, click.Parameter] = {}
    for one in _fields(kind):
        within = one.metadata.get("nested")
        some = parameters(within) if within else {one.name: one.metadata["made"](one.name)}
        if double := some.keys() & found.keys():
            raise TypeError(f"{kind.__name__}: {', '.join(double)} twice")
        found |= some
    for name, param in found.items():
        assert isinstance(param, Described)
        param.section = param.section or getattr(kind, "section", "")
        named = {*param.more.get("needs", ()), *param.more.get("excludes", ())}
        if param.ask is not None:
            named |= {param.ask.beside, param.ask.levels_of} - {""}
        if missing := named - found.keys():
            raise TypeError(f"{kind.__name__}.{name} names {', '.join(missing)}")
    return found


def record_of(kind: type[Given], values: Mapping[str, Any]) -> Given:
    """The record out of values by field; what has none keeps the field's default."""
    own = {}
    for one in dataclasses.fields(kind):  # type: ignore[arg-type]
        within = one.metadata.get("nested")
        if within is not None:
            own[one.name] = record_of(within, values)
        elif values.get(one.name) is not None:
            own[one.name] = values[one.name]
    return kind(**own)


def takes(
    kind: type[Any], name: str = "options", without: Sequence[str] = ()
) -> Callable[[Command], Command]:
    """The options of a record; the command is called with the record under a name. `without`: what
    this command leaves out.
    """
    params = {n: one for n, one in parameters(kind).items() if n not in without}

    def add(command: Command) -> Command:
        @functools.wraps(command)
        def called(*args: Any, **given: Any) -> Any:
            record = record_of(kind, {n: given.pop(n) for n in params})
            _refuse(kind, record, given_by_hand())
            return command(*args, **{name: record}, **given)

        shared = list(getattr(command, "__click_params__", ()))
        # Click reads this list from its end
        called.__click_params__ = [*shared, *reversed(params.values())]  # type: ignore[attr-defined]
        if name == "options":
            called.record = kind  # type: ignore[attr-defined]
        return called

    return add


def given_by_hand(ctx: click.Context | None = None) -> set[str]:
    """The fields of the running command that were given on the command line."""
    ctx = ctx or click.get_current_context()
    return {
        param.name or ""
        for param in ctx.command.params
        if ctx.get_parameter_source(param.name or "") is ParameterSource.COMMANDLINE
    }


def _refuse(kind: type[Any], options: Any, by_hand: set[str]) -> None:
    """Refuse what contradicts, what lacks its partner, and what has no say."""
    params = parameters(kind)
    values = {name: getattr(owner, name) for name, owner in _owners(options)}

    def lacks(option: str, needs: Sequence[str], remedy: str) -> None:
        if needs and all(values[other] in (None, (), False) for other in needs):
            partners = " or ".join(shown_name(params[other]) for other in needs)
            raise UsageError(f"{option} without {partners}", remedy)

    for name, owner in _owners(options):
        param = params[name]
        if name not in by_hand or not isinstance(param, Described):
            continue
        option, more = shown_name(param), param.more
        for other in more.get("excludes", ()):
            if other in by_hand:
                pair = f"{option} and {shown_name(params[other])}"
                raise UsageError(pair, more.get("remedy", "give one of the two"))
        if beside := more.get("idle", _never)(owner):
            raise no_say(option, beside)
        lacks(option, more.get("needs", ()), more.get("remedy", "give both"))
    for one in dataclasses.fields(kind):
        within = parameters(one.metadata["nested"]) if "nested" in one.metadata else {}
        first = next((shown_name(param) for name, param in within.items() if name in by_hand), None)
        if first is not None:
            lacks(first, one.metadata["needs"], one.metadata["remedy"])
            if beside := (one.metadata["idle"] or _never)(options):
                raise no_say(first, beside)


def _never(options: Any) -> str:
    return ""


def no_say(option: str, beside: str) -> UsageError:
    """The refusal of an option that changes nothing beside something else."""
    return UsageError(f"{option} with {beside}: it has no say there", "leave it out")


def refuse_beside(beside: str, *names: str) -> None:
    """Refuse these fields of the running command where they were given, for what a file held."""
    params = {param.name: param for param in click.get_current_context().command.params}
    by_hand = given_by_hand()
    for name in names:
        if params[name].name in by_hand:
            raise no_say(shown_name(params[name]), beside)


def refuse_without(options: Any, remedy: str, *names: str) -> UsageError:
    """The refusal of a record that lacks some of these fields."""
    owners, params = dict(_owners(options)), parameters(type(options))
    lacking = [shown_name(params[name]) for name in names if getattr(owners[name], name) is None]
    return UsageError(f"no {', '.join(lacking)}", remedy)


def shown_name(param: click.Parameter) -> str:
    """A parameter as the command line names it."""
    if isinstance(param, click.Option):
        return param.opts[0]
    return (param.metavar or param.opts[0]).strip("[].")


def _owners(options: Any) -> Iterator[tuple[str, Any]]:
    """Each option's field, and the record that holds it."""
    for one in dataclasses.fields(options):
        if "nested" in one.metadata:
            yield from _owners(getattr(options, one.name))
        else:
            yield one.name, options


def numbers_by_column(options: Any, columns: Sequence[Column]) -> dict[str, tuple[Number, ...]]:
    """The readings of a record by their columns' names."""
    owners = dict(_owners(options))
    readings = [one.name for one in columns if one.quantity is not None]
    return {name: found for name in readings if (found := getattr(owners.get(name), name, ()))}
