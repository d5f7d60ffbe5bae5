"""What models of publication bias say of the trials, weighed and averaged."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd
from scipy.special import logsumexp

from millwright.display import Shown, text_table
from millwright.draws.intervals import IntervalKind, interval, kind_words
from millwright.draws.numbers import chance_text, share_text
from millwright.errors import ArgumentError
from millwright.models.averaged import averaged_posterior
from millwright.models.model import Model
from millwright.posterior.posterior import Posterior
from millwright.sampling.streams import Stream, generator_of
from millwright.studies.grid_density import GridDensity
from millwright.studies.meta_bias import (
    Selection,
    log_on_grid,
)
from millwright.studies.meta_bias_draws import BiasJoint
from millwright.studies.meta_bias_weighing import (
    NO_BIAS,
    biases_of,
    check_effects,
    density_of,
    grid_of,
    joint_of,
    log_of,
    models_of,
    prior_of,
    spreads_of,
)
from millwright.studies.meta_evidence import (
    Inclusion,
    inclusion,
    inclusion_table,
    posterior_shares,
    weighed_words,
)
from millwright.studies.meta_models import KINDS
from millwright.studies.meta_posterior import Trials
from millwright.studies.sentences import bulleted, middle_words

if TYPE_CHECKING:
    from millwright.studies.meta_findings import MetaFindings

__all__ = ["PublicationBias", "publication_bias"]

_DIGITS = 10_000
_PLACES = 12


@dataclass(frozen=True, kw_only=True)
class PublicationBias(Shown):
    """Models with and without bias, weighed and averaged.

    Attributes
    ----------
    direction
        The direction of results that were hoped for.
    models
        Every model that has an unknown, by name, as it could be fitted.
    log_evidences, prior, shares
        By kind and bias: log evidence, prior and posterior probability.
    corrected
        The effect where there is one, averaged over all models.
    plain
        The same over the models without bias.
    by_bias
        The same over the models of each bias.
    trials
        The trials.
    joints
        What draws of each model are taken from.
    shape, seed
        Of the draws.
    level, kind
        Of the intervals.
    """

    direction: str
    models: Mapping[str, Model] = field(repr=False)
    log_evidences: Mapping[tuple[str, str], float] = field(repr=False)
    prior: Mapping[tuple[str, str], float] = field(repr=False)
    shares: Mapping[tuple[str, str], float] = field(repr=False)
    corrected: GridDensity = field(repr=False)
    plain: GridDensity = field(repr=False)
    by_bias: Mapping[str, GridDensity] = field(repr=False)
    trials: Trials = field(repr=False)
    joints: Mapping[tuple[str, str], BiasJoint] = field(repr=False)
    shape: tuple[int, int] = field(repr=False)
    seed: int = field(repr=False)
    level: float
    kind: IntervalKind

    def model_table(self) -> pd.DataFrame:
        """Return log evidence, prior and posterior probability of every model."""
        rows = {
            key: (self.log_evidences[key], self.prior[key], self.shares[key])
            for key in self.log_evidences
        }
        columns = ["log evidence", "prior probability", "posterior probability"]
        frame = pd.DataFrame.from_dict(rows, orient="index", columns=columns)
        frame.index = pd.MultiIndex.from_tuples(list(rows), names=["model", "bias"])
        return frame

    def inclusion(self) -> pd.DataFrame:
        """Weigh effect, spread and bias against none of each, averaged over all models.

        Returns
        -------
        Prior and posterior probability, log Bayes factor, and in words.
        """
        return inclusion_table(self.inclusions)

    @cached_property
    def inclusions(self) -> dict[str, Inclusion]:
        """The same as plain numbers."""
        return {
            term: inclusion(
                {key for key in self.log_evidences if self._has(key, term)},
                self.log_evidences,
                self.prior,
                self.shares,
            )
            for term in ("effect", "spread", "bias")
        }

    @staticmethod
    def _has(key: tuple[str, str], term: str) -> bool:
        kind, bias = key
        return bias != NO_BIAS if term == "bias" else bool(getattr(KINDS[kind], term))

    def effects(self) -> pd.DataFrame:
        """Return the effect where there is one, by bias and over all models.

        Returns
        -------
        Posterior probability of the bias, median, interval, and probability above 0.
        """
        words = kind_words(self.kind, self.level)
        rows = {}
        for name, density in {"all models": self.corrected, **self.by_bias}.items():
            share = 1.0 if name == "all models" else self._share_of(name)
            low, high = density.interval(self.level, self.kind)
            rows[name] = (share, density.median, low, high, 1 - density.below(0.0))
        columns = ["posterior probability", "effect, median", f"{words}, from", f"{words}, to"]
        columns.append("probability above 0")
        return pd.DataFrame.from_dict(rows, orient="index", columns=columns).rename_axis("bias")

    def _share_of(self, bias: str) -> float:
        return sum(share for (_, one), share in self.shares.items() if one == bias)

    @cached_property
    def posterior(self) -> Posterior:
        """Draws over all models: effect and spread, 0 where a model has none, and weights.

        `weight_1`, `weight_2` and so on are the chances to be seen of `weight_function()`.
        """
        return averaged_posterior(
            "Effect and spread of trials, averaged over models with and without publication bias",
            "0 where a model has no effect, or no spread.",
            self._drawn,
            "draws over the models by their probabilities, each by an independence sampler",
            self.seed,
        )

    @cached_property
    def _drawn(self) -> dict[str, np.ndarray]:
        generator = generator_of(self.seed, Stream.BIAS)
        keys = [key for key in self.shares if self.shares[key] > 0]
        chances = np.array([self.shares[key] for key in keys])
        size = int(np.prod(self.shape))
        which = generator.choice(len(keys), size=size, p=chances / chances.sum())
        effect, spread = np.zeros(size), np.zeros(size)
        seen = np.ones((size, len(self.steps) + 1))
        for at, key in enumerate(keys):
            rows = np.flatnonzero(which == at)
            joint = self.joints[key]
            drawn = joint.draws(generator, len(rows))
            effect[rows], spread[rows] = drawn.effect, drawn.spread
            if isinstance(joint.bias, Selection):
                seen[rows] = joint.bias.seen_between(self.steps, drawn.own)
        columns = {f"weight_{n}": one for n, one in enumerate(seen.T[1:], start=1)}
        every = {"effect": effect, "spread": spread, **columns}
        return {name: values.reshape(self.shape) for name, values in every.items()}

    @cached_property
    def steps(self) -> np.ndarray:
        """One-sided p-values at which any model lets the chance to be seen change, ascending."""
        every = [
            joint.bias.one_sided_cuts
            for joint in self.joints.values()
            if isinstance(joint.bias, Selection)
        ]
        return np.unique(np.round(np.concatenate([np.zeros(0), *every]), _PLACES))

    def weight_function(self) -> pd.DataFrame:
        """Return the chance that a trial is seen, by its p-value.

        Returns
        -------
        One row an interval of the one-sided p-value in the direction that was hoped for: mean,
        median and interval of the chance to be seen, in proportion to that of the smallest
        p-values, averaged over all models; models without selection have 1 everywhere.

        Raises
        ------
        ArgumentError
            If there is no model of selection.
        """
        if not len(self.steps):
            raise ArgumentError("No model of selection was asked for, so there are no weights.")
        words = kind_words(self.kind, self.level)
        ends = [0.0, *self.steps, 1.0]
        rows = []
        for at in range(len(self.steps) + 1):
            values = self._drawn[f"weight_{at}"].reshape(-1) if at else np.ones(1)
            low, high = interval(values, self.level, self.kind)
            told = [float(np.mean(values)), float(np.median(values)), float(low), float(high)]
            rows.append([ends[at], ends[at + 1], *told])
        columns = ["one-sided p, from", "one-sided p, to", "mean", "median"]
        columns += [f"{words}, from", f"{words}, to"]
        names = pd.Index(["1", *(f"weight_{n}" for n in range(1, len(rows)))], name="weight")
        return pd.DataFrame(rows, index=names, columns=columns)

    def _size(self, density: GridDensity) -> str:
        first, last = density.quantile(np.array([0.16, 0.84]))
        ends = density.interval(self.level, self.kind)
        words = kind_words(self.kind, self.level)
        return middle_words(density.median, ends, 0.5 * float(last - first), words)

    @property
    def record(self) -> dict[str, Any]:
        """Probabilities and effects as plain values."""
        effects = {"all models": self.corrected, **self.by_bias}
        return {
            "direction": self.direction,
            "inclusion": {
                term: {
                    "prior": one.before,
                    "posterior": one.after,
                    "log_bayes_factor": one.log_factor if np.isfinite(one.log_factor) else None,
                }
                for term, one in self.inclusions.items()
            },
            "effects": [self._effect_record(name, one) for name, one in effects.items()],
        }

    def _effect_record(self, name: str, density: GridDensity) -> dict[str, Any]:
        low, high = density.interval(self.level, self.kind)
        share = 1.0 if name == "all models" else self._share_of(name)
        found = {"bias": name, "probability": share, "median": density.median}
        return {**found, "interval_low": low, "interval_high": high}

    @property
    def sentences(self) -> tuple[str, ...]:
        """The answer in words."""
        up = 1 - self.corrected.below(0.0)
        return (
            weighed_words("publication bias", self.inclusions["bias"]),
            "Effect where there is one, averaged over all these models: "
            f"{self._size(self.corrected)}; {'positive' if up >= 0.5 else 'negative'} with "
            f"probability {chance_text(max(up, 1 - up), _DIGITS)}. Without regard to bias: "
            f"{self._size(self.plain)}.",
            f"Bias allowed for. {weighed_words('an effect', self.inclusions['effect'])}",
            f"Results were hoped for in the {self.direction} direction, as you said. A handful of "
            "trials says little of bias: read what the prior probability became.",
        )

    def __str__(self) -> str:
        table = self.effects()
        columns = {
            "probability": ["", *map(share_text, table["posterior probability"].iloc[1:])],
            "effect where there is one": [
                self._size(one) for one in (self.corrected, *self.by_bias.values())
            ],
        }
        return f"{bulleted(self.sentences)}\n\n{text_table(list(table.index), columns)}"


def publication_bias(
    found: MetaFindings,
    direction: str,
    one_sided: Sequence[Sequence[float]],
    two_sided: Sequence[Sequence[float]],
    slopes: Mapping[str, str | None],
    prior: Mapping[str, float] | None,
) -> PublicationBias:
    """Weigh models with bias; see `MetaFindings.publication_bias`."""
    check_effects(found.study.model_priors)
    biases = biases_of(direction, one_sided, two_sided, slopes)
    before = prior_of(found, biases, prior)
    grids = {kind: grid_of(found, kind) for kind in KINDS}
    spreads = {kind: spreads_of(found, kind) for kind in KINDS}
    logs: dict[tuple[str, str], np.ndarray] = {}
    evidences: dict[tuple[str, str], float] = {}
    trials = found.study.table.trials
    for name, bias in biases.items():
        for kind, (places, edges, weights) in grids.items():
            values = log_on_grid(trials, bias, places, spreads[kind]) + weights
            logs[kind, name] = values
            evidences[kind, name] = (
                float(values[0]) if edges is None else density_of(values, edges).log_integral
            )
    shares = posterior_shares(evidences, before)
    edges = grids["random"][1]
    assert edges is not None

    def averaged(names: Sequence[str]) -> GridDensity:
        terms = [
            logs[kind, name] + log_of(before[kind, name])
            for kind in ("random", "common")
            for name in names
        ]
        return density_of(logsumexp(np.stack(terms), axis=0), edges)

    return PublicationBias(
        direction=direction,
        models=models_of(found, biases),
        log_evidences=evidences,
        prior=before,
        shares=shares,
        corrected=averaged(list(biases)),
        plain=averaged([NO_BIAS]),
        by_bias={name: averaged([name]) for name in biases},
        trials=trials,
        joints={
            (kind, name): joint_of(found, kind, bias, logs[kind, name], grids[kind][1])
            for name, bias in biases.items()
            for kind in KINDS
        },
        shape=found.posterior.draws.shape,
        seed=found.posterior.record.seed,
        level=found.level,
        kind=found.kind,
    )
