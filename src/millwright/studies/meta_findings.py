"""What a meta-analysis found."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from millwright.checks import check_whole
from millwright.diagnostics.finding import Finding
from millwright.draws.decision import Decision, decide
from millwright.draws.intervals import interval, kind_words
from millwright.draws.table import make_table
from millwright.errors import ArgumentError
from millwright.evidence.bayes_factor import BayesFactor
from millwright.posterior.posterior import Posterior
from millwright.sampling.streams import Stream, generator_of
from millwright.studies.findings import Findings
from millwright.studies.grid_density import GridDensity
from millwright.studies.meta_bias_findings import PublicationBias, publication_bias
from millwright.studies.meta_covariates import effect_at, slope_table, subgroup_table
from millwright.studies.meta_data import SCALES
from millwright.studies.meta_evidence import (
    Inclusion,
    inclusion,
    inclusion_of,
    inclusion_table,
    posterior_shares,
)
from millwright.studies.meta_further import FurtherTrials, further_trials
from millwright.studies.meta_influence import by_width, left_out, path, under_priors
from millwright.studies.meta_models import KINDS
from millwright.studies.meta_numbers import (
    AVERAGED_EFFECT,
    AVERAGED_SPREAD,
    CORRECTED,
    average,
    numbers_of,
)
from millwright.studies.meta_sentences import cautions, sentences
from millwright.studies.sentences import middle_words, size_words

if TYPE_CHECKING:
    from millwright.studies.meta_study import MetaStudy

__all__ = ["MetaFindings"]

_METHOD = "quadrature, the effects of the trials integrated out exactly"


@dataclass(frozen=True, eq=False, kw_only=True)
class MetaFindings(Findings):
    """The answer of a meta-analysis; tables and figures rest on all models."""

    study: MetaStudy

    def _cautions(self) -> tuple[Finding, ...]:
        return cautions(self)

    def _sentences(self) -> tuple[str, ...]:
        return sentences(self)

    @property
    def log_evidences(self) -> dict[str, float]:
        """Log evidence of each model, by quadrature."""
        return self.study.log_evidences

    @cached_property
    def shares(self) -> dict[str, float]:
        """Posterior probability of each model."""
        return posterior_shares(self.log_evidences, self.study.model_priors)

    def model_table(self) -> pd.DataFrame:
        """Weigh the models.

        Returns
        -------
        One row a model: what it says, log evidence, prior and posterior probability, and how
        many times the data are more probable under it than under all others together.
        """
        prior, after = self.study.model_priors, self.shares
        rows = {}
        for name, kind in KINDS.items():
            rows[name] = {
                "says": kind.words,
                "log evidence": self.log_evidences[name],
                "prior probability": prior[name],
                "posterior probability": after[name],
                "log BF, over all others": inclusion_of({name}, self.log_evidences, prior),
            }
        return pd.DataFrame(rows).T.rename_axis("model").infer_objects()

    def factor_matrix(self) -> pd.DataFrame:
        """Return the log Bayes factor of each model (row) over each other (column)."""
        values = pd.Series(self.log_evidences)
        return pd.DataFrame(
            np.subtract.outer(values.to_numpy(), values.to_numpy()),
            index=pd.Index(values.index, name="more probable by"),
            columns=pd.Index(values.index, name="than under"),
        )

    def inclusion(self) -> pd.DataFrame:
        """Weigh an effect against none, and spread against none, averaged over the models.

        Returns
        -------
        Rows `effect` and `spread`: prior and posterior probability, the log Bayes factor, and in
        words.
        """
        return inclusion_table(self.inclusions)

    @cached_property
    def inclusions(self) -> dict[str, Inclusion]:
        """The same as plain numbers."""
        prior, shares = self.study.model_priors, self.shares
        return {
            term: inclusion(
                {name for name, kind in KINDS.items() if getattr(kind, term)},
                self.log_evidences,
                prior,
                shares,
            )
            for term in ("effect", "spread")
        }

    @property
    def factors(self) -> tuple[BayesFactor, ...]:
        """Bayes factors of an effect and of spread, averaged over the models."""
        error = max(one.error for one in self.study.exact.values())
        null = self.study.settings["null"]
        names = {
            "effect": ("an effect", "no effect" if null is None else f"effect ~ {null}"),
            "spread": ("spread between trials", "none"),
        }
        return tuple(
            BayesFactor(
                statement=names[term][0],
                against=names[term][1],
                log_value=one.log_factor,
                standard_error=error,
                method=_METHOD,
                trusted=True,
                reasons=("Averaged over models with and without the other, by their weights.",),
            )
            for term, one in self.inclusions.items()
            if np.isfinite(one.log_factor)
        )

    def _numbers(self) -> dict[str, np.ndarray]:
        return self._drawn

    @cached_property
    def _drawn(self) -> dict[str, np.ndarray]:
        return numbers_of(self)

    def average(self) -> Posterior:
        """Return effect and spread over all models, each model by its probability.

        Returns
        -------
        A posterior of `effect`, `spread`, which are 0 where a model has none, and `next_trial`, a
        next trial's own effect: statements, decisions and files work as for any other.
        """
        return average(self)

    @cached_property
    def densities(self) -> dict[str, GridDensity]:
        """What is known without draws, by number of the table."""
        exact = self.study.exact
        return {
            "effect": exact["random"].of_effect,
            "spread": exact["random"].of_spread,
            "effect, common to all": exact["common"].of_effect,
            **({} if self.bias is None else {CORRECTED: self.bias.corrected}),
        }

    def _exact(self) -> dict[str, dict[str, float]]:
        return self._known

    @cached_property
    def _known(self) -> dict[str, dict[str, float]]:
        words = kind_words(self.kind, self.level)
        found = {}
        for name, density in self.densities.items():
            low, high = density.interval(self.level, self.kind)
            found[name] = {"median": density.median, f"{words}, from": low, f"{words}, to": high}
            if name != "spread":
                found[name]["probability above 0"] = 1 - density.below(0.0)
        return found

    def _one_sided(self) -> tuple[str, ...]:
        # An effect that may be absent is above, below or exactly 0: a single share would mislead.
        return ("spread", "spread squared", "I2", AVERAGED_EFFECT, AVERAGED_SPREAD)

    def trial_effects(self) -> pd.DataFrame:
        """Summarise each trial's own effect, pulled towards the common one by how unsure it is.

        Returns
        -------
        One row a trial, of the model `random`: its estimate and standard error as given, then
        columns as of `Posterior.table`.
        """
        from millwright.posterior.summaries import table_frame

        frame = table_frame(make_table(self._shrunken(), self.level, self.kind), "trial")
        trials = self.study.table.trials
        frame.insert(0, "estimate", trials.estimates)
        frame.insert(1, "standard error", trials.errors)
        return frame

    def _shrunken(self) -> dict[str, np.ndarray]:
        draws = self.posterior.draws
        effect, spread = (draws.get(name).reshape(-1) for name in ("effect", "spread"))
        generator = generator_of(self.posterior.record.seed, Stream.TRIALS)
        found = self.study.table.trials.shrunken(effect, spread, generator)
        return {
            label: found[:, at].reshape(draws.shape)
            for at, label in enumerate(self.study.table.labels)
        }

    def covariates(self) -> pd.DataFrame:
        """Summarise how the effect changes with each covariate, and weigh each term.

        Returns
        -------
        One row a column of the covariates: change of the effect for 1 more of it (median,
        interval, probability above 0; model `random`), its term, and the log Bayes factor of the
        term over leaving it out, averaged over the models.

        Raises
        ------
        ArgumentError
            If the study has no covariates.
        """
        return slope_table(self)

    def subgroups(self, factor: str | None = None) -> pd.DataFrame:
        """Summarise the effect for each label of a covariate, the others as in the trials.

        Parameters
        ----------
        factor
            The covariate; by default the only one with labels.

        Returns
        -------
        One row a label: number of estimates, median and interval of the effect, interval of a next
        trial's own effect, and probability above 0 (model `random`).

        Raises
        ------
        ArgumentError
            If there is no such covariate.
        """
        return subgroup_table(self, factor)

    def effect_at(self, rows: Any) -> pd.DataFrame:
        """Summarise the effect of trials with stated covariates.

        Parameters
        ----------
        rows
            A DataFrame or mapping of the columns that the covariates use; single values are one
            row.

        Returns
        -------
        One row a row; columns as of `subgroups`.

        Raises
        ------
        ArgumentError
            If the study has no covariates.
        DataError
            If a column is missing, or has labels that the trials have not.
        """
        return effect_at(self, rows)

    def leave_one_out(self) -> pd.DataFrame:
        """Say what the answer would be without each trial.

        Returns
        -------
        One row a trial left out, the first `none left out`: median and interval of the effect and
        median of the spread (model `random`), and the log Bayes factor of an effect.

        Raises
        ------
        ArgumentError
            For a single trial.
        """
        return left_out(self)

    def path(self) -> pd.DataFrame:
        """Say what the answer was after each trial, in the order in which they came in.

        Returns
        -------
        One row a trial added, columns as of `leave_one_out`.
        """
        return path(self)

    @cached_property
    def bias(self) -> PublicationBias | None:
        """Publication bias with the usual models, where the study was given `bias`."""
        direction = self.study.settings.get("bias")
        return None if direction is None else self.publication_bias(direction)

    @property
    def record(self) -> dict[str, Any]:
        """All of it as plain values."""
        if self.bias is None or self._stopped:
            return super().record
        return {**super().record, "publication_bias": self.bias.record}

    def further_trials(
        self,
        standard_error: float | Sequence[float],
        *,
        trials: int | None = None,
        replications: int = 200,
        threshold: float = 10.0,
        seed: int = 0,
    ) -> FurtherTrials:
        """Say what evidence further trials are likely to bring.

        Parameters
        ----------
        standard_error
            Of each further trial; one number for all, or one each.
        trials
            How many, where there is one number; by default 10.
        replications
            How many paths to simulate if there is an effect, and as many if there is none.
        threshold
            Bayes factor from which on evidence is called conclusive.
        seed
            Any whole number from 0.

        Returns
        -------
        Paths of Bayes factors; `mw.plots.further_trials` draws them.

        Raises
        ------
        ArgumentError
            For numbers that make no sense, or a study whose models all have an effect, or none.
        """
        if not np.isfinite(self.inclusions["effect"].log_factor):
            raise ArgumentError(
                "Further trials are weighed between models with and without an effect, and the "
                "prior probabilities leave one side only."
            )
        errors = _standard_errors(standard_error)
        if trials is not None or len(errors) == 1:
            count = 10 if trials is None else trials
            check_whole("trials", count, 1)
            if len(errors) not in (1, count):
                raise ArgumentError(
                    f"There are {len(errors)} standard errors, and {count} trials."
                )
            errors = np.broadcast_to(errors, (count,)).copy()
        return further_trials(self, errors, replications, threshold, seed)

    def publication_bias(
        self,
        direction: str,
        *,
        one_sided: Sequence[Sequence[float]] = ((0.05,), (0.025, 0.05)),
        two_sided: Sequence[Sequence[float]] = ((0.05,),),
        slope: str | None = "normal(0, 1)",
        slope_squared: str | None = None,
        prior: Mapping[str, float] | None = None,
    ) -> PublicationBias:
        """Weigh models in which trials stay unpublished by their result, and correct for it.

        Every model of the study, with and without effect and spread, without bias and with each
        bias. The plain answer stands beside the corrected one.

        Parameters
        ----------
        direction
            The direction of results that were hoped for: `positive` or `negative`.
        one_sided, two_sided
            Selection: for each model the p-values, ascending, at which the chance to be seen
            falls (Vevea and Hedges 1995); one-sided ones are of results in the direction.
            Weights have the prior of ordered uniform numbers.
        slope, slope_squared
            Priors of the slope of estimates on their standard error, and on its square (Stanley
            and Doucouliagos 2014); None for no such model. Cut them with `low=0` or `high=0` for a
            slope in the direction only.
        prior
            Prior probabilities of the biases by name, `none` among them; by default one half
            for none, the other half shared.

        Returns
        -------
        Probabilities, corrected effects, and the models; `mw.plots.funnel` draws it.

        Raises
        ------
        ArgumentError
            For a direction, cut points, priors or probabilities that make no sense.
        """
        slopes = {"slope": slope, "slope_squared": slope_squared}
        return publication_bias(self, direction, one_sided, two_sided, slopes, prior)

    def under_priors(self, priors: Mapping[str, Mapping[str, str]]) -> pd.DataFrame:
        """Say what the answer would be under other priors.

        Parameters
        ----------
        priors
            By any name, priors of `effect` or `spread` in place of the study's, such as
            `{"sceptical": {"effect": "normal(0, 0.2)"}}`.

        Returns
        -------
        One row a set of priors, the first `as given`; columns as of `leave_one_out`.

        Raises
        ------
        ArgumentError
            For priors that effect and spread cannot have.
        """
        return under_priors(self, priors)

    def effect_factors_by_width(self, widths: Sequence[float] | None = None) -> pd.DataFrame:
        """Say how the evidence of an effect rests on the width of its prior.

        Parameters
        ----------
        widths
            Sds of a normal prior around 0; by default from a tenth to three times `unit`.

        Returns
        -------
        One row a width: log Bayes factors over no effect of an effect, of a positive one (prior
        cut at 0) and of a negative one, averaged over models with and without spread.

        Raises
        ------
        ArgumentError
            For widths that are not positive.
        """
        return by_width(self, widths)

    def natural(self) -> pd.DataFrame:
        """Show effects on the scale that readers know: odds ratios, correlations, shares.

        Returns
        -------
        Rows `effect`, `effect, common to all`, `next trial`: median and interval.

        Raises
        ------
        ArgumentError
            If the study was not told a scale that has one.
        """
        scale = self.study.settings["scale"]
        found = SCALES.get(scale) if scale else None
        if found is None:
            known = ", ".join(name for name, one in SCALES.items() if one is not None)
            raise ArgumentError(f"Give the study a scale to show results on: {known}.")
        what, turned = found
        words = kind_words(self.kind, self.level)
        exact = self._known if self.kind == "central" else {}
        rows: dict[str, tuple[float, ...]] = {}
        for name in ("effect", "effect, common to all", "next trial"):
            if name in exact:
                one = exact[name]
                told = (one["median"], one[f"{words}, from"], one[f"{words}, to"])
                rows[name] = tuple(float(turned(value)) for value in told)
                continue
            values = turned(self.numbers[name].reshape(-1))
            low, high = (float(end) for end in interval(values, self.level, self.kind))
            rows[name] = (float(np.median(values)), low, high)
        columns = [f"{what}, median", f"{words}, from", f"{words}, to"]
        return pd.DataFrame.from_dict(rows, orient="index", columns=columns).rename_axis("number")

    @property
    def decisions(self) -> tuple[Decision, ...]:
        """The decision on the region of the effect."""
        region = self.study.settings["rope"]
        if region is None:
            return ()
        effect = {"effect": self.posterior.draws.get("effect")}
        made = decide("effect", effect, tuple(region), None, self.level, "hdi")
        return (replace(made, verdict=self.verdict),)

    def size(self, name: str) -> str:
        """Return a number of the table with its interval, to the same digits."""
        values, words = self.numbers[name], kind_words(self.kind, self.level)
        known = self._known.get(name)
        if known is None:
            return size_words(values, self.level, self.kind)
        ends = known[f"{words}, from"], known[f"{words}, to"]
        return middle_words(known["median"], ends, float(values.std(ddof=1)), words)


def _standard_errors(given: float | Sequence[float]) -> np.ndarray:
    try:
        errors = np.atleast_1d(np.asarray(given, dtype=float))
    except (TypeError, ValueError) as error:
        raise ArgumentError(f"Standard errors are numbers above 0, not {given!r}.") from error
    if errors.ndim != 1 or not len(errors) or not (np.isfinite(errors) & (errors > 0)).all():
        raise ArgumentError(f"Standard errors are numbers above 0, not {given!r}.")
    return errors
