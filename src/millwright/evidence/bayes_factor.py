"""How many times more probable data are under one claim than under another, in words."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from millwright.display import Shown
from millwright.draws.numbers import share_text
from millwright.evidence.evidence import STATED

__all__ = [
    "BayesFactor",
    "factor_text",
    "factor_words",
    "range_of_factor",
    "strength",
    "times_text",
]

_LARGEST = 6.0
"""Beyond 10^6 only the size is written."""


@dataclass(frozen=True, kw_only=True)
class BayesFactor(Shown):
    """A Bayes factor: how many times more probable the data are under one claim.

    Attributes
    ----------
    statement, against
        The two claims.
    log_value
        Natural logarithm; above 0 it favours `statement`.
    standard_error
        Its standard error.
    method
        How it was found.
    trusted
        Whether nothing speaks against it.
    reasons
        What it rests on, and why it is not trusted, in sentences.
    at_least
        Whether `log_value` is only an end: the data favour a claim at least as much.
    prior_probability, posterior_probability
        Of `statement`, where it is a region of a single model; None for a point.
    """

    statement: str
    against: str
    log_value: float
    standard_error: float
    method: str
    trusted: bool
    reasons: tuple[str, ...] = ()
    at_least: bool = False
    prior_probability: float | None = None
    posterior_probability: float | None = None

    @property
    def value(self) -> float:
        """The Bayes factor; above 1 it favours `statement`."""
        with np.errstate(over="ignore"):
            return float(np.exp(self.log_value))

    @property
    def record(self) -> dict[str, Any]:
        """All of it as plain values."""
        return {
            "statement": self.statement,
            "against": self.against,
            "log_value": self.log_value,
            "standard_error": self.standard_error,
            "value": self.value if np.isfinite(self.value) else None,
            "method": self.method,
            "trusted": self.trusted,
            "at_least": self.at_least,
            "prior_probability": self.prior_probability,
            "posterior_probability": self.posterior_probability,
            "reasons": list(self.reasons),
        }

    def __str__(self) -> str:
        lines = [
            factor_sentence(
                self.log_value, self.standard_error, self.statement, self.against, self.at_least
            )
        ]
        if self.prior_probability is not None and self.posterior_probability is not None:
            lines.append(
                f"Probability of `{self.statement}`: {self.prior_probability:.4g} before the "
                f"data, {share_text(self.posterior_probability)} after."
            )
        start = "By" if self.trusted else "NOT TO BE TRUSTED. By"
        lines.append(f"{start} {self.method}.")
        return "\n".join([*lines, *(f"  {reason}" for reason in self.reasons)])


def factor_text(log_value: float) -> str:
    """Return a Bayes factor in its readable form: `17.3`, `1 / 4.2`, `> 10^6`."""
    if np.isnan(log_value):
        return "unknown"
    log10 = abs(log_value) / np.log(10)
    if log10 > _LARGEST:
        return "> 10^6" if log_value > 0 else "1 / > 10^6"
    size = float(np.exp(abs(log_value)))
    shown = f"{size:.2f}" if size < 10 else f"{size:.1f}" if size < 100 else f"{size:,.0f}"
    return shown if log_value >= 0 or float(shown.replace(",", "")) == 1 else f"1 / {shown}"


def times_text(log_value: float) -> str:
    """Return the size of a Bayes factor for a sentence: `17.3`, `more than 10^6`."""
    return factor_text(abs(log_value)).replace("> ", "more than ")


def factor_words(log_value: float, claim: str) -> str:
    """Return a Bayes factor over none in words: `17.3 for an effect, strong evidence`."""
    if np.isnan(log_value):
        return "not asked"
    for_it = claim if log_value >= 0 else "none"
    return f"{factor_text(abs(log_value))} for {for_it}, {strength(log_value)}"


def strength(log_value: float) -> str:
    """Return the word for a Bayes factor (Jeffreys 1961; Kass and Raftery 1995)."""
    size = np.exp(min(abs(log_value), 700.0))
    if size < 3:
        return "hardly more than worth a mention"
    return "moderate evidence" if size < 10 else "strong evidence"


def range_of_factor(log_value: float, error: float) -> str:
    """Return the range of 2.5 standard errors around a Bayes factor."""
    low, high = log_value - STATED * error, log_value + STATED * error
    if not np.isfinite(error):
        return "its error is not known"
    if factor_text(low) == factor_text(high):
        return "its error is smaller than the last digit"
    return f"{factor_text(low)} to {factor_text(high)} with its error"


def factor_sentence(
    log_value: float, error: float, one: str, other: str, at_least: bool = False
) -> str:
    """Say which way the data point, how far, and what is compared."""
    if np.isnan(log_value):
        return f"How much the data favour `{one}` over `{other}` is not known."
    for_it, against = (one, other) if log_value >= 0 else (other, one)
    size = abs(log_value)
    bound = "at least " if at_least else ""
    error_words = "" if at_least else f" ({range_of_factor(size, error)})"
    words = strength(log_value)
    weigh = f"{words} for `{for_it}`" if "evidence" in words else words
    return (
        f"Given these priors, the data are {bound}{times_text(size)} times as probable under "
        f"`{for_it}` as under `{against}`{error_words}: {weigh}."
    )
