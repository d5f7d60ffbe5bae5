"""What several models say together, each with its weight."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Any, Literal

import numpy as np

from millwright.checks import check_whole
from millwright.comparison.bayes_factors import prior_weights, weighed
from millwright.comparison.mixing import mixed
from millwright.comparison.outcomes_alike import check_posteriors, check_same_outcomes
from millwright.comparison.weights import bootstrap_weights, stacking_weights
from millwright.display import Shown, text_table
from millwright.draws.intervals import IntervalKind, check_kind, check_level
from millwright.draws.numbers import share_text
from millwright.draws.statements import Probability
from millwright.draws.supports import never_negative
from millwright.draws.table import Table, make_table
from millwright.errors import ArgumentError, nearest
from millwright.evidence.bayes_factor import factor_text
from millwright.posterior.posterior import NewLabels, Posterior
from millwright.sampling.streams import Stream, generator_of

if TYPE_CHECKING:
    import pandas as pd

    from millwright.comparison.averaged_predictions import AveragedPredictions

__all__ = ["Averaged", "average"]

Weights = Literal["evidence", "stacking", "elpd"]
_WAYS = {
    "evidence": "posterior probabilities of the models, from their evidences",
    "stacking": "stacking: the best leave-one-out log score of the averaged prediction",
    "elpd": "exp(elpd) over Bayesian bootstraps of the rows",
    "stated": "as stated",
}


@dataclass(frozen=True, kw_only=True)
class Averaged(Shown):
    """Several models of the same data, averaged.

    Attributes
    ----------
    posteriors
        The models.
    weights
        Weight of each; they sum to 1.
    prior
        Prior probability of each, where weights are posterior probabilities.
    way
        Where the weights come from, in words.
    zero
        Quantities that mean zero in models that lack them.
    reasons
        What speaks against the weights, in sentences.
    draws
        Draws of each shared quantity, shape (1, draws): of each model a share by its weight.
    """

    posteriors: Mapping[str, Posterior] = field(repr=False)
    weights: Mapping[str, float]
    prior: Mapping[str, float] | None
    way: str
    zero: tuple[str, ...]
    reasons: tuple[str, ...]
    draws: Mapping[str, np.ndarray] = field(repr=False)

    @cached_property
    def _one_sided(self) -> list[str]:
        sided = [never_negative(one.draws) for one in self.posteriors.values()]
        return [name for name in self.draws if all(name in names for names in sided)]

    def _table(self, level: float, kind: IntervalKind) -> Table:
        return make_table(
            self.draws, check_level(level), check_kind(kind), one_sided=self._one_sided
        )

    def table(self, level: float = 0.95, kind: IntervalKind = "central") -> pd.DataFrame:
        """Return one row a shared quantity: mean, sd, median, interval, probability above 0.

        Raises
        ------
        ArgumentError
            For a level outside (0, 1) or another kind.
        """
        import pandas as pd

        table = self._table(level, kind)
        columns = {
            name: values
            for name, values in table.columns.items()
            if name not in ("effective draws", "R-hat")
        }
        return pd.DataFrame(columns, index=pd.Index(table.names, name="quantity"))

    def probability(self, statement: str) -> Probability:
        """Return the averaged probability of a statement that every model can answer.

        Raises
        ------
        ArgumentError
            If it is not a comparison, or has an answer for each label.
        LanguageError, ModelError
            If a model cannot answer it.
        """
        value, variance, draws = 0.0, 0.0, 0
        for name, posterior in self.posteriors.items():
            if self.weights[name] == 0:
                continue
            found = posterior.probability(statement)
            if not isinstance(found, Probability):
                raise ArgumentError(
                    f"`{statement}` has an answer for each label: name one, or write all(...) or "
                    "any(...) around it."
                )
            value += self.weights[name] * found.value
            variance += (self.weights[name] * found.monte_carlo_error) ** 2
            draws += found.draws
        return Probability(
            statement=statement,
            value=value,
            monte_carlo_error=float(np.sqrt(variance)),
            draws=draws,
        )

    def predict(
        self,
        data: Any = None,
        rows: int | None = None,
        new_labels: NewLabels = "refuse",
        draws: int = 8000,
    ) -> AveragedPredictions:
        """Draw outcomes for new rows from all models, of each a share by its weight.

        Parameters
        ----------
        data, rows, new_labels
            As for `Posterior.predict`, of every model.
        draws
            How many averaged draws to make.

        Returns
        -------
        Averaged draws of each outcome, with `.table()` and `.score(truth)`.

        Raises
        ------
        ArgumentError
            If the models know different labels of an outcome.
        DataError
            If a column is missing, or has labels that a fit has not seen.
        """
        from millwright.comparison.averaged_predictions import averaged_predictions

        check_whole("draws", draws, 100)
        found = {
            name: one.predict(data, rows, new_labels)
            for name, one in self.posteriors.items()
            if self.weights[name] > 0
        }
        return averaged_predictions(found, {name: self.weights[name] for name in found}, draws)

    def inclusion(self) -> pd.DataFrame:
        """Return how probable it is that a term belongs in the model, one row a term.

        A term is an unknown that some models have and others lack.

        Returns
        -------
        Prior and posterior probability of the models that have it, and the logarithm of the Bayes
        factor of having it.

        Raises
        ------
        ArgumentError
            If weights are not posterior probabilities, or all models have the same unknowns.
        """
        import pandas as pd

        if self.prior is None:
            raise ArgumentError(
                "Only posterior probabilities of models say how probable a term is: average with "
                "weights='evidence'."
            )
        having = {
            name: {part.name for part in one.draws.binding.program.unknowns}
            for name, one in self.posteriors.items()
        }
        terms = dict.fromkeys(n for names in having.values() for n in sorted(names))
        rows = {}
        for term in terms:
            within = [name for name, names in having.items() if term in names]
            if len(within) == len(having):
                continue
            prior = sum(self.prior[name] for name in within)
            posterior = sum(self.weights[name] for name in within)
            with np.errstate(divide="ignore"):
                log = np.log(posterior) - np.log(max(1 - posterior, 0.0))
                log -= np.log(prior) - np.log(1 - prior)
            rows[term] = {
                "prior probability": prior,
                "posterior probability": posterior,
                "log Bayes factor": float(log),
            }
        if not rows:
            raise ArgumentError(
                "All these models have the same unknowns: there is no term to ask."
            )
        return pd.DataFrame(rows).T.rename_axis("term")

    @property
    def record(self) -> dict[str, Any]:
        """Weights and what speaks against them, as plain values."""
        return {
            "weights": dict(self.weights),
            "prior": None if self.prior is None else dict(self.prior),
            "way": self.way,
            "zero": list(self.zero),
            "reasons": list(self.reasons),
        }

    def __str__(self) -> str:
        names = list(self.weights)
        columns = {"weight": [share_text(self.weights[name]) for name in names]}
        if self.prior is not None:
            columns = {"prior probability": [f"{self.prior[n]:.3g}" for n in names], **columns}
        table = self._table(0.95, "central")
        heading = next(c for c in table.shown if "interval" in c)
        cells = {c: table.shown[c] for c in ("mean", "sd", "median", heading, "P(above 0)")}
        lines = [f"{len(names)} models averaged; weights: {self.way}.", text_table(names, columns)]
        lines += ["", text_table(list(table.names), cells)]
        if self.zero:
            lines.append(f"Taken as 0 in models that lack it: {', '.join(self.zero)}.")
        if self.prior is not None:
            lines += self._inclusion_lines()
        return "\n".join([*lines, *self.reasons])

    def _inclusion_lines(self) -> list[str]:
        try:
            found = self.inclusion()
        except ArgumentError:
            return []
        return [
            f"`{term}` belongs in the model with probability "
            f"{share_text(row['posterior probability'])} "
            f"(before the data {row['prior probability']:.3g}): Bayes factor "
            f"{factor_text(float(row['log Bayes factor']))}."
            for term, row in found.iterrows()
        ]


def average(
    posteriors: Mapping[str, Posterior],
    *,
    weights: Weights | Mapping[str, float] = "evidence",
    prior: Mapping[str, float] | None = None,
    zero: Sequence[str] = (),
    draws: int = 8000,
    seed: int = 0,
) -> Averaged:
    """Average what models of the same data say of the quantities that they share.

    Parameters
    ----------
    posteriors
        Two or more, by name.
    weights
        `evidence`: posterior probabilities of the models. `stacking`: the weights whose averaged
        prediction does best for rows left out (Yao et al. 2018). `elpd`: in proportion to
        exp(elpd), over Bayesian bootstraps of the rows. Or a number for each model.
    prior
        Prior probabilities of the models, for `evidence`; by default equal.
    zero
        Quantities that mean zero in models that lack them, such as a slope.
    draws
        How many averaged draws to make.
    seed
        Any whole number from 0.

    Returns
    -------
    Weights, averaged draws with table and statements, and how probable each term is.

    Raises
    ------
    ArgumentError
        For fewer than two models, models of different outcomes, weights that do not fit, or
        models that share no quantity.
    ModelError, SamplingError
        If a model has no evidence.
    """
    if not isinstance(posteriors, Mapping):
        raise ArgumentError("Give posteriors by name: average({'fixed': a, 'random': b}).")
    found = check_posteriors(posteriors)
    if len(found) < 2:
        raise ArgumentError("Give two or more posteriors: average({'fixed': a, 'random': b}).")
    check_whole("draws", draws, 100)
    check_whole("seed", seed, 0)
    check_same_outcomes(found, "averages")
    shares, way, before, reasons = _weighed(found, weights, prior, seed)
    reasons += [
        f"The verdict on `{name}`: {one.verdict.headline}"
        for name, one in found.items()
        if not one.verdict.good
    ]
    mixed = _mixed(found, shares, tuple(zero), draws)
    return Averaged(
        posteriors=found,
        weights=shares,
        prior=before,
        way=way,
        zero=tuple(zero),
        reasons=tuple(reasons),
        draws=mixed,
    )


def _weighed(
    found: Mapping[str, Posterior],
    weights: Weights | Mapping[str, float],
    prior: Mapping[str, float] | None,
    seed: int,
) -> tuple[dict[str, float], str, dict[str, float] | None, list[str]]:
    """Return weights, where they come from, prior probabilities, and what speaks against them."""
    names = list(found)
    if isinstance(weights, Mapping):
        return prior_weights(names, weights, "weights"), _WAYS["stated"], None, []
    if weights not in ("evidence", "stacking", "elpd"):
        raise ArgumentError(
            f"`weights` must be 'evidence', 'stacking', 'elpd' or a number for each model, not "
            f"{weights!r}."
        )
    if weights == "evidence":
        made = weighed(found, prior)
        posterior = made.posterior
        doubts = [
            f"The evidence of `{name}` is NOT TO BE TRUSTED: {one.reasons[0]}"
            for name, one in made.evidences.items()
            if not one.trusted
        ]
        before = {name: made.prior[name] for name in names}
        return {name: posterior[name] for name in names}, _WAYS[weights], before, doubts
    if prior is not None:
        raise ArgumentError("`prior` goes with weights='evidence'.")
    results = {name: one.leave_one_out() for name, one in found.items()}
    by_row = np.column_stack([one.elpd_by_row for one in results.values()])
    if weights == "stacking":
        made_weights = stacking_weights(by_row)
    else:
        made_weights = bootstrap_weights(by_row, generator_of(seed, Stream.WEIGHTS))
    doubts = [
        f"`{name}`: the leave-one-out estimate is unreliable for {len(one.unreliable)} rows, so "
        "the weights are too."
        for name, one in results.items()
        if one.unreliable
    ]
    return dict(zip(names, map(float, made_weights), strict=True)), _WAYS[weights], None, doubts


def _mixed(
    found: Mapping[str, Posterior], weights: Mapping[str, float], zero: tuple[str, ...], draws: int
) -> dict[str, np.ndarray]:
    """Return draws of the quantities that all models have, or that are said to be zero."""
    singles = {name: one.draws.single() for name, one in found.items()}
    every = dict.fromkeys(name for single in singles.values() for name in single)
    bases = {name.split("[")[0] for name in every}
    for name in zero:
        if name not in bases:
            raise ArgumentError(
                f"`zero` names `{name}`, which no model has.{nearest(name, bases)}"
            )
    shared = [
        name
        for name in every
        if name.split("[")[0] in zero or all(name in single for single in singles.values())
    ]
    if not shared:
        raise ArgumentError(
            "These models have no quantity in common. Name in `zero` those that mean 0 in models "
            "that lack them."
        )
    shares = list(weights.values())
    return {
        name: mixed(
            [single.get(name, np.zeros(1)).reshape(-1) for single in singles.values()],
            shares,
            draws,
        )[None]
        for name in shared
    }
