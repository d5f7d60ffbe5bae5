"""What a selection by shrunken slopes found."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from millwright.checks import check_positive, check_whole
from millwright.diagnostics.convergence import mean_error
from millwright.draws.decision import Decision
from millwright.draws.numbers import chance_text
from millwright.errors import ArgumentError
from millwright.evidence.bayes_factor import factor_words
from millwright.studies.regression_findings import RegressionFindings
from millwright.studies.subset_tables import (
    Subsets,
    direction_words,
    log_factors,
    pair_table,
    size_sentence,
    subsets_of_draws,
)
from millwright.wording import visible

if TYPE_CHECKING:
    from millwright.studies.sparse_study import SparseStudy

__all__ = ["SparseFindings"]

_LIKELY = 0.5
_MOST_NAMED = 12
_PAIRS = 10


@dataclass(frozen=True, eq=False, kw_only=True)
class SparseFindings(RegressionFindings):
    """The answer of a selection of candidates for outcomes of any family.

    All slopes are in one model and pulled to 0; a candidate is in at a draw where its slope lies
    beyond the study's region.
    """

    study: SparseStudy

    @cached_property
    def _slopes(self) -> dict[str, np.ndarray]:
        return self._draws().coefficients(standardised=True)

    def _inside(self, region: float) -> np.ndarray:
        """Return which candidates are in, (chains, draws, terms)."""
        free = set(self.study.free)
        every = []
        for name, columns in self.study.terms.items():
            beyond = [np.abs(self._slopes[one]) > region for one in columns]
            always = np.ones_like(beyond[0])
            every.append(np.any(beyond, axis=0) if name in free else always)
        return np.stack(every, axis=-1)

    @cached_property
    def _at_region(self) -> np.ndarray:
        return self._inside(self.study.region)

    @cached_property
    def subsets(self) -> Subsets:
        """The subsets that the draws show."""
        inside = self._at_region
        return subsets_of_draws(tuple(self.study.terms), inside.reshape(-1, inside.shape[-1]))

    @cached_property
    def order(self) -> list[str]:
        """The candidates by their inclusion probability, largest first."""
        return [str(name) for name in self.inclusion().index]

    def direction(self, term: str) -> float | None:
        """Return the probability of a coefficient above 0 where it is in; None of several."""
        columns = self.study.terms[term]
        if len(columns) > 1:
            return None
        slopes = self._slopes[columns[0]]
        inside = np.abs(slopes) > self.study.region
        return float((slopes[inside] > 0).mean()) if inside.any() else float((slopes > 0).mean())

    def inclusion(self, order: str = "size", region: float | None = None) -> pd.DataFrame:
        """Return how probable it is that each candidate matters.

        Approximate: a candidate is in where its slope, for one sd, lies beyond the region. Prior
        probabilities come from 4000 draws of the prior.

        Parameters
        ----------
        order
            `size`: the most probable first. `data`: as the candidates were named.
        region
            Half the width of another region; by default that of the study.

        Returns
        -------
        Prior and posterior probability, the Monte Carlo error of the latter, the log Bayes factor
        of being in (not a number where no draw, or every draw, is in), and in words.

        Raises
        ------
        ArgumentError
            For another order, or a region that is not above 0.
        """
        if order not in ("size", "data"):
            raise ArgumentError(f"`order` is 'size' or 'data', not {order!r}.")
        if region is None:
            inside, before = self._at_region, self.study.prior[0]
        else:
            inside = self._inside(check_positive("region", region))
            before = self.study.prior_beyond(region)
        found = inside.mean(axis=(0, 1))
        errors = np.nan_to_num(mean_error(inside.astype(float)))
        known = (found > 0) & (found < 1)
        logs = np.where(known, log_factors(found, before), np.nan)
        table = pd.DataFrame(
            {
                "prior probability": before,
                "posterior probability": found,
                "its error": errors,
                "log Bayes factor": logs,
                "in words": [
                    factor_words(float(one), "it") if np.isfinite(one) else _all_words(share, was)
                    for one, share, was in zip(logs, found, before, strict=True)
                ],
            },
            index=pd.Index(list(self.study.terms), name="candidate"),
        )
        if order == "size":
            # Where all draws agree the sizes of the slopes put them in order.
            sizes = [
                max(abs(float(np.median(self._slopes[one]))) for one in columns)
                for columns in self.study.terms.values()
            ]
            table = table.iloc[np.lexsort((-np.array(sizes), -found))]
        return table

    def best_models(self, count: int = 10) -> pd.DataFrame:
        """Return the subsets that most draws show.

        Parameters
        ----------
        count
            How many.

        Returns
        -------
        One row a subset: its candidates, how many, and the share of draws at which exactly these
        are in.

        Raises
        ------
        ArgumentError
            For a count that is no whole number above 0.
        """
        check_whole("count", count, 1)
        subsets = self.subsets
        some = range(min(count, len(subsets.shares)))
        rows = [
            {
                "candidates": " + ".join(subsets.names(at)) or "none",
                "number": int(subsets.kept[at].sum()),
                "share of draws": float(subsets.shares[at]),
            }
            for at in some
        ]
        return pd.DataFrame(rows, index=pd.Index([at + 1 for at in some], name="rank"))

    def sizes(self) -> pd.DataFrame:
        """Return prior and posterior probability of each number of candidates."""
        after = self._at_region.sum(axis=-1).reshape(-1)
        counts = np.bincount(after, minlength=len(self.study.terms) + 1)
        return pd.DataFrame(
            {
                "prior probability": self.study.prior[1],
                "posterior probability": counts / len(after),
            }
        ).rename_axis("candidates")

    def pairs(self, count: int = _PAIRS) -> pd.DataFrame:
        """Return pairs of candidates that come together, or in place of each other.

        Parameters
        ----------
        count
            How many.

        Returns
        -------
        One row a pair, those that depend most on each other first: probabilities that both, either
        and none are in, and the log odds ratio, above 0 where they come together and below 0 where
        one replaces the other.

        Raises
        ------
        ArgumentError
            For a count that is no whole number above 0.
        """
        # Half a draw stands for what no draw shows, so that a log odds ratio claims no more.
        return pair_table(self.subsets, count, 0.5 / np.prod(self._at_region.shape[:2]))

    @property
    def decisions(self) -> tuple[Decision, ...]:
        """None: inclusion says it candidate by candidate."""
        return ()

    def _sentences(self) -> tuple[str, ...]:
        table = self.inclusion()
        draws = int(np.prod(self._at_region.shape[:2]))
        likely = table[table["posterior probability"] >= _LIKELY]
        named = [
            f"`{visible(str(name))}` {chance_text(float(row['posterior probability']), draws)}"
            f"{direction_words(self.direction(str(name)), draws)}"
            for name, row in likely.iterrows()
            if name in self.study.free
        ]
        more = f"; and {len(named) - _MOST_NAMED} more" * (len(named) > _MOST_NAMED)
        first = (
            "Matter with a probability of a half or more: " + "; ".join(named[:_MOST_NAMED]) + more
            if named
            else "No candidate matters with a probability of a half or more"
        )
        width = self.study.region
        # One step up and down shows how much the answer rests on the region.
        other = [
            f"{int((self._inside(one).mean(axis=(0, 1)) >= _LIKELY).sum())} beyond {one:.2g}"
            for one in (width / 2, 2 * width)
        ]
        lines = [
            f"{first}.",
            f"To matter is a slope beyond {width:g} for one sd, on the scale of the predictor; "
            f"with a probability of a half or more {len(likely)} do, {other[0]} and {other[1]}.",
            size_sentence(self.sizes(), "that matter"),
        ]
        share = self._draws().explained()
        if share is not None:
            lines.append(f"Explained share of the variance (R2): {self._size(share)}.")
        lines.append(
            "Not asked: what causes what. A candidate may stand for another that is not there, "
            "and candidates that go together share their probability."
        )
        return tuple(lines)

    @property
    def record(self) -> dict[str, Any]:
        """All of it as plain values."""
        found = self.inclusion()
        subsets = self.subsets
        return {
            **super().record,
            "region": [-self.study.region, self.study.region],
            "inclusion": {
                str(name): {
                    "prior": float(row["prior probability"]),
                    "posterior": float(row["posterior probability"]),
                    "error": float(row["its error"]),
                }
                for name, row in found.iterrows()
            },
            "best": [
                {"candidates": subsets.names(at), "probability": float(subsets.shares[at])}
                for at in range(min(10, len(subsets.shares)))
            ],
        }


def _all_words(share: float, before: float) -> str:
    if before >= 1:
        return "always in"
    return "in at every draw" if share >= 1 else "in at no draw"
