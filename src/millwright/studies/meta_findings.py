"""What a meta-analysis found."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np
import pandas as pd

from millwright.checks import check_whole
from millwright.diagnostics.finding import Finding
from millwright.draws.decision import Decision, decide
from millwright.draws.intervals import interval, kind_words
from millwright.draws.numbers import chance_text, decimals_of, fixed, range_text
from millwright.draws.table import make_table
from millwright.errors import ArgumentError
from millwright.evidence.bayes_factor import BayesFactor, factor_text, strength
from millwright.language.printing import number_text
from millwright.sampling.streams import Stream, generator_of
from millwright.studies.findings import Findings
from millwright.studies.grid_density import GridDensity
from millwright.studies.meta_bias_findings import PublicationBias, publication_bias
from millwright.studies.meta_data import SCALES
from millwright.studies.meta_evidence import inclusion_of, posterior_shares
from millwright.studies.meta_further import FurtherTrials, further_trials
from millwright.studies.meta_models import KINDS, check_priors
from millwright.studies.meta_posterior import Trials, range_of
from millwright.studies.sentences import size_words

if TYPE_CHECKING:
    from millwright.studies.meta_study import MetaStudy

__all__ = ["MetaFindings"]

_METHOD = "quadrature, the effects of the trials integrated out exactly"
_SURE = 10_000
_OUTSIDE = 5e-4
_WIDTHS = (0.1, 0.2, 0.35, 0.5, 0.7, 1.0, 1.5, 2.0, 3.0)


@dataclass(frozen=True, eq=False, kw_only=True)
class MetaFindings(Findings):
    """The answer of a meta-analysis; tables and figures rest on all models."""

    study: MetaStudy

    def _cautions(self) -> tuple[Finding, ...]:
        return (*self._few_trials(), *self._far_from_prior())

    def _far_from_prior(self) -> tuple[Finding, ...]:
        """Say where the trials lie outside all that the prior of the effect allows."""
        known = self.study.priors["effect"]
        low, high = known.quantiles(_OUTSIDE, 1 - _OUTSIDE)
        mean, variance, _ = self.study.table.trials.given(np.zeros(1))
        reach = 2 * float(np.sqrt(variance[0]))
        if low <= mean[0] + reach and mean[0] - reach <= high:
            return ()
        return (
            Finding(
                "caution",
                f"The trials lie around {mean[0]:.3g}, where the prior of the effect, "
                f"{self.study.settings['effect']}, has next to nothing: the answer is held by the "
                "prior.",
                "State a prior that allows what the trials show, or say why they must be wrong.",
                of_data=True,
            ),
        )

    def _few_trials(self) -> tuple[Finding, ...]:
        count = len(self.study.table.frame)
        if count == 1:
            what = "One trial alone: its effect and the common one cannot be told apart, and"
        elif count == 2:
            what = "Two trials:"
        else:
            return ()
        return (
            Finding(
                "caution",
                f"{what} the spread between trials rests on its prior nearly alone.",
                "Read the spread, the prediction and the evidence for it as statements of the "
                "prior; see the figure of priors and posteriors.",
                of_data=True,
            ),
        )

    @cached_property
    def log_evidences(self) -> dict[str, float]:
        """Log evidence of each model, by quadrature."""
        return {name: one.log_evidence for name, one in self.study.exact.items()}

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
        rows = {
            term: {
                "prior probability": before,
                "posterior probability": after,
                "log Bayes factor": value,
                "in words": f"{factor_text(abs(value))} for {term if value >= 0 else 'none'}, "
                f"{strength(value)}",
            }
            for term, (before, after, value) in self._inclusions.items()
        }
        return pd.DataFrame(rows).T.rename_axis("term").infer_objects()

    @cached_property
    def _inclusions(self) -> dict[str, tuple[float, float, float]]:
        """Prior and posterior probability and log Bayes factor of an effect, and of spread."""
        prior, after = self.study.model_priors, self.shares
        found = {}
        for term in ("effect", "spread"):
            within = {name for name, kind in KINDS.items() if getattr(kind, term)}
            found[term] = (
                sum(prior[name] for name in within),
                sum(after[name] for name in within),
                inclusion_of(within, self.log_evidences, prior),
            )
        return found

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
                log_value=value,
                standard_error=error,
                method=_METHOD,
                trusted=True,
                reasons=("Averaged over models with and without the other, by their weights.",),
            )
            for term, (_, _, value) in self._inclusions.items()
            if np.isfinite(value)
        )

    def _numbers(self) -> dict[str, np.ndarray]:
        draws = self.posterior.draws
        effect, spread = draws.get("effect"), draws.get("spread")
        generator = generator_of(self.posterior.record.seed, Stream.PREDICTION)
        numbers = {
            "effect": effect,
            "spread": spread,
            "spread squared": spread**2,
            "I2": self._share_between(spread),
            "next trial": effect + spread * generator.standard_normal(effect.shape),
            "effect, common to all": self.posteriors["common"].draws.get("effect"),
        }
        return numbers | self._averaged()

    @cached_property
    def _densities(self) -> dict[str, GridDensity]:
        """What is known without draws, by number of the table."""
        exact = self.study.exact
        return {
            "effect": exact["random"].of_effect,
            "spread": exact["random"].of_spread,
            "effect, common to all": exact["common"].of_effect,
        }

    def _exact(self) -> dict[str, dict[str, float]]:
        words = kind_words(self.kind, self.level)
        found = {}
        for name, density in self._densities.items():
            low, high = density.interval(self.level, self.kind)
            middle = float(density.quantile(np.array([0.5]))[0])
            found[name] = {"median": middle, f"{words}, from": low, f"{words}, to": high}
            if name != "spread":
                found[name]["probability above 0"] = 1 - density.below(0.0)
        return found

    def _one_sided(self) -> tuple[str, ...]:
        return ("spread", "spread squared", "I2", "spread, averaged")

    def _share_between(self, spread: np.ndarray) -> np.ndarray:
        """Return I2, the share of variance between trials (Higgins and Thompson 2002, eq. 9)."""
        weights = 1 / self.study.table.trials.errors**2
        if len(weights) == 1:
            typical = 1 / weights[0]
        else:
            total = weights.sum()
            typical = total * (len(weights) - 1) / (total**2 - np.sum(weights**2))
        return np.asarray(spread**2 / (spread**2 + typical))

    def _averaged(self) -> dict[str, np.ndarray]:
        """Return draws of effect and spread over all models, 0 in those that have none."""
        shape = self.posterior.draws.shape
        generator = generator_of(self.posterior.record.seed, Stream.AVERAGE)
        return {
            "effect, averaged": self._mixed("effect", self.shares, shape, generator),
            "spread, averaged": self._mixed("spread", self.shares, shape, generator),
        }

    def _mixed(
        self,
        name: str,
        shares: Mapping[str, float],
        shape: tuple[int, ...],
        generator: np.random.Generator,
    ) -> np.ndarray:
        names = [one for one in KINDS if shares[one] > 0]
        chances = np.array([shares[one] for one in names])
        which = generator.choice(len(names), size=shape, p=chances / chances.sum())
        result = np.zeros(shape)
        for at, one in enumerate(names):
            if one in self.posteriors and name in self.posteriors[one].draws.names():
                values = self.posteriors[one].draws.get(name)
                result[which == at] = values[which == at]
        return result

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
        trials = self.study.table.trials
        if len(trials) < 2:
            raise ArgumentError("There is one trial: without it nothing is left.")
        every = np.arange(len(trials))
        rows = {"none left out": self._told(trials)}
        for at, label in enumerate(self.study.table.labels):
            kept = every != at
            rows[label] = self._told(Trials(trials.estimates[kept], trials.errors[kept]))
        return self._answers(rows, "left out")

    def path(self) -> pd.DataFrame:
        """Say what the answer was after each trial, in the order in which they came in.

        Returns
        -------
        One row a trial added, columns as of `leave_one_out`.
        """
        table = self.study.table
        order = np.arange(len(table.frame))
        if table.order is not None:
            order = np.argsort(table.frame[table.order].to_numpy(), kind="stable")
        trials, labels = table.trials, table.labels
        rows = {
            labels[order[n]]: self._told(
                Trials(trials.estimates[order[: n + 1]], trials.errors[order[: n + 1]])
            )
            for n in range(len(order))
        }
        return self._answers(rows, "up to trial")

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
        if not np.isfinite(self._inclusions["effect"][2]):
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
        trials = self.study.table.trials
        rows = {"as given": self._told(trials)}
        for name, given in priors.items():
            wrong = set(given) - {"effect", "spread"}
            if wrong:
                raise ArgumentError(
                    f"`priors` of {name!r} name `{sorted(wrong)[0]}`: there are effect and spread."
                )
            check_priors({**self.study.settings, **given})
            rows[str(name)] = self._told(trials, **given)
        return self._answers(rows, "priors")

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
        unit = float(self.study.settings["unit"])
        rows = []
        asked = [unit * one for one in _WIDTHS] if widths is None else list(widths)
        for width in asked:
            if not (np.isfinite(width) and width > 0):
                raise ArgumentError(f"Widths are positive numbers, not {width!r}.")
            text = f"normal(0, {number_text(float(width))}"
            cut = (")", ", low=0)", ", high=0)")
            rows.append(tuple(self._log_factor(f"{text}{end}") for end in cut))
        columns = ["log BF, effect", "log BF, positive", "log BF, negative"]
        return pd.DataFrame(rows, index=pd.Index(asked, name="width"), columns=columns)

    def _log_factor(self, effect: str) -> float:
        """Return the log Bayes factor of an effect under another prior."""
        logs = {
            kind: self.study.quadrature(kind, effect=effect).log_evidence
            if of.effect
            else self.log_evidences[kind]
            for kind, of in KINDS.items()
        }
        with_effect = {name for name, kind in KINDS.items() if kind.effect}
        return inclusion_of(with_effect, logs, self.study.model_priors)

    def _told(self, trials: Trials, **priors: str) -> tuple[float, ...]:
        """Return the numbers of an answer: effect, spread, and the evidence of an effect."""
        exact = {kind: self.study.quadrature(kind, trials, **priors) for kind in KINDS}
        effect = exact["random"].of_effect
        logs = {kind: one.log_evidence for kind, one in exact.items()}
        with_effect = {name for name, kind in KINDS.items() if kind.effect}
        return (
            float(effect.quantile(np.array([0.5]))[0]),
            *effect.interval(self.level, self.kind),
            float(exact["random"].of_spread.quantile(np.array([0.5]))[0]),
            inclusion_of(with_effect, logs, self.study.model_priors),
        )

    def _answers(self, rows: Mapping[str, tuple[float, ...]], name: str) -> pd.DataFrame:
        words = kind_words(self.kind, self.level)
        columns = ["effect, median", f"effect, {words}, from", f"effect, {words}, to"]
        columns += ["spread, median", "log BF, effect"]
        frame = pd.DataFrame.from_dict(dict(rows), orient="index", columns=columns)
        frame["in words"] = [
            f"{factor_text(abs(v))} for {'an effect' if v >= 0 else 'none'}, {strength(v)}"
            for v in frame["log BF, effect"]
        ]
        return frame.rename_axis(name)

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
        exact = self._exact() if self.kind == "central" else {}
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

    def _size(self, name: str) -> str:
        """Return a number of the table with its interval, to the same digits."""
        values = self.numbers[name]
        known = self._exact().get(name)
        if known is None:
            return size_words(values, self.level, self.kind)
        words, spread = kind_words(self.kind, self.level), float(values.std(ddof=1))
        ends = range_text(known[f"{words}, from"], known[f"{words}, to"], spread)
        return f"{fixed(known['median'], decimals_of(spread))} ({words} {ends})"

    def _sentences(self) -> tuple[str, ...]:
        up = 1 - self._densities["effect"].below(0.0)
        lines = [
            f"Effect, trials allowed to differ: {self._size('effect')}; "
            f"{'positive' if up >= 0.5 else 'negative'} with probability "
            f"{chance_text(max(up, 1 - up), _SURE)}{self._one_way}.",
        ]
        if self.study.settings["scale"] and SCALES[self.study.settings["scale"]]:
            row = self.natural().iloc[0]
            lines.append(
                f"As {self.natural().columns[0].split(',')[0]}: {row.iloc[0]:.3g} "
                f"({kind_words(self.kind, self.level)} {row.iloc[1]:.3g} to "
                f"{row.iloc[2]:.3g})."
            )
        lines += [self._weighed_words(term) for term in ("effect", "spread")]
        lines.append(
            f"Spread between trials (sd of their own effects): {self._size('spread')}; "
            f"share of the variance (I2) {self._size('I2')}."
        )
        lines.append(f"A next trial's own effect: {self._size('next trial')}.")
        if len(self.study.table.frame) > 1:
            lines.append(self._influence())
        lines.append(
            "Not asked: whether trials without a clear result stayed unpublished; that would make "
            "the effect seem larger than it is."
        )
        return tuple(lines)

    @property
    def _one_way(self) -> str:
        low, high = range_of(self.study.priors["effect"])
        return " (its prior allows no other sign)" if low >= 0 or high <= 0 else ""

    def _weighed_words(self, term: str) -> str:
        before, after, value = self._inclusions[term]
        name = {"effect": "an effect", "spread": "spread between trials"}[term]
        if not np.isfinite(value):
            return f"Whether there is {name} was not asked: the prior of the models settles it."
        one, other = (name, "none") if value >= 0 else ("none", name)
        return (
            f"The data are {_times(value)} times as probable under {one} as under "
            f"{other} ({strength(value)}); the probability of {name} goes from {before:.2g} to "
            f"{after:.3g}. It compares these priors."
        )

    def _influence(self) -> str:
        """Say which trial the effect rests on most."""
        table = self.leave_one_out()
        middles, low, high = (table.iloc[:, at].to_numpy(float) for at in range(3))
        apart = np.abs(middles[1:] - middles[0])
        at = 1 + int(np.argmax(apart))
        share = apart.max() / max(high[0] - low[0], 1e-300)
        told = f"Without `{table.index[at]}` the median effect would be {middles[at]:.3g}"
        if share < 0.1:
            return f"{told}: no single trial moves it by a tenth of its interval."
        return f"{told}, in place of {middles[0]:.3g}: it rests on that trial most."


def _standard_errors(given: float | Sequence[float]) -> np.ndarray:
    try:
        errors = np.atleast_1d(np.asarray(given, dtype=float))
    except (TypeError, ValueError) as error:
        raise ArgumentError(f"Standard errors are numbers above 0, not {given!r}.") from error
    if errors.ndim != 1 or not len(errors) or not (np.isfinite(errors) & (errors > 0)).all():
        raise ArgumentError(f"Standard errors are numbers above 0, not {given!r}.")
    return errors


def _times(value: float) -> str:
    return factor_text(abs(value)).replace("> ", "more than ")
