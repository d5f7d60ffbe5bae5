"""The models of a meta-analysis: with and without an effect, with and without spread."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from millwright.language.printing import number_text
from millwright.models.model import Model
from millwright.studies.meta_data import DEFINITIONS, TrialData, covariate_names
from millwright.studies.reading import named

__all__ = [
    "KINDS",
    "MetaKind",
    "bias_model",
    "meta_model",
]


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
    """Return the model of a kind; None for one that has no unknown."""
    priors = _priors_of(kind, settings)
    every = {data.estimate: "estimate", data.error: "standard_error"}
    if data.per is not None:
        every[data.per] = "trial_column"
    names = named(every, DEFINITIONS)
    error = names.of[data.error]
    middle = ["effect"] if "effect" in priors else []
    columns: dict[str, Any] = dict(names.aliases)
    if data.design is not None:
        priors["slope"] = f"{settings['slope']} per covariate"
        columns["covariate"] = covariate_names(data.design)
        middle.append("standardise(covariate) @ slope")
    wide = f"sqrt({error}**2 + spread**2)" if kind.spread else error
    if data.per is not None:
        trial = names.of[data.per]
        wide = error
        if kind.spread:
            priors["own"] = f"normal(0, spread) per {trial}"
            middle.append(f"own[{trial}]")
        if data.correlation:
            priors["shared"] = f"normal(0, 1) per {trial}"
            middle.append(f"{number_text(data.correlation)}**0.5 * {error} * shared[{trial}]")
            wide = f"{number_text(1 - data.correlation)}**0.5 * {error}"
    if not priors:
        return None
    return Model(
        title=kind.words[0].upper() + kind.words[1:],
        priors=priors,
        likelihood={names.of[data.estimate]: f"normal({' + '.join(middle) or '0'}, {wide})"},
        columns=columns,
        labels={} if data.per is None else {names.of[data.per]: list(data.units)},
    )
