"""Statements about the posterior, such as `drying < 0`, and their probabilities."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from millwright.diagnostics.convergence import ess_mean
from millwright.draws.labelled_draws import Draws, label_texts
from millwright.draws.numbers import probability_text
from millwright.errors import ArgumentError, DataError, ModelError
from millwright.language.definition import Definition
from millwright.language.parse import read_text
from millwright.language.tree import Call, Node
from millwright.modelling.arguments import check_functions
from millwright.modelling.labelled import DRAW, full
from millwright.modelling.specification import Part

__all__ = ["Probability", "probability_of"]


@dataclass(frozen=True)
class Probability:
    """Posterior probability that a statement holds.

    Attributes
    ----------
    value
        Share of the draws in which the statement holds.
    mcse
        Monte Carlo standard error of the share; never 0, since draws cannot show certainty.
    draws
        Number of draws it rests on.
    """

    statement: str
    value: float
    mcse: float
    draws: int

    def __float__(self) -> float:
        return self.value

    def __str__(self) -> str:
        shown = probability_text(self.value, self.draws)
        words = shown.replace("< ", "below ").replace("> ", "above ")
        return (
            f"Given model and data, the probability of `{self.statement}` is {words} "
            f"(Monte Carlo standard error {self.mcse:.2g})."
        )


def probability_of(draws: Draws, statement: str) -> Probability | dict[str, Probability]:
    """Return the probability of a statement in the model language.

    A statement about a quantity with labels gives one probability for each label, unless
    `all(...)` or `any(...)` around it makes it a joint one.

    Raises
    ------
    ArgumentError
        If the text is not a comparison.
    LanguageError, ModelError
        If it cannot be read or names what is not there.
    """
    if not isinstance(statement, str):
        raise ArgumentError(f"A statement is a text such as 'drying < 0', not {statement!r}.")
    node, per = read_text(statement.strip(), "statement")
    joint, inner = _joint(node)
    definition = Definition("statement", inner, per, written=statement.strip())
    check_functions(definition)
    part = Part("statement", "derived", "", (("", inner),), (), definition)
    try:
        item = draws.evaluation().expression(inner, part)
    except KeyError as error:
        raise ModelError(
            definition.message(f"the column {error} was not part of the fit")
        ) from None
    except DataError as error:
        raise ModelError(definition.message(str(error))) from None
    if np.asarray(item.values).dtype != bool:
        raise ArgumentError(
            f"`{statement}` is not true or false: a statement compares, as in 'drying < 0'."
        )
    chains, n = draws.shape
    axes = item.labels
    size = (chains * n, *draws.binding.program.shape(axes))
    holds = np.array(full(item, (DRAW, *axes), size)).reshape(chains, n, -1)
    if joint:
        reduce = np.all if joint == "all" else np.any
        holds = reduce(holds, axis=-1, keepdims=True)
    elif axes:
        labels = _cell_labels(draws, axes)
        return {
            label: _probability(f"{statement} at {label}", holds[:, :, at])
            for at, label in enumerate(labels)
        }
    return _probability(statement, holds[:, :, 0])


def _joint(node: Node) -> tuple[str, Node]:
    if isinstance(node, Call) and node.function in ("all", "any") and len(node.arguments) == 1:
        return node.function, node.arguments[0]
    return "", node


def _cell_labels(draws: Draws, axes: tuple[str, ...]) -> list[str]:
    labels = [""]
    for axis in axes:
        here = label_texts(draws.labels(axis))
        labels = [f"{left}, {right}" if left else right for left in labels for right in here]
    return labels


def _probability(statement: str, holds: np.ndarray) -> Probability:
    """Estimate with the effective sample size of the indicator.

    At 0 or 1 the standard error is that of half a draw more or less (Agresti and Coull 1998,
    add-half rule), so that it is never zero.
    """
    share = float(holds.mean())
    size = holds.size
    ess = float(ess_mean(holds[..., None].astype(float))[0])
    ess = ess if np.isfinite(ess) else float(size)
    safe = (share * ess + 0.5) / (ess + 1)
    return Probability(statement, share, float(np.sqrt(safe * (1 - safe) / ess)), size)
