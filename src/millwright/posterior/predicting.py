"""What a posterior says about data: replications, predictions, rows left out."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, Any, Literal, get_args

import numpy as np

from millwright.errors import ArgumentError, ModelError
from millwright.modelling.tables import read_tables
from millwright.posterior.checked import Checked
from millwright.wording import setting

if TYPE_CHECKING:
    import pandas as pd
    import xarray as xr

    from millwright.accuracy.leave_one_out import LeaveOneOut
    from millwright.draws.prediction import Predictions
    from millwright.draws.predictive import PredictiveCheck, Statistic

__all__ = ["NewLevels", "Predicting"]

NewLevels = Literal["refuse", "draw"]


class Predicting(Checked):
    """A posterior as far as its predictions go."""

    def predictive_check(
        self, draws: int = 1000, statistics: Mapping[str, Statistic] | None = None
    ) -> PredictiveCheck:
        """Replicate the data `draws` times and compare with the observed ones.

        Parameters
        ----------
        draws
            At most so many replications, spread over all chains.
        statistics
            Statistics of your own, by name: functions of the values of one outcome in one data
            set, such as `{"range": np.ptp}`.

        Returns
        -------
        What the model reproduces, in words; `.table()`, `.residuals()`, and views of it by
        `mw.plots.predictive_check(check, show=...)`.

        Raises
        ------
        ArgumentError
            For fewer than 2 draws, or a statistic that fails.
        ModelError
            For a model without outcomes.
        """
        from millwright.draws.predictive import check_against

        self._refuse_without_outcomes()
        if not isinstance(draws, int) or draws < 2:
            raise ArgumentError(f"`draws` must be a whole number from 2, not {draws!r}.")
        generator = np.random.default_rng([self.record.seed, 3])
        check = check_against(self.draws, generator, draws, statistics)
        return replace(check, verdict=self.verdict)

    def predict(
        self,
        data: Any = None,
        rows: int | None = None,
        new_levels: NewLevels = "refuse",
    ) -> Predictions:
        """Draw outcomes for new rows.

        Parameters
        ----------
        data
            The new rows, with the predictors of the model; outcome columns are not needed.
        rows
            Number of new rows for a model without predictors. Of a state-space series they go on
            where the fitted rows end, and are numbered on.
        new_levels
            What to do with levels of groups that the fit has not seen: `refuse`, or `draw` their
            effects from their prior given the other unknowns (the distribution of the groups),
            once for each posterior draw.

        Raises
        ------
        DataError
            If a column is missing, or has labels that the fit has not seen.
        """
        from millwright.draws.prediction import predict

        self._refuse_without_outcomes()
        if new_levels not in get_args(NewLevels):
            raise ArgumentError(f"`new_levels` must be 'refuse' or 'draw', not {new_levels!r}.")
        return predict(self.draws, data, rows, self.record.seed, fresh=new_levels == "draw")

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
                f"No rows were set aside: fit with {setting('missing', 'predict')}, on "
                "data with gaps in an "
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

    def states(self, name: str, level: float = 0.95) -> pd.DataFrame:
        """Summarise the smoothed states of a state-space outcome: each given all readings.

        Returns
        -------
        One row a row of the data (from 1) and state: mean, sd, median and central interval.

        Raises
        ------
        ArgumentError
            If there is no such outcome.
        """
        import pandas as pd

        from millwright.draws.intervals import interval, kind_words

        found = self.latent(name)
        values = found.values.reshape(*found.shape[:2], -1)
        if found.ndim == 2:
            raise ArgumentError(f"`{name}` has no states: posterior.latent({name!r}) draws it.")
        low, high = interval(values, level)
        words = kind_words("central", level)
        labels = [str(label) for label in found.coords[found.dims[2]].values]
        index = pd.MultiIndex.from_product(
            [range(1, values.shape[1] + 1), labels], names=["row", "state"]
        )
        return pd.DataFrame(
            {
                "mean": values.mean(axis=0).ravel(),
                "sd": values.std(axis=0, ddof=1).ravel(),
                "median": np.median(values, axis=0).ravel(),
                f"{words}, from": low.ravel(),
                f"{words}, to": high.ravel(),
            },
            index=index,
        )

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
        from millwright.accuracy.leave_one_out import leave_one_out

        if self.draws.binding.program.terms:
            raise ModelError(
                "Leave-one-out needs a log likelihood row by row; a model with terms added to the "
                "log density does not say which row they belong to."
            )
        self._refuse_without_outcomes()
        return leave_one_out(self.draws)

    def left_out_positions(self) -> pd.DataFrame:
        """Say where each observation falls in its prediction from all other rows.

        Returns
        -------
        One row an observation (outcome, row from 1): the share of its left-out prediction below
        it. For a model that fits they spread evenly over 0 to 1; many near 0 and 1 mean that the
        model is too sure, many near 0.5 that it is too vague.

        Raises
        ------
        ModelError
            For outcomes that are labels or vectors, or whose rows depend on each other.
        """
        import pandas as pd

        from millwright.accuracy.left_out import left_out_positions

        self._refuse_without_outcomes()
        generator = np.random.default_rng([self.record.seed, 9])
        rows, below = left_out_positions(self.draws, generator)
        index = pd.MultiIndex.from_tuples(rows, names=["outcome", "row"])
        return pd.DataFrame({"share of the prediction below": below}, index=index)
