"""What every distribution declares: its parameters, its support, and how to use it.

A family is stateless; parameter values are passed as a mapping of arrays that broadcast
against the values. Formulas take the array library as `m` (see `mathematics`); distribution
functions for prior draws and descriptions use NumPy and SciPy.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, ClassVar, Literal

import numpy as np

from millwright.distributions import on_numpy
from millwright.distributions.mathematics import Array, Mathematics

__all__ = [
    "Distribution",
    "Domain",
    "Event",
    "Family",
    "Parameter",
    "Parameters",
    "Support",
    "larger_bound",
]

Parameters = Mapping[str, Array]
Domain = Literal["real", "positive", "probability", "count", "weight"]
Event = Literal["number", "vector", "matrix", "label"]

_INSIDE: dict[str, Any] = {
    "real": lambda x: np.isfinite(x),
    "positive": lambda x: np.isfinite(x) & (x > 0),
    "probability": lambda x: (x >= 0) & (x <= 1),
    "count": lambda x: np.isfinite(x) & (x >= 0) & (x == np.floor(x)),
    "weight": lambda x: np.isfinite(x) & (x >= 0),
}

DOMAIN_WORDS: dict[str, str] = {
    "real": "a finite number",
    "positive": "above zero",
    "probability": "between 0 and 1",
    "count": "a whole number, zero or more",
    "weight": "zero or more",
}


@dataclass(frozen=True)
class Parameter:
    """One parameter of a family.

    Attributes
    ----------
    name
        Keyword in the model language.
    domain
        Values that make sense.
    positional
        Whether it may be given without its name: only locations and scales may.
    instead_of
        Name of the parameter that this one replaces, such as `log_odds` for `probability`.
        Several that replace the same one are given together.
    rank
        0 for one number an element, 1 for a vector over the distribution's label set, 2 for a
        matrix over it.
    own_labels
        Whether a vector or matrix runs over a label set of its own, not over that of the values.
    by_entry
        Whether a vector with labels of its own may also differ along the distribution's values.
    optional
        Whether it may be left out.
    given_with
        Name of the optional parameter without which it may not be given.
    """

    name: str
    domain: str
    meaning: str
    positional: bool = False
    instead_of: str = ""
    rank: int = 0
    own_labels: bool = False
    by_entry: bool = False
    optional: bool = False
    given_with: str = ""

    def valid(self, value: Array) -> Array:
        """Return, element by element, whether `value` makes sense."""
        return _INSIDE[self.domain](np.asarray(value, dtype=float))


@dataclass(frozen=True)
class Support:
    """Values with positive density: an interval, of whole numbers if `whole`.

    Attributes
    ----------
    lower, upper
        Bounds as arrays that broadcast with the parameters, or None for no bound.
    """

    lower: Array | None = None
    upper: Array | None = None
    whole: bool = False

    def contains(self, values: Array) -> Array:
        """Return, element by element, whether `values` lie in the support (NumPy)."""
        x = np.asarray(values, dtype=float)
        inside = np.isfinite(x)
        if self.lower is not None:
            inside = inside & (x >= self.lower)
        if self.upper is not None:
            inside = inside & (x <= self.upper)
        return inside & (x == np.floor(x)) if self.whole else inside

    def point_inside(self) -> Array | None:
        """Return a value inside; None where every number is."""
        if self.lower is not None and self.upper is not None:
            return (self.lower + self.upper) / 2
        if self.lower is not None:
            return self.lower + 1.0
        return None if self.upper is None else self.upper - 1.0

    def words(self) -> str:
        """Say which values have positive density."""
        kind = "whole numbers" if self.whole else "numbers"
        lower, upper = (_bound(b) for b in (self.lower, self.upper))
        if lower and upper:
            return f"{kind} from {lower} to {upper}"
        if lower:
            return f"{kind} from {lower} upwards"
        return f"{kind} up to {upper}" if upper else f"all {kind}"


def larger_bound(a: Array, b: Array) -> Array:
    """Larger of two bounds, whichever array library they come from."""
    return a * (a >= b) + b * (a < b)


def _bound(value: Array | None) -> str:
    if value is None:
        return ""
    first = np.unique(np.asarray(value, dtype=float))
    return f"{first[0]:g}" if first.size == 1 else "a bound that varies"


class Distribution(ABC):
    """What one-dimensional families and families of vectors have in common.

    Attributes
    ----------
    event
        What one value is: a `number`, a `vector` over a label set, a `matrix` over a label set
        and itself, or a `label`.
    whole
        Whether values are whole numbers.
    improper
        Whether the density has no finite total, so that nothing can be drawn from it.
    """

    name: ClassVar[str]
    summary: ClassVar[str]
    parameters: ClassVar[tuple[Parameter, ...]]
    event: ClassVar[Event] = "number"
    whole: ClassVar[bool] = False
    truncatable: ClassVar[bool] = False
    improper: ClassVar[bool] = False

    @abstractmethod
    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        """Return the log density (log probability for counts) at `x` inside the support."""

    @abstractmethod
    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        """Return random draws of shape `size`; parameters broadcast to it."""

    @abstractmethod
    def mean(self, p: Parameters) -> Array:
        """Return the mean, NaN or infinite where it does not exist."""

    @property
    def mean_takes_long(self) -> bool:
        """Whether there is no closed form of the mean: it is summed up, hundreds of terms each."""
        return False


class Family(Distribution):
    """A family of one-dimensional distributions."""

    truncatable: ClassVar[bool] = True

    def support(self, p: Parameters) -> Support:
        """Return where the density is positive; the whole line unless overridden."""
        return Support(whole=self.whole)

    def common_support(self, p: Parameters) -> Support:
        """Return where the densities of all that it is made from are positive."""
        return self.support(p)

    @abstractmethod
    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        """Return log P(X <= x)."""

    @abstractmethod
    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        """Return log P(X > x)."""

    def log_tails(self, m: Mathematics, x: Array, p: Parameters) -> tuple[Array, Array]:
        """Return log P(X <= x) and log P(X > x); overridden where both are one computation."""
        return self.log_cdf(m, x, p), self.log_survival(m, x, p)

    def log_at_least(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        """Return log P(X >= x), of recorded values too, which have mass at single points."""
        return self.log_survival(m, x, p)

    @abstractmethod
    def quantile(self, q: Array, p: Parameters) -> Array:
        """Return the smallest x with P(X <= x) >= q (NumPy)."""

    def cdf(self, x: Array, p: Parameters) -> Array:
        """Return P(X <= x) (NumPy)."""
        with np.errstate(divide="ignore"):
            return np.exp(self.log_cdf(on_numpy, np.asarray(x, dtype=float), p))

    def survival_quantile(self, q: Array, p: Parameters) -> Array:
        """Return the x with P(X > x) = q; overridden where 1 - q would lose a far tail."""
        return self.quantile(1 - np.asarray(q), p)
