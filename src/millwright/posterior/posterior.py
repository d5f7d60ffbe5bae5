"""The posterior of a fit: draws, and what can be asked of them.

pandas and xarray take longer to load than a small fit takes to sample, so the rooms that need
them are imported where they are used.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal, cast, get_args

import numpy as np

import millwright
from millwright.checks import check_path, check_whole
from millwright.diagnostics.measures import Measures, measure
from millwright.diagnostics.modes import Modes
from millwright.diagnostics.verdict import Verdict
from millwright.draws.contrasts import contrasts
from millwright.draws.decision import Decision, decide
from millwright.draws.expressions import chosen_numbers, single_numbers
from millwright.draws.intervals import IntervalKind
from millwright.draws.labelled_draws import Draws
from millwright.draws.prior import prior_draws
from millwright.draws.statements import Probabilities, Probability, probability_of
from millwright.draws.table import Order, Table, TableKind, make_table
from millwright.draws.table_forms import Form, written
from millwright.errors import ArgumentError, Interrupted, ModelError
from millwright.fitting.fit import Fit
from millwright.fitting.in_memory import extend_in_memory
from millwright.fitting.record import Record
from millwright.modelling.foreign import lent
from millwright.modelling.gathering import gathered
from millwright.modelling.reading import read_tables
from millwright.modelling.words import describe
from millwright.posterior.modes_visited import modes_visited
from millwright.posterior.sampling_history import SamplingHistory
from millwright.posterior.tables import posterior_table
from millwright.posterior.verdict import verdict_of
from millwright.sampling.progress import Listener
from millwright.sampling.streams import Stream, generator_of
from millwright.storage.place import check_free
from millwright.terminal.progress import chosen_listener
from millwright.wording import setting

if TYPE_CHECKING:
    import pandas as pd
    import xarray as xr

    from millwright.accuracy.cross_validation import CrossValidation
    from millwright.accuracy.leave_one_out import LeaveOneOut
    from millwright.accuracy.waic import Waic
    from millwright.draws.prediction import Predictions
    from millwright.draws.predictive import PredictiveCheck, Statistic
    from millwright.evidence.bayes_factor import BayesFactor
    from millwright.evidence.evidence import Evidence
    from millwright.posterior.sensitivity import PriorSensitivity
    from millwright.posterior.under_priors import UnderPriors

__all__ = ["NewLabels", "Posterior"]

NewLabels = Literal["refuse", "draw"]


@dataclass(frozen=True, eq=False)
class Posterior:
    """Posterior draws, tied to the model, data, seed and settings that made them.

    Attributes
    ----------
    fit
        The draws with everything that made them.
    """

    fit: Fit

    @property
    def draws(self) -> Draws:
        """Draws by name and chain."""
        return self.fit.draws

    @property
    def record(self) -> Record:
        """What made the draws: seed, settings, versions, and what each chain did."""
        return self.fit.record

    @property
    def sheet(self) -> str | None:
        """Text of the sheet that the model was read from, if it was."""
        return self.fit.sheet

    @property
    def sampling(self) -> SamplingHistory:
        """How the draws were sampled, for an expert of samplers."""
        return SamplingHistory(self.fit)

    @cached_property
    def measures(self) -> Measures:
        """Convergence numbers of every unknown and derived quantity."""
        return measure(self.draws.single())

    @cached_property
    def _modes(self) -> Modes:
        """Separate modes that a search found before sampling, and the draws around each."""
        return modes_visited(self.draws, self.record)

    @cached_property
    def _judged(self) -> Verdict:
        return verdict_of(self.fit, self.measures)

    @property
    def verdict(self) -> Verdict:
        """Whether the draws can be used, in words, and what `prior_sensitivity` found if asked."""
        asked = self.sensitivity_found
        if asked is None:
            return self._judged
        return replace(self._judged, facts=(*self._judged.facts, asked.line))

    def __str__(self) -> str:
        return f"{self.verdict}\n\n{self.summary()}"

    def _repr_html_(self) -> str:
        return f"{self.verdict._repr_html_()}\n{self.summary(form='html')}"

    def convergence(self) -> Verdict:
        """Return the verdict: findings with advice, and the numbers behind it."""
        return self.verdict

    def describe(self) -> str:
        """Return the model in words, every prior in full, with the sizes of its label sets."""
        binding = self.draws.binding
        sizes = {name: len(labels) for name, labels in binding.labels.items()}
        with lent(binding.program.foreign):
            notes = gathered(binding).notes
            return describe(binding.specification, sizes, binding.taken.values(), notes)

    def table(
        self,
        names: str | Sequence[str] | None = None,
        level: float = 0.95,
        kind: TableKind = "central",
        order: Order = "definition",
    ) -> pd.DataFrame:
        """Summarise the posterior, one row a quantity.

        Parameters
        ----------
        names
            Quantities to show, single numbers of them (`share[wild]`), or expressions
            (`drying / noise`); by default all unknown and derived quantities but those with one
            value a row.
        level, kind
            Level and kind of the credible interval: `central`, `hdi`, or `both`.
        order
            `definition`: as written. `mean`: the largest first. `R-hat`, `effective
            draws`: the worst first.

        Returns
        -------
        Mean, sd, median, interval, probability above 0 (not a number for quantities that cannot
        be negative), effective draws (for the middle or the tails, whichever is fewer; more is
        better), R-hat (1.00 is perfect, up to 1.01 is good, larger is worse).

        Raises
        ------
        UnknownLabelError
            For a quantity that is not there.
        ArgumentError
            For a level outside (0, 1), another kind or order.
        """
        from millwright.posterior.summaries import table_frame

        return table_frame(self._table(names, level, kind, order), "quantity")

    def _table(
        self,
        names: str | Sequence[str] | None = None,
        level: float = 0.95,
        kind: TableKind = "central",
        order: Order = "definition",
    ) -> Table:
        return posterior_table(self.draws, self.measures, self._modes, names, level, kind, order)

    def summary(
        self,
        names: str | Sequence[str] | None = None,
        level: float = 0.95,
        kind: TableKind = "central",
        order: Order = "definition",
        form: Form = "text",
    ) -> str:
        """Return the table as text; each row has the decimals at which its sd has two digits.

        Where the draws do not support the last digit, a line below says so.

        Parameters
        ----------
        names, level, kind, order
            As for `table`.
        form
            `text`, `markdown`, `html`, `latex`, or `csv` (all rows and digits). The others fold
            long tables: of a definition with many numbers they show the extremes.

        Returns
        -------
        The table with notes on how to read it.

        Raises
        ------
        ArgumentError
            As for `table`, and for another form.
        """
        return written(self._table(names, level, kind, order), form)

    def __getitem__(self, name: str) -> xr.DataArray:
        """Return draws of a quantity.

        Returns
        -------
        Dimensions `chain` and `iteration`, both counted from 1, and one for each label set.
        """
        from millwright.draws.arrays import labelled_array

        return labelled_array(self.draws, name)

    def to_dataframe(self) -> pd.DataFrame:
        """Return all draws, one row a draw: `chain`, `iteration` (from 1), a column a number."""
        from millwright.posterior.summaries import draws_frame

        return draws_frame(self.draws)

    def interval(
        self, name: str, level: float = 0.95, kind: IntervalKind = "central"
    ) -> xr.DataArray:
        """Return both ends of a credible interval, with a dimension `end` (low, high).

        Parameters
        ----------
        name
            A quantity.
        level, kind
            Level and kind of the credible interval: `central` or `hdi`.

        Returns
        -------
        Dimensions `end` and the label sets of the quantity.

        Raises
        ------
        ArgumentError
            For a level outside (0, 1) or another kind.
        """
        from millwright.posterior.summaries import interval_ends

        return interval_ends(self.draws, name, level, kind)

    def highest_density_region(self, quantity: str, level: float = 0.95) -> pd.DataFrame:
        """Return the region of highest density, in several pieces where it has gaps.

        `interval(kind="hdi")` is always one piece; for a posterior with two humps it holds the
        valley between them too.

        Parameters
        ----------
        quantity
            A quantity or an expression.
        level
            Posterior probability inside.

        Returns
        -------
        One row a piece: quantity, piece (from 1), from, to, and the share of the posterior
        inside.
        """
        from millwright.posterior.summaries import region_frame

        return region_frame(self.draws, quantity, level)

    def probability(self, statement: str) -> Probability | Probabilities:
        """Return the posterior probability of a statement, such as `drying < 0`.

        A statement about a quantity with labels gives one answer for each label; `all(...)` or
        `any(...)` around it gives one joint answer. Printed, a comparison says what a one-sided
        and a two-sided reading make of it.

        Raises
        ------
        ArgumentError
            If it is not a comparison.
        LanguageError, ModelError
            If it cannot be read or names what is not there.
        """
        return probability_of(self.draws, statement)

    def contrasts(
        self,
        name: str,
        against: str | None = None,
        level: float = 0.95,
        kind: TableKind = "central",
        over: str | None = None,
    ) -> pd.DataFrame:
        """Summarise the differences between the labels of a quantity, one row a difference.

        Parameters
        ----------
        name
            A quantity with labels, or an expression such as `line["slope"]`.
        against
            The label to compare all others with; by default each pair, later minus earlier.
        level, kind
            As for `table`, whose columns these are.
        over
            The label set whose labels are compared, by default the first; each difference is
            taken within each label of the other sets.

        Returns
        -------
        One row a difference, columns as in `table`.

        Raises
        ------
        ArgumentError
            For a quantity without labels, an unknown label or label set, or more than
            400 differences.
        """
        from millwright.posterior.summaries import table_frame

        table = make_table(contrasts(self.draws, name, against, over), level, kind)
        return table_frame(table, "difference")

    def contrasts_text(
        self,
        name: str,
        against: str | None = None,
        level: float = 0.95,
        kind: TableKind = "central",
        over: str | None = None,
    ) -> str:
        """Return the table of `contrasts` as text, rounded like every posterior table.

        Parameters
        ----------
        name, against, level, kind, over
            As for `contrasts`.

        Returns
        -------
        The table with notes on how to read it.

        Raises
        ------
        ArgumentError
            As for `contrasts`.
        """
        return written(make_table(contrasts(self.draws, name, against, over), level, kind))

    def decide(
        self,
        quantity: str,
        rope: tuple[float, float] | None = None,
        null: float | None = None,
        level: float = 0.95,
        kind: IntervalKind = "hdi",
    ) -> Decision:
        """Decide by an interval against a region of practical equivalence, or a single value.

        Reject: the interval lies wholly outside. Accept: wholly inside (never for a single
        value). Withhold: neither (Kruschke 2018).

        Parameters
        ----------
        quantity
            A quantity or an expression, such as `drying / noise` for a standardised effect.
        rope
            Ends of the region of values that are as good as equal.
        null
            A single value instead.
        level, kind
            Level and kind of the interval.

        Returns
        -------
        The decision for each number, with the shares of the posterior below, inside and above.

        Raises
        ------
        ArgumentError
            For neither or both of `rope` and `null`, or a region that is none.
        """
        numbers = single_numbers(self.draws, quantity)
        return replace(decide(quantity, numbers, rope, null, level, kind), verdict=self.verdict)

    def convergence_table(self, names: str | Sequence[str] | None = None) -> pd.DataFrame:
        """Return all convergence numbers, one row a quantity.

        Returns
        -------
        R-hat; effective draws for the middle (bulk ESS), the tails (tail ESS), the 5 % and the
        95 % quantile; Monte Carlo standard errors of mean, sd
        and 2.5 % and 97.5 % quantiles; autocorrelation at lag 1; integrated autocorrelation time
        (how many draws are worth one independent one; less is better); and the largest
        difference, over chains, between the mean of the first tenth and that of the last half,
        in standard errors (Geweke 1992; beyond 3 a chain had not settled).
        """
        from millwright.posterior.sampling_tables import convergence_table

        return convergence_table(chosen_numbers(self.draws, names))

    def draws_needed(
        self, quantity: str, within: float, quantile: float | None = None
    ) -> pd.DataFrame:
        """Say how many draws a chain make a Monte Carlo standard error as small as `within`.

        Parameters
        ----------
        quantity
            A quantity or an expression.
        within
            The standard error that is wanted, in the quantity's unit.
        quantile
            Of which quantile, such as 0.025 for the lower end of a 95 % interval; by default of
            the mean.

        Returns
        -------
        One row a number: standard error now, draws a chain now, needed, and still to come
        (`posterior.extend(...)`).

        Raises
        ------
        ArgumentError
            For a `within` that is not above zero, or a quantile outside (0, 1).
        """
        from millwright.posterior.sampling_tables import draws_needed_table

        return draws_needed_table(chosen_numbers(self.draws, quantity), within, quantile)

    def prior(
        self, names: Sequence[str] | None = None, draws: int = 4000
    ) -> Mapping[str, np.ndarray]:
        """Return prior draws of each single number, shape (draws,), for comparison.

        Raises
        ------
        ArgumentError
            For fewer than 2 draws.
        ModelError
            If a prior is improper.
        """
        check_whole("draws", draws, 2)
        generator = generator_of(self.record.seed, Stream.PRIOR)
        found = prior_draws(self.draws.binding, draws, generator)
        return {name: v[0] for name, v in chosen_numbers(found, names).items()}

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
        self._refuse_filled("A predictive check")
        check_whole("draws", draws, 2)
        generator = generator_of(self.record.seed, Stream.REPLICATION)
        check = check_against(self.draws, generator, draws, statistics)
        return replace(check, verdict=self.verdict)

    def predict(
        self,
        data: Any = None,
        rows: int | None = None,
        new_labels: NewLabels = "refuse",
    ) -> Predictions:
        """Draw outcomes for new rows.

        Parameters
        ----------
        data
            The new rows, with the predictors of the model; outcome columns are not needed.
        rows
            Number of new rows for a model without predictors. Of a state-space series they go on
            where the fitted rows end, and are numbered on.
        new_labels
            What to do with labels that the fit has not seen: `refuse`, or `draw` their
            effects from their prior given the other unknowns (the distribution of the groups),
            once for each posterior draw.

        Returns
        -------
        Draws of each outcome, with `.table()` and `.score(truth)`.

        Raises
        ------
        DataError
            If a column is missing, or has labels that the fit has not seen.
        """
        from millwright.draws.predict import predict

        self._refuse_without_outcomes()
        if new_labels not in get_args(NewLabels):
            raise ArgumentError(f"`new_labels` must be 'refuse' or 'draw', not {new_labels!r}.")
        return predict(self.draws, data, rows, self.record.seed, fresh=new_labels == "draw")

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
        from millwright.draws.predict import predict

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
        Draws without noise: dimensions `chain` and `iteration` (about 1000 draws together), rows,
        and for a state-space model the states.

        Raises
        ------
        ArgumentError
            If there is no such outcome.
        """
        from millwright.draws.arrays import thinned_array
        from millwright.draws.conditioning import MOST
        from millwright.draws.latent import latent

        columns = self.draws.binding.specification.columns
        tables = None if data is None else read_tables(data, columns)
        values, axes = latent(self.draws, name, tables, self.record.seed)
        return thinned_array(self.draws, name, values, axes, MOST)

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
        from millwright.posterior.summaries import states_frame

        return states_frame(self.latent(name), level)

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
        from millwright.draws.membership import membership
        from millwright.posterior.summaries import membership_frame

        return membership_frame(*membership(self.draws, outcome))

    def evidence(self, *, second: bool = False, unnormalised: bool = False) -> Evidence:
        """Return the marginal likelihood of the data under model and priors, with its error.

        One or two unknown numbers (three with few rows) are integrated by quadrature and compared
        with a bridge; others by bridge sampling (Meng and Wong 1996), whose proposal is fitted to
        one half of the draws and judged with the other, both ways. All constants of the
        densities are in it.

        Parameters
        ----------
        second
            Whether to check by another method too, annealed sequential Monte Carlo from the prior
            (Del Moral et al. 2006), which does not share the blind spots of the chains. It is
            done without being asked for where several modes are possible.
        unnormalised
            Whether a term added to the log density, or a density of your own, is meant to count
            as it is.

        Returns
        -------
        The natural logarithm, its standard error, the method, and the reasons to trust it or not.

        Raises
        ------
        ModelError
            For an improper prior, terms in the log density, or draws that chains did not make.
        SamplingError
            If the draws are not converged, or too few.
        """
        from millwright.evidence.of_fit import evidence_of_fit

        with lent(self.draws.binding.program.foreign):
            return evidence_of_fit(self.fit, self.verdict, second, unnormalised)

    def bayes_factor(self, statement: str) -> BayesFactor:
        """Return how many times more probable the data are if a statement holds than if not.

        Parameters
        ----------
        statement
            A region, such as `drying < 0` or `-0.1 < drying < 0.1`: posterior odds over prior
            odds. Or a point of one unknown, such as `drying == 0`: posterior over prior density
            there (Dickey 1971), up to 3 standard deviations from the posterior mean; beyond that
            and at an edge of the support the model with the unknown held there is fitted, and two
            evidences are compared.

        Returns
        -------
        The factor with its error, its logarithm, how it was found, and a sentence.

        Raises
        ------
        ArgumentError
            If it is not a statement, a point is outside the support, or the prior gives a region
            a probability of 0 or 1.
        ModelError
            For improper priors, points of unknowns whose prior rests on others, or a null model
            that cannot be fitted.
        """
        from millwright.posterior.bayes_factor import bayes_factor_of

        with lent(self.draws.binding.program.foreign):
            return bayes_factor_of(self.fit, self.verdict, statement)

    def prior_sensitivity(
        self,
        names: str | Sequence[str] | None = None,
        *,
        refit: bool = True,
        progress: bool | Listener = True,
    ) -> PriorSensitivity:
        """Say which conclusions rest on which prior.

        Each prior that stands at the top of the model, and the likelihood, is raised to powers of
        0.8 and 1.25 by reweighting the draws (Kallioinen et al. 2023); where reweighting cannot
        follow, the model is fitted again under both powers. From then on the verdict says in a
        line what was found.

        Parameters
        ----------
        names
            Quantities or expressions; by default all.
        refit
            Whether to fit again where reweighting cannot follow.
        progress
            Whether to show the progress of those fits, or a listener.

        Returns
        -------
        For each quantity how mean, sd and interval move with each power, and what that means in
        words. Priors whose change could not be followed are named.

        Raises
        ------
        ModelError
            If no prior can be scaled.
        UnknownLabelError
            For a quantity that is not there.
        """
        from millwright.posterior.sensitivity import prior_sensitivity

        with lent(self.draws.binding.program.foreign):
            found = prior_sensitivity(
                self.fit, self.verdict, names, refit, chosen_listener(progress)
            )
        # Kept, as cached answers are.
        self.__dict__["_sensitivity"] = found
        return found

    @property
    def sensitivity_found(self) -> PriorSensitivity | None:
        """What `prior_sensitivity` found last, if it was asked."""
        found: PriorSensitivity | None = self.__dict__.get("_sensitivity")
        return found

    def under_priors(self, priors: Mapping[str, Mapping[str, Any]]) -> UnderPriors:
        """Fit the same model and data under other priors, and put all side by side.

        Parameters
        ----------
        priors
            Sets of changed priors by name, such as
            `{"sceptical": {"drying": "normal(0, 0.1)"}}`; a number holds an unknown fixed.
            Changed numbers compile nothing.

        Returns
        -------
        Estimates, evidences and Bayes factors under each set.

        Raises
        ------
        ArgumentError
            If an unknown is not in the model.
        LanguageError, ModelError
            If a prior cannot be read or does not fit.
        """
        from millwright.posterior.under_priors import under_priors

        return under_priors(self, priors)

    def leave_one_out(
        self, *, repair: bool = True, progress: bool | Listener = True
    ) -> LeaveOneOut:
        """Estimate the predictive accuracy by leave-one-out cross-validation.

        Draws are reweighted; where that fails for some rows (Pareto k above the limit), the model
        is fitted again without each of them, and their values come from the two fits together. So
        do those of rows where it may have failed (k above 0.5; above 0.3 of at most 10 rows) if
        there are at most 10 of both, and the standard error does not hide such an error.

        Parameters
        ----------
        repair
            Whether to fit again where reweighting fails; at most 100 rows are.
        progress
            Whether to show the progress of those fits, or a listener.

        Returns
        -------
        elpd with its standard error, that of each row with its Pareto k, which rows were fitted
        again, and which are unreliable.

        Raises
        ------
        ModelError
            If the model has no outcomes, terms added to the log density, or an outcome whose rows
            depend on each other.
        """
        from millwright.posterior.leave_one_out import repaired

        self._refuse_terms("Leave-one-out")
        found = self._reweighted
        if not repair or not (found.unreliable or found.doubtful):
            return found
        if "_repaired" not in self.__dict__:
            with lent(self.draws.binding.program.foreign):
                made = repaired(found, self.fit, self.verdict, chosen_listener(progress))
            # Worked out once, as the verdict is.
            self.__dict__["_repaired"] = made
        return cast("LeaveOneOut", self.__dict__["_repaired"])

    @cached_property
    def _reweighted(self) -> LeaveOneOut:
        from millwright.accuracy.leave_one_out import leave_one_out

        return leave_one_out(self.draws)

    def cross_validation(
        self,
        *,
        folds: int | None = None,
        by: str | Sequence[Any] | np.ndarray | None = None,
        seed: int = 0,
        progress: bool | Listener = True,
    ) -> CrossValidation:
        """Estimate the predictive accuracy by fits without a part of the data each.

        Give `by` where new rows will come in new groups: each group is left out in turn, and its
        rows are predicted together. All fits share one compilation.

        Parameters
        ----------
        folds
            Number of parts that rows are dealt to; by default 10.
        by
            Instead: a column of the model, or one label for each row that was used. Each group
            is left out in turn.
        seed
            Of the dealing; models that are compared need the same one.
        progress
            Whether to show the progress of the fits, or a listener.

        Returns
        -------
        elpd with its standard error, that of each row or group with its Monte Carlo error, and
        for which it cannot be relied on.

        Raises
        ------
        ArgumentError, DataError
            For folds or groups that cannot be.
        ModelError
            If the draws are not to be relied on or no chains of this library, or the rows cannot
            be left out.
        """
        from millwright.posterior.cross_validation import cross_validation

        self._refuse_terms("Cross-validation")
        check_whole("seed", seed, 0)
        with lent(self.draws.binding.program.foreign):
            return cross_validation(
                self.fit, self.verdict, folds, by, seed, chosen_listener(progress)
            )

    def waic(self) -> Waic:
        """Estimate the predictive accuracy by WAIC (Watanabe 2010).

        Leave-one-out is the better estimate, and says for each row how far to trust it; this one
        is there for those who must report it.

        Raises
        ------
        ModelError
            If the model has no outcomes, or terms added to the log density.
        """
        from millwright.accuracy.waic import waic

        self._refuse_terms("WAIC")
        return waic(self.draws)

    def _refuse_terms(self, what: str) -> None:
        if self.draws.binding.program.log_density_terms:
            raise ModelError(
                f"{what} needs a log likelihood row by row; a model with terms added to the "
                "log density does not say which row they belong to."
            )
        self._refuse_without_outcomes()
        self._refuse_filled(what)

    def leave_one_out_pit(self) -> pd.DataFrame:
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
        from millwright.accuracy.pit import leave_one_out_pit
        from millwright.posterior.summaries import rows_frame

        self._refuse_without_outcomes()
        self._refuse_filled("The PIT of left-out rows")
        generator = generator_of(self.record.seed, Stream.LEFT_OUT)
        rows, below = leave_one_out_pit(self.draws, generator)
        return rows_frame(rows, "PIT", below)

    def _refuse_filled(self, what: str) -> None:
        """Refuse what would count readings as read that were missing and stand filled."""
        filled = int(self.record.settings.get("filled", 0))
        if filled:
            raise ArgumentError(
                f"{what} is refused: {filled} missing readings stand filled in the data of this "
                "model and would count as read."
            )

    def _refuse_without_outcomes(self) -> None:
        if not self.draws.binding.program.outcomes:
            raise ModelError("The model has no outcomes that could be drawn.")

    def save(self, path: str | Path, replace: bool = False) -> None:
        """Store the run in a folder of open formats.

        Parameters
        ----------
        path
            The folder.
        replace
            Whether to overwrite a run that is there.

        Raises
        ------
        StorageError
            If something is in the way or the disk cannot be written.
        """
        from millwright.fitting.in_folder import store

        store(check_path("path", path), self.fit, replace)

    def report(
        self,
        path: str | Path,
        *,
        names: Sequence[str] | None = None,
        decisions: Sequence[Decision] = (),
        statements: Sequence[str] = (),
        compare_with: Mapping[str, Posterior] | None = None,
        results: Sequence[Any] = (),
        level: float = 0.95,
        name: str = "this",
        replace: bool = False,
    ) -> Path:
        """Write the analysis as one self-contained HTML page; as `mw.report(self, path)`.

        Parameters
        ----------
        path
            The file to write.
        names, decisions, statements, compare_with, results, level, name, replace
            As for `mw.report`.

        Returns
        -------
        The path of the page.

        Raises
        ------
        ArgumentError
            For quantities that are not there.
        StorageError
            If the file exists already or cannot be written.
        """
        # Pages need the figures, which stand above posteriors: the one call upwards, through
        # the public face.
        page = millwright.report(
            self,
            path,
            names=names,
            decisions=decisions,
            statements=statements,
            compare_with=compare_with,
            results=results,
            level=level,
            name=name,
            replace=replace,
        )
        return Path(page)

    def extend(
        self,
        more: int,
        *,
        workers: int | Executor | None = None,
        progress: bool | Listener = True,
        save: str | Path | None = None,
        replace: bool = False,
    ) -> Posterior:
        """Go on sampling; return a new posterior with that many more draws a chain.

        The draws are those that one longer fit would have had. Warm-up is not done again: where
        it was too short, fit anew with a longer one.

        Parameters
        ----------
        more
            How many draws to add to each chain.
        workers, progress
            As for `Model.fit`.
        save, replace
            Folder for the longer run, and whether to overwrite a run that is there. A stored run
            grows in its own folder by `mw.resume(path, draws=...)`.

        Returns
        -------
        The longer fit; this one stays as it is.

        Raises
        ------
        ArgumentError
            If these draws did not come from chains that can go on.
        Interrupted
            On Ctrl-C; it carries what is done.
        """
        check_whole("more", more, 1)
        if save is not None:
            check_free(check_path("save", save), replace)
        listener = chosen_listener(progress)
        found, complete = extend_in_memory(self.fit, more, workers, listener)
        if found is None:
            raise Interrupted("The fit was stopped; nothing was added.", self)
        longer = Posterior(found)
        if save is not None:
            longer.save(save, replace)
        if not complete:
            raise Interrupted(
                f"The fit was stopped; the {longer.draws.shape[1]} draws a chain so far are in "
                "this error's `posterior`, and its `extend()` goes on.",
                longer,
            )
        return longer
