"""What a study of correlation found."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np
import pandas as pd

from millwright.checks import check_list, check_positive, is_among
from millwright.draws.decision import Decision, decide
from millwright.draws.intervals import kind_words
from millwright.draws.numbers import chance_text, decimals_of, fixed, range_text
from millwright.errors import ArgumentError
from millwright.evidence.bayes_factor import BayesFactor, factor_words
from millwright.evidence.points import FARTHEST
from millwright.studies.findings import Findings
from millwright.studies.rho import RhoPosterior, RhoPrior, sample_correlation
from millwright.studies.sentences import size_words
from millwright.wording import setting, visible

if TYPE_CHECKING:
    from millwright.studies.correlation_study import CorrelationStudy

__all__ = ["CorrelationFindings"]

_WIDTHS = (0.1, 0.2, 1 / 3, 0.5, 2 / 3, 1.0, 1.5, 2.0)
_CLAIMS = {
    "correlation": (-1.0, 1.0),
    "positive": (0.0, 1.0),
    "negative": (-1.0, 0.0),
}
_METHOD = "quadrature of the exact density of r"


@dataclass(frozen=True, eq=False, kw_only=True)
class CorrelationFindings(Findings):
    """The answer of a study of correlation."""

    study: CorrelationStudy

    @property
    def _sampled(self) -> bool:
        return bool(self.study.settings["form"] == "robust")

    @property
    def pairs(self) -> tuple[tuple[str, str], ...]:
        """The pairs of columns."""
        return self.study.columns.pairs

    def _numbers(self) -> dict[str, np.ndarray]:
        if len(self.posteriors) == 1:
            known = self.posterior.draws.names()
            names = ["rho", "centre", "spread", *(["df"] if "df" in known else [])]
            return self.posterior.draws.single(names)
        return {name: one.draws.get("rho") for name, one in self.posteriors.items()}

    def _exact(self) -> dict[str, dict[str, float]]:
        """Median, interval and direction of each correlation, by quadrature as in the answer."""
        if self._sampled:
            return {}
        words = kind_words(self.kind, self.level)
        found = {}
        for name, pair in zip(self.posteriors, self.pairs, strict=True):
            exact = self.rho(*pair)
            low, high = exact.interval(self.level, self.kind)
            found["rho" if len(self.pairs) == 1 else name] = {
                "median": float(exact.quantile(np.array([0.5]))[0]),
                f"{words}, from": low,
                f"{words}, to": high,
                "probability above 0": 1 - exact.below(0.0),
            }
        return found

    def _one_sided(self) -> tuple[str, ...]:
        spreads = self.posterior.draws.single(["spread"]) if len(self.pairs) == 1 else ()
        return (*spreads, "df")

    def _pair(self, first: str | None, second: str | None) -> tuple[str, str]:
        """Return a pair of columns in the order of the study.

        Raises
        ------
        ArgumentError
            If there is none of these.
        """
        if first is None and second is None and len(self.pairs) == 1:
            return self.pairs[0]
        for pair in self.pairs:
            if {str(first), str(second)} == set(pair):
                return pair
        told = "; ".join(", ".join(pair) for pair in self.pairs[:10])
        raise ArgumentError(f"Name a pair of columns: {told}.")

    def rho(self, first: str | None = None, second: str | None = None) -> RhoPosterior:
        """Return the exact posterior of a correlation: quantiles, density, probabilities.

        Parameters
        ----------
        first, second
            The columns, where there are several pairs.

        Returns
        -------
        The posterior, with `quantile`, `density`, `below` and `interval`.

        Raises
        ------
        ArgumentError
            For columns that are not there, or a robust study, whose posterior is sampled.
        """
        if self._sampled:
            raise ArgumentError(
                "A robust correlation is sampled: ask `findings.posterior` for its draws."
            )
        return self.study.rho(self._pair(first, second))

    def _sentences(self) -> tuple[str, ...]:
        lines = [
            self._sentence(name, pair)
            for name, pair in zip(self.posteriors, self.pairs, strict=True)
        ]
        if self.study.settings["form"] == "ranks":
            lines.append("The correlation is that of normal scores of the ranks.")
        if self._sampled:
            lines.append(self._tails())
            if len(self.pairs) == 1 and not self._weighable:
                lines.append(
                    "No Bayes factor: it comes from the density of the draws at 0, which must be "
                    f"inside the prior and within {FARTHEST:g} standard deviations. The normal "
                    "form and ranks have one."
                )
        lines.append(
            "Not asked: what causes what, and relations other than a line"
            + (" (of the ranks)." if self.study.settings["form"] == "ranks" else ".")
        )
        return tuple(lines)

    def _sentence(self, name: str, pair: tuple[str, str]) -> str:
        rows = self.study.columns.rows(pair).to_numpy(float)
        found = sample_correlation(*rows.T)
        draws = self.posteriors[name].draws.get("rho")
        if self._sampled:
            size = size_words(draws, self.level, self.kind)
            up = float((draws > 0).mean())
            told = chance_text(max(up, 1 - up), draws.size)
        else:
            exact = self.rho(*pair)
            middle = float(exact.quantile(np.array([0.5]))[0])
            ends = exact.interval(self.level, self.kind)
            # The decimals of the table, so that both agree to the last digit.
            spread = float(draws.std(ddof=1))
            size = (
                f"{fixed(middle, decimals_of(spread))} ({kind_words(self.kind, self.level)} "
                f"{range_text(*ends, spread)})"
            )
            up = 1 - exact.below(0.0)
            told = chance_text(max(up, 1 - up))
        words = "positive" if up >= 0.5 else "negative"
        line = (
            f"`{pair[0]}` and `{pair[1]}` ({found.n} rows, r = {found.r:.3f}): the correlation is "
            f"{size}"
        )
        if self.study.settings["direction"] != "both":
            return f"{line}; the prior allows {self.study.settings['direction']} ones only."
        return f"{line}; it is {words} with probability {told}."

    def _tails(self) -> str:
        df = self.posterior.draws.get("df")
        return (
            f"Tails: df {size_words(df, self.level, self.kind)}; above 30 they are about normal."
        )

    @property
    def decisions(self) -> tuple[Decision, ...]:
        """Decisions on the region of the correlation."""
        region = self.study.settings["rope"]
        if region is None:
            return ()
        numbers = {
            visible(f"{a}, {b}"): self.posteriors[name].draws.get("rho")
            for name, (a, b) in zip(self.posteriors, self.pairs, strict=True)
        }
        made = decide("rho", numbers, tuple(region), None, self.level, "hdi")
        return (replace(made, verdict=self.verdict),)

    @property
    def factors(self) -> tuple[BayesFactor, ...]:
        """Bayes factors of none, a positive and a negative correlation, of a single pair."""
        if len(self.pairs) > 1:
            return ()
        if self._sampled:
            return (self._sampled_factor(),) if self._weighable else ()
        side = self.study.settings["direction"]
        claims = list(_CLAIMS) if side == "both" else [side]
        return tuple(self.factor(claim) for claim in claims)

    def factor(
        self, claim: str = "correlation", first: str | None = None, second: str | None = None
    ) -> BayesFactor:
        """Weigh a claim against no correlation.

        Parameters
        ----------
        claim
            `correlation` (in either direction), `positive` or `negative`.
        first, second
            The columns, where there are several pairs.

        Returns
        -------
        The Bayes factor, exact but for rounding.

        Raises
        ------
        ArgumentError
            For another claim, columns that are not there, or a robust study.
        """
        if not is_among(claim, _CLAIMS):
            raise ArgumentError(f"`claim` must be one of {', '.join(_CLAIMS)}, not {claim!r}.")
        found = self.rho(first, second).found
        width = float(self.study.settings["width"])
        words = {"correlation": "a correlation"}.get(claim, f"a {claim} correlation")
        return BayesFactor(
            statement=words,
            against="no correlation",
            log_value=RhoPosterior(found, RhoPrior(width, *_CLAIMS[claim])).log_factor,
            standard_error=0.0,
            method=_METHOD,
            trusted=True,
            reasons=(f"Prior of the correlation: stretched beta of width {width:g}.",),
        )

    @property
    def _weighable(self) -> bool:
        """Whether 0 is near enough to the draws for their density there to be known."""
        share = self.posterior.draws.get("share")
        free = np.log(share / (1 - share))
        near = abs(float(free.mean())) <= FARTHEST * float(free.std())
        return self.study.settings["direction"] == "both" and near

    def _sampled_factor(self) -> BayesFactor:
        """Weigh the sampled correlation against none, by the density of its draws at 0."""
        found = self.posterior.bayes_factor("share == 0.5")
        return replace(
            found,
            statement="a correlation",
            against="no correlation",
            log_value=-found.log_value,
        )

    def factors_by_width(
        self,
        widths: Sequence[float] = _WIDTHS,
        first: str | None = None,
        second: str | None = None,
    ) -> pd.DataFrame:
        """Say how the Bayes factors rest on the width of the prior.

        Parameters
        ----------
        widths
            Widths of the stretched beta prior; 1 is uniform.
        first, second
            The columns, where there are several pairs.

        Returns
        -------
        One row a width: log Bayes factors of a correlation, a positive and a negative one over
        none, and the first in words.

        Raises
        ------
        ArgumentError
            For widths that are not positive, or columns that are not there.
        """
        found = self.rho(first, second).found
        rows = []
        for width in check_list("widths", widths):
            check_positive("widths", width)
            values = _log_factors(RhoPosterior(found, RhoPrior(float(width))))
            rows.append((*values, factor_words(values[0], "a correlation")))
        return pd.DataFrame(rows, index=pd.Index(list(widths), name="width"), columns=_COLUMNS)

    def path(self, first: str | None = None, second: str | None = None) -> pd.DataFrame:
        """Say how the evidence came in, row by row in the order of the data.

        Parameters
        ----------
        first, second
            The columns, where there are several pairs.

        Returns
        -------
        One row for each number of rows from 3: r, log Bayes factors of a correlation, a positive
        and a negative one over none. Steps at which a column has not varied yet, or all points lie
        on a line, are left out.

        Raises
        ------
        ArgumentError
            For columns that are not there, or a robust study.
        """
        if self.study.settings["form"] == "ranks":
            raise ArgumentError(
                f"Ranks change with each row; the path is of values: {setting('form', 'normal')}."
            )
        self.rho(first, second)
        rows = self.study.columns.rows(self._pair(first, second)).to_numpy(float)
        width = float(self.study.settings["width"])
        found = {}
        for n in range(3, len(rows) + 1):
            x, y = rows[:n].T
            if np.ptp(x) == 0 or np.ptp(y) == 0:
                continue
            at = sample_correlation(x, y)
            if min(at.below_one, at.above_minus_one) <= 0:
                continue
            found[n] = (at.r, *_log_factors(RhoPosterior(at, RhoPrior(width))))
        columns = ["r", *_COLUMNS[:3]]
        return pd.DataFrame.from_dict(found, orient="index", columns=columns).rename_axis("rows")

    def matrix(self) -> pd.DataFrame:
        """Return the medians of all correlations as a square table."""
        names = list(map(str, self.study.columns.frame.columns))
        table = pd.DataFrame(np.eye(len(names)), index=names, columns=names)
        for (one, other), row in zip(self.pairs, self.pair_table()["median"], strict=True):
            table.loc[one, other] = table.loc[other, one] = row
        return table

    def pair_table(self) -> pd.DataFrame:
        """Summarise each pair, one row a pair.

        Returns
        -------
        Rows, r, median and interval of the correlation, probability that it is above 0, log Bayes
        factor of a correlation over none and in words (not of a robust study).
        """
        rows = {}
        for name, pair in zip(self.posteriors, self.pairs, strict=True):
            found = sample_correlation(*self.study.columns.rows(pair).to_numpy(float).T)
            if self._sampled:
                draws = self.posteriors[name].draws.get("rho").reshape(-1)
                ends = np.quantile(draws, [(1 - self.level) / 2, (1 + self.level) / 2])
                middle, up = float(np.median(draws)), float((draws > 0).mean())
                value, words = np.nan, ""
            else:
                exact = self.rho(*pair)
                ends = np.array(exact.interval(self.level, self.kind))
                middle, up = float(exact.quantile(np.array([0.5]))[0]), 1 - exact.below(0.0)
                value, words = exact.log_factor, factor_words(exact.log_factor, "a correlation")
            rows[pair] = (found.n, found.r, middle, *ends, up, value, words)
        words = kind_words(self.kind, self.level)
        columns = ["rows", "r", "median", f"{words}, from", f"{words}, to"]
        columns += ["probability above 0", _COLUMNS[0], _COLUMNS[3]]
        frame = pd.DataFrame(list(rows.values()), columns=columns)
        frame.index = pd.MultiIndex.from_tuples(list(rows), names=["first", "second"])
        return frame


_COLUMNS = ["log BF, correlation", "log BF, positive", "log BF, negative", "in words"]


def _log_factors(posterior: RhoPosterior) -> tuple[float, float, float]:
    """Return log Bayes factors of each claim over none, from one integral."""
    below = posterior.below(0.0)
    whole = posterior.log_factor
    with np.errstate(divide="ignore"):
        up, down = np.log(2 * (1 - below)), np.log(2 * below)
    if not 1e-6 < below < 1 - 1e-6:
        # Nothing of these shares survives rounding: each side by itself.
        width = posterior.prior.width
        up, down = (
            RhoPosterior(posterior.found, RhoPrior(width, *ends)).log_factor - whole
            for ends in ((0.0, 1.0), (-1.0, 0.0))
        )
    return whole, whole + float(up), whole + float(down)
