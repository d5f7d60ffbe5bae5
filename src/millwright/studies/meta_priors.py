"""Priors of a meta-analysis: the usual ones, and those given, checked."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from millwright.distributions.location_scale import Normal
from millwright.draws.known_priors import KnownPrior, known_prior
from millwright.errors import ArgumentError
from millwright.language.printing import number_text
from millwright.models.model import Model
from millwright.studies.meta_posterior import range_of

__all__ = ["check_priors", "normal_values", "number_prior", "usual_priors"]

_ROUNDING = 1e-9


def usual_priors(unit: float) -> dict[str, str]:
    """Return the usual priors, in units of a large effect; slopes are for an sd of a covariate."""
    return {
        "effect": f"normal(0, {number_text(unit)})",
        "spread": f"half_normal({number_text(0.5 * unit)})",
        "slope": f"normal(0, {number_text(0.5 * unit)})",
    }


def number_prior(name: str, text: str) -> KnownPrior:
    """Return a prior of one number, read from the model language.

    Raises
    ------
    ArgumentError
        If it is no proper distribution of a number with plain arguments.
    """
    if not isinstance(text, str):
        raise ArgumentError(f"`{name}` is a prior as text, such as 'normal(0, 1)', not {text!r}.")
    model = Model(priors={name: text}, likelihood={})
    known = known_prior(model.specification, name)
    if known is None or known.family.whole or known.family.improper:
        raise ArgumentError(
            f"The prior of the {name} is a proper distribution of one number with plain "
            f"arguments, such as 'normal(0, 1)', not {text!r}."
        )
    return known


def check_priors(settings: Mapping[str, Any]) -> None:
    """Refuse priors that effect and spread cannot have.

    Raises
    ------
    ArgumentError
        For what is no proper distribution, or a spread that may be negative.
    """
    number_prior("effect", settings["effect"])
    if settings["null"] is not None:
        number_prior("effect", settings["null"])
    lowest, _ = range_of(number_prior("spread", settings["spread"]))
    if lowest < -_ROUNDING:
        raise ArgumentError(
            f"A spread is never negative, and its prior {settings['spread']} begins at "
            f"{lowest:g}: cut it with low=0, or take half_normal(...)."
        )


def normal_values(text: str) -> tuple[float, float]:
    """Return location and scale of a normal prior of slopes.

    Raises
    ------
    ArgumentError
        For another prior: slopes are integrated out in closed form.
    """
    known = number_prior("slope", text)
    if not isinstance(known.family, Normal):
        raise ArgumentError(
            f"The prior of the slopes is a normal one, such as 'normal(0, 0.5)', not {text!r}."
        )
    return float(known.values["location"]), float(known.values["scale"])
