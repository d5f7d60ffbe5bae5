"""A model: definitions of priors, likelihood and derived quantities."""

from __future__ import annotations

import datetime
import platform
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from importlib.metadata import version
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from millwright.distributions import on_numpy
from millwright.draws.labelled_draws import Draws, from_positions
from millwright.errors import ArgumentError, Interrupted, ModelError
from millwright.modelling.binding import Binding, bind
from millwright.modelling.density import LogDensity, place_unknowns, terms
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.simulate import (
    draw_outcomes,
    draw_unknowns,
    positions_from,
    stated_values,
)
from millwright.modelling.space import bounds_of, places, slope
from millwright.modelling.specification import Specification, Written, specify
from millwright.modelling.words import describe
from millwright.posterior import Posterior, Record
from millwright.sampling.block import STATISTICS
from millwright.sampling.chain import FitSettings
from millwright.sampling.chains import Sampled, sample
from millwright.sampling.mode import Peak, find_peak
from millwright.sampling.progress import Listener
from millwright.sampling.target import Target
from millwright.sampling.trajectory import DEEPEST
from millwright.storage.place import check_free
from millwright.storage.sheet import read_sheet, sheet_text, write_new
from millwright.terminal.progress import auto_listener

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Estimate", "Model", "Simulated", "target_of"]


@dataclass(frozen=True, eq=False)
class Simulated:
    """Simulated unknowns and data sets.

    Attributes
    ----------
    outcomes
        Draws of each outcome, shape (draws, rows).
    """

    draws: Draws = field(repr=False)
    outcomes: Mapping[str, np.ndarray] = field(repr=False)

    @property
    def unknowns(self) -> pd.DataFrame:
        """Unknown and derived quantities, one row a draw."""
        import pandas as pd

        single = self.draws.single()
        return pd.DataFrame({name: value.reshape(-1) for name, value in single.items()})

    def data(self, draw: int) -> Any:
        """Return one simulated data set, shaped like the data given.

        Parameters
        ----------
        draw
            Which one, counted from 0.

        Raises
        ------
        ArgumentError
            If there is no such draw.
        """
        import pandas as pd

        size = len(next(iter(self.outcomes.values())))
        if not isinstance(draw, int) or not -size <= draw < size:
            raise ArgumentError(f"`draw` must be a whole number from 0 to {size - 1}.")
        tables = self.draws.binding.tables
        axes = dict(self.draws.binding.program.outcome_axes)
        frames: dict[str, dict[str, Any]] = {axis: {} for axis in tables.sizes}
        for column in tables.columns.values():
            if column.axes and column.name not in self.outcomes and len(column.axes) == 1:
                values: Any = column.values
                if column.levels is not None:
                    values = pd.Categorical(column.values, categories=list(column.levels))
                frames[column.axes[0]][column.name] = values
            elif len(column.axes) == 2:
                frames[column.axes[0]] |= {column.name: list(column.values)}
        for name, copies in self.outcomes.items():
            frames[axes[name][0]][name] = copies[draw]
        constants = {c.name: float(c.values) for c in tables.columns.values() if not c.axes}
        if list(frames) == ["row"] and not constants and not tables.matrix_labels:
            return pd.DataFrame(frames["row"])
        return self._nested(frames, constants)

    def _nested(self, frames: dict[str, dict[str, Any]], constants: dict[str, float]) -> Any:
        result: dict[str, Any] = dict(constants)
        for axis, columns in frames.items():
            arrays = {
                name: np.stack(value) if isinstance(value, list) else value
                for name, value in columns.items()
            }
            if axis == "row":
                result |= arrays
            else:
                result[axis.removeprefix("row_of_")] = arrays
        return result


@dataclass(frozen=True, eq=False)
class Estimate:
    """A point estimate with standard errors from the curvature.

    Attributes
    ----------
    method
        `posterior mode` or `maximum likelihood`.
    values
        One row a number: `estimate`, `standard error` (NaN where the curvature gives none) and
        a `note`.
    log_density
        Logarithm of the maximised density.
    """

    method: str
    values: pd.DataFrame
    log_density: float
    notes: tuple[str, ...]

    def __getitem__(self, name: str) -> float:
        """Return the estimate of one number, as `drying` or `effect[Upper]`."""
        return float(self.values["estimate"][name])

    def __str__(self) -> str:
        shown = self.values.copy()
        for column in ("estimate", "standard error"):
            shown[column] = [
                "none" if np.isnan(value) else f"{value:.4g}" for value in shown[column]
            ]
        if not shown["note"].any():
            shown = shown.drop(columns="note")
        head = f"{self.method.capitalize()} (log density {self.log_density:.4f})"
        return "\n".join([head, shown.rename_axis(None).to_string(), *self.notes])


