"""Definitions written as Python functions: arithmetic on symbols builds an expression tree."""

from __future__ import annotations

import inspect
import numbers
from collections.abc import Callable
from typing import Any, NoReturn

from millwright.errors import LanguageError
from millwright.language.parse import normal_name
from millwright.language.tree import Call, Label, Listed, Lookup, Name, Node, Number, Operation

__all__ = ["Symbol", "called", "read_function"]


class Symbol:
    """A quantity inside a definition that is written as a Python function.

    Arithmetic, comparisons, `@` and brackets give new symbols. `per(...)` states the label
    sets of an unknown: `mw.normal(0, spread).per("stone")` is `normal(0, spread) per stone`.
    """

    # NumPy then leaves arithmetic to this class and refuses np.exp(symbol).
    __array_ufunc__ = None
    __hash__ = None  # type: ignore[assignment]

    def __init__(self, node: Node, labels: tuple[str, ...] = ()) -> None:
        self.node = node
        self.labels = labels

    def per(self, *labels: str) -> Symbol:
        """Return the same definition with one value for each label of the named sets."""
        return Symbol(self.node, tuple(normal_name(label) for label in labels))

    def _with(self, operator: str, other: Any, swapped: bool = False) -> Symbol:
        mine, theirs = self.node, as_node(other)
        return Symbol(Operation(operator, (theirs, mine) if swapped else (mine, theirs)))

    def __add__(self, other: Any) -> Symbol:
        return self._with("+", other)

    def __radd__(self, other: Any) -> Symbol:
        return self._with("+", other, swapped=True)

    def __sub__(self, other: Any) -> Symbol:
        return self._with("-", other)

    def __rsub__(self, other: Any) -> Symbol:
        return self._with("-", other, swapped=True)

    def __mul__(self, other: Any) -> Symbol:
        return self._with("*", other)

    def __rmul__(self, other: Any) -> Symbol:
        return self._with("*", other, swapped=True)

    def __truediv__(self, other: Any) -> Symbol:
        return self._with("/", other)

    def __rtruediv__(self, other: Any) -> Symbol:
        return self._with("/", other, swapped=True)

    def __pow__(self, other: Any) -> Symbol:
        return self._with("**", other)

    def __rpow__(self, other: Any) -> Symbol:
        return self._with("**", other, swapped=True)

    def __matmul__(self, other: Any) -> Symbol:
        return self._with("@", other)

    def __rmatmul__(self, other: Any) -> Symbol:
        return self._with("@", other, swapped=True)

    def __lt__(self, other: Any) -> Symbol:
        return self._with("<", other)

    def __le__(self, other: Any) -> Symbol:
        return self._with("<=", other)

    def __gt__(self, other: Any) -> Symbol:
        return self._with(">", other)

    def __ge__(self, other: Any) -> Symbol:
        return self._with(">=", other)

    def __eq__(self, other: object) -> Symbol:  # type: ignore[override]
        return self._compared("==", other)

    def __ne__(self, other: object) -> Symbol:  # type: ignore[override]
        return self._compared("!=", other)

    def _compared(self, operator: str, other: object) -> Symbol:
        """Compare with a quantity, a number, or (a column of labels) with a label."""
        if isinstance(other, str):
            return Symbol(Operation(operator, (self.node, Label(normal_name(other)))))
        return self._with(operator, other)

    def __neg__(self) -> Symbol:
        if isinstance(self.node, Number):
            return Symbol(Number(-self.node.value))
        return Symbol(Operation("negative", (self.node,)))

    def __pos__(self) -> Symbol:
        return self

    def __abs__(self) -> Symbol:
        return Symbol(Call("abs", (self.node,)))

    def __invert__(self) -> Symbol:
        return Symbol(Operation("not", (self.node,)))

    def __and__(self, other: Any) -> Symbol:
        return self._with("and", other)

    def __or__(self, other: Any) -> Symbol:
        return self._with("or", other)

    def __getitem__(self, labels: Any) -> Symbol:
        parts = labels if isinstance(labels, tuple) else (labels,)
        return Symbol(Lookup(self.node, tuple(_label(part) for part in parts)))

    def __bool__(self) -> NoReturn:
        raise LanguageError(
            "A quantity of a model has no truth value while the model is written: use "
            "mw.where(condition, value, otherwise) for `if`, and `&`, `|`, `~` for "
            "`and`, `or`, `not`."
        )

    def __iter__(self) -> NoReturn:
        raise LanguageError(
            "A quantity of a model cannot be looped over: quantities combine by label set "
            "without a loop; use mw.sum(...) or brackets with a label."
        )

    def __float__(self) -> NoReturn:
        raise LanguageError(
            "A quantity of a model is not a number: functions from `math` or NumPy cannot "
            "take it. Use the function of the same name in millwright, such as mw.exp(...)."
        )

    def __repr__(self) -> str:
        return f"<symbol {self.node}>"


