"""The models of a meta-analysis: with and without an effect, with and without spread."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from millwright.draws.known_priors import KnownPrior, known_prior
from millwright.errors import ArgumentError
from millwright.language.printing import number_text
from millwright.models.model import Model
from millwright.studies.meta_data import DEFINITIONS, TrialData
from millwright.studies.meta_posterior import range_of
from millwright.studies.reading import named

__all__ = [
    "KINDS",
    "MetaKind",
    "bias_model",
    "check_priors",
    "meta_model",
    "number_prior",
    "usual_priors",
]

_ROUNDING = 1e-9


@dataclass(frozen=True)
class MetaKind:
    """One model: whether there is an effect, and whether trials differ by more than chance."""

    effect: bool
    spread: bool

    @property
    def words(self) -> str:
        """What the model says."""
        first = "an effect" if self.effect else "no effect"
        return f"{first}, {'trials differ' if self.spread else 'the same in all trials'}"


KINDS = {
    "random": MetaKind(True, True),
    "common": MetaKind(True, False),
    "null random": MetaKind(False, True),
    "null common": MetaKind(False, False),
}


def usual_priors(unit: float) -> dict[str, str]:
    """Return the usual priors of effect and spread, in units of a large effect."""
    return {
        "effect": f"normal(0, {number_text(unit)})",
        "spread": f"half_normal({number_text(0.5 * unit)})",
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


def bias_model(
    data: TrialData,
    kind: MetaKind,
    settings: Mapping[str, Any],
    priors: Mapping[str, str],
    parts: tuple[str, ...],
    words: str,
) -> Model:
    """Return the model of a kind with publication bias.

    Parameters
    ----------
    priors
        Of what the bias has: steps of the weights, or a slope.
    parts
        Arguments of `selected` around the normal distribution, the innermost first; of a slope
        what it adds to the effect. `{error}` stands for the column of standard errors.
    """
    own = _priors_of(kind, settings)
    names = named(
        {data.estimate: "estimate", data.error: "standard_error"}, (*own, *priors, *DEFINITIONS)
    )
    error = names.of[data.error]
    wide = f"sqrt({error}**2 + spread**2)" if kind.spread else error
    middle = "effect" if "effect" in own else "0"
    if "slope" in priors:
        text = f"normal({middle} + {parts[0].format(error=error)}, {wide})"
    else:
        text = f"normal({middle}, {wide})"
        for part in parts:
            text = f"selected({text}, {part.format(error=error)})"
    return Model(
        title=f"{kind.words[0].upper()}{kind.words[1:]}; {words}",
        priors={**own, **priors},
        likelihood={names.of[data.estimate]: text},
        columns=names.aliases,
    )


def _priors_of(kind: MetaKind, settings: Mapping[str, Any]) -> dict[str, str]:
    """Return the priors of effect and spread that a kind of model has."""
    priors = {}
    if kind.effect:
        priors["effect"] = settings["effect"]
    elif settings["null"] is not None:
        priors["effect"] = settings["null"]
    if kind.spread:
        priors["spread"] = settings["spread"]
    return priors


def meta_model(data: TrialData, kind: MetaKind, settings: Mapping[str, Any]) -> Model | None:
    """Return the model of a kind; None for the one that has no unknown."""
    priors = _priors_of(kind, settings)
    if not priors:
        return None
    names = named({data.estimate: "estimate", data.error: "standard_error"}, DEFINITIONS)
    error = names.of[data.error]
    middle = "effect" if "effect" in priors else "0"
    wide = f"sqrt({error}**2 + spread**2)" if kind.spread else error
    return Model(
        title=kind.words[0].upper() + kind.words[1:],
        priors=priors,
        likelihood={names.of[data.estimate]: f"normal({middle}, {wide})"},
        columns=names.aliases,
    )
