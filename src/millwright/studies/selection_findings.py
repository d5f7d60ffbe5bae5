"""What a variable selection found."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from millwright.checks import check_whole, is_among
from millwright.diagnostics.finding import Finding
from millwright.diagnostics.verdict import Verdict
from millwright.draws.intervals import kind_words
from millwright.draws.numbers import chance_text
from millwright.draws.prediction import Predictions
from millwright.draws.table_forms import Form, written
from millwright.errors import ArgumentError, nearest
from millwright.evidence.bayes_factor import factor_words
from millwright.studies.findings import Findings
from millwright.studies.reading import quoted, table_of
from millwright.studies.selection_checks import Trust, trusted
from millwright.studies.selection_densities import CoefficientDensity, coefficient_densities
from millwright.studies.selection_models import model_columns
from millwright.studies.selection_table import coefficient_table
from millwright.studies.subset_tables import (
    Subsets,
    direction_words,
    log_factors,
    pair_table,
    size_sentence,
)
from millwright.subsets.explore import Explored
from millwright.wording import visible

if TYPE_CHECKING:
    from millwright.studies.regression_study import RegressionStudy
    from millwright.studies.selection_study import SelectionStudy

__all__ = ["SelectionFindings"]

_DIGITS = 10_000
_LIKELY = 0.5
_MOST_NAMED = 12
_PAIRS = 10
_PERFECT = 1e-9


@dataclass(frozen=True, eq=False, kw_only=True)
class SelectionFindings(Findings):
    """The answer of a variable selection.

    Attributes
    ----------
    explored
        The subsets that were weighed.
    """

    study: SelectionStudy
    explored: Explored = field(repr=False)

    @property
    def _terms(self) -> tuple[str, ...]:
        return self.study.candidates.terms

    @cached_property
    def trust(self) -> Trust:
        """How far the walks over subsets can be relied on."""
        return trusted(self.explored, self._terms, self.study.walks)

    @property
    def verdict(self) -> Verdict:
        """The verdict on the search, which draws and tables rest on."""
        if self.explored.visits is None:
            return super().verdict
        count = int(np.prod(self.posterior.draws.shape))
        drawn = f"{count} independent draws over the subsets kept, by their weights."
        return Verdict(self._cautions(), (drawn,))

    @property
    def _stopped(self) -> bool:
        return any(finding.weight == "stop" for finding in self.trust.findings)

    def _cautions(self) -> tuple[Finding, ...]:
        return (*self._perfect(), *self.trust.findings)

    def _perfect(self) -> tuple[Finding, ...]:
        """Say where a subset leaves nothing unexplained."""
        if 1 - self.explored.explained[0] > _PERFECT:
            return ()
        return (
            Finding(
                "caution",
                "The most probable subset explains the outcome wholly: no noise is left, and "
                "probabilities rest on rounding.",
                "Look whether the outcome was computed from these candidates, and leave them out.",
                of_data=True,
            ),
        )

    @cached_property
    def order(self) -> list[str]:
        """The candidates by their inclusion probability, largest first."""
        return [self._terms[at] for at in np.argsort(-self.explored.included, kind="stable")]

    @property
    def subsets(self) -> Subsets:
        """The subsets that are kept."""
        found = self.explored
        return Subsets(terms=self._terms, kept=found.kept, shares=found.shares)

    def direction(self, term: str) -> float | None:
        """Return the probability of a coefficient above 0 where it is in; None of several."""
        known = self.study.candidates.columns_of
        if not is_among(term, known):
            raise ArgumentError(f"`{term}` is no candidate.{nearest(term, known)}")
        columns = known[term]
        if len(columns) > 1:
            return None
        density = self.densities[columns[0]]
        return density.above(0.0) if density.known else None

    @cached_property
    def densities(self) -> dict[str, CoefficientDensity]:
        """Each coefficient on the scale of the data, by column."""
        return coefficient_densities(self.study.candidates, self.study.g, self.explored)

    def inclusion(self, order: str = "size") -> pd.DataFrame:
        """Return how probable it is that each candidate is in the model.

        Parameters
        ----------
        order
            `size`: the most probable first. `data`: as the candidates were named.

        Returns
        -------
        Prior and posterior probability by the weights of all subsets met, the log Bayes factor
        of being in, and in words; of a walk also the share of its steps with the candidate, with
        its Monte Carlo error over walks and batches.

        Raises
        ------
        ArgumentError
            For another order.
        """
        if order not in ("size", "data"):
            raise ArgumentError(f"`order` is 'size' or 'data', not {order!r}.")
        prior, found = self.study.prior[0], self.explored.included
        logs = log_factors(found, prior)
        table = pd.DataFrame(
            {
                "prior probability": prior,
                "posterior probability": found,
                "log Bayes factor": logs,
                "in words": [factor_words(float(one), "it") for one in logs],
            },
            index=pd.Index(self._terms, name="candidate"),
        )
        if self.explored.visits is not None:
            table["by visits"] = self.trust.by_visits
            table["its error"] = self.trust.errors
        return table.loc[self.order] if order == "size" else table

    def coefficients(self, order: str = "size", count: int | None = None) -> pd.DataFrame:
        """Summarise the coefficients over all subsets.

        Parameters
        ----------
        order
            `size`: columns of the most probable candidates first. `data`: as they were named.
        count
            How many columns; by default all.

        Returns
        -------
        One row a column, for 1 more of it: probability of being in; mean, sd and median over all
        subsets, 0 where it is out; mean, sd and interval where it is in; and the probabilities of
        being above and below 0, which with that of 0 make 1.

        Raises
        ------
        ArgumentError
            For another order, or a count that is no whole number above 0.
        """
        if order not in ("size", "data"):
            raise ArgumentError(f"`order` is 'size' or 'data', not {order!r}.")
        if count is not None:
            check_whole("count", count, 1)
        made, found = self.study.candidates, self.explored
        unit = made.outcome_length / made.length
        mean = found.first * unit
        square = found.second * unit**2
        inside = np.repeat(found.included, np.diff(made.first))
        words = kind_words(self.kind, self.level)
        rows = {}
        names = made.names
        if order == "size":
            names = tuple(name for term in self.order for name in made.columns_of[term])
        places = {name: at for at, name in enumerate(made.names)}
        for name in names[:count]:
            at, density = places[name], self.densities[name]
            within = mean[at] / inside[at] if inside[at] > 0 else np.nan
            spread = square[at] / inside[at] - within**2 if inside[at] > 0 else np.nan
            low, high = density.interval(self.level, self.kind) if density.known else (np.nan,) * 2
            above = inside[at] * density.above(0.0) if density.known else 0.0
            rows[name] = {
                "probability in": inside[at],
                "mean, 0 if out": mean[at],
                "sd, 0 if out": float(np.sqrt(max(square[at] - mean[at] ** 2, 0.0))),
                "median, 0 if out": density.quantile(0.5),
                "mean if in": within,
                "sd if in": float(np.sqrt(max(spread, 0.0))),
                f"if in, {words}, from": low,
                f"if in, {words}, to": high,
                "probability above 0": above,
                "probability below 0": inside[at] - above if density.known else 0.0,
            }
        return pd.DataFrame(rows).T.rename_axis("column")

    def best_models(self, count: int = 10) -> pd.DataFrame:
        """Return the most probable subsets.

        Parameters
        ----------
        count
            How many.

        Returns
        -------
        One row a subset: its candidates, how many, R^2, posterior probability among all subsets
        met, and posterior odds of the first over it.

        Raises
        ------
        ArgumentError
            For a count that is no whole number above 0.
        """
        check_whole("count", count, 1)
        found = self.explored
        some = range(min(count, len(found.shares)))
        rows = [
            {
                "candidates": " + ".join(self.terms_of(at)) or "none",
                "number": int(found.kept[at].sum()),
                "R^2": float(found.explained[at]),
                "posterior probability": float(found.shares[at]),
                "odds of the first": float(np.exp(found.log[0] - found.log[at])),
            }
            for at in some
        ]
        return pd.DataFrame(rows, index=pd.Index([at + 1 for at in some], name="rank"))

    def terms_of(self, at: int) -> list[str]:
        """Return the candidates of a subset that is kept."""
        check_whole("at", at, 0, len(self.subsets.kept) - 1)
        return self.subsets.names(at)

    def sizes(self) -> pd.DataFrame:
        """Return prior and posterior probability of each number of candidates."""
        return pd.DataFrame(
            {
                "prior probability": self.study.prior[1],
                "posterior probability": self.explored.size,
            }
        ).rename_axis("candidates")

    def pairs(self, count: int = _PAIRS) -> pd.DataFrame:
        """Return pairs of candidates that come together, or in place of each other.

        Over the subsets that are kept.

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
        return pair_table(self.subsets, count)

    def predict(self, rows: Any = None) -> Predictions:
        """Draw outcomes for new rows, averaged over the subsets.

        Parameters
        ----------
        rows
            A DataFrame or mapping of the candidates' columns; by default the rows of the study.

        Returns
        -------
        Draws with `.table()` and `.score(truth)`.

        Raises
        ------
        DataError
            For columns that are missing, or labels that the rows of the study have not.
        """
        made = self.study.candidates
        if rows is None:
            return self.posterior.predict(self.study.data_of("average"))
        values = made.new_rows(table_of(rows)) * made.length + made.middle
        columns = dict(zip(model_columns(made), values.T, strict=True))
        return self.posterior.predict(pd.DataFrame(columns))

    def regression(self, *terms: str, **settings: Any) -> RegressionStudy:
        """Return an ordinary study of regression on some candidates.

        Parameters
        ----------
        terms
            Candidates; by default those of the most probable subset.
        settings
            Further arguments of `mw.studies.regression`.

        Raises
        ------
        ArgumentError
            For a name that is no candidate, or an outcome whose name a formula cannot hold.
        """
        from millwright.studies.regression_study import regression

        made = self.study.candidates
        chosen = list(terms) or self.terms_of(0)
        self.study.check_terms(chosen)
        right = " + ".join(made.written[one] for one in chosen) or "1"
        return regression(f"{quoted(made.outcome)} ~ {right}", made.frame, **settings)

    def density(self, column: str) -> CoefficientDensity:
        """Return the density of a coefficient: the chance of 0, and a mixture of t beside it.

        Raises
        ------
        ArgumentError
            For a column that is not there.
        """
        if not is_among(column, self.densities):
            raise ArgumentError(
                f"There is no column `{column}`.{nearest(str(column), self.densities)} There are: "
                f"{', '.join(self.densities)}."
            )
        return self.densities[column]

    def _numbers(self) -> dict[str, np.ndarray]:
        draws = self.posterior.draws
        slopes = draws.get("coefficient")
        made = self.study.candidates
        at = {name: place for place, name in enumerate(made.names)}
        named = [name for term in self.order for name in made.columns_of[term]]
        numbers = {f"coefficient of {name}": slopes[..., at[name]] for name in named}
        return {**numbers, "intercept": draws.get("intercept"), "noise": draws.get("noise")}

    def _one_sided(self) -> tuple[str, ...]:
        # A coefficient that may be out is above, below or exactly 0: one share would mislead.
        return ("noise", *(f"coefficient of {name}" for name in self.study.candidates.names))

    def summary(self, form: Form = "text") -> str:
        """Return the coefficients as text, the most probable candidates first; CSV has all.

        Parameters
        ----------
        form
            As for `Posterior.summary`.

        Returns
        -------
        The text.

        Raises
        ------
        ArgumentError
            For another form.
        """
        if form == "csv":
            return str(self.coefficients().to_csv())
        return written(coefficient_table(self), form)

    def _sentences(self) -> tuple[str, ...]:
        table = self.inclusion()
        likely = table[table["posterior probability"] >= _LIKELY]
        free = {self._terms[at] for at in self.study.space.free}
        named = [
            f"`{visible(str(name))}` {chance_text(float(row['posterior probability']), _DIGITS)}"
            f"{direction_words(self.direction(str(name)), _DIGITS)}"
            for name, row in likely.head(_MOST_NAMED).iterrows()
            if name in free
        ]
        more = len(likely) - len(likely.head(_MOST_NAMED))
        lines = [
            "In the model with a probability of a half or more: "
            + "; ".join(named)
            + (f"; and {more} more" if more else "")
            + "."
            if named
            else "No candidate is in the model with a probability of a half or more.",
            self._best_words(),
            size_sentence(self.sizes(), "in the model"),
            *self.trust.sentences,
            "Not asked: what causes what. A candidate may stand for another that is not there, "
            "and candidates that go together share their probability.",
        ]
        return tuple(lines)

    def _best_words(self) -> str:
        share = float(self.explored.shares[0])
        names = ", ".join(f"`{visible(one)}`" for one in self.terms_of(0)[:_MOST_NAMED]) or "none"
        extra = max(len(self.terms_of(0)) - _MOST_NAMED, 0)
        more = f" and {extra} more" if extra else ""
        return (
            f"Most probable subset: {names}{more}, with probability {chance_text(share, _DIGITS)} "
            f"among the {self.explored.met:,} weighed; R^2 {self.explored.explained[0]:.3f}."
        )

    @property
    def record(self) -> dict[str, Any]:
        """All of it as plain values."""
        found = self.inclusion()
        return {
            **super().record,
            "inclusion": {
                str(name): {
                    "prior": float(row["prior probability"]),
                    "posterior": float(row["posterior probability"]),
                }
                for name, row in found.iterrows()
            },
            "best": [
                {"candidates": self.terms_of(at), "probability": float(self.explored.shares[at])}
                for at in range(min(10, len(self.explored.shares)))
            ],
            "subsets_weighed": self.explored.met,
            "all_subsets": self.explored.whole,
        }
