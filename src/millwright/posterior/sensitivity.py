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

from millwright.diagnostics.smoothing import smoothed_log_weights
from millwright.diagnostics.verdict import Verdict
from millwright.display import Shown, text_table
from millwright.distributions import on_numpy
from millwright.draws.expressions import chosen_numbers
from millwright.draws.labelled_draws import Draws, Keep, thinned
from millwright.errors import ModelError
from millwright.fitting.fit import Fit
from millwright.modelling.density import log_density_terms
from millwright.modelling.simulate import positions_from
from millwright.modelling.specification import Part, rests_on_unknowns
from millwright.posterior.left_out import weights_without
from millwright.posterior.power_changes import POWERS, Change, change_of_fits, change_of_weights
from millwright.posterior.refits import fits_weighed
from millwright.sampling.progress import Listener

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["LIKELIHOOD", "NOTABLE", "PriorSensitivity", "prior_sensitivity"]

LIKELIHOOD = "likelihood"
NOTABLE = 0.05
_PULL = 0.3
"""Standard deviations by which prior and data must pull to be said to disagree."""
_HIGHEST_K = 0.5
_EVEN = 10.0
"""Weights of up to so many times the average are followed, whatever their tail looks like."""
_LEAST_SHARE = 0.1
_MOST_DRAWS = 4000
_MOST_NAMED = 4
_NOTHING = ("the priors do not", "no prior")


@dataclass(frozen=True, kw_only=True)
class PriorSensitivity(Shown):
    """The result of `Posterior.prior_sensitivity`.

    Attributes
    ----------
    changes
        For each quantity, how it answers to each prior and to `likelihood`.
    unknown
        Priors whose change could not be followed, with the reason.
    refitted
        What reweighting could not follow, so that the model was fitted again under both powers.
    """

    changes: Mapping[str, Mapping[str, Change]] = field(repr=False)
    unknown: Mapping[str, str]
    refitted: tuple[str, ...] = ()

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

    @property
    def line(self) -> str:
        """Which quantities rest on a prior, in one line."""
        words = {name: word for name, word in self.words.items() if not word.startswith(_NOTHING)}
        if not words:
            return f"Priors: no quantity rests on one by itself ({len(self.words)} looked at)."
        named = [f"`{name}`: {word}" for name, word in words.items()]
        more = f"; and {len(named) - _MOST_NAMED} more" if len(named) > _MOST_NAMED else ""
        return f"Priors: {'; '.join(named[:_MOST_NAMED])}{more}."

    def table(self) -> pd.DataFrame:
        """Return one row a quantity and prior (and the likelihood).

        Returns
        -------
        For each doubling of the power, read off powers of 0.8 and 1.25: change of the mean and
        of the ends of the central 95 % interval in posterior sds, the factor of the sd; and the
        distance between the distributions (0.05 or more is notable).
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
            "refitted": list(self.refitted),
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
            "How much the mean moves, in posterior sds, for each doubling of a prior's power (its "
            "strength), read off powers of 0.8 and 1.25:",
            text_table(names, columns),
            "Marked *: the whole distribution moves notably (distance 0.05 or more). A prior "
            "decides where the likelihood's own power hardly matters; prior and data disagree "
            f"where they pull the mean apart, each by {_PULL:g} sds or more.",
        ]
        if self.refitted:
            again = ", ".join(f"`{name}`" for name in self.refitted)
            lines.append(
                f"Fitted again under powers of 0.8 and 1.25, since reweighting could not follow: "
                f"{again} (these numbers have a Monte Carlo error of a few hundredths)."
            )
        lines += [
            f"The {LIKELIHOOD if name == LIKELIHOOD else f'prior of `{name}`'}: {why}"
            for name, why in self.unknown.items()
        ]
        return "\n".join(lines)


def _cell(change: Change | None) -> str:
    if change is None:
        return "?"
    return f"{change.mean:+.2f}{'*' if change.distance >= NOTABLE else ' '}"


def prior_sensitivity(
    fit: Fit, verdict: Verdict, names: Any, refit: bool, listener: Listener
) -> PriorSensitivity:
    """Follow changed powers of priors and likelihood; see the method of `Posterior`."""
    draws = fit.draws
    keep = thinned(draws, _MOST_DRAWS)
    logs = _log_densities(draws, keep)
    quantities = {
        name: value.reshape(-1)[keep] for name, value in chosen_numbers(draws, names).items()
    }
    changes: dict[str, dict[str, Change]] = {name: {} for name in quantities}
    unknown = {}
    for source, log in logs.items():
        weights = [_weights((power - 1) * log) for power in POWERS]
        bad = [why for _, why in weights if why]
        if bad:
            unknown[source] = bad[0]
            continue
        for name, value in quantities.items():
            if np.ptp(value) > 0:
                changes[name][source] = change_of_weights(value, [found for found, _ in weights])
    again = _by_fits(fit, verdict, names, list(unknown), listener) if refit and unknown else {}
    for source, found in again.items():
        del unknown[source]
        for name, change in found.items():
            changes[name][source] = change
    return PriorSensitivity(
        changes={name: _in_order(found, logs) for name, found in changes.items() if found},
        unknown=unknown,
        refitted=tuple(again),
    )


def _in_order(changes: dict[str, Change], sources: Mapping[str, Any]) -> dict[str, Change]:
    return {source: changes[source] for source in sources if source in changes}


def _by_fits(
    fit: Fit, verdict: Verdict, names: Any, sources: list[str], listener: Listener
) -> dict[str, dict[str, Change]]:
    """Return changes from fits under both powers, for each source whose fits can be relied on."""
    binding = fit.draws.binding
    program = binding.program
    outcomes = [part.name for part in program.outcomes]
    possible = [
        source
        for source in sources
        if source not in program.mapped and (source != LIKELIHOOD or not program.log_density_terms)
    ]
    if not possible or not verdict.sound or not fit.record.origin.of_posterior:
        return {}
    every = [source for source in possible if source != LIKELIHOOD]
    weighs = outcomes if LIKELIHOOD in possible else []
    weights = {}
    for source in possible:
        for power in POWERS:
            one = {name: np.array(power if name == source else 1.0) for name in every}
            for name, ones in weights_without(binding, weighs, {}).items():
                one[name] = ones * (power if source == LIKELIHOOD else 1.0)
            weights[source, power] = one
    fits = fits_weighed(fit, weights, listener).fits
    base = chosen_numbers(fit.draws, names)
    result: dict[str, dict[str, Change]] = {}
    for source in possible:
        if all((source, power) in fits for power in POWERS):
            others = [chosen_numbers(fits[source, power].draws, names) for power in POWERS]
            result[source] = {
                name: change_of_fits(value, [other[name] for other in others])
                for name, value in base.items()
                if np.ptp(value) > 0
            }
    return result


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
    uneven = weights.max() * len(weights) > _EVEN
    if (uneven and k > _HIGHEST_K) or share < _LEAST_SHARE:
        return weights, (
            f"reweighting cannot follow a change of its power (Pareto k {k:.2f}, up to "
            f"{_HIGHEST_K} is good; {100 * share:.0f} % of the draws count, "
            f"{100 * _LEAST_SHARE:.0f} % is needed). Fit under other priors of your own "
            "(under_priors, or a changed sheet)."
        )
    return weights, ""
