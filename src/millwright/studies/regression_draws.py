"""Draws of a regression on the scale of the data: coefficients, fitted means, shares explained."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import pandas as pd
from scipy.special import expit, ndtr, softmax

from millwright.errors import ArgumentError
from millwright.posterior.posterior import Posterior
from millwright.studies.regression_model import GroupTerms, RegressionParts, own_name

__all__ = ["RegressionDraws"]

_MOST_NUMBERS = 20_000_000


class RegressionDraws:
    """What can be computed from the draws of a regression.

    All draws have shape (draws, ...), chain after chain.
    """

    def __init__(self, posterior: Posterior, parts: RegressionParts, most: int = 4000) -> None:
        self.posterior = posterior
        self.parts = parts
        self.chains, draws = posterior.draws.shape
        rows = max(1, len(parts.frame))
        most = max(200, min(most, _MOST_NUMBERS // rows))
        # Evenly from each chain, so that they can be told apart again.
        step = max(1, -(-self.chains * draws // most))
        every = np.arange(self.chains * draws).reshape(self.chains, draws)
        self.keep = slice(None) if step == 1 else every[:, ::step].reshape(-1)
        # Also those that are held at a number.
        self.known = set(posterior.draws.binding.axes)

    def _flat(self, name: str) -> np.ndarray:
        values = self.posterior.draws.get(name)
        return values.reshape(-1, *values.shape[2:])

    def raw(self, name: str) -> np.ndarray:
        """Return draws of a coefficient on the scale of the data, (chains, draws[, labels])."""
        parts, draws = self.parts, self.posterior.draws
        at = parts.design.names.index(name)
        if name in parts.own:
            return draws.get(own_name(parts, name))
        if name in parts.shrunk:
            slopes = draws.get("candidate_slope")
            return slopes[:, :, parts.shrunk.index(name)] / parts.design.spread[at]
        place = parts.common.index(name)
        if "slope" in self.known:
            return draws.get("slope")[:, :, place] / parts.design.spread[at]
        return draws.get(f"slope_{len(parts.own) + place + 1}")

    def standardised(self, name: str) -> np.ndarray:
        """Return draws of a coefficient for a change of one sd of its predictor."""
        at = self.parts.design.names.index(name)
        return self.raw(name) * self.parts.design.spread[at]

    def coefficients(self, standardised: bool = False) -> dict[str, np.ndarray]:
        """Return draws of all coefficients by name, (chains, draws) each.

        Of a categorical outcome those of each label against the first: the data say nothing of
        what all labels share.
        """
        found: dict[str, np.ndarray] = {}
        for name in self.parts.design.names:
            values = self.standardised(name) if standardised else self.raw(name)
            found |= {name: values} if values.ndim == 2 else self._against(name, values)
        return found

    def bases(self) -> dict[str, np.ndarray]:
        """Return log odds of labels against the first with all predictors at their means."""
        if "base" not in self.known:
            return {}
        return self._against("base", self.posterior.draws.get("base"))

    def _against(self, name: str, values: np.ndarray) -> dict[str, np.ndarray]:
        first, *others = self.parts.labels
        return {
            f"{name} for {label} against {first}": values[..., at] - values[..., 0]
            for at, label in enumerate(others, 1)
        }

    def intercept_at_zero(self) -> np.ndarray | None:
        """Return draws of the intercept where all predictors are 0, (chains, draws)."""
        draws, design = self.posterior.draws, self.parts.design
        if "intercept" not in self.known:
            return None
        shift = sum(
            self.raw(name) * middle
            for name, middle in zip(design.names, design.middle, strict=True)
        )
        return draws.get("intercept") - shift

    def predictor(
        self,
        x: np.ndarray,
        groups: pd.DataFrame | None = None,
        offset: np.ndarray | float = 0.0,
    ) -> np.ndarray:
        """Return the linear predictor of rows, (draws, rows[, labels]).

        Parameters
        ----------
        x
            Columns of the design, on the scale of the data.
        groups
            Columns of labels of the group effects; without it they are left at 0.
        offset
            What is added as it is, logarithms of exposures among it.
        """
        design, names = self.parts.design, self.known
        away = x - design.middle
        n = len(self._flat(next(iter(self.posterior.draws.values)))[self.keep])
        labels = len(self.parts.labels) if self.parts.family.name == "categorical" else 0
        total = np.zeros((n, len(x), labels)) if labels else np.zeros((n, len(x)))
        if "intercept" in names:
            total += self._flat("intercept")[self.keep, None]
        if "base" in names:
            total += self._flat("base")[self.keep, None, :]
        for at, name in enumerate(design.names):
            values = self.raw(name)
            flat = values.reshape(-1, *values.shape[2:])[self.keep]
            total += (
                flat[:, None, :] * away[:, at, None] if labels else flat[:, None] * away[:, at]
            )
        if groups is not None:
            for group in self.parts.groups:
                total += self._effects(group, groups, x)
        return total + offset

    def group_effects(self, group: GroupTerms, term: str) -> dict[str, np.ndarray]:
        """Return draws of a term's effects by label, (chains, draws) each."""
        draws = self.posterior.draws
        values = draws.get(group.effect)
        if values.ndim == 4:
            values = values[..., group.terms.index(term)]
        labels = draws.binding.labels[_axis(self.posterior, group)]
        return {str(label): values[:, :, at] for at, label in enumerate(labels)}

    def _effects(self, group: GroupTerms, frame: pd.DataFrame, x: np.ndarray) -> np.ndarray:
        """Return the effects of a set of groups in rows whose labels the fit has seen."""
        design = self.parts.design
        draws = self._flat(group.effect)[self.keep]
        known = self.posterior.draws.binding.labels[_axis(self.posterior, group)]
        at = {str(label): place for place, label in enumerate(known)}
        chosen = draws[:, [at[str(label)] for label in frame[group.column]]]
        if chosen.ndim == 2:
            return chosen * self._multiplier(group.terms[0], x, design)
        return np.asarray(
            sum(
                chosen[:, :, k] * self._multiplier(term, x, design)
                for k, term in enumerate(group.terms)
            )
        )

    @staticmethod
    def _multiplier(term: str, x: np.ndarray, design: object) -> np.ndarray | float:
        if term == "1":
            return 1.0
        names, values = design.names, design.values  # type: ignore[attr-defined]
        at = names.index(term)
        own = values[:, at]
        return (x[:, at] - own.mean()) / own.std(ddof=1)

    def shapes(self) -> dict[str, np.ndarray]:
        """Return draws of what else the distribution of an outcome rests on."""
        known = self.known
        wanted = ("shape", "precision", "zeros", "df")
        found = {name: self._flat(name)[self.keep] for name in wanted if name in known}
        if "noise" in known:
            found["scale"] = self._flat("noise")[self.keep][:, None]
        if self.parts.scale_design is not None:
            design = self.parts.scale_design
            slopes = self._flat("scale_slope")[self.keep]
            log = self._flat("log_scale")[self.keep][:, None] + slopes @ design.standardised.T
            found["scale"] = np.exp(log)
        if self.parts.weights is not None and "scale" in found:
            weights = self.parts.frame[self.parts.weights].to_numpy(float)
            found["scale"] = found["scale"] / np.sqrt(weights)
        return found

    def means(self, predictor: np.ndarray, shapes: Mapping[str, np.ndarray]) -> np.ndarray:
        """Return expected outcomes from the linear predictor, or probabilities of labels."""
        family = self.parts.family
        if family.name == "categorical":
            return np.asarray(softmax(predictor, axis=-1))
        if family.name == "ordered":
            cuts = self._flat("cuts")[self.keep][:, None, :]
            cumulated = (expit if self.parts.link == "logit" else ndtr)(
                cuts - predictor[..., None]
            )
            edges = [np.zeros((*predictor.shape, 1)), cumulated, np.ones((*predictor.shape, 1))]
            return np.diff(np.concatenate(edges, axis=-1), axis=-1)
        if family.mean is None:
            raise ArgumentError(f"Family {family.name} has no mean: its outcomes are labels.")
        return family.mean(family.inverse(self.parts.link)(predictor), shapes)

    def fitted_offset(self) -> np.ndarray | float:
        """Return what the rows of the fit have beside their predictors."""
        parts = self.parts
        total: np.ndarray | float = 0.0
        if parts.offset is not None:
            total = total + parts.frame[parts.offset].to_numpy(float)
        if parts.exposure is not None:
            total = total + np.log(parts.frame[parts.exposure].to_numpy(float))
        return total

    def intraclass(self, group: GroupTerms) -> np.ndarray | None:
        """Return the share of the variance that lies between groups, given the predictors.

        Of yes/no outcomes with a logit link on the scale of the log odds, where what is left has
        the variance pi^2 / 3 (Goldstein, Browne and Rasbash 2002); None for other outcomes.
        """
        parts, draws = self.parts, self.posterior.draws
        if group.terms != ("1",):
            return None
        if parts.family.name == "normal" and parts.scale_design is None and not parts.weights:
            left = draws.get("noise") ** 2
        elif parts.family.name in ("bernoulli", "binomial") and parts.link == "logit":
            left = np.asarray(np.pi**2 / 3)
        else:
            return None
        every = sum(draws.get(one.spread) ** 2 for one in parts.groups if one.terms == ("1",))
        return np.asarray(draws.get(group.spread) ** 2 / (every + left))

    def explained(self) -> np.ndarray | None:
        """Return draws of R2 (Gelman et al. 2019, "R-squared for Bayesian regression models").

        The variance of fitted means over the rows, divided by itself plus the mean residual
        variance that the model states; None where that is not known.
        """
        family = self.parts.family
        if family.variance is None:
            return None
        shapes = self.shapes()
        eta = self.predictor(self.parts.design.values, self.parts.frame, self.fitted_offset())
        mean = self.means(eta, shapes)
        fitted = mean.var(axis=1, ddof=1)
        left = family.variance(mean, shapes).mean(axis=1)
        with np.errstate(invalid="ignore"):
            return np.where(np.isfinite(left), fitted / (fitted + left), 0.0)


def _axis(posterior: Posterior, group: GroupTerms) -> str:
    """Return the label set that a set of effects runs over."""
    return posterior.draws.binding.axes[group.effect][0]
