"""One definition of a model: an expression, its label sets, and the text it came from."""

from __future__ import annotations

import numbers
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from millwright.errors import LanguageError, with_caret
from millwright.language.parse import read_text
from millwright.language.printing import text_of
from millwright.language.symbols import Symbol, read_function
from millwright.language.tree import Name, Node, Number, walk

__all__ = ["Definition", "define"]


@dataclass(frozen=True)
class Definition:
    """What one name of a model stands for.

    Attributes
    ----------
    name
        The quantity defined.
    expression
        Its expression tree.
    per
        Label sets for which there is one value each; empty for a single value.
    written
        The text as the user wrote it, or '' if it was a function or a constant.
    origin
        File and line of the function, or ''.
    """

    name: str
    expression: Node
    per: tuple[str, ...] = ()
    written: str = field(default="", compare=False)
    origin: str = field(default="", compare=False)

    @property
    def text(self) -> str:
        """The definition in the model language, as written or as printed from the tree."""
        tail = f" per {', '.join(self.per)}" if self.per else ""
        return self.written or text_of(self.expression) + tail

    @property
    def names(self) -> tuple[str, ...]:
        """Names the expression uses, in order of first appearance."""
        found = (node.name for node in walk(self.expression) if isinstance(node, Name))
        return tuple(dict.fromkeys(found))

    def message(self, problem: str, node: Node | None = None) -> str:
        """Return `problem` with this definition's text and a caret under `node`."""
        head = f"`{self.name}`: {problem}"
        text = self.text
        if self.origin:
            return f"{head}\n  {self.name} ({self.origin}): {text}"
        if node is None or node.place is None:
            return f"{head}\n  {self.name}: {text}"
        return with_caret(head, self.name, text, node.place.start, node.place.end)


def define(name: str, value: str | float | Callable[..., Any] | Symbol | Definition) -> Definition:
    """Read one definition given as text, function, constant or symbol; one that is read stays.

    Raises
    ------
    LanguageError
        If it cannot be read.
    """
    if isinstance(value, Definition):
        return value
    if isinstance(value, str):
        expression, per = read_text(value, name)
        return Definition(name, expression, per, written=" ".join(value.split("\n")).strip())
    if isinstance(value, Symbol):
        return Definition(name, value.node, value.labels)
    if isinstance(value, numbers.Real) and not isinstance(value, bool):
        if not abs(float(value)) < float("inf"):
            raise LanguageError(f"`{name}`: the constant {value} is not a finite number.")
        return Definition(name, Number(float(value)))
    if callable(value):
        expression, per, origin = read_function(value, name)
        return Definition(name, expression, per, origin=origin)
    raise LanguageError(
        f"`{name}`: a definition is a text, a function or a number, not "
        f"{type(value).__name__} {value!r}."
    )
