"""Priors of a study: the usual ones, and those that take their place."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from millwright.errors import ArgumentError, nearest

__all__ = ["range_prior", "with_priors"]


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


def range_prior(name: str, value: Any, where: str = "") -> str:
    """Return a pair of ends as the uniform prior between them.

    Parameters
    ----------
    where
        The setting that it stands in, for messages.

    Raises
    ------
    ArgumentError
        If it is not a pair of finite ends, the lower first.
    """
    try:
        low, high = (float(end) for end in value)
    except (TypeError, ValueError):
        low = high = np.nan
    if low < high and np.isfinite([low, high]).all():
        return f"uniform(low={low!r}, high={high!r})"
    mend = ""
    if low > high:
        mend = " The ends are the wrong way round."
    elif np.isinf([low, high]).any():
        mend = " The ends must be finite: give a prior as text where there is no end."
    raise ArgumentError(
        f"{where}`{name}` is a prior such as 'normal(0, 1)', a pair of ends such as (0, 25), or a "
        f"number that holds it, not {value!r}.{mend}"
    )
