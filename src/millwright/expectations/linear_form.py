"""Expressions that are linear in the variables of a system, with coefficients in its unknowns.

A linear form maps a variable at a time (0 now, 1 expected for the next time, -1 the time before),
or a shock, to its coefficient, an expression tree; the constant stands under None.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from millwright.errors import LanguageError, nearest
from millwright.language.definition import Definition
from millwright.language.tree import Call, Name, Node, Number, Operation, constant, walk
from millwright.language.vocabulary import FUNCTIONS

__all__ = ["BEFORE", "EXPECTED", "Form", "Names", "minus", "read_form"]

EXPECTED = "expected"
BEFORE = "before"
_SHIFTS = {EXPECTED: 1, BEFORE: -1}

Place = tuple[str, int]
Form = Mapping[Place | None, Node]


@dataclass(frozen=True, kw_only=True)
class Names:
    """What the names of a system stand for."""

    variables: tuple[str, ...]
    unknowns: tuple[str, ...]
    shocks: tuple[str, ...]

    @property
    def every(self) -> tuple[str, ...]:
        """All names, for messages."""
        return (*self.variables, *self.unknowns, *self.shocks)


def read_form(definition: Definition, names: Names) -> Form:
    """Return one side of an equation as a linear form.

    Raises
    ------
    LanguageError
        For what is not linear in the variables, is not known, or stands at a time where it has no
        value.
    """
    return _Reader(definition, names).read(definition.expression)


@dataclass(frozen=True)
class _Reader:
    definition: Definition
    names: Names

    def fail(self, problem: str, node: Node) -> LanguageError:
        return LanguageError(self.definition.message(problem, node))

    def read(self, node: Node) -> Form:
        match node:
            case Number():
                return {None: node}
            case Name():
                return self._name(node)
            case Operation(operator="negative", operands=(inner,)):
                return _scaled(self.read(inner), Number(-1.0))
            case Operation(operator="+" | "-", operands=(left, right)):
                sign = 1.0 if node.operator == "+" else -1.0
                return _added(self.read(left), _scaled(self.read(right), Number(sign)))
            case Operation(operator="*", operands=(left, right)):
                return self._product(node, self.read(left), self.read(right))
            case Operation(operator="/", operands=(left, right)):
                below = self._constant(right, "divide by")
                return {at: _ratio(one, below) for at, one in self.read(left).items()}
            case Operation(operator="**"):
                return {None: self._plain(node)}
            case Call(function=function) if function in _SHIFTS:
                return self._shifted(node)
            case Call():
                return {None: self._plain(node)}
            case _:
                raise self.fail("this has no meaning in an equation", node)

    def _name(self, node: Name) -> Form:
        if node.name in self.names.unknowns:
            return {None: node}
        if node.name in (*self.names.variables, *self.names.shocks):
            return {(node.name, 0): Number(1.0)}
        raise self.fail(f"`{node.name}` is not known.{nearest(node.name, self.names.every)}", node)

    def _product(self, node: Operation, left: Form, right: Form) -> Form:
        for factor, form in ((left, right), (right, left)):
            if set(factor) <= {None}:
                return _scaled(form, factor.get(None, Number(0.0)))
        raise self.fail(
            "an equation must be linear in the variables, and this is a product of two: write the "
            "system in deviations from its steady state",
            node,
        )

    def _constant(self, node: Node, what: str) -> Node:
        found = self.read(node)
        if set(found) <= {None}:
            return found.get(None, Number(0.0))
        raise self.fail(f"an equation must be linear: it cannot {what} a variable", node)

    def _plain(self, node: Node) -> Node:
        """Return an expression of unknowns and numbers alone."""
        for below in walk(node):
            if isinstance(below, Name) and below.name not in self.names.unknowns:
                self._name(below)
                raise self.fail(
                    f"an equation must be linear: `{below.name}` cannot stand in a power or a "
                    "function",
                    node,
                )
            if isinstance(below, Call) and below.function not in FUNCTIONS:
                known = (*FUNCTIONS, *_SHIFTS)
                raise self.fail(
                    f"there is no function `{below.function}`.{nearest(below.function, known)}",
                    below,
                )
        return node

    def _shifted(self, node: Call) -> Form:
        if len(node.arguments) != 1 or node.keywords:
            raise self.fail(f"{node.function}(...) takes one expression", node)
        moved: dict[Place | None, Node] = {}
        shift = _SHIFTS[node.function]
        for place, factor in self.read(node.arguments[0]).items():
            if place is None:
                moved[None] = factor
                continue
            name, time = place
            if name in self.names.shocks:
                raise self.fail(
                    f"the shock `{name}` is known only now: name what lasts of it by a variable",
                    node,
                )
            if time * shift < 0:
                raise self.fail(
                    "expected() and before() inside each other: give what is expected a variable "
                    "of its own, such as `foreseen = expected(price)`, and write before(foreseen)",
                    node,
                )
            moved[name, time + shift] = factor
        return moved


def minus(left: Form, right: Form) -> Form:
    """Return the difference of two forms."""
    return _added(left, _scaled(right, Number(-1.0)))


def _added(left: Form, right: Form) -> Form:
    found = dict(left)
    for place, factor in right.items():
        found[place] = _sum(found[place], factor) if place in found else factor
    return found


def _scaled(form: Form, factor: Node) -> Form:
    return {place: _times(one, factor) for place, one in form.items()}


def _sum(left: Node, right: Node) -> Node:
    a, b = constant(left), constant(right)
    if a is not None and b is not None:
        return Number(a + b)
    if a == 0:
        return right
    return left if b == 0 else Operation("+", (left, right))


def _times(left: Node, right: Node) -> Node:
    for factor, other in ((left, right), (right, left)):
        number = constant(factor)
        if number is not None and constant(other) is not None:
            return Number(number * (constant(other) or 0.0))
        if number == 1:
            return other
        if number == -1:
            return Operation("negative", (other,))
        if number == 0:
            return Number(0.0)
    return Operation("*", (left, right))


def _ratio(above: Node, below: Node) -> Node:
    a, b = constant(above), constant(below)
    if a is not None and b is not None and b != 0:
        return Number(a / b)
    return above if b == 1 else Operation("/", (above, below))
