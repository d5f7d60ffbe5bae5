"""Which conclusions rest on which prior: posteriors under priors of another strength.

Kallioinen, Paananen, Bürkner and Vehtari (2023), "Detecting and diagnosing prior and likelihood
sensitivity with power-scaling", Statistics and Computing 34: a prior (or the likelihood) is raised
to a power near 1, draws are reweighted by Pareto-smoothed importance sampling, and the change is
measured by a distance between cumulative distributions (Nguyen and Vreeken 2015).
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np

from millwright.accuracy.smoothing import smoothed_log_weights
from millwright.display import Shown, text_table
from millwright.distributions import on_numpy
from millwright.draws.expressions import chosen_numbers
from millwright.draws.labelled_draws import Draws, Keep, thinned
from millwright.errors import ModelError
from millwright.modelling.density import log_density_terms
from millwright.modelling.simulate import positions_from
from millwright.modelling.specification import Part, rests_on_unknowns
from millwright.wording import either

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["LIKELIHOOD", "NOTABLE", "PriorSensitivity", "prior_sensitivity"]

LIKELIHOOD = "likelihood"
_POWERS = (0.8, 1.25)
NOTABLE = 0.05
_PULL = 0.3
"""Standard deviations by which prior and data must pull to be said to disagree."""
_HIGHEST_K = 0.5
_LEAST_SHARE = 0.1
_MOST_DRAWS = 4000
_DOUBLINGS = float(np.log2(_POWERS[1] / _POWERS[0]))


@dataclass(frozen=True, kw_only=True)
class Change:
    """How one quantity answers to the power of one prior, or of the likelihood.

    Attributes
    ----------
    mean
        Change of the posterior mean, in posterior sds, when the power is doubled.
    sd
        Factor by which the sd changes then.
    low, high
        Change of the ends of the central 95 % interval then, in posterior sds.
    distance
        Distance between the cumulative distributions for each doubling; 0.05 is notable.
    """

    mean: float
    sd: float
    low: float
    high: float
    distance: float


@dataclass(frozen=True, kw_only=True)
class PriorSensitivity(Shown):
    """The result of `Posterior.prior_sensitivity`.

    Attributes
    ----------
    changes
        For each quantity, how it answers to each prior and to `likelihood`.
    unknown
        Priors whose change reweighting cannot follow, with the reason.
    """

    changes: Mapping[str, Mapping[str, Change]] = field(repr=False)
    unknown: Mapping[str, str]

    @property
    def words(self) -> dict[str, str]:
        """What decides each quantity: `the prior decides` with the prior's name, and so on."""
        return {name: self._word(name) for name in self.changes}

    def _word(self, name: str) -> str:
        changes = self.changes[name]
        priors = {
            prior: change
            for prior, change in changes.items()
            if prior != LIKELIHOOD and change.distance >= NOTABLE
        }
        if not priors:
            return "the priors do not matter" if not self.unknown else "no prior seen to matter"
        worst = max(priors, key=lambda prior: priors[prior].distance)
        data = changes.get(LIKELIHOOD)
        if data is None:
            return f"the prior of {worst} matters"
        if data.distance < NOTABLE:
            return f"the prior of {worst} decides"
        pulls = priors[worst].mean, data.mean
        if pulls[0] * pulls[1] < 0 and min(map(abs, pulls)) >= _PULL:
            return f"the prior of {worst} and the data disagree"
        return f"the prior of {worst} counts beside the data"

    def table(self) -> pd.DataFrame:
        """Return one row a quantity and prior (and the likelihood).

        Returns
        -------
        When the power is doubled: change of the mean and of the ends of the central 95 % interval
        in posterior sds, the factor of the sd; and the distance between the distributions (0.05
        or more is notable).
        """
        import pandas as pd

        rows = {
            (name, prior): {
                "mean, in sds": change.mean,
                "sd, factor": change.sd,
                "95 % interval from, in sds": change.low,
                "95 % interval to, in sds": change.high,
                "distance": change.distance,
            }
            for name, changes in self.changes.items()
            for prior, change in changes.items()
        }
        frame = pd.DataFrame(rows).T
        frame.index.names = ["quantity", "power of"]
        return frame

    @property
    def record(self) -> dict[str, Any]:
        """All of it as plain values."""
        return {
            "words": self.words,
            "changes": {
                name: {prior: vars(change) for prior, change in changes.items()}
                for name, changes in self.changes.items()
            },
            "unknown": dict(self.unknown),
        }

    def __str__(self) -> str:
        names = list(self.changes)
        sources = list(dict.fromkeys(p for changes in self.changes.values() for p in changes))
        columns = {
            f"{source}": [_cell(self.changes[name].get(source)) for name in names]
            for source in sources
        }
        columns["in words"] = [self.words[name] for name in names]
        lines = [
            "How much the mean moves, in posterior sds, when a prior's power (its strength) is "
            "doubled:",
            text_table(names, columns),
            "Marked *: the whole distribution moves notably (distance 0.05 or more). A prior "
            "decides where the likelihood's own power hardly matters; prior and data disagree "
            f"where they pull the mean apart, each by {_PULL:g} sds or more.",
        ]
        lines += [f"The prior of `{name}`: {why}" for name, why in self.unknown.items()]
        return "\n".join(lines)


