"""What a study of regression found."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from millwright.checks import is_among
from millwright.comparison.bayes_factors import BayesFactors, weighed
from millwright.comparison.compare import Comparison, compared
from millwright.diagnostics.finding import Finding
from millwright.draws.decision import Decision, decide
from millwright.draws.prediction import Predictions
from millwright.draws.table import make_table
from millwright.errors import ArgumentError, MillwrightError, nearest
from millwright.posterior.posterior import NewLabels, Posterior
from millwright.studies.design import prepared
from millwright.studies.findings import Findings
from millwright.studies.reading import joined_labels, table_of
from millwright.studies.regression_double_check import double_check
from millwright.studies.regression_draws import RegressionDraws
from millwright.studies.regression_effects import contrast_table, effect_table
from millwright.studies.regression_model import RegressionParts, column_name
from millwright.studies.regression_sentences import sentences
from millwright.studies.sentences import size_words

if TYPE_CHECKING:
    from millwright.studies.regression_study import RegressionStudy

__all__ = ["RegressionFindings"]

_PRINTED = ("noise", "shape", "precision", "zeros", "df", "log_scale")


@dataclass(frozen=True, eq=False, kw_only=True)
class RegressionFindings(Findings):
    """The answer of a study of regression.

    With several formulas it is that of the first; `comparison` and `side_by_side` weigh them.
    """

    study: RegressionStudy

    def _parts(self, name: str | None = None) -> tuple[RegressionParts, Posterior]:
        """Return the parts and the posterior of a regression, by default the first.

        Raises
        ------
        ArgumentError
            For a name that is not there.
        """
        key = next(iter(self.posteriors)) if name is None else name
        if not is_among(key, self.posteriors):
            raise ArgumentError(
                f"There is no regression {key!r}.{nearest(str(key), self.posteriors)} There are: "
                f"{', '.join(self.posteriors)}."
            )
        return self.study.parts[key], self.posteriors[key]

    def _draws(self, name: str | None = None) -> RegressionDraws:
        parts, posterior = self._parts(name)
        return RegressionDraws(posterior, parts)

    def _cautions(self) -> tuple[Finding, ...]:
        return self.study.cautions

    def _numbers(self) -> dict[str, np.ndarray]:
        made = self._draws()
        draws = self.posterior.draws
        known = set(draws.names())
        numbers: dict[str, np.ndarray] = {}
        if "intercept" in known:
            numbers["intercept (predictors at means)"] = draws.get("intercept")
        numbers |= made.coefficients()
        numbers |= draws.single([name for name in ("cuts",) if name in known]) | made.bases()
        for group in made.parts.groups:
            numbers |= draws.single([group.spread])
            if len(group.terms) > 1:
                numbers |= draws.single([group.tie])
            shared = made.intraclass(group)
            if shared is not None:
                numbers[f"intraclass correlation of {group.name}"] = shared
        numbers |= draws.single([name for name in _PRINTED if name in known])
        if "scale_slope" in known:
            numbers |= draws.single(["scale_slope"])
        return numbers

    def _one_sided(self) -> tuple[str, ...]:
        spreads = [
            name
            for group in self._parts()[0].groups
            for name in self.posterior.draws.single([group.spread])
        ]
        shared = [f"intraclass correlation of {one.name}" for one in self._parts()[0].groups]
        return (*(one for one in _PRINTED if one != "log_scale"), *spreads, *shared)

    def coefficients(
        self, scale: str = "data", name: str | None = None, order: str = "formula"
    ) -> pd.DataFrame:
        """Summarise the coefficients.

        Parameters
        ----------
        scale
            `data`: for one more of a predictor. `standardised`: for one sd more of it. `ratio`:
            the exponential of the first, an odds ratio with a logit link and a ratio of means
            with a log link.
        name
            Which regression, where there are several.
        order
            `formula`: as written. `size`: the largest standardised coefficient first.

        Returns
        -------
        One row a coefficient, columns as of `Posterior.table`; with a region of practical
        equivalence (of standardised coefficients) the share inside it.

        Raises
        ------
        ArgumentError
            For another scale or order, or a regression that is not there.
        """
        from millwright.posterior.summaries import table_frame

        made = self._draws(name)
        numbers = made.coefficients(standardised=scale == "standardised")
        if scale == "ratio":
            if made.parts.link not in ("log", "logit"):
                raise ArgumentError(
                    f"Ratios are of log and logit links; this one is {made.parts.link}."
                )
            numbers = {key: np.exp(value) for key, value in numbers.items()}
        elif scale not in ("data", "standardised"):
            raise ArgumentError(f"`scale` is data, standardised or ratio, not {scale!r}.")
        if order not in ("formula", "size"):
            raise ArgumentError(f"`order` is formula or size, not {order!r}.")
        if not numbers:
            raise ArgumentError("The formula has no predictors.")
        every = made.coefficients(standardised=True)
        if order == "size":
            keys = sorted(every, key=lambda key: -abs(float(np.median(every[key]))))
            numbers = {key: numbers[key] for key in keys}
        sided = tuple(numbers) if scale == "ratio" else ()
        table = make_table(numbers, self.level, self.kind, one_sided=sided)
        frame = table_frame(table, "coefficient")
        region = self.study.settings["rope"]
        if region is not None:
            low, high = region
            frame["share in region (standardised)"] = [
                float(((every[key] >= low) & (every[key] <= high)).mean()) for key in frame.index
            ]
        return frame

    def explained(self, name: str | None = None) -> np.ndarray | None:
        """Return draws of R2 (Gelman et al. 2019); None where residual variances are not known.

        Parameters
        ----------
        name
            Which regression, where there are several.

        Returns
        -------
        Shape (draws,): the share of the outcome's variance that the fitted means explain.

        Raises
        ------
        ArgumentError
            For a regression that is not there.
        """
        return self._draws(name).explained()

    def _sentences(self) -> tuple[str, ...]:
        first = [self._compared()] if len(self.posteriors) > 1 else []
        return (*first, *sentences(self._draws(), self._size))

    def _size(self, values: np.ndarray) -> str:
        return size_words(values, self.level, self.kind)

    def _compared(self) -> str:
        """Say which formula predicts best, in the words of the comparison."""
        try:
            return self.comparison().sentence
        except MillwrightError as refused:
            return f"Leave-one-out was not possible: {str(refused).splitlines()[0]}"

    @property
    def decisions(self) -> tuple[Decision, ...]:
        """Decisions on the region of standardised coefficients."""
        region = self.study.settings["rope"]
        numbers = self._draws().coefficients(standardised=True)
        if region is None or not numbers:
            return ()
        made = decide("standardised", numbers, tuple(region), None, self.level, "hdi")
        return (replace(made, verdict=self.verdict),)

    def comparison(self) -> Comparison:
        """Compare the formulas by leave-one-out; see `mw.compare`.

        Raises
        ------
        ArgumentError
            For a single formula.
        """
        self._refuse_one()
        return compared(self.posteriors, progress=False)

    def evidences(self) -> BayesFactors:
        """Weigh the formulas by their evidence; see `mw.bayes_factors`.

        Raises
        ------
        ArgumentError
            For a single formula.
        """
        self._refuse_one()
        return weighed(self.posteriors)

    def _refuse_one(self) -> None:
        if len(self.posteriors) < 2:
            raise ArgumentError("There is one formula; give several to the study to compare them.")

    def side_by_side(self) -> pd.DataFrame:
        """Put the coefficients of all formulas beside each other.

        Returns
        -------
        One row a coefficient; for each formula its median and interval as text, empty where it
        has no such coefficient.
        """
        every = {name: self._draws(name).coefficients() for name in self.posteriors}
        names = list(dict.fromkeys(key for found in every.values() for key in found))
        frame = pd.DataFrame(index=pd.Index(names, name="coefficient"))
        for formula, found in every.items():
            frame[formula] = [self._size(found[key]) if key in found else "" for key in names]
        return frame

    def residuals(self, name: str | None = None) -> pd.DataFrame:
        """Say how far each row lies from what the regression expects of it.

        Parameters
        ----------
        name
            Which regression, where there are several.

        Returns
        -------
        One row a row of the data, from 1: `observed`; `expected`, the median of the expected
        outcome with group effects; `residual`, their difference; and `score`, where the row
        falls in its prediction from all other rows, on the scale of a standard normal (Dunn and
        Smyth 1996): for a model that fits 95 % of the scores lie between -2 and 2, whatever the
        family. Empty where the outcome is missing, residuals also where it stands at a limit of
        censoring. Scores beyond 3.5 mean "outside all draws".

        Raises
        ------
        ArgumentError
            For outcomes that are labels, or a regression that is not there.
        """
        from millwright.studies.regression_residuals import residuals_of

        return residuals_of(self._draws(name))

    def group_effects(self, group: str, term: str = "1", name: str | None = None) -> pd.DataFrame:
        """Summarise what each label of a set of groups adds, on the link's scale.

        Parameters
        ----------
        group
            The column, or columns joined by a colon, as in `per`.
        term
            `1` for the intercept, or a column whose slope varies; slopes are for one sd.
        name
            Which regression, where there are several.

        Returns
        -------
        One row a label, columns as of `Posterior.table`.

        Raises
        ------
        ArgumentError
            For groups or terms that are not there.
        """
        from millwright.posterior.summaries import table_frame

        made = self._draws(name)
        known = {one.name: one for one in made.parts.groups}
        if not is_among(group, known):
            raise ArgumentError(
                f"The regression has no groups {group!r}.{nearest(str(group), known)} It has: "
                f"{', '.join(known) or 'none (see per=)'}."
            )
        terms = known[group].terms
        if term not in terms:
            raise ArgumentError(
                f"The effects of `{group}` have no term {term!r}. They have: {', '.join(terms)}."
            )
        numbers = made.group_effects(known[group], term)
        return table_frame(make_table(numbers, self.level, self.kind), "label")

    def effect(
        self,
        predictor: str,
        *,
        at: Mapping[str, Any] | None = None,
        values: Sequence[Any] | None = None,
        name: str | None = None,
    ) -> pd.DataFrame:
        """Say how the expected outcome goes with one predictor, the others held.

        Parameters
        ----------
        predictor
            A column of the data.
        at
            Values at which others are held; by default numbers at their means and factors at
            their reference. Group effects are left at 0, offsets at 0, exposures at 1; limits of
            censoring are left aside.
        values
            Values of the predictor; by default over its range, or all labels.
        name
            Which regression, where there are several.

        Returns
        -------
        One row a value (for labelled outcomes one a value and label): median and interval of
        the expected outcome, for binomial ones of the share.

        Raises
        ------
        ArgumentError
            For columns that the formula does not use.
        DataError
            For labels that the fit has not seen.
        """
        made = self._draws(name)
        return effect_table(
            made, self.study.data, predictor, at or {}, values, self.level, self.kind
        )

    def contrast(
        self,
        one: Mapping[str, Any],
        other: Mapping[str, Any],
        *,
        at: Mapping[str, Any] | None = None,
        name: str | None = None,
    ) -> pd.DataFrame:
        """Compare the expected outcome at two settings of predictors: the first minus the second.

        Parameters
        ----------
        one, other
            Values of predictors, such as `{"hours": 6}`.
        at
            Values at which others are held; see `effect`.
        name
            Which regression, where there are several.

        Returns
        -------
        Rows `difference` and `ratio` (for labelled outcomes a difference for each label), columns
        as of `Posterior.table`.

        Raises
        ------
        ArgumentError
            For columns that the formula does not use.
        DataError
            For labels that the fit has not seen.
        """
        made = self._draws(name)
        return contrast_table(made, self.study.data, one, other, at or {}, self.level, self.kind)

    def rows(self, data: Any, name: str | None = None) -> pd.DataFrame:
        """Return new rows with the columns that the model uses.

        Parameters
        ----------
        data
            Rows with the predictors of the formula, and labels of group effects.
        name
            Which regression, where there are several.

        Returns
        -------
        A table for `findings.posterior.predict`.

        Raises
        ------
        ArgumentError, DataError
            For columns or labels that are not there.
        """
        parts, _ = self._parts(name)
        frame = table_of(data)
        prepared(frame, parts.design.formula, parts.design.levels)
        values = parts.design.rows(frame)
        columns: dict[str, Any] = {
            column_name(n): values[:, k] for k, n in enumerate(parts.design.names)
        }
        if parts.scale_design is not None:
            other = parts.scale_design.rows(frame)
            columns |= {
                f"scale of {n}": other[:, k] for k, n in enumerate(parts.scale_design.names)
            }
        for group in parts.groups:
            columns[group.column] = joined_labels(frame, group.name)
        for extra in (parts.offset, parts.exposure, parts.trials, parts.weights):
            if extra is not None:
                if extra not in frame.columns:
                    raise ArgumentError(f"The rows lack the column `{extra}`.")
                columns[extra] = frame[extra].to_numpy(float)
        return pd.DataFrame(columns, index=range(len(frame)))

    def predict(
        self, data: Any, *, new_labels: NewLabels = "refuse", name: str | None = None
    ) -> Predictions:
        """Draw outcomes for new rows.

        Parameters
        ----------
        data
            Rows with the predictors of the formula, and labels of group effects.
        new_labels
            What to do with labels of groups that the fit has not seen: `refuse`, or `draw` their
            effects.
        name
            Which regression, where there are several.

        Returns
        -------
        Predictions; see `Posterior.predict`.

        Raises
        ------
        ArgumentError, DataError
            For columns or labels that are not there.
        """
        _, posterior = self._parts(name)
        frame = self.rows(data, name)
        # Without any column the number of rows must be told.
        rows = None if len(frame.columns) else len(frame)
        return posterior.predict(
            frame if len(frame.columns) else None, rows=rows, new_labels=new_labels
        )

    def double_check(self, *, draws: int = 4000, seed: int = 0) -> pd.DataFrame:
        """Check the posterior by other methods: mode, classical estimate, random walk.

        Parameters
        ----------
        draws
            Kept draws of each of four random walks.
        seed
            Of the random walk.

        Returns
        -------
        One row an unknown number: posterior mean and sd; mode with the standard error of its
        curvature; maximum likelihood with its own (not a number where priors rest on unknowns);
        mean and sd of the random walk, and its difference from the posterior mean in Monte Carlo
        errors: beyond 4 one of the two has not converged.

        Raises
        ------
        ArgumentError
            For numbers of draws that make no sense.
        """
        data = self.study.data_of(next(iter(self.posteriors)))
        gaps = data[self._parts()[0].outcome].isna().any()
        missing = "predict" if gaps else "refuse"
        return double_check(self.study.model, data, self.posterior, missing, draws, seed)
