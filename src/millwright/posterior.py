"""The posterior of a fit: draws with everything that made them.

pandas and xarray take longer to load than a small fit takes to sample, so the rooms that need
them are imported where they are used.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from millwright.diagnostics.measures import Measures, measure
from millwright.diagnostics.verdict import Verdict
from millwright.draws.intervals import IntervalKind, check_level, interval
from millwright.draws.labelled_draws import Draws
from millwright.draws.prior import prior_draws
from millwright.draws.statements import Probability, probability_of
from millwright.draws.table import TABLE_KEY, Table, make_table
from millwright.errors import ArgumentError, Interrupted, ModelError
from millwright.job import Fitted, Trail, extend_in_memory
from millwright.judging import verdict_of
from millwright.modelling.tables import read_tables
from millwright.modelling.words import describe
from millwright.record import Record
from millwright.sampling.progress import Listener
from millwright.storage.place import check_free
from millwright.terminal.progress import chosen_listener
from millwright.terminal.tables import text_table

if TYPE_CHECKING:
    import pandas as pd
    import xarray as xr

    from millwright.comparison.leave_one_out import LeaveOneOut
    from millwright.draws.prediction import Predictions
    from millwright.draws.predictive import PredictiveCheck

__all__ = ["Posterior"]


@dataclass(frozen=True, eq=False)
class Posterior:
    """Posterior draws, tied to the model, data, seed and settings that made them."""

    draws: Draws = field(repr=False)
    record: Record
    statistics: Mapping[str, np.ndarray] = field(repr=False)
    sheet: str | None = field(default=None, repr=False)
    trail: Trail | None = field(default=None, repr=False)

    def __str__(self) -> str:
        return f"{self.verdict}\n\n{self.summary()}"

    @property
    def _fitted(self) -> Fitted:
        return Fitted(self.draws, self.record, self.statistics, self.trail)

    @cached_property
    def measures(self) -> Measures:
        """Convergence numbers of every unknown and derived quantity."""
        return measure(self.draws.single())

    @cached_property
    def verdict(self) -> Verdict:
        """Whether the draws can be used, in words."""
        return verdict_of(self._fitted, self.measures)

    def convergence(self) -> Verdict:
        """Return the verdict: findings with advice, and the numbers behind it."""
        return self.verdict

    def describe(self) -> str:
        """Return the model in words, every prior in full, with the sizes of its label sets."""
        sizes = {name: len(labels) for name, labels in self.draws.binding.labels.items()}
        return describe(self.draws.binding.specification, sizes)

    def table(
        self,
        names: Sequence[str] | None = None,
        level: float = 0.95,
        kind: IntervalKind = "central",
    ) -> pd.DataFrame:
        """Summarise the posterior, one row a quantity.

        Parameters
        ----------
        names
            Quantities to show; by default all unknown and derived ones but those with one
            value a row.
        level, kind
            Level and kind (`central` or `hdi`) of the credible interval.

        Returns
        -------
        Mean, sd, median, interval, probability above 0, R-hat (1.00 is perfect, up to 1.01 is
        good, larger is worse), bulk and tail ESS (more is better), Monte Carlo standard error
        of the mean.

        Raises
        ------
        UnknownLabelError
            For a quantity that is not there.
        ArgumentError
            For a level outside (0, 1) or another kind.
        """
        import pandas as pd

        table = self._table(names, level, kind)
        return pd.DataFrame(table.columns, index=pd.Index(table.names, name="quantity"))

    def _table(
        self,
        names: Sequence[str] | None = None,
        level: float = 0.95,
        kind: IntervalKind = "central",
    ) -> Table:
        chosen = [names] if isinstance(names, str) else names
        return make_table(self.draws, chosen, level, kind, self.measures)

    def summary(
        self,
        names: Sequence[str] | None = None,
        level: float = 0.95,
        kind: IntervalKind = "central",
    ) -> str:
        """Return the table as text, with only the digits that the draws support."""
        table = self._table(names, level, kind)
        return f"{text_table(table.names, table.shown)}\n{TABLE_KEY}"

    def __getitem__(self, name: str) -> xr.DataArray:
        """Return draws of a quantity.

        Returns
        -------
        Dimensions `draw` (all chains, one after the other) and one for each label set; `chain`
        and `iteration`, both counted from 1, are coordinates on `draw`.
        """
        from millwright.draws.arrays import labelled_array

        return labelled_array(self.draws, name)

    def frame(self) -> pd.DataFrame:
        """Return all draws, one row a draw: `chain`, `draw` (from 1), one column a number."""
        import pandas as pd

        chains, draws = self.draws.shape
        columns: dict[str, Any] = {
            "chain": np.repeat(np.arange(1, chains + 1), draws),
            "draw": np.tile(np.arange(1, draws + 1), chains),
        }
        columns |= {name: value.reshape(-1) for name, value in self.draws.single().items()}
        return pd.DataFrame(columns)

    def interval(
        self, name: str, level: float = 0.95, kind: IntervalKind = "central"
    ) -> xr.DataArray:
        """Return both ends of a credible interval, with a dimension `end` (low, high).

        Raises
        ------
        ArgumentError
            For a level outside (0, 1) or another kind.
        """
        import xarray as xr

        value = self[name]
        low, high = interval(value.values, check_level(level), kind)
        labels = {axis: value.coords[axis] for axis in value.dims if axis != "draw"}
        return xr.DataArray(
            np.stack([low, high]),
            dims=("end", *value.dims[1:]),
            coords={"end": ["low", "high"], **labels},
            name=name,
            attrs={"kind": kind, "level": level},
        )

    def probability(self, statement: str) -> Probability | dict[str, Probability]:
        """Return the posterior probability of a statement, such as `drying < 0`.

        A statement about a quantity with labels gives one answer for each label; `all(...)` or
        `any(...)` around it gives one joint answer.

        Raises
        ------
        ArgumentError
            If it is not a comparison.
        LanguageError, ModelError
            If it cannot be read or names what is not there.
        """
        return probability_of(self.draws, statement)

    def predictive_check(self, draws: int = 1000) -> PredictiveCheck:
        """Replicate the data `draws` times and compare with the observed ones."""
        from millwright.draws.predictive import check_against

        self._refuse_without_outcomes()
        if not isinstance(draws, int) or draws < 2:
            raise ArgumentError(f"`draws` must be a whole number from 2, not {draws!r}.")
        return check_against(self.draws, np.random.default_rng([self.record.seed, 3]), draws)

    def predict(self, data: Any = None, rows: int | None = None) -> Predictions:
        """Draw outcomes for new rows.

        Parameters
        ----------
        data
            The new rows, with the predictors of the model; outcome columns are not needed.
        rows
            Number of new rows for a model without predictors.

        Raises
        ------
        DataError
            If a column is missing, or has labels that the fit has not seen.
        """
        from millwright.draws.prediction import predict

        self._refuse_without_outcomes()
        return predict(self.draws, data, rows, self.record.seed)

    def _refuse_without_outcomes(self) -> None:
        if not self.draws.binding.program.outcomes:
            raise ModelError("The model has no outcomes that could be drawn.")

    def predict_missing(self) -> Predictions:
        """Draw the outcomes of the rows that had none, after a fit with `missing="predict"`.

        Returns
        -------
        Predictions; rows keep their numbers in the data, counted from 1.

        Raises
        ------
        ArgumentError
            If the fit was made otherwise, or no outcome was missing.
        """
        from millwright.draws.prediction import predict

        parted = self.draws.binding.parted
        if parted is None or not parted.dropped:
            raise ArgumentError(
                "No rows were set aside: fit with missing='predict', on data with gaps in an "
                "outcome."
            )
        return predict(self.draws, parted.set_aside, None, self.record.seed, parted.numbers)

    def latent(self, name: str, data: Any = None) -> xr.DataArray:
        """Draw the latent function or states behind an outcome whose rows depend on each other.

        Parameters
        ----------
        name
            An outcome with a `gaussian_process` or `state_space` distribution.
        data
            New rows for a Gaussian process; by default the fitted ones.

        Returns
        -------
        Draws without noise: dimensions `draw` (at most 1000), rows, and for a state-space model
        the states.

        Raises
        ------
        ArgumentError
            If there is no such outcome.
        """
        import xarray as xr

        from millwright.draws.latent import latent

        columns = self.draws.binding.specification.columns
        tables = None if data is None else read_tables(data, columns)
        values, axes = latent(self.draws, name, tables, self.record.seed)
        coordinates: dict[str, Any] = {"draw": np.arange(len(values))}
        for at, axis in enumerate(axes, start=1):
            labels = self.draws.binding.labels.get(axis)
            coordinates[axis] = list(labels or range(1, values.shape[at] + 1))
        return xr.DataArray(values, dims=("draw", *axes), coords=coordinates, name=name)

    def membership(self, outcome: str | None = None) -> pd.DataFrame:
        """Return the probability that each row came from each component of a mixture.

        Parameters
        ----------
        outcome
            Which outcome, if several are mixtures.

        Returns
        -------
        One row a data row (counted from 1), one column a component: `first` and `second`, or
        the labels that the mixture runs over. Rows sum to 1.

        Raises
        ------
        ArgumentError
            If there is no such mixture.
        """
        import pandas as pd

        from millwright.draws.membership import membership

        name, shares, labels = membership(self.draws, outcome)
        rows = pd.RangeIndex(1, len(shares) + 1, name="row")
        return pd.DataFrame(shares, index=rows, columns=pd.Index(labels, name=name))

    def leave_one_out(self) -> LeaveOneOut:
        """Estimate the predictive accuracy by leave-one-out cross-validation."""
        from millwright.comparison.leave_one_out import leave_one_out

        if self.draws.binding.program.terms:
            raise ModelError(
                "Leave-one-out needs a log likelihood row by row; a model with terms added to the "
                "log density does not say which row they belong to."
            )
        return leave_one_out(self.draws)

    def prior(
        self, names: Sequence[str] | None = None, draws: int = 4000
    ) -> Mapping[str, np.ndarray]:
        """Return prior draws of each single number, shape (draws,), for comparison.

        Raises
        ------
        ModelError
            If a prior is improper.
        """
        generator = np.random.default_rng([self.record.seed, 4])
        found = prior_draws(self.draws.binding, draws, generator)
        return {name: v[0] for name, v in found.single(names).items()}

    def save(self, path: str | Path, existing: str = "refuse") -> None:
        """Store the run in a folder of open formats.

        Parameters
        ----------
        path
            The folder.
        existing
            `refuse` or `replace`: what to do if there is a run already.

        Raises
        ------
        StorageError
            If something is in the way or the disk cannot be written.
        """
        from millwright.stored_fits import store

        store(Path(path), self._fitted, self.sheet, existing)

    def extend(
        self,
        draws: int,
        *,
        workers: int | Executor | None = None,
        progress: bool | Listener = True,
        save: str | Path | None = None,
        existing: str = "refuse",
    ) -> Posterior:
        """Go on sampling; return a new posterior with that many more draws a chain.

        The draws are those that one longer fit would have had. Warm-up is not done again: where
        it was too short, fit anew with a longer one.

        Parameters
        ----------
        draws
            How many more draws of each chain.
        workers, progress
            As for `Model.fit`.
        save, existing
            Folder for the longer run. A stored run grows in its own folder by
            `mw.resume(path, draws=...)`.

        Raises
        ------
        ArgumentError
            If these draws did not come from chains that can go on.
        Interrupted
            On Ctrl-C; it carries what is done.
        """
        if isinstance(draws, bool) or not isinstance(draws, int) or draws < 1:
            raise ArgumentError(f"`draws` must be a whole number from 1, not {draws!r}.")
        if save is not None:
            check_free(Path(save), existing)
        listener = chosen_listener(progress)
        found, complete = extend_in_memory(self._fitted, draws, workers, listener)
        if found is None:
            raise Interrupted("The fit was stopped; nothing was added.", self)
        longer = Posterior(found.draws, found.record, found.statistics, self.sheet, found.trail)
        if save is not None:
            longer.save(save, existing)
        if not complete:
            raise Interrupted(
                f"The fit was stopped; the {longer.draws.shape[1]} draws a chain so far are in "
                "this error's `posterior`, and its `extend()` goes on.",
                longer,
            )
        return longer

    def sampling_statistics(self, warmup: bool = False) -> xr.Dataset:
        """Return the sampler's numbers of each draw.

        Returns
        -------
        Dimensions `chain` and `draw`; log density, acceptance, leapfrog steps (or evaluations),
        depth of the trajectory, whether it diverged, energy, and step size. With `warmup`, those
        of the warm-up.

        Raises
        ------
        ArgumentError
            If the warm-up of these draws is not known.
        """
        from millwright.sampling_views import sampling_statistics

        return sampling_statistics(self.statistics, self.trail, warmup)

    def adaptation(self) -> xr.Dataset:
        """Return what each chain settled on in its warm-up: step size, metric, scales.

        Scales are standard deviations of the sampler's unconstrained coordinates.

        Raises
        ------
        ArgumentError
            If nothing is known of it.
        """
        from millwright.sampling_views import adaptation

        return adaptation(self.draws, self.record, self.trail)

    def divergences(self) -> pd.DataFrame:
        """Return where trajectories diverged.

        Returns
        -------
        One row a divergence: chain, draw (from 1), and the unknowns at the last point before
        the sampler lost its way.
        """
        from millwright.sampling_views import divergences

        return divergences(self.draws, self.trail)
