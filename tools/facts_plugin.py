"""A plugin for mypy: every Remark and Refusal is given the facts that its sentence names, of a type
that the sentence can show.

The sentences stand in src/omphalon/answers/*.toml; without this, a misspelt fact would fail only
where a user's data first lead to that sentence.
"""

from __future__ import annotations

import string
import tomllib
from collections.abc import Callable, Iterator
from pathlib import Path

from mypy.nodes import (
    ARG_STAR2,
    AssignmentStmt,
    ConditionalExpr,
    DictExpr,
    Expression,
    NameExpr,
    StrExpr,
)
from mypy.plugin import FunctionContext, Plugin
from mypy.subtypes import is_subtype
from mypy.types import LiteralType, NoneType, Type, UnionType, get_proper_type

ANSWERS = Path(__file__).parents[1] / "src" / "omphalon" / "answers"
Sentence = dict[str, set[str]]  # the format specifications of each fact


def sentence(*texts: str) -> Sentence:
    """The facts that some texts name together, with their format specifications."""
    named: Sentence = {}
    for text in texts:
        for _, name, spec, _ in string.Formatter().parse(text):
            if name is not None:
                named.setdefault(name, set()).add(spec or "")
    return named


def sentences() -> dict[str, dict[str, Sentence]]:
    """Of Remark and of Refusal, by their names."""
    warnings, refusals = (
        tomllib.loads((ANSWERS / name).read_text("utf-8"))
        for name in ("warnings.toml", "refusals.toml")
    )
    said = {name: sentence(text) for row in warnings.values() for name, text in row["said"].items()}
    return {
        "omphalon.answers.remarks.Remark": said,
        "omphalon.answers.remarks.Refusal": {
            code: sentence(*row.values()) for code, row in refusals.items()
        },
    }


def shows(spec: str) -> str:
    """The type that a format specification takes: a number, a whole one, or anything."""
    if not spec or spec == "s":
        return "object"
    if spec[0].isalpha() and len(spec) > 1 or spec == "d":
        return "int"
    return "float"


def assigned(statements: object, name: str) -> Iterator[Expression]:
    """The expressions that a function assigns to a name, anywhere in its blocks."""
    for one in statements if isinstance(statements, list) else [statements]:
        names = one.lvalues if isinstance(one, AssignmentStmt) else []
        if any(isinstance(v, NameExpr) and v.name == name for v in names):
            yield one.rvalue
        for block in ("body", "else_body", "handlers", "finally_body"):
            inner = getattr(one, block, None)
            if inner is not None:
                yield from assigned(inner, name)


def literals(kind: Type) -> Iterator[str | None]:
    """The texts that a type allows; None for any other."""
    proper = get_proper_type(kind)
    for one in map(get_proper_type, proper.items if isinstance(proper, UnionType) else [proper]):
        value = one if isinstance(one, LiteralType) else getattr(one, "last_known_value", None)
        text = value.value if isinstance(value, LiteralType) else None
        yield text if isinstance(text, str) else None


class _Call:
    """One call, and what is wrong with it."""

    def __init__(self, ctx: FunctionContext, table: dict[str, Sentence]) -> None:
        self.ctx, self.table = ctx, table

    def fail(self, text: str) -> None:
        self.ctx.api.fail(text, self.ctx.context)

    def behind(self, expression: Expression) -> list[Expression]:
        """What may stand behind a name, or behind a choice."""
        if isinstance(expression, ConditionalExpr):
            return [*self.behind(expression.if_expr), *self.behind(expression.else_expr)]
        if isinstance(expression, NameExpr):
            function = self.ctx.api.scope.current_function()  # type: ignore[attr-defined]
            found = list(assigned(function.body, expression.name)) if function else []
            if found:
                return [e for one in found for e in self.behind(one)]
        return [expression]

    def codes(self) -> Iterator[str]:
        """The codes that a call may have, by the code's type, or by what was assigned to it."""
        code = self.ctx.args[0][0]
        found = list(literals(self.type_of(code)))
        if None in found:
            found = [v for one in self.behind(code) for v in literals(self.type_of(one))]
        if None in found:
            self.fail("the code is not known here: give it a Literal type")
        yield from (value for value in found if value)  # an empty one says that there is none

    def type_of(self, expression: Expression) -> Type:
        return self.ctx.api.get_expression_type(expression)

    def facts(self) -> Iterator[tuple[str, Type, bool]]:
        """Each fact that is given, its type, and whether the call itself names it."""
        for given, names, kinds, types in zip(
            self.ctx.args, self.ctx.arg_names, self.ctx.arg_kinds, self.ctx.arg_types, strict=True
        ):
            for expression, name, kind, its in zip(given, names, kinds, types, strict=True):
                if kind == ARG_STAR2:
                    yield from ((n, t, False) for n, t in self.unpacked(expression))
                elif name is not None:
                    yield name, its, True

    def unpacked(self, expression: Expression) -> Iterator[tuple[str, Type]]:
        dicts = self.behind(expression)
        if len(dicts) > 1:
            self.fail("these facts are assigned more than once")
        for one in dicts:
            if not isinstance(one, DictExpr):
                self.fail("facts are named in the call, or in a dict of the same function")
                continue
            for key, value in one.items:
                if key is None:
                    yield from self.unpacked(value)
                elif isinstance(key, StrExpr):
                    yield key.value, self.type_of(value)

    def check(self) -> Type:
        if not self.ctx.args[0]:
            return self.ctx.default_return_type
        facts = list(self.facts())
        given = {name: its for name, its, _ in facts}
        known = set[str]()
        for code in self.codes():
            if code not in self.table:
                self.fail(f'no sentence is called "{code}"')
                continue
            wanted = self.table[code]
            known |= wanted.keys()
            for name in sorted(wanted.keys() - given.keys()):
                self.fail(f'"{code}" needs the fact "{name}"')
            for name in sorted(given.keys() & wanted.keys()):
                self.fits(code, name, given[name], {shows(spec) for spec in wanted[name]})
        for name in (name for name, _, here in facts if here and name not in known):
            self.fail(f'no sentence of this call has a fact "{name}"')
        return self.ctx.default_return_type

    def fits(self, code: str, name: str, given: Type, wanted: set[str]) -> None:
        kind = get_proper_type(given)
        kinds = kind.items if isinstance(kind, UnionType) else [kind]
        # a count that no number of readings would make is None: the row says what to do otherwise
        kinds = [k for k in kinds if not (name == "count" and isinstance(k, NoneType))]
        for builtin in wanted - {"object"}:
            type_wanted = self.ctx.api.named_generic_type(f"builtins.{builtin}", [])
            if not all(is_subtype(k, type_wanted) for k in kinds):
                self.fail(f'"{code}" shows "{name}" as {builtin}; here it is {kind}')


class FactsPlugin(Plugin):
    """Checks every call of Remark and of Refusal."""

    tables = sentences()

    def get_function_hook(self, fullname: str) -> Callable[[FunctionContext], Type] | None:
        table = self.tables.get(fullname)
        return None if table is None else lambda ctx: _Call(ctx, table).check()


def plugin(version: str) -> type[Plugin]:
    """What mypy asks for."""
    return FactsPlugin
