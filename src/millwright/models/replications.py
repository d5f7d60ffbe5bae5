"""Data sets simulated from a model with a known truth, and the fits to them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from millwright.checks import check_whole
from millwright.errors import ArgumentError
from millwright.modelling.data_sets import one_table
from millwright.posterior.posterior import Posterior
from millwright.posterior.posteriors import Posteriors

__all__ = ["Replicated", "replicated", "shuffled_rows"]


@dataclass(frozen=True, kw_only=True)
class Replicated:
    """Fits to simulated data sets, with the truth that each was made from.

    Attributes
    ----------
    truths
        For each quantity its value in each data set that was fitted.
    fits
        By number, from 1.
    """

    truths: Mapping[str, np.ndarray]
    fits: Posteriors

    @property
    def posteriors(self) -> list[Posterior]:
        """The posteriors in order."""
        return list(self.fits.values())

    @property
    def good(self) -> int:
        """How many verdicts are good."""
        return sum(one.verdict.good for one in self.posteriors)


def replicated(
    model: Any,
    data: Any,
    replications: int,
    seed: int,
    given: Mapping[str, Any] | None,
    rows: int | None,
    settings: Mapping[str, Any],
) -> Replicated:
    """Simulate data sets from a model and fit each.

    Raises
    ------
    ArgumentError
        If settings make no sense, or none of the data sets can be fitted.
    """
    check_whole("replications", replications, 2)
    check_whole("seed", seed, 0)
    simulated = model.simulate(data, draws=replications, seed=seed, given=given, rows=rows)
    sets = {number + 1: simulated.data(number) for number in range(replications)}
    fits = model.fit_each(sets, seed=seed, **settings)
    if not len(fits):
        raise ArgumentError(
            f"None of the {replications} simulated data sets could be fitted; the first: "
            f"{next(iter(fits.failures.values())).splitlines()[0]}"
        )
    kept = np.array([name - 1 for name in fits])
    truths = simulated.draws.single()
    held = {name: value.reshape(-1)[kept] for name, value in truths.items()}
    return Replicated(truths=held, fits=fits)


def shuffled_rows(data: Any, rows: int, seed: int) -> Any:
    """Return a table with so many rows: those of the data in a random order, again and again.

    Raises
    ------
    ArgumentError
        For what is not one table.
    """
    frame = one_table(data, "`rows` draws on the rows of a table")
    order = np.random.default_rng([seed, 0]).permutation(len(frame))
    return frame.iloc[np.resize(order, rows)].reset_index(drop=True)
