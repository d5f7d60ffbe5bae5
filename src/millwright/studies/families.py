"""Families of a regression: what is predicted, the likelihood, usual priors, mean and variance."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import pandas as pd
from scipy.special import expit, ndtr

from millwright.checks import is_among
from millwright.errors import ArgumentError, DataError, nearest
from millwright.studies.scales import rounded_middle, rounded_spread

__all__ = ["FAMILIES", "FamilyOfOutcomes", "family_named", "with_zeros"]

Draws = Mapping[str, np.ndarray]
Mean = Callable[[np.ndarray, Draws], np.ndarray]

_INVERSE: dict[str, Callable[[np.ndarray], np.ndarray]] = {
    "identity": lambda eta: eta,
    "log": np.exp,
    "logit": expit,
    "probit": ndtr,
    "cloglog": lambda eta: -np.expm1(-np.exp(eta)),
}
_INVERSE_TEXT = {
    "identity": "({eta})",
    "log": "exp({eta})",
    "logit": "expit({eta})",
    "probit": "normal_cdf({eta})",
    "cloglog": "(-expm1(-exp({eta})))",
}
# What they leave to 1: taken from 1, a share near it would have no digits.
_REST_TEXT = {
    "logit": "expit(-({eta}))",
    "probit": "normal_cdf(-({eta}))",
    "cloglog": "exp(-exp({eta}))",
}
_SHAPE = "gamma(shape=2, rate=0.1)"


@dataclass(frozen=True, kw_only=True)
class FamilyOfOutcomes:
    """How outcomes arise from a linear predictor.

    Attributes
    ----------
    links
        Links that go with it, the usual one first.
    likelihood
        Text of the likelihood, with {eta}, {mean}, its {rest} to 1, {scale}, {trials}
        where these belong.
    priors
        Further unknowns with their usual priors; NOISE where a scale of the outcome belongs.
    support
        Which values an outcome can have, in words, and a check of them.
    mean, variance
        Of an outcome, from its predicted mean and draws; None where there is none.
    on_scale
        Whether the predictor is on the scale of the outcome, so that its unit is the outcome's sd.
    """

    name: str
    links: tuple[str, ...]
    likelihood: str
    priors: Mapping[str, str] = field(default_factory=dict)
    support: str
    inside: Callable[[np.ndarray], np.ndarray]
    mean: Mean | None = None
    variance: Callable[[np.ndarray, Draws], np.ndarray] | None = None
    on_scale: bool = False
    logged: bool = False

    @property
    def has_scale(self) -> bool:
        """Whether there is a noise whose logarithm a second formula can describe."""
        return "{scale}" in self.likelihood

    def inverse(self, link: str) -> Callable[[np.ndarray], np.ndarray]:
        """Return the inverse of a link."""
        return _INVERSE[link]

    def text(self, eta: str, link: str, scale: str, trials: str) -> str:
        """Return the likelihood as the model language writes it."""
        mean, rest = _INVERSE_TEXT[link].format(eta=eta), _REST_TEXT.get(link, "").format(eta=eta)
        return self.likelihood.format(
            eta=eta, mean=mean, rest=rest, scale=scale, trials=trials, link=link
        )

    def check(self, values: np.ndarray, name: str) -> None:
        """Refuse outcomes outside the support.

        Raises
        ------
        DataError
            Which names the family that fits.
        """
        known = values[~pd.isna(values)]
        bad = ~self.inside(known.astype(float))
        if bad.any():
            raise DataError(
                f"`{name}` is {known[np.argmax(bad)]:g} in some row; {self.name} outcomes are "
                f"{self.support}. {_family_that_fits(known.astype(float))}"
            )

    def unit_and_centre(self, values: np.ndarray, link: str, name: str) -> tuple[float, float]:
        """Return what one unit of the predictor is for usual priors, and where its middle lies.

        Raises
        ------
        DataError
            For outcomes without any spread.
        """
        known = values[np.isfinite(values)]
        if len(known) < 2 or np.ptp(known) == 0:
            raise DataError(f"The outcome `{name}` is the same in all rows: nothing to explain.")
        if self.logged:
            logs = np.log(known)
            spread = float(logs.std(ddof=1))
            return rounded_spread(spread), rounded_middle(float(logs.mean()), spread)
        if self.on_scale:
            spread = float(known.std(ddof=1))
            return rounded_spread(spread), rounded_middle(float(known.mean()), spread)
        middle = float(known.mean())
        if link == "log":
            return 1.0, rounded_middle(float(np.log(max(middle, 1e-6))), 1.0)
        return 1.0, 0.0


def _whole(values: np.ndarray) -> np.ndarray:
    return (values >= 0) & (values == np.round(values))


def _family_that_fits(values: np.ndarray) -> str:
    """Name a family whose outcomes can be such values."""
    if np.isin(values, (0, 1)).all():
        return "Family bernoulli fits values of 0 and 1."
    if _whole(values).all():
        return "Families poisson and negative_binomial fit counts."
    if ((values > 0) & (values < 1)).all():
        return "Family beta fits shares between 0 and 1."
    if (values > 0).all():
        return "Families gamma and lognormal fit positive values."
    return "Families normal and student_t fit any numbers."


def _t_variance(mean: np.ndarray, draws: Draws) -> np.ndarray:
    df = draws["df"][:, None]
    with np.errstate(divide="ignore", invalid="ignore"):
        factor = np.where(df > 2, df / (df - 2), np.inf)
    return draws["scale"] ** 2 * factor


_POSITIVE = ("above zero", lambda v: v > 0)
_COUNTS = ("counts, whole numbers from 0", _whole)
_ANY = ("numbers", lambda v: np.isfinite(v))

FAMILIES: dict[str, FamilyOfOutcomes] = {
    one.name: one
    for one in (
        FamilyOfOutcomes(
            name="normal",
            links=("identity",),
            likelihood="normal({eta}, {scale})",
            priors={"noise": "half_normal(NOISE)"},
            support=_ANY[0],
            inside=_ANY[1],
            mean=lambda mu, _: mu,
            variance=lambda mu, d: np.broadcast_to(d["scale"] ** 2, mu.shape),
            on_scale=True,
        ),
        FamilyOfOutcomes(
            name="student_t",
            links=("identity",),
            likelihood="student_t({eta}, {scale}, df=df)",
            priors={"noise": "half_normal(NOISE)", "df_above_one": "exponential(rate=1 / 29)"},
            support=_ANY[0],
            inside=_ANY[1],
            mean=lambda mu, _: mu,
            variance=_t_variance,
            on_scale=True,
        ),
        FamilyOfOutcomes(
            name="lognormal",
            links=("identity",),
            likelihood="lognormal({eta}, {scale})",
            priors={"noise": "half_normal(NOISE)"},
            support=_POSITIVE[0],
            inside=_POSITIVE[1],
            mean=lambda mu, d: np.exp(mu + 0.5 * d["scale"] ** 2),
            on_scale=True,
            logged=True,
        ),
        FamilyOfOutcomes(
            name="gamma",
            links=("log",),
            likelihood="gamma(shape=shape, rate=shape / {mean})",
            priors={"shape": _SHAPE},
            support=_POSITIVE[0],
            inside=_POSITIVE[1],
            mean=lambda mu, _: mu,
            variance=lambda mu, d: mu**2 / d["shape"][:, None],
        ),
        FamilyOfOutcomes(
            name="bernoulli",
            links=("logit", "probit", "cloglog"),
            likelihood="bernoulli(probability={mean})",
            support="0 or 1",
            inside=lambda v: np.isin(v, (0, 1)),
            mean=lambda mu, _: mu,
            variance=lambda mu, _: mu * (1 - mu),
        ),
        FamilyOfOutcomes(
            name="binomial",
            links=("logit", "probit", "cloglog"),
            likelihood="binomial(trials={trials}, probability={mean})",
            support=_COUNTS[0],
            inside=_COUNTS[1],
            mean=lambda mu, _: mu,
        ),
        FamilyOfOutcomes(
            name="poisson",
            links=("log",),
            likelihood="poisson(log_rate={eta})",
            support=_COUNTS[0],
            inside=_COUNTS[1],
            mean=lambda mu, _: mu,
            variance=lambda mu, _: mu,
        ),
        FamilyOfOutcomes(
            name="negative_binomial",
            links=("log",),
            likelihood="negative_binomial(mean={mean}, shape=shape)",
            priors={"shape": _SHAPE},
            support=_COUNTS[0],
            inside=_COUNTS[1],
            mean=lambda mu, _: mu,
            variance=lambda mu, d: mu + mu**2 / d["shape"][:, None],
        ),
        FamilyOfOutcomes(
            name="beta",
            links=("logit", "probit", "cloglog"),
            likelihood="beta(alpha={mean} * precision, beta={rest} * precision)",
            priors={"precision": "gamma(shape=2, rate=0.05)"},
            support="shares above 0 and below 1",
            inside=lambda v: (v > 0) & (v < 1),
            mean=lambda mu, _: mu,
            variance=lambda mu, d: mu * (1 - mu) / (1 + d["precision"][:, None]),
        ),
        FamilyOfOutcomes(
            name="ordered",
            links=("logit", "probit"),
            likelihood="cumulative_{link}({eta}, cuts=cuts)",
            support="labels in order",
            inside=lambda v: np.isfinite(v),
        ),
        FamilyOfOutcomes(
            name="categorical",
            links=("logit",),
            likelihood="categorical(log_odds={eta})",
            support="labels",
            inside=lambda v: np.isfinite(v),
        ),
    )
}


def _never_zero(family: FamilyOfOutcomes, mean: np.ndarray, draws: Draws) -> np.ndarray:
    """Return the mean of a count that is not zero; 1 where the count is hardly ever above it."""
    safe = np.maximum(mean, 1e-12)
    none = -safe
    if "shape" in family.priors:
        shape = draws["shape"][:, None]
        none = -shape * np.log1p(safe / shape)
    return np.where(mean > 1e-12, safe / -np.expm1(none), 1.0)


def with_zeros(family: FamilyOfOutcomes, zeros: str) -> FamilyOfOutcomes:
    """Return a family of counts with more zeros than its own, or with zeros apart.

    Raises
    ------
    ArgumentError
        For another family, or another kind of zeros.
    """
    if family.name not in ("poisson", "negative_binomial"):
        raise ArgumentError(f"`zeros` is for poisson and negative_binomial, not {family.name}.")
    if zeros not in ("inflated", "hurdle"):
        raise ArgumentError(f"`zeros` is 'inflated' or 'hurdle', not {zeros!r}.")

    def mean(mu: np.ndarray, draws: Draws) -> np.ndarray:
        counted = mu if zeros == "inflated" else _never_zero(family, mu, draws)
        return (1 - draws["zeros"][:, None]) * counted

    modifier = "zero_inflated" if zeros == "inflated" else "hurdle"
    return replace(
        family,
        likelihood=f"{modifier}({family.likelihood}, share=zeros)",
        priors={**family.priors, "zeros": "beta(alpha=1, beta=1)"},
        mean=mean,
        variance=None,
    )


def family_named(name: Any, link: str | None) -> tuple[FamilyOfOutcomes, str]:
    """Return a family and its link.

    Raises
    ------
    ArgumentError
        For another family, or a link that does not go with it.
    """
    if not is_among(name, FAMILIES):
        raise ArgumentError(
            f"`family` {name!r} is not known.{nearest(str(name), FAMILIES)} Families: "
            f"{', '.join(FAMILIES)}."
        )
    family = FAMILIES[name]
    chosen = family.links[0] if link is None else link
    if chosen not in family.links:
        raise ArgumentError(
            f"`link` of {name} is one of {', '.join(family.links)}, not {chosen!r}."
        )
    return family, chosen
