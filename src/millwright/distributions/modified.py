"""What distributions made from others share.

The parameters of a modified distribution are those of its components, each with the component's
name in front (`first.location`), and its own.
"""

from __future__ import annotations

import numpy as np

from millwright.distributions.family import Family, Parameter, Parameters
from millwright.distributions.mathematics import Array, Mathematics, log_diff_exp

__all__ = ["Modified", "PROBABILITY", "log_interval", "log_pieces", "parameters_of"]


PROBABILITY = "probability"


def parameters_of(name: str, p: Parameters) -> dict[str, Array]:
    """Return the parameters of one component."""
    prefix = name + "."
    return {key[len(prefix) :]: value for key, value in p.items() if key.startswith(prefix)}


def log_interval(m: Mathematics, family: Family, low: Array, high: Array, p: Parameters) -> Array:
    """Return the log probability between two values, from the side that is exact.

    Minus infinity where there is nothing between them.
    """
    return log_pieces(m, family, low, high, p)[1]


def log_pieces(
    m: Mathematics, family: Family, low: Array, high: Array, p: Parameters
) -> tuple[Array, Array, Array]:
    """Return the log probabilities below, between and above two values.

    Where there is nothing between them the last is above the first of them.
    """
    # Both ends at once: what is written twice is compiled twice, and tails are long.
    low, high, *_ = m.broadcast_arrays(low, high, *p.values())
    empty = high <= low
    upto, beyond = family.log_tails(m, m.stack([low, m.where(empty, low + 1.0, high)]), p)
    right = beyond[0] < upto[1]
    larger = m.where(right, beyond[0], upto[1])
    smaller = m.where(right, beyond[1], upto[0])
    finite = smaller > -m.inf
    between = m.where(
        finite, log_diff_exp(m, larger, m.where(finite, smaller, larger - 1.0)), larger
    )
    above = m.where(empty, beyond[0], beyond[1])
    return upto[0], m.where(empty, -m.inf, between), above


class Modified(Family):
    """A family built from component families.

    Attributes
    ----------
    components
        Names of the components in the order in which a call gives them.
    own
        Parameters of the modifier itself.
    """

    components: tuple[str, ...] = ("of",)
    own: tuple[Parameter, ...] = ()
    needs_whole: bool | None = None
    truncatable = False

    def __init__(self, *families: Family) -> None:
        self.families = dict(zip(self.components, families, strict=True))
        inner = [
            Parameter(f"{name}.{q.name}", q.domain, q.meaning, instead_of=q.instead_of)
            for name, family in self.families.items()
            for q in family.parameters
        ]
        self.parameters = (*inner, *self.own)  # type: ignore[misc]
        self.whole = any(family.whole for family in families)  # type: ignore[misc]

    @property
    def mean_takes_long(self) -> bool:
        return any(family.mean_takes_long for family in self.families.values())

    def survival_quantile(self, q: Array, p: Parameters) -> Array:
        return self.quantile(1 - np.asarray(q), p)
