"""What further trials are likely to bring: the path of evidence, simulated if there is an effect.

Schönbrodt and Wagenmakers (2018), "Bayes factor design analysis", Psychonomic Bulletin and Review.
Truths are drawn from the posterior of the models with an effect, and of those without; every
simulated trial multiplies the likelihood on one fixed lattice of effect and spread.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np
import pandas as pd
from scipy.special import logsumexp

from millwright.checks import check_whole
from millwright.display import Shown, text_table
from millwright.errors import ArgumentError
from millwright.evidence.bayes_factor import factor_text
from millwright.sampling.streams import Stream, generator_of
from millwright.studies.checks import check_number
from millwright.studies.meta_evidence import inclusion_of, posterior_shares
from millwright.studies.meta_models import KINDS
from millwright.studies.meta_posterior import MetaPosterior, Trials, range_of, weighed_places

if TYPE_CHECKING:
    from millwright.studies.meta_findings import MetaFindings

__all__ = ["EFFECT", "NONE", "FurtherTrials", "Lattice", "factors_along", "further_trials"]

EFFECT = "an effect"
NONE = "no effect"
_QUANTILES = (0.05, 0.5, 0.95)
_EFFECTS, _SPREADS = np.polynomial.legendre.leggauss(10), np.polynomial.legendre.leggauss(8)
_EFFECT_PIECES = np.concatenate([[1e-6, 1e-3, 0.01], np.linspace(0.03, 0.97, 16)])
_SPREAD_PIECES = np.array([1e-4, 0.05, 0.2, 0.4, 0.6, 0.8, 0.95, 0.99, 0.9999])
_WRONG = 0.01


@dataclass(frozen=True, kw_only=True)
class FurtherTrials(Shown):
    """Log Bayes factors of an effect over none, as simulated trials come in.

    Attributes
    ----------
    log_factors
        By where the trials come from (`an effect`, `no effect`): shape (replications,
        trials + 1), the first without any further trial.
    errors
        Standard errors of the further trials, shape (trials,).
    threshold
        Bayes factor from which on evidence is called conclusive.
    """

    log_factors: Mapping[str, np.ndarray] = field(repr=False)
    errors: np.ndarray
    threshold: float

    def table(self) -> pd.DataFrame:
        """Return quantiles of the log Bayes factor and shares of paths, trial by trial.

        Returns
        -------
        One row a truth and number of further trials: 5 %, 50 % and 95 % quantiles of the log Bayes
        factor of an effect over none; shares of paths that are then conclusive for the truth,
        misleading, and open.
        """
        limit = np.log(self.threshold)
        rows = []
        for truth, logs in self.log_factors.items():
            toward = logs if truth == EFFECT else -logs
            ends = np.quantile(logs, _QUANTILES, axis=0)
            shares = (toward >= limit, toward <= -limit, np.abs(logs) < limit)
            for n in range(logs.shape[1]):
                rows.append((truth, n, *ends[:, n], *(one[:, n].mean() for one in shares)))
        columns = ["trials come from", "further trials"]
        columns += [f"log BF, {100 * q:g} %" for q in _QUANTILES]
        columns += ["conclusive", "misleading", "open"]
        return pd.DataFrame(rows, columns=columns).set_index(columns[:2])

    def __str__(self) -> str:
        table, count = self.table(), len(self.errors)
        names, cells = [], []
        for truth in self.log_factors:
            row = table.xs((truth, count)).to_numpy(float)
            names.append(f"if there is {truth}")
            factors = [factor_text(value) for value in row[:3]]
            cells.append([*factors, *(f"{100 * share:.0f} %" for share in row[3:])])
        heads = ["Bayes factor: 5 %", "median", "95 %", "conclusive", "misleading", "open"]
        columns = {head: [row[k] for row in cells] for k, head in enumerate(heads)}
        now = float(self.log_factors[EFFECT][0, 0])
        return "\n".join(
            [
                f"With {count} trials more (Bayes factor of an effect over none now: "
                f"{factor_text(now)}):",
                text_table(names, columns),
                f"Conclusive: {self.threshold:g} or more for what the trials come from; "
                "misleading: as much for the other. They come from the posterior, with these "
                "priors.",
            ]
        )


def further_trials(
    found: MetaFindings,
    errors: np.ndarray,
    replications: int,
    threshold: float,
    seed: int,
) -> FurtherTrials:
    """Simulate further trials; see `MetaFindings.further_trials`."""
    check_whole("replications", replications, 10)
    check_whole("seed", seed, 0)
    check_number("threshold", threshold)
    if threshold <= 1:
        raise ArgumentError(f"`threshold` must be above 1, not {threshold!r}.")
    generator = generator_of(seed, Stream.SIMULATION)
    lattices = {kind: Lattice(found, kind) for kind in KINDS}
    logs = {}
    for truth in (EFFECT, NONE):
        estimates = _simulated(found, truth == EFFECT, errors, replications, generator)
        evidences = {kind: one.along(estimates, errors) for kind, one in lattices.items()}
        logs[truth] = factors_along(evidences, found.study.model_priors)
    return FurtherTrials(log_factors=logs, errors=errors, threshold=float(threshold))


def factors_along(evidences: Mapping[str, np.ndarray], prior: Mapping[str, float]) -> np.ndarray:
    """Return log Bayes factors of an effect, of the shape of the evidences."""
    within = {kind for kind, of in KINDS.items() if of.effect}
    return np.asarray(inclusion_of(within, evidences, prior))


def _simulated(
    found: MetaFindings,
    effect: bool,
    errors: np.ndarray,
    replications: int,
    generator: np.random.Generator,
) -> np.ndarray:
    """Draw estimates of further trials, (replications, trials), from models with or without."""
    side = {
        kind: value for kind, value in found.log_evidences.items() if KINDS[kind].effect == effect
    }
    # Among themselves: beside the other side both may be too small for a number.
    shares = posterior_shares(side, found.study.model_priors)
    names = [kind for kind, share in shares.items() if share > 0]
    counts = generator.multinomial(replications, [shares[name] for name in names])
    parts = []
    for name, count in zip(names, counts, strict=True):
        drawn = found.study.exact[name].draws(generator, int(count)) if count else {}
        middle = drawn.get("effect", np.zeros(count))[:, None]
        wide = np.hypot(errors, drawn.get("spread", np.zeros(count))[:, None])
        parts.append(middle + wide * generator.standard_normal((count, len(errors))))
    return generator.permutation(np.concatenate(parts))


class Lattice:
    """A model on fixed places of effect and spread, with the trials that are there."""

    def __init__(self, found: MetaFindings, kind: str) -> None:
        exact = found.study.exact[kind]
        self.effects, effect_weights = _places(exact, found, "effect")
        self.spreads, spread_weights = _places(exact, found, "spread")
        self.logs = effect_weights[None, :] + spread_weights[:, None]
        self.logs = self.logs + exact.trials.log_likelihood(self.effects, self.spreads[:, None])
        # What the lattice misses of the evidence is the same along the path, to first order.
        self.shift = exact.log_evidence - float(logsumexp(self.logs))
        if not abs(self.shift) < _WRONG:
            raise ArgumentError(
                "Further trials cannot be simulated: the prior and these trials lie too far "
                "apart for a fixed lattice. State a prior that allows what the trials show."
            )

    def _of_trial(self, estimate: float, error: float) -> np.ndarray:
        one = Trials(np.array([estimate]), np.array([error]))
        return one.log_likelihood(self.effects, self.spreads[:, None])

    def along(self, estimates: np.ndarray, errors: np.ndarray) -> np.ndarray:
        """Return log evidences along paths of trials, (replications, trials + 1)."""
        result = np.empty((len(estimates), len(errors) + 1))
        for at, path in enumerate(estimates):
            logs = self.logs
            result[at, 0] = self._sum(logs)
            for n, (estimate, error) in enumerate(zip(path, errors, strict=True)):
                logs = logs + self._of_trial(estimate, error)
                result[at, n + 1] = self._sum(logs)
        return result + self.shift

    @staticmethod
    def _sum(logs: np.ndarray) -> float:
        top = logs.max()
        return float(top + np.log(np.exp(logs - top).sum()))


def _places(exact: MetaPosterior, found: MetaFindings, name: str) -> tuple[np.ndarray, np.ndarray]:
    """Return places of effect or spread, and logs of weight times prior; 0 where there is none."""
    prior = getattr(exact, name)
    if prior is None:
        return np.zeros(1), np.zeros(1)
    if name == "effect":
        # Both truths must find places: around the effect, and around none.
        others = [found.study.exact[kind].of_effect for kind in ("random", "common")]
        marks = np.concatenate([one.quantile(_EFFECT_PIECES) for one in others])
        sd = float(np.sqrt(Trials.given(exact.trials, np.zeros(1))[1][0]))
        marks = np.concatenate([marks, sd * np.arange(-6, 7), prior.quantiles(*_EFFECT_PIECES)])
        rule = _EFFECTS
    else:
        marks = np.concatenate(
            [exact.of_spread.quantile(_SPREAD_PIECES), prior.quantiles(*_SPREAD_PIECES), [0.0]]
        )
        rule = _SPREADS
    edges = np.unique(np.clip(marks, *range_of(prior)))
    return weighed_places(prior, edges, rule)
