"""Quantities and expressions of the model language, evaluated over the draws."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from millwright.checks import check_texts
from millwright.draws.labelled_draws import Draws, label_texts
from millwright.errors import ArgumentError, DataError, ModelError
from millwright.language.definition import Definition
from millwright.language.parse import read_text
from millwright.language.tree import Call, Node
from millwright.modelling.arguments import check_functions
from millwright.modelling.foreign import lent
from millwright.modelling.labelled import DRAW, full
from millwright.modelling.specification import Part

__all__ = ["Evaluated", "cell_labels", "chosen_numbers", "evaluated", "single_numbers"]


@dataclass(frozen=True, kw_only=True)
class Evaluated:
    """Draws of an expression.

    Attributes
    ----------
    node
        What was read, without `all(...)` or `any(...)` around it.
    joint
        `all` or `any` if that stood around it, else empty.
    values
        Shape (chains, draws, cells): one cell for each label, or one.
    labels
        Label of each cell; one empty text without labels.
    axes
        The label sets that the cells run over, the last one fastest.
    """

    node: Node
    joint: str
    values: np.ndarray
    labels: tuple[str, ...]
    axes: tuple[str, ...] = ()


def evaluated(draws: Draws, text: str, what: str = "statement") -> Evaluated:
    """Evaluate a text of the model language over the draws.

    Raises
    ------
    ArgumentError
        If it is not a text.
    LanguageError, ModelError
        If it cannot be read or names what is not there.
    """
    if not isinstance(text, str):
        raise ArgumentError(f"A {what} is a text such as 'drying < 0', not {text!r}.")
    node, per = read_text(text.strip(), what)
    joint, inner = _joint(node)
    definition = Definition(what, inner, per, written=text.strip())
    with lent(draws.binding.program.foreign):
        check_functions(definition)
    part = Part(
        name=what,
        kind="derived",
        family="",
        arguments=(("", inner),),
        per=(),
        definition=definition,
    )
    try:
        item = draws.evaluation().expression(inner, part)
    except KeyError as error:
        raise ModelError(
            definition.message(f"the column {error} was not part of the fit")
        ) from None
    except DataError as error:
        raise ModelError(definition.message(error.marked)) from None
    chains, n = draws.shape
    axes = item.labels
    size = (chains * n, *draws.binding.program.shape(axes))
    values = np.array(full(item, (DRAW, *axes), size)).reshape(chains, n, -1)
    return Evaluated(
        node=inner, joint=joint, values=values, labels=tuple(cell_labels(draws, axes)), axes=axes
    )


def chosen_numbers(draws: Draws, names: str | Sequence[str] | None) -> dict[str, np.ndarray]:
    """Return draws of the single numbers of several quantities or expressions."""
    if names is None:
        return draws.single()
    found: dict[str, np.ndarray] = {}
    for name in check_texts("names", names):
        found |= single_numbers(draws, name)
    return found


def single_numbers(draws: Draws, text: str) -> dict[str, np.ndarray]:
    """Return draws of each single number of a quantity or of an expression, (chains, draws).

    A quantity's numbers are named as in tables, and each can be asked for by that name:
    `share[wild]`; those of an expression are named by it, followed by the label.

    Raises
    ------
    ArgumentError
        If it is true or false instead of a number.
    UnknownLabelError, LanguageError, ModelError
        If it cannot be read or names what is not there.
    """
    if isinstance(text, str) and text.strip().isidentifier():
        return draws.single([text.strip()])
    base = text.split("[")[0] if isinstance(text, str) else ""
    if base in draws.binding.axes and text[len(base) :] in set(draws.cells(base)):
        return {text: draws.single([base])[text]}
    found = evaluated(draws, text, "quantity")
    if found.values.dtype == bool:
        raise ArgumentError(
            f"`{text}` is true or false: ask for its probability(...); here a number is needed."
        )
    return {
        text.strip() + (f" [{label}]" if label else ""): found.values[:, :, at].astype(float)
        for at, label in enumerate(found.labels)
    }


def _joint(node: Node) -> tuple[str, Node]:
    if isinstance(node, Call) and node.function in ("all", "any") and len(node.arguments) == 1:
        return node.function, node.arguments[0]
    return "", node


def cell_labels(draws: Draws, axes: Sequence[str]) -> list[str]:
    """Return the text of each combination of labels; one empty text without label sets."""
    labels = [""]
    for axis in axes:
        here = label_texts(draws.labels(axis))
        labels = [f"{left}, {right}" if left else right for left in labels for right in here]
    return labels
