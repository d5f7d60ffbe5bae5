"""Models of the same data, weighed by their evidences."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np
from scipy.special import logsumexp

from millwright.comparison.outcomes_alike import check_posteriors, check_same_outcomes
from millwright.display import Shown, text_table
from millwright.draws.numbers import fixed, share_text
from millwright.errors import ArgumentError, nearest
from millwright.evidence.bayes_factor import factor_sentence, factor_text
from millwright.evidence.evidence import STATED, Evidence, log_text
from millwright.posterior.posterior import Posterior

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["BayesFactors", "bayes_factors", "prior_weights", "weighed"]


@dataclass(frozen=True, kw_only=True)
class BayesFactors(Shown):
    """Models weighed by their evidences, the largest evidence first.

    Attributes
    ----------
    evidences
        By model.
    prior
        Prior probability of each model.
    """

    evidences: Mapping[str, Evidence] = field(repr=False)
    prior: Mapping[str, float]

    @property
    def posterior(self) -> dict[str, float]:
        """Posterior probability of each model, among these."""
        logs = np.array([self.evidences[n].log_value + np.log(self.prior[n]) for n in self.prior])
        shares = np.exp(logs - logsumexp(logs))
        return dict(zip(self.prior, map(float, shares), strict=True))

    @property
    def trusted(self) -> bool:
        """Whether every evidence is trusted."""
        return all(one.trusted for one in self.evidences.values())

    def log_factor(self, one: str, other: str) -> tuple[float, float]:
        """Return the log Bayes factor of one model over another, with its standard error.

        Raises
        ------
        ArgumentError
            For a model that is not there.
        """
        for name in (one, other):
            if name not in self.evidences:
                raise ArgumentError(
                    f"There is no model `{name}`.{nearest(str(name), self.evidences)}"
                )
        a, b = self.evidences[one], self.evidences[other]
        return a.log_value - b.log_value, float(np.hypot(a.standard_error, b.standard_error))

    def table(self) -> pd.DataFrame:
        """Return one row a model: log evidence, its error, prior and posterior probability."""
        import pandas as pd

        posterior = self.posterior
        return (
            pd.DataFrame(
                {
                    "log evidence": {n: e.log_value for n, e in self.evidences.items()},
                    "standard error": {n: e.standard_error for n, e in self.evidences.items()},
                    "prior probability": dict(self.prior),
                    "posterior probability": posterior,
                    "trusted": {n: e.trusted for n, e in self.evidences.items()},
                }
            )
            .loc[list(self.evidences)]
            .rename_axis("model")
        )

    def matrix(self) -> pd.DataFrame:
        """Return the log Bayes factor of the model of each row over the model of each column."""
        import pandas as pd

        logs = np.array([one.log_value for one in self.evidences.values()])
        names = pd.Index(list(self.evidences), name="over")
        return pd.DataFrame(logs[:, None] - logs, index=names.rename("model"), columns=names)

    @property
    def record(self) -> dict[str, Any]:
        """All of it as plain values."""
        posterior = self.posterior
        return {
            "models": {
                name: {
                    **one.record,
                    "prior_probability": self.prior[name],
                    "posterior_probability": posterior[name],
                }
                for name, one in self.evidences.items()
            },
            "log_bayes_factors": {
                name: {other: self.log_factor(name, other)[0] for other in self.evidences}
                for name in self.evidences
            },
            "trusted": self.trusted,
        }

    @property
    def sentence(self) -> str:
        """Which model the data favour over the next, and how much."""
        first, second = list(self.evidences)[:2]
        return factor_sentence(*self.log_factor(first, second), first, second)

    def __str__(self) -> str:
        posterior = self.posterior
        names = list(self.evidences)
        errors = [STATED * one.standard_error for one in self.evidences.values()]
        columns = {
            "log evidence": [
                log_text(one.log_value, one.standard_error) for one in self.evidences.values()
            ],
            "+-": [_error_text(error) for error in errors],
            "prior probability": [f"{self.prior[name]:.3g}" for name in names],
            "posterior probability": [share_text(posterior[name]) for name in names],
        }
        cells = {
            f"over {other}": [
                "-" if name == other else factor_text(self.log_factor(name, other)[0])
                for name in names
            ]
            for other in names
        }
        doubts = [
            f"The evidence of `{name}` is NOT TO BE TRUSTED: {one.reasons[0]}"
            for name, one in self.evidences.items()
            if not one.trusted
        ]
        doubts += [
            f"Whether all constants of `{name}` are in its evidence is not known: that was asked "
            "for (unnormalised)."
            for name, one in self.evidences.items()
            if not one.normalised
        ]
        return "\n".join(
            [
                self.sentence,
                text_table(names, columns),
                "",
                text_table(names, cells),
                "How many times as probable the data are under the model of a row as over the "
                "model of a column; above 1 favours the row. Posterior probabilities are among "
                f"these {len(names)} models only. +-: {STATED} standard errors.",
                *doubts,
            ]
        )


def bayes_factors(
    *,
    prior: Mapping[str, float] | None = None,
    second: bool = False,
    unnormalised: bool = False,
    **posteriors: Posterior,
) -> BayesFactors:
    """Weigh models of the same data by their evidences: `bayes_factors(steady=a, drifting=b)`.

    Parameters
    ----------
    prior
        Prior probability of each model; by default all equal.
    second, unnormalised
        As for `Posterior.evidence`.

    Returns
    -------
    Log evidences with errors, prior and posterior probabilities, the matrix of Bayes factors, and
    a sentence.

    Raises
    ------
    ArgumentError
        For fewer than two models, models of different outcomes, or prior probabilities that do
        not fit.
    ModelError, SamplingError
        If a model has no evidence.
    """
    return weighed(posteriors, prior, second, unnormalised)


def weighed(
    posteriors: Mapping[str, object],
    prior: Mapping[str, float] | None = None,
    second: bool = False,
    unnormalised: bool = False,
) -> BayesFactors:
    """Weigh models that are given as a mapping; see `bayes_factors`."""
    found = check_posteriors(posteriors)
    if len(found) < 2:
        raise ArgumentError("Give two or more posteriors by name: bayes_factors(one=a, other=b).")
    check_same_outcomes(found, "evidences")
    shares = prior_weights(list(found), prior, "prior")
    evidences = {
        name: posterior.evidence(second=second, unnormalised=unnormalised)
        for name, posterior in found.items()
    }
    order = sorted(found, key=lambda name: -evidences[name].log_value)
    return BayesFactors(
        evidences={name: evidences[name] for name in order},
        prior={name: shares[name] for name in order},
    )


def prior_weights(
    names: list[str], given: Mapping[str, float] | None, what: str
) -> dict[str, float]:
    """Return a probability for each model; equal ones by default.

    Raises
    ------
    ArgumentError
        If some are missing, not between 0 and 1, or do not sum to 1.
    """
    if given is None:
        return dict.fromkeys(names, 1 / len(names))
    if not isinstance(given, Mapping) or set(given) != set(names):
        raise ArgumentError(f"`{what}` needs a number for each of the models {', '.join(names)}.")
    try:
        shares = {name: float(given[name]) for name in names}
    except (TypeError, ValueError) as error:
        raise ArgumentError(f"`{what}` needs numbers: {error}.") from error
    if not all(0 <= share <= 1 for share in shares.values()):
        raise ArgumentError(f"`{what}`: every number must be between 0 and 1.")
    total = sum(shares.values())
    if abs(total - 1) > 1e-6:
        raise ArgumentError(f"`{what}` must sum to 1, not {total:g}.")
    if what == "prior" and min(shares.values()) == 0:
        raise ArgumentError("`prior`: a model of prior probability 0 cannot be weighed.")
    return shares


def _error_text(error: float) -> str:
    if not np.isfinite(error):
        return "?"
    return "< 0.001" if error < 0.001 else fixed(error, 3 if error < 0.1 else 2)
