"""The models of a study of proportions, and their beta priors."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from millwright.draws.known_priors import KnownPrior, known_prior
from millwright.errors import ArgumentError, nearest
from millwright.language.printing import number_text
from millwright.models.model import Model
from millwright.studies.beta_integrals import Beta
from millwright.studies.group_models import text_of
from millwright.studies.proportion_data import PAIRS, CountData
from millwright.studies.reading import Names, named
from millwright.wording import setting

__all__ = ["beta_of", "dispersion_prior", "pair_model", "share_model", "share_priors"]

USUAL = "beta(alpha=1, beta=1)"
_DEFINITIONS = (
    *("share", "difference", "ratio", "odds_ratio", "overdispersion", "size", "cells"),
    *("first_share", "second_share"),
)


def prior_of(text: Any, what: str) -> KnownPrior:
    """Return a prior whose arguments are numbers.

    Raises
    ------
    ArgumentError
        If it is none.
    """
    model = Model(priors={"share": text}, likelihood={})
    known = known_prior(model.specification, "share")
    if known is None:
        raise ArgumentError(f"The prior of {what} is a distribution with numbers, not {text!r}.")
    return known


def beta_of(text: Any, what: str) -> Beta:
    """Return a beta prior.

    Raises
    ------
    ArgumentError
        If it is another distribution.
    """
    known = prior_of(text, what)
    if known.family.name != "beta" or set(known.values) != {"alpha", "beta"}:
        raise ArgumentError(
            f"The prior of {what} is a beta distribution, such as 'beta(alpha=2, beta=8)', so "
            f"that the answer is exact; {text!r} is none. For another one write the model: "
            "study.write(folder) gives its sheet."
        )
    return Beta(float(known.values["alpha"]), float(known.values["beta"]))


def share_priors(data: CountData, given: str | Mapping[str, str] | None) -> dict[str | None, Beta]:
    """Return the prior of the share of each group.

    Raises
    ------
    ArgumentError
        For a label that is not there, or another distribution.
    """
    if isinstance(given, Mapping):
        for label in given:
            if label not in data.labels or data.group is None:
                raise ArgumentError(
                    f"`prior` names the group `{label}`, which is not there."
                    f"{nearest(str(label), data.labels)} Groups: {', '.join(data.labels)}."
                )
        return {g: beta_of(given.get(str(g), USUAL), f"the share of {g}") for g in data.groups}
    one = beta_of(USUAL if given is None else given, "a share")
    return dict.fromkeys(data.groups, one)


def names_of(data: CountData) -> Names:
    """Return how a model calls the columns."""
    columns = {data.outcome: "successes"}
    if data.trials is not None:
        columns[data.trials] = "trials"
    if data.group is not None:
        columns[data.group] = "group"
    return named(columns, _DEFINITIONS)


def _by_label(priors: Mapping[str | None, Beta], field: str, group: str) -> str:
    """Return an argument of the prior: a number, or one that differs between labels."""
    values = [(label, getattr(prior, field)) for label, prior in priors.items()]
    if len({value for _, value in values}) == 1:
        return number_text(values[0][1])
    text = number_text(values[-1][1])
    for label, value in reversed(values[:-1]):
        text = f"where({group} == {text_of(str(label))}, {number_text(value)}, {text})"
    return text


def share_model(
    data: CountData,
    priors: Mapping[str | None, Beta],
    title: str,
    *,
    same: Beta | None = None,
    overdispersion: str | None = None,
) -> Model:
    """Return a model of shares.

    Parameters
    ----------
    same
        The prior of one share that all groups have; by default each has its own.
    overdispersion
        Prior of the over-dispersion of rows, which are then beta-binomial.
    """
    names = names_of(data)
    group = None if data.group is None or same is not None else names.of[data.group]
    at = "" if group is None else f"[{group}]"
    every: Mapping[str | None, Beta] = priors if same is None else {None: same}
    alpha, beta = (_by_label(every, field, group or "") for field in ("alpha", "beta"))
    text = f"beta(alpha={alpha}, beta={beta})" + (f" per {group}" if group else "")
    trials = "" if data.trials is None else names.of[data.trials]
    stated: dict[str, Any] = {"share": text}
    derived = _derived(data.labels) if group else {}
    if overdispersion is not None:
        stated["overdispersion"] = overdispersion
        derived["size"] = "(1 - overdispersion) / overdispersion"
        likelihood = (
            f"beta_binomial(trials={trials or 1}, alpha=share{at} * size, "
            f"beta=(1 - share{at}) * size)"
        )
    elif trials:
        likelihood = f"binomial(trials={trials}, probability=share{at})"
    else:
        likelihood = f"bernoulli(probability=share{at})"
    return Model(
        title=title,
        priors=stated,
        likelihood={names.of[data.outcome]: likelihood},
        derived=derived,
        columns={k: v for k, v in names.aliases.items() if group or v != data.group},
        labels={group: list(data.labels)} if group else {},
    )


def _derived(labels: Sequence[str]) -> dict[str, str]:
    if len(labels) != 2:
        return {}
    one, other = (f"share[{text_of(label)}]" for label in labels)
    return {
        "difference": f"{other} - {one}",
        "ratio": f"{other} / {one}",
        "odds_ratio": f"{other} / (1 - {other}) * (1 - {one}) / {one}",
    }


def pair_model(data: CountData, concentration: float, title: str) -> Model:
    """Return the model of pairs of answers: shares of their four patterns."""
    both, second, first = (text_of(PAIRS[at]) for at in (3, 1, 2))
    return Model(
        title=title,
        priors={
            "cells": f"dirichlet(concentration={number_text(concentration)}) per {data.outcome}"
        },
        likelihood={data.outcome: "categorical(probabilities=cells)"},
        derived={
            "first_share": f"cells[{first}] + cells[{both}]",
            "second_share": f"cells[{second}] + cells[{both}]",
            "difference": f"cells[{second}] - cells[{first}]",
        },
        labels={data.outcome: list(PAIRS)},
    )


def dispersion_prior(text: Any) -> KnownPrior:
    """Return the prior of the over-dispersion.

    Raises
    ------
    ArgumentError
        If it reaches beyond 0 to 1.
    """
    known = prior_of(text, "the over-dispersion")
    low, high = known.quantiles(0.0, 1.0)
    if low < 0 or high > 1:
        raise ArgumentError(
            f"{setting('overdispersion', text)}: over-dispersion lies between 0 and 1; a beta "
            "distribution keeps to that."
        )
    return known
