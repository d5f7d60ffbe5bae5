"""What a study of proportions found."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from itertools import combinations
from typing import TYPE_CHECKING

import numpy as np
from scipy.special import betaln

from millwright.checks import check_list
from millwright.diagnostics.finding import Finding
from millwright.distributions import on_numpy
from millwright.draws.decision import Decision, decide
from millwright.draws.intervals import interval, kind_words
from millwright.draws.numbers import chance_text
from millwright.errors import ArgumentError, nearest
from millwright.evidence.bayes_factor import BayesFactor, factor_text
from millwright.studies.beta_integrals import Beta, chance_larger, log_dispersed, log_evidence
from millwright.studies.findings import Findings
from millwright.studies.proportion_data import PAIRS
from millwright.studies.proportion_models import beta_of, dispersion_prior
from millwright.studies.sentences import readings, size_words
from millwright.wording import setting, visible

if TYPE_CHECKING:
    from millwright.studies.proportion_study import ProportionStudy

__all__ = ["PairFindings", "ProportionFindings"]

_SHARES = (0.0, 1e-6, 1e-4, 0.01, 0.1, 0.25, 0.5, 0.75, 0.9, 0.99, 0.9999, 1 - 1e-6, 1.0)
_CLEAR = np.log(3.0)


@dataclass(frozen=True, eq=False, kw_only=True)
class _CountFindings(Findings):
    study: ProportionStudy

    def _size(self, values: np.ndarray) -> str:
        return size_words(values, self.level, self.kind)

    def _decided(self, numbers: dict[str, np.ndarray]) -> tuple[Decision, ...]:
        region = self.study.settings["rope"]
        if region is None:
            return ()
        made = decide("difference", numbers, tuple(region), None, self.level, "hdi")
        return (replace(made, verdict=self.verdict),)

    def _not_asked(self) -> list[str]:
        if self.study.settings["rope"] is not None:
            return []
        return [
            "Not asked: whether the difference is large enough to matter; rope=(low, high) asks "
            "that."
        ]


@dataclass(frozen=True, eq=False, kw_only=True)
class ProportionFindings(_CountFindings):
    """The answer of a study of proportions."""

    @property
    def _closed(self) -> bool:
        """Whether shares have beta posteriors."""
        return bool(self.study.settings["family"] == "binomial")

    def _exact(self) -> dict[str, dict[str, float]]:
        """Whether differences are above 0, by the integral that the answer gives."""
        if not self._closed:
            return {}
        above = {
            (one, other): {"probability above 0": self.probability_larger(other, one)}
            for one, other in self._differences()
        }
        labels = self.study.counts.labels
        if len(labels) == 2:
            return {"difference": above[labels[0], labels[1]]}
        return {visible(f"{b} - {a}"): value for (a, b), value in above.items()}

    def _numbers(self) -> dict[str, np.ndarray]:
        draws = self.posterior.draws
        numbers = dict(draws.single(["share"]))
        if len(self.study.counts.labels) > 2:
            numbers |= self.differences()
        known = set(draws.names())
        asked = ["difference", "ratio", "odds_ratio", "overdispersion"]
        return numbers | draws.single([name for name in asked if name in known])

    def _one_sided(self) -> tuple[str, ...]:
        named = [f"share[{label}]" for label in self.study.counts.labels]
        return ("share", "ratio", "odds_ratio", "overdispersion", *named)

    def differences(self) -> dict[str, np.ndarray]:
        """Return draws of the differences of shares, the later minus the earlier, by name."""
        return {visible(f"{b} - {a}"): found for (a, b), found in self._differences().items()}

    def _differences(self) -> dict[tuple[str, str], np.ndarray]:
        share = self.posterior.draws.get("share")
        labels = self.study.counts.labels
        return {
            (one, other): share[..., j] - share[..., i]
            for (i, one), (j, other) in combinations(enumerate(labels), 2)
        }

    def probability_larger(self, one: str, other: str) -> float:
        """Return the probability that the share of `one` is larger than that of `other`.

        Exact under binomial counts, else from the draws.

        Parameters
        ----------
        one, other
            Two groups.

        Returns
        -------
        The probability, from 0 to 1.

        Raises
        ------
        ArgumentError
            For a group that is not there.
        """
        labels = self.study.counts.labels
        for label in (one, other):
            if label not in labels:
                raise ArgumentError(
                    f"There is no group `{label}`.{nearest(str(label), labels)} Groups: "
                    f"{', '.join(labels)}."
                )
        if self._closed:
            return chance_larger(self.study.after(one), self.study.after(other))
        share = self.posterior.draws.get("share")
        return float((share[..., labels.index(one)] > share[..., labels.index(other)]).mean())

    def _told(self, share: float) -> str:
        if self._closed:
            return chance_text(share)
        return chance_text(share, self.posterior.draws.get("share")[..., 0].size)

    def _sentences(self) -> tuple[str, ...]:
        counts, draws = self.study.counts, self.posterior.draws
        lines = []
        if counts.group is None:
            lines += self._single(draws.get("share"))
        else:
            for (one, other), apart in self._differences().items():
                lines.append(self._pair(one, other, apart))
            if len(counts.labels) == 2:
                lines += self._two(*counts.labels)
        lines += self._rows()
        if counts.group is not None or self.study.settings["against"] is not None:
            lines += self._not_asked()
        return tuple(lines)

    def _single(self, share: np.ndarray) -> list[str]:
        lines = [f"The share is {self._size(share)}."]
        against = self.study.settings["against"]
        if against is not None:
            above = (
                self.study.after(None).chance_above(against)
                if self._closed
                else float((share > against).mean())
            )
            word = "above" if above >= 0.5 else "below"
            sure = max(above, 1 - above)
            lines.append(f"It is {word} {against:g} with probability {self._told(sure)}.")
            lines += readings(
                f"share {'>' if word == 'above' else '<'} {against:g}", sure, self._told
            )
        return lines

    def _pair(self, one: str, other: str, apart: np.ndarray) -> str:
        up = self.probability_larger(other, one)
        word = "larger" if up >= 0.5 else "smaller"
        sure = max(up, 1 - up)
        if sure < 0.9:
            return (
                f"Whether `{other}` or `{one}` has the larger share is open: the difference "
                f"({other} minus {one}) is {self._size(apart)}; that of `{other}` is {word} with "
                f"probability {self._told(sure)}."
            )
        by = self._size(apart if up >= 0.5 else -apart)
        return (
            f"The share of `{other}` is {word} than that of `{one}` by {by}; the probability that "
            f"it is {word} is {self._told(sure)}."
        )

    def _two(self, one: str, other: str) -> list[str]:
        draws = self.posterior.draws
        up = self.probability_larger(other, one)
        sign = ">" if up >= 0.5 else "<"
        lines = [
            f"Ratio ({other} over {one}): {self._size(draws.get('ratio'))}; odds ratio: "
            f"{self._size(draws.get('odds_ratio'))}.",
            self._number_needed(draws.get("difference")),
        ]
        statement = f"share of {other} {sign} share of {one}"
        return lines + readings(statement, max(up, 1 - up), self._told)

    def _number_needed(self, difference: np.ndarray) -> str:
        """Say how many trials make one success more, where the direction is settled."""
        flat = difference.reshape(-1)
        low, high = (float(end) for end in interval(flat, self.level, "central"))
        one, other = self.study.counts.labels
        if low <= 0 <= high:
            return (
                "Number needed (trials for one success more or less): has no end, since the "
                f"{kind_words('central', self.level)} of the difference contains 0."
            )
        best, ends = 1 / abs(float(np.median(flat))), sorted((1 / abs(low), 1 / abs(high)))
        more = "more" if low > 0 else "less"
        return (
            f"Number needed: one success {more} with {other} instead of {one} in {best:.3g} "
            f"trials ({kind_words('central', self.level)} {ends[0]:.3g} to {ends[1]:.3g})."
        )

    def _rows(self) -> list[str]:
        """Say whether rows of a group vary more than counts of one share do."""
        factor = self.dispersion_factor
        if factor is None:
            return []
        value = factor.log_value
        if self.study.settings["family"] == "beta_binomial":
            rho = self.posterior.draws.get("overdispersion")
            return [
                f"Over-dispersion of rows: {self._size(rho)}; 0 is binomial, 1 all trials of a "
                "row alike. The intervals above allow for it."
            ]
        if value > _CLEAR:
            return []
        if value < -_CLEAR:
            return [
                "Rows of a group differ no more than chance allows "
                f"({factor_text(-value)} times as probable without over-dispersion)."
            ]
        return [
            "Whether rows of a group differ more than chance allows is open (with over-dispersion "
            f"{factor_text(value)} times as probable as without)."
        ]

    def _cautions(self) -> tuple[Finding, ...]:
        """Warn where the binomial is too narrow."""
        factor = self.dispersion_factor
        if factor is None or not self._closed or factor.log_value <= _CLEAR:
            return ()
        return (
            Finding(
                "caution",
                "The binomial is too narrow: rows of one group differ more than chance allows "
                f"({factor_text(factor.log_value)} times as probable with over-dispersion), so "
                "intervals and probabilities are too sure.",
                f"Let rows vary: {setting('family', 'beta_binomial')}.",
                of_data=True,
            ),
        )

    @cached_property
    def dispersion_factor(self) -> BayesFactor | None:
        """Weigh over-dispersed rows against binomial ones; None without several rows."""
        study = self.study
        if "beta-binomial" not in study.models:
            return None
        known = dispersion_prior(study.settings["overdispersion"])
        under = 0.0
        corners = np.clip(known.quantiles(*_SHARES), 0.0, 1.0)
        rows = [study.counts.counts(label) for label in study.counts.groups]
        over, error = log_dispersed(
            list(study.priors.values()),
            [won for won, _ in rows],
            [tried for _, tried in rows],
            lambda rho: np.asarray(known.family.log_density(on_numpy, rho, known.values)),
            corners.tolist(),
        )
        for label, (won, tried) in zip(study.counts.groups, rows, strict=True):
            under += log_evidence(study.priors[label], won, tried)
        return BayesFactor(
            statement="over-dispersed rows",
            against="binomial rows",
            log_value=over - under,
            standard_error=error,
            method="quadrature",
            trusted=error < 0.01,
            reasons=(f"Prior of the over-dispersion: {study.settings['overdispersion']}.",),
        )

    @property
    def decisions(self) -> tuple[Decision, ...]:
        """Decisions on the region of the difference."""
        counts = self.study.counts
        if counts.group is not None:
            numbers = self.differences()
        else:
            against = self.study.settings["against"]
            if against is None:
                return ()
            numbers = {f"share - {against:g}": self.posterior.draws.get("share") - against}
        return self._decided(numbers)

    @property
    def factors(self) -> tuple[BayesFactor, ...]:
        """Bayes factors of different shares over the same, and of over-dispersed rows."""
        found = []
        if self.study.settings["family"] == "binomial":
            same = self.same_factor()
            found += [] if same is None else [same]
        if self.dispersion_factor is not None:
            found.append(self.dispersion_factor)
        return tuple(found)

    def same_factor(self, labels: Sequence[str] | None = None) -> BayesFactor | None:
        """Weigh one share for each group against one for all, or a single share against a value.

        Parameters
        ----------
        labels
            The groups to weigh, by default all.

        Returns
        -------
        The Bayes factor, exact under binomial counts; None for a single group that is compared
        with nothing.

        Raises
        ------
        ArgumentError
            For groups that are not there, or fewer than two.
        """
        study, counts = self.study, self.study.counts
        if counts.group is None:
            against = study.settings["against"]
            return None if against is None else self._against(float(against))
        chosen = counts.labels if labels is None else tuple(check_list("labels", labels))
        for label in chosen:
            if label not in counts.labels:
                raise ArgumentError(
                    f"There is no group `{label}`.{nearest(str(label), counts.labels)} Groups: "
                    f"{', '.join(counts.labels)}."
                )
        if len(set(chosen)) < 2:
            raise ArgumentError(f"Give two groups or more: {setting('labels')}.")
        rows = [counts.counts(label) for label in chosen]
        apart = sum(
            log_evidence(study.priors[label], *row)
            for label, row in zip(chosen, rows, strict=True)
        )
        prior = self._same_prior()
        won, tried = (np.concatenate(part) for part in zip(*rows, strict=True))
        return BayesFactor(
            statement="shares differ",
            against="all shares are the same",
            log_value=apart - log_evidence(prior, won, tried),
            standard_error=0.0,
            method="closed form of both marginal likelihoods",
            trusted=True,
            reasons=("It compares these priors; wider ones favour shares that are the same.",),
        )

    def _same_prior(self) -> Beta:
        given = self.study.settings["same"]
        if given is not None:
            return beta_of(given, "the one share")
        every = set(self.study.priors.values())
        return next(iter(every)) if len(every) == 1 else Beta(1.0, 1.0)

    def _against(self, against: float) -> BayesFactor:
        won, tried = self.study.counts.counts()
        prior, after = self.study.priors[None], self.study.after(None)
        null = won.sum() * np.log(against) + (tried - won).sum() * np.log1p(-against)
        free = betaln(after.alpha, after.beta) - betaln(prior.alpha, prior.beta)
        return BayesFactor(
            statement=f"the share differs from {against:g}",
            against=f"share = {against:g}",
            log_value=float(free - null),
            standard_error=0.0,
            method="closed form of both marginal likelihoods",
            trusted=True,
            reasons=("It compares these priors; wider ones favour the single value.",),
        )


@dataclass(frozen=True, eq=False, kw_only=True)
class PairFindings(_CountFindings):
    """The answer of a study of pairs of yes/no answers."""

    def _numbers(self) -> dict[str, np.ndarray]:
        return self.posterior.draws.single(["first_share", "second_share", "difference", "cells"])

    def _one_sided(self) -> tuple[str, ...]:
        return ("first_share", "second_share", *(f"cells[{one}]" for one in PAIRS))

    def differences(self) -> dict[str, np.ndarray]:
        """Return draws of the difference of shares, the second minus the first, by name."""
        first, second = self.study.counts.labels
        return {visible(f"{second} - {first}"): self.posterior.draws.get("difference")}

    def _exact(self) -> dict[str, dict[str, float]]:
        return {"difference": {"probability above 0": self._changed.chance_above(0.5)}}

    @property
    def _changed(self) -> Beta:
        """The posterior of the share of changes that go from no to yes."""
        found = self.study.counts.frame[self.study.counts.outcome].value_counts()
        weight = float(self.study.settings["concentration"])
        return Beta(weight, weight).after(int(found.get(PAIRS[1], 0)), int(found.get(PAIRS[2], 0)))

    def _sentences(self) -> tuple[str, ...]:
        draws = self.posterior.draws
        first, second = self.study.counts.labels
        after = self._changed
        up = after.chance_above(0.5)
        word, sign = ("more", ">") if up >= 0.5 else ("less", "<")
        sure = max(up, 1 - up)
        return (
            f"Share of yes: `{first}` {self._size(draws.get('first_share'))}, `{second}` "
            f"{self._size(draws.get('second_share'))}.",
            f"`{second}` minus `{first}`: {self._size(draws.get('difference'))}; yes is {word} "
            f"frequent in `{second}` with probability {chance_text(sure)}. Only pairs that "
            "changed say anything of it.",
            *readings(f"share of {second} {sign} share of {first}", sure, chance_text),
            *self._not_asked(),
        )

    @property
    def decisions(self) -> tuple[Decision, ...]:
        """Decisions on the region of the difference."""
        return self._decided(self.differences())

    @property
    def factors(self) -> tuple[BayesFactor, ...]:
        """The Bayes factor of unequal shares over equal ones.

        Shares are equal where changes in both directions are equally probable; given how many
        pairs changed, those from no to yes are binomial.
        """
        weight = float(self.study.settings["concentration"])
        after = self._changed
        changed = after.alpha + after.beta - 2 * weight
        free = betaln(after.alpha, after.beta) - betaln(weight, weight)
        return (
            BayesFactor(
                statement="shares differ",
                against="both shares are the same",
                log_value=float(free + changed * np.log(2)),
                standard_error=0.0,
                method=f"closed form, from the {changed:.0f} pairs that changed",
                trusted=True,
            ),
        )
