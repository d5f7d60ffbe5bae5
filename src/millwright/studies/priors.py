"""Priors of a study: the usual ones, and those that take their place."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from millwright.errors import ArgumentError, nearest

__all__ = ["with_priors"]


def with_priors(usual: Mapping[str, Any], given: Mapping[str, Any] | None) -> dict[str, Any]:
    """Return the priors of a model, those given in place of the usual ones.

    What is `per` a label set stays so, also where the given text does not say it.

    Raises
    ------
    ArgumentError
        For a name that the model does not have.
    """
    result = dict(usual)
    for name, prior in (given or {}).items():
        if name not in usual:
            raise ArgumentError(
                f"`priors` names `{name}`, which the model does not have.{nearest(name, usual)} "
                f"Unknowns: {', '.join(usual)}."
            )
        _, per, labels = str(usual[name]).partition(" per ")
        alone = isinstance(prior, str) and " per " not in prior
        result[name] = f"{prior}{per}{labels}" if alone else prior
    return result
