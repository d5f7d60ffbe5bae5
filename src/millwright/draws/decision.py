"""Decisions from an interval against a region of practical equivalence or a single value.

Kruschke (2018), "Rejecting or accepting parameter values in Bayesian estimation", Advances in
Methods and Practices in Psychological Science 1(2): a value is rejected if the interval lies
outside the region around it, accepted if the interval lies inside, and the decision is withheld
otherwise.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, Literal

import numpy as np

from millwright.display import Shown
from millwright.draws.intervals import IntervalKind, interval, kind_words
from millwright.draws.numbers import probability_text, range_text
from millwright.errors import ArgumentError
from millwright.wording import setting

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Decision", "Outcome", "decide", "region_ends"]

Outcome = Literal["reject", "accept", "withhold"]

_LEVELS = (0.5, 0.8, 0.9, 0.95, 0.99)
_WIDTHS = (0.0, 0.25, 0.5, 1.0, 1.5, 2.0, 3.0)


@dataclass(frozen=True, kw_only=True)
class Decision(Shown):
    """What the posterior says about a region or a value.

    Attributes
    ----------
    region
        Ends of the region of practical equivalence; equal ends for a single value.
    single
        Whether a single value was asked about: it can be rejected, not accepted.
    draws
        Draws of each number, shape (chains * draws,).
    verdict
        That of the fit.
    """

    quantity: str
    region: tuple[float, float]
    single: bool
    level: float
    kind: IntervalKind
    draws: Mapping[str, np.ndarray] = field(repr=False)
    verdict: Any = field(default=None, repr=False)

    @property
    def outcomes(self) -> dict[str, Outcome]:
        """The decision for each number."""
        return {name: self._outcome(values, self.level) for name, values in self.draws.items()}

    def shares(self, name: str) -> tuple[float, float, float]:
        """Shares of the posterior below, inside and above the region."""
        values = self.draws[name]
        below, above = np.mean(values < self.region[0]), np.mean(values > self.region[1])
        return float(below), float(1 - below - above), float(above)

    def table(self) -> pd.DataFrame:
        """Return one row a number: decision, interval, shares below, inside and above."""
        import pandas as pd

        words = kind_words(self.kind, self.level)
        rows = [
            (
                self._outcome(values, self.level),
                *map(float, interval(values, self.level, self.kind)),
                *self.shares(name),
            )
            for name, values in self.draws.items()
        ]
        columns = ["decision", f"{words}, from", f"{words}, to"]
        columns += ["share below", "share inside", "share above"]
        return pd.DataFrame(rows, index=_index(self.draws), columns=columns)

    def by_level(self, levels: Sequence[float] = _LEVELS) -> pd.DataFrame:
        """Return the decision at several interval levels, one column a level."""
        import pandas as pd

        return pd.DataFrame(
            {
                f"{100 * level:.6g} %": [self._outcome(v, level) for v in self.draws.values()]
                for level in levels
            },
            index=_index(self.draws),
        ).rename_axis("level of the interval", axis=1)

    def by_width(self, factors: Sequence[float] = _WIDTHS) -> pd.DataFrame:
        """Return the decision for narrower and wider regions around the same middle.

        Parameters
        ----------
        factors
            Widths, as multiples of the region's own. Columns are half widths in the quantity's
            unit.

        Raises
        ------
        ArgumentError
            For a single value, which has no width.
        """
        import pandas as pd

        if self.single:
            raise ArgumentError(
                f"A single value has no width; give {setting('rope')}, the two ends of a region."
            )
        middle = sum(self.region) / 2
        half = (self.region[1] - self.region[0]) / 2
        return pd.DataFrame(
            {
                f"{factor * half:.4g}": [
                    _compared(
                        interval(values, self.level, self.kind),
                        (middle - factor * half, middle + factor * half),
                    )
                    for values in self.draws.values()
                ]
                for factor in factors
            },
            index=_index(self.draws),
        ).rename_axis("half width of the region", axis=1)

    def _outcome(self, values: np.ndarray, level: float) -> Outcome:
        return _compared(interval(values, level, self.kind), self.region)

    def __str__(self) -> str:
        low, high = self.region
        what = f"the value {low:.6g}" if self.single else f"the region {low:.6g} to {high:.6g}"
        words = kind_words(self.kind, self.level)
        rule = "reject: the interval lies wholly outside; "
        rule += "a single value is never accepted; " if self.single else "accept: wholly inside; "
        lines = [f"Decision on {what} by the {words} ({rule}withhold: neither)."]
        thing = "value" if self.single else "region"
        said = {
            "reject": f"REJECT the {thing}",
            "accept": f"ACCEPT the {thing}",
            "withhold": "WITHHOLD the decision",
        }
        for name, values in self.draws.items():
            a, b = interval(values, self.level, self.kind)
            below, inside, above = (probability_text(s, len(values)) for s in self.shares(name))
            middle = "" if self.single else f", inside: {inside}"
            ends = range_text(float(a), float(b), float(np.std(values, ddof=1)))
            lines.append(
                f"  {name}: {said[self._outcome(values, self.level)]}. Interval {ends}. Share of "
                f"the posterior below: {below}{middle}, above: {above}."
            )
        return "\n".join(lines)


def _index(draws: Mapping[str, np.ndarray]) -> pd.Index:
    import pandas as pd

    return pd.Index(list(draws), name="quantity")


def _compared(ends: tuple[np.ndarray, np.ndarray], region: tuple[float, float]) -> Outcome:
    low, high = float(ends[0]), float(ends[1])
    if low > region[1] or high < region[0]:
        return "reject"
    if region[0] < region[1] and region[0] <= low and high <= region[1]:
        return "accept"
    return "withhold"


def decide(
    quantity: str,
    draws: Mapping[str, np.ndarray],
    rope: tuple[float, float] | None,
    null: float | None,
    level: float,
    kind: IntervalKind,
) -> Decision:
    """Return the decision; see `Posterior.decide`."""
    if (rope is None) == (null is None):
        raise ArgumentError(
            f"Give either {setting('rope')}, the ends of the region of values that are as good as "
            f"equal, or {setting('null')}, a single value."
        )
    region = region_ends(rope if rope is not None else (null, null))
    flat = {name: value.reshape(-1) for name, value in draws.items()}
    for values in flat.values():
        interval(values, level, kind)
    return Decision(
        quantity=quantity,
        region=region,
        single=null is not None,
        level=float(level),
        kind=kind,
        draws=flat,
    )


def region_ends(rope: object, name: str = "rope") -> tuple[float, float]:
    """Return the ends of a region, low and high.

    Raises
    ------
    ArgumentError
        For what is no region.
    """
    try:
        low, high = (float(end) for end in rope)  # type: ignore[attr-defined]
    except (TypeError, ValueError) as error:
        raise ArgumentError(f"`{name}` is a pair (low, high) of numbers, not {rope!r}.") from error
    if not (np.isfinite([low, high]).all() and low <= high):
        raise ArgumentError(f"`{name}` must go from low to high, both finite; it is {rope!r}.")
    return low, high
