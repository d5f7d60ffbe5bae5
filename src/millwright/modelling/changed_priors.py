"""A model with some of its priors replaced."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from millwright.errors import ArgumentError, nearest
from millwright.modelling.specification import Specification, Written, specify

__all__ = ["with_priors"]


def with_priors(specification: Specification, changes: Mapping[str, Written]) -> Specification:
    """Return a model whose priors of some unknowns are others; a number holds one fixed.

    Raises
    ------
    ArgumentError
        For a name that has no prior.
    LanguageError, ModelError
        If a prior cannot be read, or does not fit the model.
    """
    known = [definition.name for definition in specification.priors]
    for name in changes:
        if name not in known:
            raise ArgumentError(
                f"`{name}` has no prior in this model.{nearest(str(name), known)} "
                f"Priors: {', '.join(known)}."
            )
    given: dict[str, Any] = {d.name: d for d in specification.priors}
    return specify(
        specification.title,
        specification.notes,
        {**given, **changes},
        {d.name: d for d in specification.likelihood},
        {d.name: d for d in specification.derived},
        dict(specification.columns),
        {d.name: d for d in specification.log_density_terms},
        dict(specification.labels),
        dict(specification.units),
    )
