"""Whether an expression is linear in what is unknown, row by row, and its columns if it is.

A location such as `level + slope * (hours - middle)` is a sum of weights that rest on unknowns,
the same for all rows, times columns that rest on data. Found in the expression tree, such a sum
needs its rows only once (see `cross_products`).
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from millwright.distributions.kernels import KERNELS
from millwright.language.tree import Call, Label, Lookup, Name, Node, Number, Operation, walk
from millwright.modelling.binding import Binding
from millwright.modelling.labelled import is_rows
from millwright.modelling.specification import Part

__all__ = ["NonlinearError", "Product", "linear_parts", "names_beneath", "runs_over_rows"]

_MOST_PRODUCTS = 64


class NonlinearError(Exception):
    """The expression is not linear in what is unknown, or not recognised as such."""


@dataclass(frozen=True)
class Product:
    """A weight times one or more columns.

    Attributes
    ----------
    weight
        What rests on unknowns, one number or one for each column; None for the number 1.
    values
        Data of shape (rows,), (rows, columns), or () for the same in each row.
    codes
        Which of several columns the value stands in, in each row; elsewhere is 0. None if there
        is nothing to choose.
    choices
        How many columns there are to choose from.
    """

    weight: Node | None
    values: np.ndarray
    codes: np.ndarray | None = None
    choices: int = 0

    @property
    def width(self) -> int:
        """How many columns there are."""
        if self.codes is not None:
            return self.choices
        return self.values.shape[1] if self.values.ndim == 2 else 1

    @property
    def single(self) -> bool:
        """Whether it is one column with one weight."""
        return self.codes is None and self.values.ndim < 2


def names_beneath(binding: Binding, node: Node) -> set[str]:
    """Return every name that an expression rests on, those of derived quantities included."""
    found: set[str] = set()
    waiting = [node]
    while waiting:
        for inner in walk(waiting.pop()):
            if isinstance(inner, Name) and inner.name not in found:
                found.add(inner.name)
                part = binding.program.by_name.get(inner.name)
                if part is not None and part.kind == "derived":
                    waiting.append(part.expression)
    return found


def runs_over_rows(binding: Binding, node: Node) -> bool:
    """Whether an expression has a value for each row."""
    axes = {**binding.program.column_axes, **binding.axes}
    names = [inner.name for inner in walk(node) if isinstance(inner, Name)]
    return any(is_rows(axis) for name in names for axis in axes.get(name, ()))


def linear_parts(binding: Binding, node: Node, part: Part) -> list[Product]:
    """Return an expression of the definition `part` as a sum of weights times columns.

    Raises
    ------
    NonlinearError
        If it is not such a sum.
    """
    return _Linear(binding, part).products(node)


class _Linear:
    def __init__(self, binding: Binding, part: Part) -> None:
        self.binding = binding
        self.part = part

    def products(self, node: Node) -> list[Product]:
        if not runs_over_rows(self.binding, node):
            return [Product(node, np.ones(()))]
        if self._known(node):
            return [Product(None, self._data(node))]
        if isinstance(node, Operation):
            return self._operation(node)
        if isinstance(node, Name):
            return self._named(node.name)
        if isinstance(node, Lookup):
            return [self._looked_up(node)]
        if isinstance(node, Call):
            return self._call(node)
        raise NonlinearError

    def _operation(self, node: Operation) -> list[Product]:
        match node:
            case Operation(operator="negative", operands=(inner,)):
                return _times(self.products(inner), -1.0)
            case Operation(operator="+", operands=(left, right)):
                return _few(self.products(left) + self.products(right))
            case Operation(operator="-", operands=(left, right)):
                return _few(self.products(left) + _times(self.products(right), -1.0))
            case Operation(operator="*", operands=(left, right)):
                return self._multiplied(left, right)
            case Operation(operator="/", operands=(left, right)):
                return self._divided(left, right)
            case Operation(operator="@", operands=(left, right)):
                return [self._matrix(left, right)]
        raise NonlinearError

    def _call(self, node: Call) -> list[Product]:
        match node:
            case Call(function="dot", arguments=(left, right)):
                return [self._matrix(left, right)]
            case Call(function="where", arguments=(condition, left, right)):
                return self._chosen(condition, left, right)
        raise NonlinearError

    def _known(self, node: Node) -> bool:
        """Whether an expression rests on data and numbers alone."""
        program = self.binding.program
        for name in names_beneath(self.binding, node):
            part = program.by_name.get(name)
            if name in program.filled or (part is not None and part.kind == "unknown"):
                return False
        own = program.foreign_by_name
        return not any(
            isinstance(n, Call) and (n.function in KERNELS or n.function in own)
            for n in walk(node)
        )

    def _data(self, node: Node) -> np.ndarray:
        """Return the values of known data, one a row."""
        with np.errstate(all="ignore"):
            item = self.binding.evaluation({}).expression(node, self.part)
        values = np.asarray(item.values, dtype=float)
        if len(item.axes) != 1 or not np.isfinite(values).all():
            raise NonlinearError
        return values

    def _named(self, name: str) -> list[Product]:
        part = self.binding.program.by_name.get(name)
        if part is None or part.kind != "derived" or part.per:
            raise NonlinearError
        return _Linear(self.binding, part).products(part.expression)

    def _looked_up(self, node: Lookup) -> Product:
        """Take `effect[mill]` as the effects of all mills, with the position of each row's."""
        if not isinstance(node.base, Name) or runs_over_rows(self.binding, node.base):
            raise NonlinearError
        axes = self.binding.axes.get(node.base.name, ())
        if not axes or len(axes) != len(node.labels) or any(map(is_rows, axes)):
            raise NonlinearError
        sizes = self.binding.program.shape(axes)
        codes = [self._position(label, a) for label, a in zip(node.labels, axes, strict=True)]
        flat = np.ravel_multi_index(tuple(np.broadcast_arrays(*codes)), sizes)
        return Product(node.base, np.ones(()), flat, int(np.prod(sizes)))

    def _position(self, label: Node, axis: str) -> np.ndarray:
        program = self.binding.program
        if isinstance(label, Name):
            if label.name not in program.column_axes:
                raise NonlinearError
            return np.asarray(self.binding.arguments["codes", label.name, axis])
        if not isinstance(label, Label | Number):
            raise NonlinearError
        known = dict(program.labels)[axis]
        value = label.value
        if isinstance(value, float) and value == int(value):
            value = int(value)
        return np.asarray(known.index(value))

    def _multiplied(self, left: Node, right: Node) -> list[Product]:
        ways = [
            _product(one, other) for one in self.products(left) for other in self.products(right)
        ]
        return _few(ways)

    def _divided(self, left: Node, right: Node) -> list[Product]:
        inverse = None
        if not runs_over_rows(self.binding, right):
            inverse = Product(Operation("/", (Number(1.0), right)), np.ones(()))
        elif self._known(right):
            below = self._data(right)
            inverse = Product(None, 1.0 / below) if np.all(below) else None
        if inverse is None:
            raise NonlinearError
        return [_product(one, inverse) for one in self.products(left)]

    def _matrix(self, left: Node, right: Node) -> Product:
        """Take `columns @ weights` as it stands."""
        if runs_over_rows(self.binding, right) or not self._known(left):
            raise NonlinearError
        item = self.binding.evaluation({}).expression(left, self.part)
        values = np.asarray(item.values, dtype=float)
        weights = self.binding.axes.get(right.name, ()) if isinstance(right, Name) else ()
        same = len(item.axes) == 2 and is_rows(item.axes[0]) and weights == item.axes[1:]
        if not same or not np.isfinite(values).all():
            raise NonlinearError
        return Product(right, values)

    def _chosen(self, condition: Node, left: Node, right: Node) -> list[Product]:
        if not self._known(condition) or not runs_over_rows(self.binding, condition):
            raise NonlinearError
        true = self._data(condition) != 0
        return _few(
            [_product(one, Product(None, true + 0.0)) for one in self.products(left)]
            + [_product(one, Product(None, 1.0 - true)) for one in self.products(right)]
        )


def _few(products: list[Product]) -> list[Product]:
    if len(products) > _MOST_PRODUCTS:
        raise NonlinearError
    return products


def _times(products: list[Product], number: float) -> list[Product]:
    return [replace(one, values=number * one.values) for one in products]


def _product(one: Product, other: Product) -> Product:
    """Multiply two products, of which at most one has several columns."""
    if not other.single:
        one, other = other, one
    if not other.single:
        raise NonlinearError
    apart = one.values.ndim == 2 and other.values.ndim == 1
    values = one.values * (other.values[:, None] if apart else other.values)
    return replace(one, weight=_both(one.weight, other.weight), values=values)


def _both(one: Node | None, other: Node | None) -> Node | None:
    if one is None or other is None:
        return other if one is None else one
    return Operation("*", (one, other))