def as_node(value: Any) -> Node:
    """Return the tree of a symbol or a number; refuse anything else."""
    if isinstance(value, Symbol):
        return value.node
    if isinstance(value, list | tuple) and 0 < len(value) <= 1000:
        return Listed(tuple(as_node(item) for item in value))
    if isinstance(value, bool) or not isinstance(value, numbers.Real):
        raise LanguageError(
            f"{_described(value)} cannot stand in a definition: use numbers and the "
            "quantities in the function's arguments. Data belong in the table given to "
            "fit(); name the column as an argument of the function."
        )
    return Number(float(value))


def _described(value: Any) -> str:
    text = repr(value)
    return f"{type(value).__name__} {text if len(text) < 40 else text[:40] + '...'}"


def _label(value: Any) -> Node:
    if isinstance(value, str):
        return Label(normal_name(value))
    node = as_node(value)
    if not isinstance(node, Name | Number):
        raise LanguageError("Brackets hold a label or a column of labels.")
    return node


def called(function: str) -> Callable[..., Symbol]:
    """Return the Python form of a function of the model language."""

    def build(*arguments: Any, **keywords: Any) -> Symbol:
        return Symbol(
            Call(
                function,
                tuple(as_node(argument) for argument in arguments),
                tuple((name, as_node(value)) for name, value in keywords.items()),
            )
        )

    build.__name__ = build.__qualname__ = function
    build.__module__ = "millwright"
    return build


def read_function(function: Callable[..., Any], where: str) -> tuple[Node, tuple[str, ...], str]:
    """Call a definition's function once with symbols.

    Returns
    -------
    The expression tree, the label sets of `per`, and where the function stands.

    Raises
    ------
    LanguageError
        If the function fails on symbols or does not return a quantity.
    """
    origin = _origin(function)
    try:
        parameters = inspect.signature(function).parameters.values()
    except (TypeError, ValueError) as error:
        raise LanguageError(f"`{where}`: {function!r} is not a Python function.") from error
    arguments: dict[str, Any] = {}
    for parameter in parameters:
        if parameter.kind in (parameter.VAR_POSITIONAL, parameter.VAR_KEYWORD):
            raise LanguageError(f"`{where}` ({origin}): name every argument; `*` cannot be used.")
        if parameter.kind == parameter.POSITIONAL_ONLY:
            raise LanguageError(f"`{where}` ({origin}): arguments before `/` cannot be used.")
        if parameter.default is parameter.empty:
            arguments[parameter.name] = Symbol(Name(normal_name(parameter.name)))
    try:
        result = function(**arguments)
    except LanguageError as error:
        raise LanguageError(f"`{where}` ({origin}): {error.marked}") from error
    except Exception as error:
        raise LanguageError(
            f"`{where}` ({origin}): the function failed on the quantities of the model "
            f"({type(error).__name__}: {error}). Write it with arithmetic and the functions "
            "of millwright, such as mw.exp(...) for np.exp(...)."
        ) from error
    if result is None:
        raise LanguageError(f"`{where}` ({origin}): the function returns nothing.")
    try:
        node = as_node(result)
    except LanguageError as error:
        raise LanguageError(f"`{where}` ({origin}): {error.marked}") from error
    return node, result.labels if isinstance(result, Symbol) else (), origin


def _origin(function: Callable[..., Any]) -> str:
    code = getattr(function, "__code__", None)
    if code is None:
        return getattr(function, "__name__", "a function")
    return f"{code.co_filename.rsplit('/', 1)[-1]}, line {code.co_firstlineno}"
