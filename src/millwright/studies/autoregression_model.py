"""A vector autoregression: priors by a stated rule, the problem of sweeps, the visible model."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
import pandas as pd

from millwright.language.printing import number_text
from millwright.models.model import Model
from millwright.studies.autoregression_data import SeriesData
from millwright.studies.reading import Names, named
from millwright.studies.scales import rounded_middle, rounded_spread, spread_text
from millwright.sweeps.problem import Kept, Problem

__all__ = ["READING", "Autoregression", "Rules", "covariances"]

READING = "reading"

_EXTRA_DEGREES = 2


@dataclass(frozen=True, kw_only=True)
class Rules:
    """Numbers of the rule that makes priors (Litterman 1986, "Minnesota").

    Attributes
    ----------
    tightness
        Prior sd of a series' slope on its own last reading; at lag l divided by l.
    cross
        That on other series, over that on its own, in units of the series' noises.
    first_lag
        Prior mean of the slope on its own last reading; all others have mean 0.
    drift
        Half-normal scale of how far a slope wanders over all times, in units of the series'
        noises, and a level in sds of its series; 0 for coefficients that are constant.
    error_drift
        Half-normal scale of how far the log sd of each series' errors wanders over all times; 0
        for errors whose covariance is constant.
    conjugate
        Whether the coefficients' prior sds stand in units of the unknown sds of errors.
    """

    tightness: float
    cross: float
    first_lag: float
    drift: float
    error_drift: float = 0.0
    conjugate: bool = False


@dataclass(frozen=True, kw_only=True)
class Autoregression:
    """A vector autoregression of series, with its priors.

    Attributes
    ----------
    still
        Terms whose coefficients are constant where others drift.
    """

    data: SeriesData = field(repr=False)
    rules: Rules
    still: tuple[str, ...] = ()

    @property
    def drifts(self) -> bool:
        """Whether any coefficient drifts."""
        return bool((self.step_scale > 0).any())

    @property
    def errors_drift(self) -> bool:
        """Whether the sds of errors drift."""
        return self.rules.error_drift > 0

    @property
    def changes(self) -> bool:
        """Whether anything drifts, so that answers are those of a time."""
        return self.drifts or self.errors_drift

    @property
    def size(self) -> tuple[int, int]:
        """Number of series, and of terms in each equation."""
        return len(self.data.series), len(self.data.terms)

    @cached_property
    def start(self) -> tuple[np.ndarray, np.ndarray]:
        """Prior means and sds of coefficients before the first step, (n, terms)."""
        made, rules = self.data, self.rules
        n, terms = self.size
        mean, sd = np.zeros((n, terms)), np.empty((n, terms))
        spread = np.nanstd(made.values, axis=0, ddof=1)
        other = made.frame[list(made.others)].to_numpy(float).std(axis=0, ddof=1)
        for j in range(n):
            mean[j, 0] = rounded_middle(float(made.middle[j]), float(spread[j]))
            sd[j, 0] = 2 * spread[j]
            for lag in range(1, made.lags + 1):
                for i in range(n):
                    at = 1 + (lag - 1) * n + i
                    own = 1.0 if i == j else rules.cross * made.noise[j] / made.noise[i]
                    sd[j, at] = rules.tightness / lag * own
            sd[j, 1 + made.lags * n :] = 2 * spread[j] / other
            mean[j, 1 + j] = rules.first_lag
        return mean, np.vectorize(rounded_spread)(sd)

    @cached_property
    def shared_scale(self) -> np.ndarray:
        """Prior sds of coefficients over the sd of their equation's error, (terms,).

        For a conjugate prior, where they are the same in all equations: of those that the rule
        would have, the largest.
        """
        _, sd = self.start
        return np.vectorize(rounded_spread)((sd / self.data.noise[:, None]).max(axis=0))

    @cached_property
    def step_scale(self) -> np.ndarray:
        """Scales of the half-normal priors of the sds of steps, (n, terms)."""
        made = self.data
        n = len(made.series)
        spread = np.nanstd(made.values, axis=0, ddof=1)
        other = made.frame[list(made.others)].to_numpy(float).std(axis=0, ddof=1)
        # What one unit of each regressor could do: a noise for a noise, a sd for a sd.
        scale = np.empty(self.size)
        scale[:, 0] = spread
        scale[:, 1 : 1 + made.lags * n] = np.tile(made.noise[:, None] / made.noise, made.lags)
        scale[:, 1 + made.lags * n :] = spread[:, None] / other
        scale *= self.rules.drift / np.sqrt(made.count)
        for term in self.still:
            scale[:, self.data.terms.index(term)] = 0.0
        return np.vectorize(lambda one: rounded_spread(one) if one > 0 else 0.0)(scale)

    @cached_property
    def step_freedom(self) -> np.ndarray:
        """Degrees of freedom of steps, (n, terms); infinite for normal ones."""
        return np.full(self.size, np.inf)

    @cached_property
    def scatter(self) -> np.ndarray:
        """Diagonal of the scatter of the inverse-Wishart prior, (n,)."""
        return np.vectorize(rounded_spread)(self.data.noise**2)

    @property
    def degrees(self) -> float:
        """Degrees of freedom of that prior: its mean is the scatter."""
        return float(len(self.data.series) + _EXTRA_DEGREES)

    @property
    def size_scale(self) -> float:
        """Scale of the half-normal priors of the sds of steps of errors' log sds."""
        drift = self.rules.error_drift / np.sqrt(self.data.count)
        return rounded_spread(float(drift)) if drift > 0 else 0.0

    @cached_property
    def size_start(self) -> np.ndarray:
        """Prior means of errors' log sds before the first step, (n,); their sds are 1."""
        return np.round(np.log(self.data.noise), 2)

    @cached_property
    def lean_scale(self) -> np.ndarray:
        """Prior sds of the slopes of each error on those before it, where their sds drift."""
        return np.vectorize(rounded_spread)(self.data.noise[:, None] / self.data.noise)

    @property
    def problem(self) -> Problem:
        """What sweeps work on."""
        made = self.data
        gap_time, gap_series = made.gaps
        mean, sd = self.start
        return Problem(
            lags=made.lags,
            middle=made.middle,
            outcomes=np.ascontiguousarray(made.filled[made.lags :]),
            regressors=np.ascontiguousarray(made.regressors(made.filled)),
            gap_time=gap_time,
            gap_series=gap_series,
            start_mean=mean.reshape(-1),
            start_variance=sd.reshape(-1) ** 2,
            step_scale=self.step_scale.reshape(-1),
            step_freedom=self.step_freedom.reshape(-1),
            degrees=self.degrees,
            scatter=np.diag(self.scatter),
            size_scale=np.full(len(made.series), self.size_scale),
            size_start_mean=self.size_start,
            size_start_variance=np.ones(len(made.series)),
            lean_scale=self.lean_scale,
        )

    # The visible model: equation j has the unknowns `slope_j_r` (`level_j` for r = 0), errors
    # are told one after the other, `lean_j_i` being the slope of error j on error i.

    @cached_property
    def names(self) -> Names:
        """How the model, and its data, call the series."""
        every = {name: f"series_{at}" for at, name in enumerate(self.data.series, 1)}
        return named(every, [*self._priors, *self._pasts, *self._extras, "step"])

    @property
    def _pasts(self) -> list[str]:
        n = len(self.data.series)
        return [f"past_{i}_{lag}" for lag in range(1, self.data.lags + 1) for i in range(1, n + 1)]

    @property
    def _extras(self) -> list[str]:
        return [f"other_{at}" for at in range(1, len(self.data.others) + 1)]

    def name(self, j: int, r: int) -> str:
        """Return what the model calls a coefficient."""
        return f"level_{j + 1}" if r == 0 else f"slope_{j + 1}_{r}"

    @cached_property
    def _priors(self) -> dict[str, str]:
        n, terms = self.size
        mean, sd = self.start
        priors: dict[str, str] = {}
        for j in range(n):
            for r in range(terms):
                name = self.name(j, r)
                start = f"normal({number_text(float(mean[j, r]))}, {spread_text(sd[j, r])})"
                if self.rules.conjugate:
                    start = self._shared_prior(j, r)
                if self.step_scale[j, r] == 0:
                    priors[name] = start
                    continue
                priors[f"{name}_start"] = start
                priors[f"{name}_drift"] = f"half_normal({spread_text(self.step_scale[j, r])})"
                df = self.step_freedom[j, r]
                heavy = f", df={number_text(float(df))}" if np.isfinite(df) else ""
                priors[name] = (
                    f"random_walk(start={name}_start, scale={name}_drift{heavy}) per step"
                )
        for j in range(n):
            priors |= self._drifting_error(j) if self.errors_drift else self._constant_error(j)
        if len(self.data.gaps[0]):
            priors[READING] = "flat() per gap"
        return priors

    def _shared_prior(self, j: int, r: int) -> str:
        """Return a conjugate prior of a coefficient, given those of the equations before."""
        middle = self.start[0]
        where = [number_text(float(middle[j, r]))] if middle[j, r] or not j else []
        for i in range(j):
            apart = self.name(i, r)
            if middle[i, r]:
                apart = f"({apart} - ({number_text(float(middle[i, r]))}))"
            where.append(f"lean_{j + 1}_{i + 1} * {apart}")
        wide = f"{spread_text(float(self.shared_scale[r]))} * sqrt(variance_{j + 1})"
        return f"normal({' + '.join(where)}, {wide})"

    def _constant_error(self, j: int) -> dict[str, str]:
        """Return priors of an error given those before: an inverse Wishart, error by error."""
        n = len(self.data.series)
        shape = number_text(0.5 * (self.degrees - n + j + 1))
        half = number_text(0.5 * float(self.scatter[j]))
        priors = {f"variance_{j + 1}": f"inverse_gamma(shape={shape}, scale={half})"}
        for i in range(j):
            wide = f"sqrt(variance_{j + 1} / {number_text(float(self.scatter[i]))})"
            priors[f"lean_{j + 1}_{i + 1}"] = f"normal(0, {wide})"
        return priors

    def _drifting_error(self, j: int) -> dict[str, str]:
        """Return priors of an error given those before, with a sd that drifts."""
        name = f"log_sd_{j + 1}"
        priors = {
            f"{name}_start": f"normal({number_text(float(self.size_start[j]))}, 1)",
            f"{name}_drift": f"half_normal({spread_text(self.size_scale)})",
            name: f"random_walk(start={name}_start, scale={name}_drift) per step",
        }
        for i in range(j):
            priors[f"lean_{j + 1}_{i + 1}"] = f"normal(0, {spread_text(self.lean_scale[j, i])})"
        return priors

    @property
    def gap_labels(self) -> list[str]:
        """Series and time of each missing reading."""
        made = self.data
        return [f"{made.series[j]} at {made.labels[t]}" for t, j in zip(*made.gaps, strict=True)]

    @cached_property
    def model(self) -> Model:
        """The model in the model language."""
        n, terms = self.size
        made, names = self.data, self.names
        columns = ["", *self._pasts, *self._extras]
        likelihood, derived = {}, {}
        for j in range(n):
            parts = []
            for r in range(terms):
                name = self.name(j, r)
                value = name if self.step_scale[j, r] == 0 else f"{name}[step]"
                parts.append(value if r == 0 else f"{value} * {columns[r]}")
            derived[f"expected_{j + 1}"] = " + ".join(parts)
            leaning = [
                f" + lean_{j + 1}_{i + 1} * ({names.of[made.series[i]]} - expected_{i + 1})"
                for i in range(j)
            ]
            wide = f"exp(log_sd_{j + 1}[step])" if self.errors_drift else f"sqrt(variance_{j + 1})"
            likelihood[names.of[made.series[j]]] = (
                f"normal(expected_{j + 1}{''.join(leaning)}, {wide})"
            )
        labels: dict[str, Any] = {"step": list(made.labels)} if self.changes else {}
        if len(made.gaps[0]):
            labels["gap"] = self.gap_labels
        title, notes = self.words
        return Model(
            title=title,
            notes=notes,
            priors=self._priors,
            likelihood=likelihood,
            derived=derived,
            labels=labels,
        )

    @property
    def words(self) -> tuple[str, str]:
        """Title and notes of the model."""
        made = self.data
        told = "; ".join(f"{at} is {name}" for at, name in enumerate(made.series, 1))
        notes = f"Equations: {told}. past_i_l: series i, l steps before, around its mean."
        if made.others:
            other = "; ".join(f"other_{at} is {name}" for at, name in enumerate(made.others, 1))
            notes += f" Around their means: {other}."
        return f"{', '.join(made.series)} on their past", notes

    @cached_property
    def frame(self) -> pd.DataFrame:
        """The data of the model; gaps are filled along straight lines there."""
        made = self.data
        columns: dict[str, Any] = {
            self.names.of[name]: made.filled[made.lags :, at]
            for at, name in enumerate(made.series)
        }
        values = made.regressors(made.filled)
        for at, name in enumerate([*self._pasts, *self._extras], 1):
            columns[name] = values[:, at]
        columns["step"] = list(made.labels)
        return pd.DataFrame(columns)

    def values(self, kept: Kept) -> dict[str, np.ndarray]:
        """Return draws of the model's unknowns, (chains, draws, labels...)."""
        n, terms = self.size
        found: dict[str, np.ndarray] = {}
        for j in range(n):
            for r in range(terms):
                name, at = self.name(j, r), j * terms + r
                if self.step_scale[j, r] == 0:
                    found[name] = kept.start[..., at]
                    continue
                found[f"{name}_start"] = kept.start[..., at]
                found[f"{name}_drift"] = kept.step[..., at]
                found[name] = kept.path[..., at]
        for j in range(n):
            if self.errors_drift:
                name = f"log_sd_{j + 1}"
                found[name] = kept.log_sizes[..., j]
                found[f"{name}_start"] = kept.size_start[..., j]
                found[f"{name}_drift"] = kept.size_step[..., j]
            else:
                found[f"variance_{j + 1}"] = kept.sizes[..., 0, j] ** 2
            for i in range(j):
                found[f"lean_{j + 1}_{i + 1}"] = -kept.rows[..., j, i]
        if len(self.data.gaps[0]):
            found[READING] = kept.gaps
        return found

    def kept(self, draws: Any) -> Kept:
        """Return draws of the model as sweeps keep them, chain after chain."""
        n, terms = self.size
        coefficients = self.coefficients(draws)
        total = len(coefficients)
        start, step = np.empty((total, n * terms)), np.zeros((total, n * terms))
        for j in range(n):
            for r in range(terms):
                name, at = self.name(j, r), j * terms + r
                moves = self.step_scale[j, r] > 0
                start[:, at] = draws.get(f"{name}_start" if moves else name).reshape(-1)
                if moves:
                    step[:, at] = draws.get(f"{name}_drift").reshape(-1)
        # Not broadcast, which would be read-only: another type, compiled again.
        if coefficients.shape[1] < self.data.count:
            coefficients = np.repeat(coefficients, self.data.count, axis=1)
        return Kept(
            path=coefficients.reshape(total, self.data.count, n * terms),
            start=start,
            step=step,
            rows=self.rows(draws),
            sizes=self.sizes(draws),
            log_sizes=self._log_sizes(draws),
            size_start=self._of_errors(draws, "log_sd_{}_start"),
            size_step=self._of_errors(draws, "log_sd_{}_drift"),
            gaps=self.readings(draws),
        )

    def readings(self, draws: Any) -> np.ndarray:
        """Return draws of the missing readings, (draws, gaps)."""
        gaps = len(self.data.gaps[0])
        if gaps:
            return np.asarray(draws.get(READING).reshape(-1, gaps))
        return np.zeros((draws.shape[0] * draws.shape[1], 0))

    def last(self, draws: Any) -> np.ndarray:
        """Return the last readings of all draws, missing ones drawn, (draws, lags, n)."""
        made, readings = self.data, self.readings(draws)
        if not made.lags:
            return np.zeros((len(readings), 0, len(made.series)))
        found = np.broadcast_to(
            made.filled[-made.lags :], (len(readings), made.lags, len(made.series))
        ).copy()
        for gap, (t, j) in enumerate(zip(*made.gaps, strict=True)):
            at = t - (made.count - made.lags)
            if at >= 0:
                found[:, at, j] = readings[:, gap]
        return found

    def coefficients(self, draws: Any) -> np.ndarray:
        """Return coefficients from draws of the model, (draws, times or 1, n, terms)."""
        n, terms = self.size
        times = self.data.count if self.drifts else 1
        total = draws.shape[0] * draws.shape[1]
        found = np.empty((total, times, n, terms))
        for j in range(n):
            for r in range(terms):
                values = draws.get(self.name(j, r)).reshape(total, -1)
                found[:, :, j, r] = values
        return found

    def rows(self, draws: Any) -> np.ndarray:
        """Return what makes errors independent, (draws, n, n), from draws of the model."""
        n = len(self.data.series)
        total = draws.shape[0] * draws.shape[1]
        found = np.broadcast_to(np.eye(n), (total, n, n)).copy()
        for j in range(n):
            for i in range(j):
                found[:, j, i] = -draws.get(f"lean_{j + 1}_{i + 1}").reshape(-1)
        return found

    def sizes(self, draws: Any) -> np.ndarray:
        """Return sds of independent errors, (draws, times or 1, n), from draws of the model."""
        if self.errors_drift:
            return np.exp(self._log_sizes(draws))
        return np.sqrt(self._of_errors(draws, "variance_{}"))[:, None]

    def _log_sizes(self, draws: Any) -> np.ndarray:
        """Return logs of sds that drift, (draws, times or 0, n)."""
        n, total = len(self.data.series), draws.shape[0] * draws.shape[1]
        if not self.errors_drift:
            return np.zeros((total, 0, n))
        found = [draws.get(f"log_sd_{j}").reshape(total, -1) for j in range(1, n + 1)]
        return np.stack(found, axis=-1)

    def _of_errors(self, draws: Any, name: str) -> np.ndarray:
        """Return draws of numbers of the errors, (draws, n); 0 where the model has none such."""
        n, total = len(self.data.series), draws.shape[0] * draws.shape[1]
        if not self.errors_drift and name.startswith("log_sd"):
            return np.zeros((total, n))
        return np.stack([draws.get(name.format(j + 1)).reshape(-1) for j in range(n)], axis=-1)


def covariances(rows: np.ndarray, sizes: np.ndarray) -> np.ndarray:
    """Return covariances of errors, (..., n, n), from `rows` and `sizes` (..., n)."""
    unit = np.linalg.inv(rows)
    return np.asarray(np.einsum("...ij,...j,...kj->...ik", unit, sizes**2, unit))
