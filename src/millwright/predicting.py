"""What a posterior says about data: replications, predictions, rows left out."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from millwright.checked import Checked
from millwright.errors import ArgumentError, ModelError
from millwright.modelling.tables import read_tables

if TYPE_CHECKING:
    import pandas as pd
    import xarray as xr

    from millwright.comparison.leave_one_out import LeaveOneOut
    from millwright.draws.prediction import Predictions
    from millwright.draws.predictive import PredictiveCheck

__all__ = ["Predicting"]


class Predicting(Checked):
    """A posterior as far as its predictions go."""

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
