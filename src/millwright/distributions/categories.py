"""Distributions of labels: unordered ones, and grades cut from a continuous scale."""

from __future__ import annotations

from abc import abstractmethod

from millwright.distributions.family import Parameter, Parameters
from millwright.distributions.mathematics import Array, Mathematics, log_diff_exp, softplus
from millwright.distributions.vector import LabelFamily

__all__ = ["Categorical", "CumulativeLogit", "CumulativeProbit", "log_shares", "share_parameters"]


def log_shares(m: Mathematics, p: Parameters) -> Array:
    """Return log probabilities over the last axis, from `probabilities` or `log_odds`."""
    if "log_odds" in p:
        scores = m.asarray(p["log_odds"])
        return scores - m.logsumexp(scores, axis=-1, keepdims=True)
    weights = m.asarray(p["probabilities"])
    # The gradient at a weight of zero is zero, not 0 times infinity.
    some = weights > 0
    logs = m.where(some, m.log(m.where(some, weights, 1.0)), -m.inf)
    return logs - m.log(m.sum(weights, axis=-1, keepdims=True))


def share_parameters(own_labels: bool) -> tuple[Parameter, Parameter]:
    """Return the parameters that give chances of labels."""
    return (
        Parameter(
            "probabilities",
            "weight",
            "chance of each label; divided by their sum",
            rank=1,
            own_labels=own_labels,
        ),
        Parameter(
            "log_odds",
            "real",
            "score of each label; chances go as exp(score)",
            instead_of="probabilities",
            rank=1,
            own_labels=own_labels,
        ),
    )


class Categorical(LabelFamily):
    """One of several labels without an order."""

    name = "categorical"
    summary = "one of several labels without an order"
    parameters = share_parameters(own_labels=True)

    def log_probabilities(self, m: Mathematics, p: Parameters) -> Array:
        return log_shares(m, p)


class _Cumulative(LabelFamily):
    """Labels in order: a latent value around `location` falls between two of the cuts.

    P(label <= k) = F(cut_k - location) (McCullagh 1980, "Regression models for ordinal data",
    Journal of the Royal Statistical Society B 42(2), eq. 1.2).
    """

    parameters = (
        Parameter("location", "real", "centre of the latent scale", positional=True),
        Parameter(
            "cuts",
            "real",
            "cut points between neighbouring labels, rising; one fewer than labels",
            rank=1,
            own_labels=True,
        ),
    )

    @abstractmethod
    def _log_tails(self, m: Mathematics, z: Array) -> tuple[Array, Array]:
        """Return log P(latent value - location <= z) and log P(it is above)."""

    def log_probabilities(self, m: Mathematics, p: Parameters) -> Array:
        z = m.asarray(p["cuts"]) - m.asarray(p["location"])[..., None]
        below, above = self._log_tails(m, z)
        lower, upper = z[..., :-1], z[..., 1:]
        # The difference of two distribution functions, on the side where both are small.
        right = lower + upper > 0
        middle = m.where(
            right,
            log_diff_exp(m, above[..., :-1], above[..., 1:]),
            log_diff_exp(m, below[..., 1:], below[..., :-1]),
        )
        return m.concatenate([below[..., :1], middle, above[..., -1:]], axis=-1)


class CumulativeLogit(_Cumulative):
    """Ordered labels with a logistic latent scale (proportional odds)."""

    name = "cumulative_logit"
    summary = "one of several labels in order: a logistic latent scale cut at points"

    def _log_tails(self, m: Mathematics, z: Array) -> tuple[Array, Array]:
        return -softplus(m, -z), -softplus(m, z)


class CumulativeProbit(_Cumulative):
    """Ordered labels with a normal latent scale."""

    name = "cumulative_probit"
    summary = "one of several labels in order: a normal latent scale cut at points"

    def _log_tails(self, m: Mathematics, z: Array) -> tuple[Array, Array]:
        below, above = m.log_ndtr_tails(z)
        return below, above