class Model:
    """A probabilistic model: named definitions of priors, likelihood and derived quantities.

    Each definition is a text in the model language, a Python function whose arguments are the
    quantities it needs, or a number.

    Parameters
    ----------
    title, notes
        What the model is about.
    priors
        A distribution for each unknown; a number holds the unknown fixed.
    likelihood
        A distribution for each outcome column of the data.
    derived
        Quantities computed from the others.
    columns
        Other names for data columns, or a name for several columns as a matrix.

    Raises
    ------
    LanguageError
        If a definition cannot be read.
    ModelError
        If definitions do not fit together.
    """

    def __init__(
        self,
        *,
        priors: Mapping[str, Written],
        likelihood: Mapping[str, Written],
        derived: Mapping[str, Written] | None = None,
        columns: Mapping[str, str | list[str] | tuple[str, ...]] | None = None,
        title: str = "",
        notes: str = "",
    ) -> None:
        self._specification = specify(
            title, notes, priors, likelihood, derived or {}, columns or {}
        )
        self._sheet: str | None = None

    @classmethod
    def _of(cls, specification: Specification, sheet: str | None = None) -> Model:
        model = cls.__new__(cls)
        model._specification = specification
        model._sheet = sheet
        return model

    @classmethod
    def read(cls, path: str | Path) -> Model:
        """Read a model sheet (TOML).

        Raises
        ------
        StorageError
            If the file cannot be read.
        LanguageError, ModelError
            If it is not a model.
        """
        specification, text = read_sheet(Path(path))
        return cls._of(specification, text)

    def write(self, path: str | Path, replace: bool = False) -> None:
        """Write the model as a sheet; reading it gives an equal model.

        Raises
        ------
        StorageError
            If the file exists and `replace` is not set, or it cannot be written.
        """
        write_new(Path(path), sheet_text(self._specification), replace)

    @property
    def specification(self) -> Specification:
        """The checked definitions."""
        return self._specification

    @property
    def title(self) -> str:
        """What the model is about."""
        return self._specification.title

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Model) and self._specification == other._specification

    def __hash__(self) -> int:
        return hash(self._specification)

    def __str__(self) -> str:
        return self.describe()

    def __repr__(self) -> str:
        names = ", ".join(part.name for part in self._specification.parts)
        return f"<Model {self.title or 'without a title'}: {names}>"

    def describe(self) -> str:
        """Return the model in words, with every prior in full and the range it allows."""
        return describe(self._specification)

    def bind(self, data: Any) -> Binding:
        """Check that data fit the model, and return both together.

        Raises
        ------
        DataError, ModelError
            If they do not.
        """
        return bind(self._specification, data)

    def simulate(
        self,
        data: Any = None,
        *,
        draws: int = 500,
        seed: int = 0,
        given: Mapping[str, Any] | None = None,
        rows: int | None = None,
    ) -> Simulated:
        """Draw unknowns from the prior, and a data set for each draw.

        Parameters
        ----------
        data
            Predictors; outcome columns may be missing and are not looked at.
        given
            Values at which unknowns are held, as for data with a known truth. A quantity with
            labels takes one number, an array in the order of its labels, or a mapping.
        rows
            Number of rows if there are no predictors.

        Raises
        ------
        ArgumentError
            For values that do not fit.
        DataError, ModelError
            If data and model do not fit.
        """
        _check_whole("draws", draws, 1)
        _check_whole("seed", seed, 0)
        binding = bind(self._specification, data, rows=rows, outcomes="optional")
        generator = np.random.default_rng([seed, 5])
        fixed = stated_values(binding, given or {})
        evaluation = draw_unknowns(binding, draws, generator, fixed)
        outcomes = draw_outcomes(binding, draws, generator, evaluation)
        values = {
            part.name: np.asarray(evaluation.values[part.name].values)[None]
            for part in binding.program.unknowns
        }
        return Simulated(Draws(binding, values), outcomes)

    def fit(
        self,
        data: Any,
        *,
        chains: int = 4,
        draws: int = 1000,
        warmup: int = 1000,
        seed: int = 0,
        target_acceptance: float = 0.8,
        max_depth: int = 10,
        workers: int | None = None,
        progress: bool | Listener = True,
        save: str | Path | None = None,
        existing: str = "refuse",
    ) -> Posterior:
        """Sample the posterior with the no-U-turn sampler.

        The same model, data, seed and settings give the same draws, bit by bit, on one kind of
        processor with the same versions, whatever the number of workers.

        Parameters
        ----------
        data
            DataFrame, mapping of names to arrays, or mapping of names to tables.
        chains, draws, warmup
            Number of chains; kept and discarded draws of each.
        seed
            Any whole number from 0.
        target_acceptance
            Higher values make smaller, safer steps.
        max_depth
            A trajectory has at most 2^max_depth steps.
        workers
            Chains that run at a time; by default one for each core.
        progress
            False for silence, or a function that is called with each `Progress`.
        save, existing
            Folder to store the run in, and whether to `refuse` or `replace` one there.

        Raises
        ------
        DataError, ModelError
            If data and model do not fit.
        StartError
            If no starting point has a finite density.
        Interrupted
            On Ctrl-C; it carries the posterior so far.
        """
        for name, value, least in (
            ("chains", chains, 1),
            ("draws", draws, 1),
            ("warmup", warmup, 0),
            ("seed", seed, 0),
            ("max_depth", max_depth, 1),
            *((("workers", workers, 1),) if workers is not None else ()),
        ):
            _check_whole(name, value, least)
        if max_depth > DEEPEST:
            raise ArgumentError(f"`max_depth` is at most {DEEPEST}, not {max_depth}.")
        if not 0.1 <= target_acceptance <= 0.999:
            raise ArgumentError(
                f"`target_acceptance` must be between 0.1 and 0.999, not {target_acceptance!r}."
            )
        if save is not None:
            # Better said before the sampling than after it.
            check_free(Path(save), existing)
        started = datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds")
        binding = bind(self._specification, data)
        settings = FitSettings(draws, warmup, target_acceptance, max_depth)
        target = target_of(binding)
        sampled = sample(target, settings, chains, seed, workers, _listener(progress))
        posterior = self._posterior(binding, sampled, settings, seed, started)
        if save is not None:
            posterior.save(save, existing)
        if not sampled.complete:
            kept = posterior.draws.shape[1]
            raise Interrupted(
                f"The fit was stopped; {kept} draws a chain are in this error's `posterior`.",
                posterior if kept else None,
            )
        return posterior

    def _posterior(
        self, binding: Binding, sampled: Sampled, settings: FitSettings, seed: int, started: str
    ) -> Posterior:
        statistics = {name: sampled.statistics[:, :, at] for at, name in enumerate(STATISTICS)}
        chains = tuple(
            {
                "step_size": chain.step_size,
                "target_acceptance": chain.target_acceptance,
                "metric_scale": chain.scale.tolist(),
                "warmup_steps": int(chain.warmup_statistics[:, STATISTICS.index("steps")].sum()),
                "seconds": list(chain.seconds),
            }
            for chain in sampled.chains
        )
        record = Record(
            seed,
            {"method": "no-U-turn", "chains": len(chains), **asdict(settings)},
            _versions(),
            binding.fingerprint,
            chains,
            {"compiling": sampled.compiling, "sampling": sampled.sampling},
            started,
            sampled.complete,
        )
        draws = from_positions(binding, sampled.positions)
        return Posterior(draws, record, statistics, self._sheet)

    def mode(self, data: Any, *, seed: int = 0) -> Estimate:
        """Find the posterior mode, with standard errors from the curvature there.

        The mode is that of the density of the unknowns as written. An unknown whose mode lies
        at an end of its support has no standard error.

        Raises
        ------
        ModelError
            If the model has a scale with a mode at zero, as hierarchies do: the density grows
            without bound there.
        """
        binding = bind(self._specification, data)
        peak = find_peak(target_of(binding, jacobian=False), seed)
        return _estimate(binding, peak, "posterior mode")

    def maximum_likelihood(self, data: Any, *, seed: int = 0) -> Estimate:
        """Find the maximum of the likelihood, priors left out but their supports kept.

        Raises
        ------
        ModelError
            If a prior rests on another unknown: what is a parameter and what is data is then
            not settled, and the likelihood of such a model has no useful maximum.
        """
        binding = bind(self._specification, data)
        _refuse_hierarchy(self._specification)
        target = target_of(binding, jacobian=False, prior=False)
        return _estimate(binding, find_peak(target, seed), "maximum likelihood")


