"""What is read of a shape: numbers with a noise, counts, or yes/no."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import pandas as pd
from scipy.special import expit

from millwright.checks import is_among
from millwright.errors import ArgumentError, DataError, nearest
from millwright.language.printing import number_text
from millwright.studies.families import FAMILIES
from millwright.studies.reading import numbers_in
from millwright.wording import setting

__all__ = [
    "COUNTS",
    "EXCESS",
    "SMOOTH_FAMILIES",
    "SmoothFamily",
    "check_readings",
    "exposures",
    "family_called",
    "numbers_read",
]


COUNTS = ("poisson", "negative_binomial")
EXCESS = "excess"
"""How far counts vary around their rate beside chance: the sd of their own rates, as a share."""

Rough = tuple[np.ndarray, np.ndarray | None, float, float]


def _rough_counts(values: np.ndarray, over: np.ndarray) -> Rough:
    return np.log((values + 0.5) / over), values + 0.5, 1.0, float(values.sum())


def _rough_answers(values: np.ndarray, over: np.ndarray) -> Rough:
    # One of probability is at least four of log odds, and an answer says at most a quarter.
    return values, None, 4.0, 0.25 * len(values)


@dataclass(frozen=True, kw_only=True)
class SmoothFamily:
    """How readings rest on the function.

    Attributes
    ----------
    name
        As the distribution of a reading is called.
    latent
        Whether the function is an unknown at each place; else it is summed out.
    natural
        From the function to what is told: a mean, a rate or a probability.
    quantity
        What is told of a column: its rate or its probability; empty where it is the column itself.
    scale
        What the function itself is, log rate or log odds; slopes and unknowns are told on it.
    information
        What one reading says about the function where it has such a value, and counts such an
        excess.
    roughly
        From readings and exposures to rough readings of the function, and what each is worth, or
        None where that is unknown; the scale of the function over theirs; and the information of
        all readings together.
    """

    name: str
    latent: bool
    natural: Callable[[np.ndarray], np.ndarray]
    quantity: str
    scale: str
    information: Callable[[np.ndarray, np.ndarray], np.ndarray]
    roughly: Callable[[np.ndarray, np.ndarray], Rough]

    def of(self, column: str) -> str:
        """Return what is told of a column, to begin a sentence with."""
        return f"The {self.quantity} of `{column}`" if self.quantity else f"`{column}`"

    def scale_of(self, column: str) -> str:
        """Return what the function of a column is."""
        return f"{self.scale} of {column}" if self.scale else column

    def likelihood(self, shape: str, exposure: str | None) -> str:
        """Return the distribution of a reading, in the model language."""
        if self.name == "bernoulli":
            return f"bernoulli(log_odds={shape})"
        more = "" if exposure is None else f" + log({exposure})"
        if self.name == "negative_binomial":
            return f"negative_binomial(mean=exp({shape}{more}), shape=1 / {EXCESS} ** 2)"
        return f"poisson(log_rate={shape}{more})"

    def priors(self, values: np.ndarray, exposure: np.ndarray) -> dict[str, str]:
        """Return the usual priors of level and height of a function that is latent."""
        if self.name == "bernoulli":
            return {"level": "normal(0, 1.5)", "height": "half_normal(1.5)"}
        rate = float(np.log(values.sum() / exposure.sum()))
        found = {"level": f"normal({number_text(round(rate, 2))}, 1)", "height": "half_normal(1)"}
        if self.name == "negative_binomial":
            found[EXCESS] = "lognormal(-0.9, 0.5)"
        return found


SMOOTH_FAMILIES = {
    one.name: one
    for one in (
        SmoothFamily(
            name="normal",
            latent=False,
            natural=lambda f: f,
            quantity="",
            scale="",
            information=lambda f, excess: np.ones_like(f),
            roughly=lambda y, over: (y, None, 1.0, float(len(y))),
        ),
        SmoothFamily(
            name="poisson",
            latent=True,
            natural=np.exp,
            quantity="rate",
            scale="log rate",
            information=lambda f, excess: np.exp(f),
            roughly=_rough_counts,
        ),
        SmoothFamily(
            name="negative_binomial",
            latent=True,
            natural=np.exp,
            quantity="rate",
            scale="log rate",
            information=lambda f, excess: 1 / (np.exp(-f) + excess**2),
            roughly=_rough_counts,
        ),
        SmoothFamily(
            name="bernoulli",
            latent=True,
            natural=expit,
            quantity="probability",
            scale="log odds",
            information=lambda f, excess: expit(f) * expit(-f),
            roughly=_rough_answers,
        ),
    )
}


def family_called(name: str, error: str | None, exposure: str | None) -> SmoothFamily:
    """Return a family by its name.

    Raises
    ------
    ArgumentError
        For another name, errors of what has none, or exposures of what are no counts.
    """
    if not is_among(name, SMOOTH_FAMILIES):
        have = ", ".join(SMOOTH_FAMILIES)
        raise ArgumentError(
            f"{setting('family')} is {have}, not {name!r}."
            f"{nearest(str(name), list(SMOOTH_FAMILIES))}"
        )
    if error is not None and name != "normal":
        raise ArgumentError(f"{setting('error')} is for readings with a normal noise.")
    if exposure is not None and name not in COUNTS:
        raise ArgumentError(
            f"{setting('exposure')} is for counts: {setting('family', 'poisson')}."
        )
    return SMOOTH_FAMILIES[name]


def numbers_read(frame: pd.DataFrame, column: str, family: SmoothFamily) -> pd.Series:
    """Return what was read as numbers; yes and no, true and false as 1 and 0."""
    kinds = {str(value).lower() for value in frame[column].dropna()}
    if family.name == "bernoulli" and kinds and kinds <= {"yes", "no", "true", "false"}:
        found = frame[column].map(
            lambda value: np.nan if pd.isna(value) else str(value).lower() in ("yes", "true")
        )
        return found.astype(float)
    return numbers_in(frame, column, "y")


def exposures(frame: pd.DataFrame, column: str | None) -> np.ndarray:
    """Return what each row was counted over; 1 where no column says it."""
    return np.ones(len(frame)) if column is None else frame[column].to_numpy(float)


def check_readings(values: np.ndarray, column: str, family: SmoothFamily) -> None:
    """Refuse readings that the family cannot have, or that say nothing of a shape.

    Raises
    ------
    DataError
        Which names the first.
    """
    if not family.latent:
        return
    FAMILIES[family.name].check(values, column)
    if np.ptp(values) == 0:
        raise DataError(f"`{column}` is {values[0]:g} in all rows: that has no shape.")