def _cell(change: Change | None) -> str:
    if change is None:
        return "?"
    return f"{change.mean:+.2f}{'*' if change.distance >= NOTABLE else ' '}"


def prior_sensitivity(draws: Draws, names: Any = None) -> PriorSensitivity:
    """Reweight draws to priors and a likelihood of other powers; see the method of `Posterior`."""
    keep = thinned(draws, _MOST_DRAWS)
    logs = _log_densities(draws, keep)
    quantities = {
        name: value.reshape(-1)[keep] for name, value in chosen_numbers(draws, names).items()
    }
    changes: dict[str, dict[str, Change]] = {name: {} for name in quantities}
    unknown = {}
    for source, log in logs.items():
        weights = [_weights((power - 1) * log) for power in _POWERS]
        bad = [why for _, why in weights if why]
        if bad:
            unknown[source] = bad[0]
            continue
        for name, value in quantities.items():
            if np.ptp(value) > 0:
                changes[name][source] = _change(value, [found for found, _ in weights])
    return PriorSensitivity(
        changes={name: found for name, found in changes.items() if found}, unknown=unknown
    )


def _log_densities(draws: Draws, keep: Keep) -> dict[str, np.ndarray]:
    """Return the log density of each top-level prior, on its natural scale, and of the likelihood.

    Raises
    ------
    ModelError
        If there is no prior to scale.
    """
    program = draws.binding.program
    evaluation = draws.evaluation(keep=keep)
    positions = positions_from(draws.binding, evaluation)
    with np.errstate(all="ignore"):
        terms = log_density_terms(
            on_numpy, program, draws.binding.arguments, positions, jacobian=False
        )
    top = [part.name for part in program.unknowns if _scalable(part, draws)]
    if not top:
        raise ModelError(
            "No prior of this model can be scaled: they are improper, or rest on other unknowns."
        )
    found = {name: np.asarray(terms[name], dtype=float) for name in top}
    rest = [p.name for p in (*program.outcomes, *program.log_density_terms)]
    likelihood = np.sum([np.broadcast_to(terms[n], len(positions)) for n in rest], axis=0)
    return {**found, LIKELIHOOD: np.asarray(likelihood, dtype=float)} if rest else found


def _scalable(part: Part, draws: Draws) -> bool:
    """Whether a prior stands at the top: proper, and resting on no other unknown."""
    by_name = draws.binding.program.by_name
    inner = any(rests_on_unknowns(node, by_name) for _, node in part.arguments)
    return not part.improper and not inner and not part.rows_of


def _weights(log: np.ndarray) -> tuple[np.ndarray, str]:
    """Return normalised weights, and why they cannot be used, if so."""
    if not np.isfinite(log).all():
        return np.zeros(0), "its density is not finite at some draws."
    logs, k = smoothed_log_weights(log)
    weights = np.exp(logs - logs.max())
    weights /= weights.sum()
    share = 1 / (len(weights) * float(np.sum(weights**2)))
    if k > _HIGHEST_K or share < _LEAST_SHARE:
        advice = either("under_priors({...})", "a fit of the changed sheet")
        return weights, (
            f"reweighting cannot follow a change of its power (Pareto k {k:.2f}, up to "
            f"{_HIGHEST_K} is good; {100 * share:.0f} % of the draws count, "
            f"{100 * _LEAST_SHARE:.0f} % is needed). Try other priors by {advice}."
        )
    return weights, ""


def _change(value: np.ndarray, weights: list[np.ndarray]) -> Change:
    order = np.argsort(value)
    x = value[order]
    plain = np.full(len(x), 1 / len(x))
    moments, ends, distances = [], [], []
    for weight in weights:
        w = weight[order]
        mean = float(w @ x)
        moments.append((mean, float(np.sqrt(w @ (x - mean) ** 2))))
        below = np.cumsum(w) - 0.5 * w
        ends.append([float(np.interp(q, below, x)) for q in (0.025, 0.975)])
        distances.append(max(_distance(x, plain, w), _distance(-x[::-1], plain, w[::-1])))
    (mean_low, sd_low), (mean_high, sd_high) = moments
    sd = float(x.std())
    low, high = (np.array(ends[1]) - np.array(ends[0])) / sd / _DOUBLINGS
    return Change(
        mean=(mean_high - mean_low) / sd / _DOUBLINGS,
        sd=float((sd_high / sd_low) ** (1 / _DOUBLINGS)),
        low=float(low),
        high=float(high),
        distance=float(np.sum(distances) / _DOUBLINGS),
    )


def _distance(x: np.ndarray, p: np.ndarray, q: np.ndarray) -> float:
    """Return the square root of the cumulative Jensen-Shannon divergence of weighted samples.

    Normalised by its largest value, so that it does not depend on units.
    """
    widths = np.diff(x)
    first, second = np.cumsum(p)[:-1], np.cumsum(q)[:-1]
    middle = 0.5 * (first + second)
    with np.errstate(divide="ignore", invalid="ignore"):
        a = np.where(first > 0, first * np.log2(first / middle), 0.0)
        b = np.where(second > 0, second * np.log2(second / middle), 0.0)
    bound = float(widths @ (first + second))
    divergence = float(widths @ (a + b))
    return float(np.sqrt(max(divergence, 0.0) / bound)) if bound > 0 else 0.0