def _check_whole(name: str, value: Any, least: int) -> None:
    if isinstance(value, bool) or not isinstance(value, (int, np.integer)) or value < least:
        raise ArgumentError(f"`{name}` must be a whole number from {least}, not {value!r}.")


def _listener(progress: bool | Listener) -> Listener:
    if callable(progress):
        return progress
    return auto_listener() if progress else lambda event: None


def _versions() -> dict[str, str]:
    names = ("millwright", "jax", "numpy", "scipy")
    return {
        **{name: version(name) for name in names},
        "python": platform.python_version(),
        "processor": platform.machine(),
    }


def target_of(binding: Binding, jacobian: bool = True, prior: bool = True) -> Target:
    """Return what a sampler or an optimiser sees of a bound model."""

    def starts(generator: np.random.Generator, n: int) -> np.ndarray:
        return positions_from(binding, draw_unknowns(binding, n, generator))

    def explain(positions: np.ndarray) -> str:
        return _not_finite(binding, positions)

    density = LogDensity(binding.program, jacobian, prior)
    return Target(binding.dimension, density, binding.arguments, starts, explain)


def _not_finite(binding: Binding, positions: np.ndarray) -> str:
    """Name the definitions whose density is not finite, and values tried."""
    with np.errstate(all="ignore"):
        found = terms(on_numpy, binding.program, binding.arguments, positions)
        evaluation, _ = place_unknowns(on_numpy, binding.program, binding.arguments, positions)
    shares = {name: float(np.mean(~np.isfinite(value))) for name, value in found.items()}
    bad = [name for name, share in shares.items() if share == max(shares.values()) > 0]
    if not bad:
        return "The density is finite there, but its gradient is not."
    definition = binding.specification.part(bad[0]).definition
    tried = _tried(binding, evaluation)
    return (
        f"Not finite: `{bad[0]}`, defined as {definition.text}. Tried, for instance, {tried}. "
        "Check that its arguments stay in their ranges (scales above zero, probabilities "
        "between 0 and 1) for values that the priors allow."
    )


