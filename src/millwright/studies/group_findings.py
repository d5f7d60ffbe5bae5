"""What a study of groups found."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import combinations
from typing import TYPE_CHECKING

import numpy as np
import pandas as pd

from millwright.checks import check_list, check_positive, is_among
from millwright.distributions import on_numpy
from millwright.draws.decision import Decision, decide
from millwright.draws.known_priors import KnownPrior, known_prior
from millwright.draws.numbers import chance_text
from millwright.draws.table import make_table
from millwright.errors import ArgumentError, DataError, nearest
from millwright.evidence.bayes_factor import BayesFactor, factor_words
from millwright.models.model import Model
from millwright.studies.effect_evidence import (
    LogPrior,
    TStatistic,
    log_factor,
    of_differences,
    of_two_groups,
)
from millwright.studies.findings import Findings
from millwright.studies.sentences import size_words
from millwright.wording import setting, visible

if TYPE_CHECKING:
    from millwright.studies.group_study import GroupStudy

__all__ = ["GroupFindings"]

_SHARES = np.array([0, 1e-6, 1e-4, 0.01, 0.1, 0.25, 0.5, 0.75, 0.9, 0.99, 0.9999, 1 - 1e-6, 1])
_WIDTHS = (0.1, 0.2, 0.35, 0.5, 0.7, 1.0, 1.4, 2.0)
_HEAVY, _NORMAL = 10.0, 30.0
_LIKELY, _SURE = 0.8, 0.975
_METHOD = "quadrature of the density of the t statistic (Rouder et al. 2009)"
_MODELS = (
    "It compares two normal models with one scale for all values; outliers count in full there, "
    "and groups with unequal scales are not allowed for."
)


@dataclass(frozen=True, eq=False, kw_only=True)
class GroupFindings(Findings):
    """The answer of a study of groups."""

    study: GroupStudy

    @property
    def _labels(self) -> tuple[str, ...]:
        return self.study.values.labels if self.study.values.group is not None else ()

    def _numbers(self) -> dict[str, np.ndarray]:
        draws = self.posterior.draws
        numbers = dict(draws.single(["location", "scale"]))
        if len(self._labels) > 2:
            for (one, other), found in self._pairs().items():
                numbers[f"{other} - {one}"] = found["difference"]
        names = ["difference", "effect", "scale_difference", "df", "base", "between"]
        known = set(draws.names())
        numbers |= draws.single([name for name in names if name in known])
        return numbers

    def _one_sided(self) -> tuple[str, ...]:
        named = [f"scale[{label}]" for label in self._labels]
        return ("scale", "df", "between", *named)

    def _pairs(self) -> dict[tuple[str, str], dict[str, np.ndarray]]:
        """Return difference, effect and scale difference of each pair of groups."""
        draws = self.posterior.draws
        location, scale = draws.get("location"), draws.get("scale")
        found = {}
        for (i, one), (j, other) in combinations(enumerate(self._labels), 2):
            apart = location[..., j] - location[..., i]
            together = np.sqrt((scale[..., i] ** 2 + scale[..., j] ** 2) / 2)
            found[one, other] = {
                "difference": apart,
                "effect": apart / together,
                "scale difference": scale[..., j] - scale[..., i],
            }
        return found

    def differences(self) -> pd.DataFrame:
        """Summarise differences of location, of scale and effects, one row a pair and question.

        Returns
        -------
        Indexed by `difference` (later minus earlier) and `of`; columns as of `table`.

        Raises
        ------
        ArgumentError
            For a single group without a value to compare with.
        """
        from millwright.posterior.summaries import table_frame

        if self._labels:
            every = {
                (f"{other} - {one}", what): values
                for (one, other), found in self._pairs().items()
                for what, values in found.items()
            }
        else:
            self._refuse_without_value()
            draws = self.posterior.draws
            label = self.compared
            every = {(label, name): draws.get(name) for name in ("difference", "effect")}
        single = {f"{pair}: {what}": values for (pair, what), values in every.items()}
        frame = table_frame(make_table(single, self.level, self.kind), "difference")
        frame.index = pd.MultiIndex.from_tuples(list(every), names=["difference", "of"])
        return frame

    @property
    def compared(self) -> str:
        """The difference that is asked for, in the names of the data."""
        if self._labels:
            return " - ".join(self._labels[1::-1])
        values, against = self.study.values, self.study.settings["against"]
        if self.study.settings["kind"] == "paired":
            first, second = values.labels
            return f"{second} - {first}" + (f" - {against:g}" if against else "")
        return f"{values.outcome} - {against:g}"

    def _refuse_without_value(self) -> None:
        if self.study.settings["kind"] == "one_group" and self.study.settings["against"] is None:
            raise ArgumentError(
                f"The study compares with nothing: give {setting('against')}, a value."
            )

    def _sentences(self) -> tuple[str, ...]:
        settings = self.study.settings
        lines = self._pair_sentences() if self._labels else self._single_sentences()
        lines += self._tails()
        if settings["rope"] is None and (self._labels or settings["against"] is not None):
            lines.append(
                "Not asked: whether the difference is large enough to matter; rope=(low, high) "
                "in the unit of the data asks that."
            )
        return tuple(lines)

    def _single_sentences(self) -> list[str]:
        settings, draws = self.study.settings, self.posterior.draws
        name = "The change" if settings["kind"] == "paired" else f"`{self.study.values.outcome}`"
        lines = [
            f"{name} is {self._size(draws.get('location'))} on average, with a spread (scale) of "
            f"{self._size(draws.get('scale'))}."
        ]
        against = settings["against"]
        if against is not None:
            lines.append(self._direction(name, f"{against:g}", draws.get("difference")))
            lines.append(
                f"Standardised (difference over scale) that is {self._size(draws.get('effect'))}."
            )
        return lines

    def _size(self, values: np.ndarray) -> str:
        return size_words(values, self.level, self.kind)

    def _direction(self, one: str, other: str, difference: np.ndarray) -> str:
        """Say which is higher, by how much, and how probable that is."""
        share = float((difference > 0).mean())
        up = share >= 0.5
        sure = max(share, 1 - share)
        by = self._size(difference if up else -difference)
        word = "higher" if up else "lower"
        told = f"{one} is {word} than {other} by {by}"
        if sure < 0.9 and self._labels:
            told = f"Which is higher is open: {one} minus {other} is {self._size(difference)}"
        elif sure < 0.9:
            told = (
                f"Whether it is above or below {other} is open: the difference is "
                f"{self._size(difference)}"
            )
        return (
            f"{told}; the probability that it is {word} is {chance_text(sure, difference.size)}."
        )

    def _pair_sentences(self) -> list[str]:
        lines = []
        pairs = self._pairs()
        for (one, other), found in pairs.items():
            lines.append(self._direction(f"`{other}`", f"`{one}`", found["difference"]))
            if len(pairs) == 1:
                lines.append(
                    "Standardised (over the root mean square of both scales) the difference is "
                    f"{self._size(found['effect'])}."
                )
                spread = found["scale difference"]
                share = float((spread > 0).mean())
                more = other if share >= 0.5 else one
                lines.append(
                    f"The values of `{more}` spread more with probability "
                    f"{chance_text(max(share, 1 - share), spread.size)}; the difference of scales "
                    f"is {self._size(spread)}."
                )
        return lines

    def _tails(self) -> list[str]:
        """Say how heavy the tails are."""
        if self.study.settings["family"] != "student_t":
            return []
        df = self.posterior.draws.get("df")
        heavy, light = float((df < _HEAVY).mean()), float((df > _NORMAL).mean())
        if heavy > 0.9:
            words = "heavier than normal: some values lie far out, and count less"
        elif light > 0.5:
            words = "about normal"
        else:
            words = "not settled by these data; both heavy and normal ones are possible"
        return [
            f"Tails: {words} (df {self._size(df)}; below {_HEAVY:g} with probability "
            f"{chance_text(heavy, df.size)})."
        ]

    @property
    def decisions(self) -> tuple[Decision, ...]:
        """Decisions on the regions of the difference and of the effect.

        By the interval of the findings, highest-density unless asked otherwise.
        """
        settings = self.study.settings
        if not self._labels and settings["against"] is None:
            return ()
        found = []
        for quantity, name in (("difference", "rope"), ("effect", "effect_rope")):
            region = settings[name]
            if region is not None:
                numbers = self.asked(quantity)
                made = decide(quantity, numbers, tuple(region), None, self.level, "hdi")
                found.append(replace(made, verdict=self.verdict))
        return tuple(found)

    def asked(self, quantity: str) -> dict[str, np.ndarray]:
        """Return draws of a `difference` or an `effect`, by the name of each comparison.

        Raises
        ------
        ArgumentError
            For anything else.
        """
        if not is_among(quantity, ("difference", "effect")):
            raise ArgumentError(f"`quantity` must be difference or effect, not {quantity!r}.")
        of = "effect of " if quantity == "effect" else ""
        if not self._labels:
            return {visible(f"{of}{self.compared}"): self.posterior.draws.get(quantity)}
        return {
            visible(f"{of}{other} - {one}"): found[quantity]
            for (one, other), found in self._pairs().items()
        }

    @property
    def factors(self) -> tuple[BayesFactor, ...]:
        """The Bayes factor of an effect over none, where there is one comparison."""
        if "no effect" not in self.study.models:
            return ()
        return (self.effect_factor(),)

    def effect_factor(
        self, prior: str | None = None, labels: Sequence[str] | None = None
    ) -> BayesFactor:
        """Weigh an effect against none (Rouder et al. 2009).

        Parameters
        ----------
        prior
            Prior of the standardised effect, by default that of the study; one-sided with
            `cauchy(0, 1, low=0)`.
        labels
            The two groups to compare where there are several: the second minus the first.

        Returns
        -------
        The Bayes factor, exact but for rounding.

        Raises
        ------
        ArgumentError
            For labels that are not there, or a prior that is none.
        DataError
            For fewer than three values, or values without any spread.
        """
        prior = self.study.settings["effect"] if prior is None else prior
        value, error = log_factor(*self._weighed(prior, labels))
        return BayesFactor(
            statement=f"effect ~ {prior}",
            against="no effect",
            log_value=value,
            standard_error=error,
            method=_METHOD,
            trusted=True,
            reasons=(_MODELS, *self._misfits()),
        )

    def _misfits(self) -> list[str]:
        """Say where the data do not look like the models of the evidence."""
        known = set(self.posterior.draws.names())
        seen = []
        if "df" in known and (self.posterior.draws.get("df") < _HEAVY).mean() > _LIKELY:
            seen.append("tails are heavy")
        if "scale_difference" in known:
            up = float((self.posterior.draws.get("scale_difference") > 0).mean())
            if max(up, 1 - up) > _SURE:
                seen.append("the scales differ")
        if not seen:
            return []
        return [f"In these data {' and '.join(seen)}: take this evidence with care."]

    def effect_factors_by_width(
        self,
        widths: Sequence[float] = _WIDTHS,
        labels: Sequence[str] | None = None,
    ) -> pd.DataFrame:
        """Say how the Bayes factor of an effect rests on the width of its prior.

        Parameters
        ----------
        widths
            Scales of a Cauchy prior around 0.
        labels
            As for `effect_factor`.

        Returns
        -------
        One row a width: the log Bayes factor of an effect over none, of a positive one (half
        Cauchy), of a negative one, and the first in words.

        Raises
        ------
        ArgumentError
            For widths that are not positive.
        """
        rows = []
        for width in check_list("widths", widths):
            check_positive("widths", width)
            text = f"cauchy(0, {float(width)!r}"
            both, up, down = (
                log_factor(*self._weighed(f"{text}{more})", labels))[0]
                for more in ("", ", low=0", ", high=0")
            )
            rows.append((both, up, down, factor_words(both, "effect")))
        columns = ["log BF, effect", "log BF, positive", "log BF, negative", "in words"]
        return pd.DataFrame(rows, index=pd.Index(list(widths), name="width"), columns=columns)

    def _weighed(
        self, prior: str, labels: Sequence[str] | None
    ) -> tuple[TStatistic, LogPrior, Sequence[float]]:
        found = self._t_statistic(labels)
        known = _effect_prior(prior)

        def log_prior(effect: np.ndarray) -> np.ndarray:
            return np.asarray(known.family.log_density(on_numpy, effect, known.values))

        return found, log_prior, known.quantiles(*_SHARES).tolist()

    def _t_statistic(self, labels: Sequence[str] | None) -> TStatistic:
        values = self.study.values
        if not self._labels:
            self._refuse_without_value()
            if labels is not None:
                raise ArgumentError(f"{setting('labels')} is for several groups.")
            return of_differences(values.values(), float(self.study.settings["against"] or 0))
        chosen = self._labels if labels is None else tuple(map(str, check_list("labels", labels)))
        if len(chosen) != 2:
            raise ArgumentError(f"Give two {setting('labels')}: {', '.join(self._labels)}.")
        for label in chosen:
            if label not in self._labels:
                raise ArgumentError(
                    f"There is no group `{label}`.{nearest(label, self._labels)} Groups: "
                    f"{', '.join(self._labels)}."
                )
        one, other = (values.values(label) for label in chosen)
        if len(one) + len(other) < 3:
            raise DataError("An effect is weighed with three values or more.")
        return of_two_groups(one, other)


def _effect_prior(prior: str) -> KnownPrior:
    """Return the prior of an effect, read from the model language.

    Raises
    ------
    ArgumentError
        If it is no distribution of a number with plain arguments.
    """
    model = Model(priors={"effect": prior}, likelihood={})
    known = known_prior(model.specification, "effect")
    if known is None:
        raise ArgumentError(
            f"The prior of an effect is a distribution of one number, such as "
            f"'cauchy(0, 1)', not {prior!r}."
        )
    return known
