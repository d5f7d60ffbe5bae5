"""A formula taken apart, with words for what is wrong in it."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from formulaic import Formula
from formulaic.errors import FormulaicError
from formulaic.parser import DefaultFormulaParser
from formulaic.parser.types import ASTNode

from millwright.errors import ArgumentError
from millwright.studies.reading import quoted
from millwright.wording import either

__all__ = ["parsed_formula"]

_GROUPS = either(
    'per={"stone": "1 + hours"}, say, lets intercept and slope differ by `stone`',
    '--per "stone=1 + hours", say, lets intercept and slope differ by `stone`',
)


def parsed_formula(text: str) -> Any:
    """Return the sides and terms of a formula.

    Raises
    ------
    ArgumentError
        For what is no formula, or is one that does not mean what it seems to.
    """
    try:
        tree = DefaultFormulaParser().get_ast(text)
        parsed = Formula(text)
    except FormulaicError as error:
        raise ArgumentError(f"The formula {text!r} cannot be read: {_words(error)}") from error
    except (SyntaxError, ValueError, TypeError, RecursionError) as error:
        raise ArgumentError(f"The formula {text!r} cannot be read: {error}") from error
    for node in _nodes(tree):
        if node.operator.symbol == "|":
            raise ArgumentError(f"The formula {text!r} cannot be read: {_bar()}")
        _not_crossed_with_itself(node, text)
    return parsed


def _words(error: FormulaicError) -> str:
    # The lines that follow mark the place by colours of a terminal.
    words = str(error).splitlines()[0]
    if "`|" in words:
        return _bar()
    if "`.` operator" in words:
        return "`.` for all other columns is not known here; write their names."
    return words


def _bar() -> str:
    return f"`|` is for group effects, which are no part of the formula: {_GROUPS}."


def _nodes(tree: Any) -> Iterator[ASTNode]:
    if isinstance(tree, ASTNode):
        yield tree
        for part in tree.args:
            yield from _nodes(part)


def _not_crossed_with_itself(node: ASTNode, text: str) -> None:
    """Refuse `x^2`, which is `x` in a formula, where the square of a column was meant."""
    symbol, parts = node.operator.symbol, node.args
    if len(parts) != 2 or isinstance(parts[0], ASTNode):
        return
    name, other = map(str, parts)
    if symbol in ("^", "**") or (symbol in (":", "*") and name == other):
        power = other if symbol in ("^", "**") else "2"
        # A call, such as log(hours), is written as it is.
        base = name if name.endswith(")") else quoted(name)
        raise ArgumentError(
            f"`{name}{symbol}{other}` in the formula {text!r} would cross `{name}` with itself, "
            f"which is `{name}` once more. Write I({base} ** {power}) for its power."
        )
