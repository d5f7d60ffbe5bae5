"""Statements about the posterior, such as `drying < 0`, and their probabilities."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from millwright.diagnostics.convergence import mean_size
from millwright.display import Shown, text_table
from millwright.draws.expressions import Evaluated, evaluated
from millwright.draws.labelled_draws import Draws
from millwright.draws.numbers import chance_text, probability_text
from millwright.errors import ArgumentError
from millwright.language.tree import Node, Operation

__all__ = ["Probabilities", "Probability", "probability_of"]

_ORDERS = ("<", "<=", ">", ">=")


@dataclass(frozen=True, kw_only=True)
class Probability(Shown):
    """Posterior probability that a statement holds.

    Attributes
    ----------
    value
        Share of the draws in which the statement holds.
    monte_carlo_error
        Monte Carlo standard error of the share; never 0, since draws cannot show certainty.
    draws
        Number of draws it rests on.
    two_sided
        For a single comparison by < or >: the level of the widest central interval of the
        difference between both sides that leaves out zero, 1 - 2 min(p, 1 - p). None for other
        statements.
    """

    statement: str
    value: float
    monte_carlo_error: float
    draws: int
    two_sided: float | None = None

    def __float__(self) -> float:
        return self.value

    def __str__(self) -> str:
        shown = chance_text(self.value, self.draws)
        text = (
            f"Given model and data, the probability of `{self.statement}` is {shown} "
            f"(Monte Carlo standard error {self.monte_carlo_error:.2g})."
        )
        if self.two_sided is None:
            return text
        against = chance_text(1 - self.value, self.draws)
        return (
            f"{text}\n  One-sided reading: {shown} that it is true, {against} that it is not; "
            '"yes at 95 %" asks for 0.95.\n  Two-sided reading: '
            f"{_two_sided_words(self.two_sided, self.draws)}"
        )


class Probabilities(Shown, dict[str, Probability]):
    """Probabilities of one statement, by label."""

    def __str__(self) -> str:
        two_sided = any(one.two_sided is not None for one in self.values())
        columns = {
            "probability": [probability_text(p.value, p.draws) for p in self.values()],
            "Monte Carlo error": [f"{p.monte_carlo_error:.2g}" for p in self.values()],
        }
        if two_sided:
            columns["different at 95 % (two-sided)"] = [
                "-" if p.two_sided is None else "yes" if p.two_sided >= 0.95 else "no"
                for p in self.values()
            ]
        return text_table(list(self), columns)

    __repr__ = __str__


def _two_sided_words(level: float, draws: int) -> str:
    if level >= 0.95:
        return (
            "the central 95 % interval excludes the boundary; so do "
            f'{_percent(level, draws)}. "Different at 95 %": yes.'
        )
    return (
        "the central 95 % interval contains the boundary; only "
        f'{_percent(level, draws)} exclude it. "Different at 95 %": no.'
    )


def _percent(level: float, draws: int) -> str:
    smallest = 2 / draws
    if level > 1 - smallest:
        return "all wider ones that these draws can show"
    return f"intervals up to {100 * level:.3g} %"


def probability_of(draws: Draws, statement: str) -> Probability | Probabilities:
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
    found = evaluated(draws, statement)
    if found.values.dtype != bool:
        raise ArgumentError(
            f"`{statement}` is not true or false: a statement compares, as in 'drying < 0'."
        )
    two_sided = _compares_once(found)
    if found.joint:
        reduce = np.all if found.joint == "all" else np.any
        return _probability(statement, reduce(found.values, axis=-1), False)
    if found.labels != ("",):
        return Probabilities(
            {
                label: _probability(f"{statement} at {label}", found.values[:, :, at], two_sided)
                for at, label in enumerate(found.labels)
            }
        )
    return _probability(statement, found.values[:, :, 0], two_sided)


def _compares_once(found: Evaluated) -> bool:
    node: Node = found.node
    return not found.joint and isinstance(node, Operation) and node.operator in _ORDERS


def _probability(statement: str, holds: np.ndarray, compares: bool) -> Probability:
    """Estimate with the effective sample size of the indicator.

    At 0 or 1 the standard error is that of half a draw more or less (Agresti and Coull 1998,
    add-half rule), so that it is never zero.
    """
    share = float(holds.mean())
    size = holds.size
    ess = float(mean_size(holds[..., None].astype(float))[0])
    ess = ess if np.isfinite(ess) else float(size)
    safe = (share * ess + 0.5) / (ess + 1)
    error = float(np.sqrt(safe * (1 - safe) / ess))
    return Probability(
        statement=statement,
        value=share,
        monte_carlo_error=error,
        draws=size,
        two_sided=1 - 2 * min(share, 1 - share) if compares else None,
    )
