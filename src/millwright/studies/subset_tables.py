"""Tables of weighed subsets: which are best, and which candidates come together."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
import pandas as pd

from millwright.checks import check_whole
from millwright.draws.numbers import chance_text

__all__ = [
    "Subsets",
    "direction_words",
    "log_factors",
    "pair_table",
    "size_sentence",
    "subsets_of_draws",
]

_TINY = 1e-12


@dataclass(frozen=True, kw_only=True)
class Subsets:
    """Subsets with their probabilities, the most probable first.

    Attributes
    ----------
    terms
        Names of the candidates.
    kept
        Which are in, (subsets, terms).
    shares
        Posterior probability of each subset, (subsets,).
    """

    terms: tuple[str, ...]
    kept: np.ndarray = field(repr=False)
    shares: np.ndarray = field(repr=False)

    def names(self, at: int) -> list[str]:
        """The candidates of a subset."""
        return [self.terms[term] for term in np.flatnonzero(self.kept[at])]


def subsets_of_draws(terms: tuple[str, ...], inside: np.ndarray) -> Subsets:
    """Return the subsets that draws show, by how often.

    Parameters
    ----------
    inside
        Which candidates are in at each draw, (draws, terms).
    """
    kept, counts = np.unique(inside, axis=0, return_counts=True)
    order = np.argsort(-counts, kind="stable")
    return Subsets(terms=terms, kept=kept[order], shares=counts[order] / len(inside))


def pair_table(subsets: Subsets, count: int, least: float = _TINY) -> pd.DataFrame:
    """Return pairs of candidates, those that depend most on each other first.

    Parameters
    ----------
    least
        The smallest probability that can be told from 0.

    Raises
    ------
    ArgumentError
        For a count that is no whole number above 0.
    """
    check_whole("count", count, 1)
    chances = subsets.shares / subsets.shares.sum()
    kept = subsets.kept.astype(float)
    both = (kept * chances[:, None]).T @ kept
    one = np.diag(both)
    first, second = np.triu_indices(len(one), 1)
    joint = both[first, second]
    only, other = one[first] - joint, one[second] - joint
    none = 1 - joint - only - other
    # The correlation of being in weighs a pair by how often it matters.
    spread = np.sqrt((one * (1 - one)).clip(_TINY))
    weight = np.abs(joint - one[first] * one[second]) / (spread[first] * spread[second])
    order = np.argsort(-weight, kind="stable")[:count]
    names = np.array(subsets.terms, dtype=object)
    logs = [np.log(part.clip(least)) for part in (joint, none, only, other)]
    columns: dict[str, Sequence[object] | np.ndarray] = {
        "first": names[first][order],
        "second": names[second][order],
        "both": joint[order],
        "one alone": (only + other)[order],
        "none": none.clip(0.0)[order],
        "log odds ratio": (logs[0] + logs[1] - logs[2] - logs[3])[order],
    }
    return pd.DataFrame(columns)


def size_sentence(sizes: pd.DataFrame, which: str) -> str:
    """Say how many candidates there are on average, before and after the data."""
    numbers = np.arange(len(sizes))
    before, after = (
        float(numbers @ sizes[f"{when} probability"]) for when in ("prior", "posterior")
    )
    return f"Candidates {which}: {after:.1f} on average (before the data {before:.1f})."


def direction_words(above: float | None, draws: int) -> str:
    """Say the direction of a candidate's coefficient where it is in; nothing of several."""
    if above is None:
        return ""
    way = "positive" if above >= 0.5 else "negative"
    return f" ({way} where it is in: {chance_text(max(above, 1 - above), draws)})"


def _log_odds(chances: np.ndarray) -> np.ndarray:
    """Return logarithms of odds; infinite at 0 and 1."""
    with np.errstate(divide="ignore"):
        return np.asarray(np.log(chances) - np.log1p(-np.minimum(chances, 1.0)))


def log_factors(after: np.ndarray, before: np.ndarray) -> np.ndarray:
    """Return log Bayes factors of being in; not a number for what is always in."""
    with np.errstate(invalid="ignore"):
        return np.where(before >= 1, np.nan, _log_odds(after) - _log_odds(before))