def _tried(binding: Binding, evaluation: Evaluation) -> str:
    parts = []
    for place in places(binding.program)[:4]:
        value = np.asarray(evaluation.values[place.name].values)[0]
        parts.append(f"{place.name} = {np.atleast_1d(value).flat[0]:.3g}")
    return ", ".join(parts)


def _refuse_hierarchy(specification: Specification) -> None:
    unknowns = {part.name for part in specification.parts if part.kind == "unknown"}
    derived = {part.name: part for part in specification.parts if part.kind == "derived"}

    def rests_on(names: tuple[str, ...]) -> bool:
        return any(
            name in unknowns or (name in derived and rests_on(derived[name].definition.names))
            for name in names
        )

    for part in specification.parts:
        if part.kind == "unknown" and rests_on(part.definition.names):
            raise ModelError(
                part.definition.message(
                    "maximum likelihood is not defined for a model with a hierarchy: the prior "
                    f"of `{part.name}` rests on other unknowns. Use fit(), or hold those fixed"
                )
            )


def _estimate(binding: Binding, peak: Peak, method: str) -> Estimate:
    """Turn a peak in unconstrained coordinates into estimates in the original scale."""
    import pandas as pd

    evaluation, _ = place_unknowns(on_numpy, binding.program, binding.arguments, peak.position)
    slopes = _slopes(binding, evaluation, peak.position)
    at_end = (np.abs(peak.position) > 25) & (
        np.abs(slopes) < 1e-8 * np.maximum(1, np.abs(slopes).max())
    )
    errors = _standard_errors(peak, slopes, at_end)
    flat = [np.ravel(evaluation.values[place.name].values) for place in places(binding.program)]
    draws = Draws(binding, {p.name: np.zeros((1, 1, *p.shape)) for p in places(binding.program)})
    labels = [
        f"{place.name}{label}"
        for place in places(binding.program)
        for label in draws.cells(place.name)
    ]
    notes = ["at an end of its support" if end else "" for end in at_end]
    frame = pd.DataFrame(
        {"estimate": np.concatenate(flat), "standard error": errors, "note": notes},
        index=pd.Index(labels, name="unknown"),
    )
    return Estimate(method, frame, peak.log_density, tuple(_peak_notes(peak, bool(at_end.any()))))


def _slopes(binding: Binding, evaluation: Evaluation, position: np.ndarray) -> np.ndarray:
    result = np.empty_like(position)
    for part, place in zip(binding.program.unknowns, places(binding.program), strict=True):
        named = {
            name: np.asarray(item.values) for name, item in evaluation.parameters(part).items()
        }
        u = position[place.start : place.stop].reshape(place.shape)
        result[place.start : place.stop] = np.ravel(slope(u, *bounds_of(part, named)))
    return result


def _standard_errors(peak: Peak, slopes: np.ndarray, at_end: np.ndarray) -> np.ndarray:
    """Square roots of the inverse curvature in the original scale; NaN at ends."""
    errors = np.full(len(slopes), np.nan)
    inner = ~at_end
    if inner.any():
        try:
            covariance = np.linalg.inv(-peak.hessian[np.ix_(inner, inner)])
        except np.linalg.LinAlgError:
            return errors
        variances = np.diag(covariance)
        good = variances > 0
        values = np.full(variances.shape, np.nan)
        values[good] = np.sqrt(variances[good])
        errors[inner] = values * np.abs(slopes[inner])
    return errors


def _peak_notes(peak: Peak, at_end: bool) -> list[str]:
    notes = []
    if peak.agreeing < peak.starts:
        notes.append(
            f"{peak.agreeing} of {peak.starts} starts ended at this maximum; others ended lower. "
            "There may be several."
        )
    if not peak.settled and not at_end:
        notes.append("The climb did not settle: the density may grow without bound.")
    return notes
