"""Targets: log densities of the user's own, sampled and looked at like any model."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

import numpy as np

from millwright.errors import ArgumentError
from millwright.modelling.foreign import Foreign, make_known
from millwright.modelling.specification import Written
from millwright.models.model import Model

__all__ = ["Target"]

_NAME = "log_density"
_SUPPORTS = {"real": "flat()", "positive": "flat(low=0)", "unit": "uniform(low=0, high=1)"}

Unknown = str | float | tuple[float, float]


class Target(Model):
    """An unnormalised log density over named unknowns.

    Everything that a model has works on it: `fit`, `mode`, tables, verdict, figures, stored runs.

    Parameters
    ----------
    log_density
        Takes the unknowns in the order of `unknowns`, as float64 arrays of the shape of their
        labels, and gives the logarithm of the density of the unknowns as written, up to a
        constant. It must be written with `jax.numpy`, unless it is a black box.
    unknowns
        For each name where it can lie (`real`, `positive`, `unit` for 0 to 1, or a pair of ends
        such as `(0, 5)`, infinite ends allowed), a prior in the model language such as
        `normal(0, 1) per stone`, whose density is then added to `log_density`, or a number at
        which it is held fixed.
    black_box
        The function cannot be traced by JAX: it is sampled without gradients.
    vectorised
        A black box that takes many points in one call: each argument has a first axis of
        points, and so has the result.
    labels, units, title, notes
        As for a model; label sets that a `per` names must be listed.

    Raises
    ------
    ArgumentError
        If a support cannot be read or the function is none.
    LanguageError, ModelError
        If a prior cannot be read.
    """

    def __init__(
        self,
        log_density: Callable[..., Any],
        unknowns: Mapping[str, Unknown],
        *,
        black_box: bool = False,
        vectorised: bool = False,
        labels: Mapping[str, list[str | int] | tuple[str | int, ...]] | None = None,
        units: Mapping[str, str] | None = None,
        title: str = "",
        notes: str = "",
    ) -> None:
        if not callable(log_density):
            raise ArgumentError(f"`log_density` must be a function, not {log_density!r}.")
        if not isinstance(unknowns, Mapping) or not unknowns:
            raise ArgumentError("`unknowns` must be a mapping of names to supports or priors.")
        if vectorised and not black_box:
            raise ArgumentError(
                "`vectorised` is for black boxes: a function written with jax.numpy is made to "
                "take many points by itself."
            )
        count = len(unknowns)
        own = Foreign(
            name=_NAME,
            function=log_density,
            fewest=1,
            most=1_000,
            black_box=black_box,
            gives="number",
            vectorised=vectorised,
        )
        make_known(own)
        priors: dict[str, Written] = {name: _prior(name, v) for name, v in unknowns.items()}
        super().__init__(
            priors=priors,
            likelihood={},
            log_density_terms={"target": f"{_NAME}({', '.join(unknowns)})"},
            labels=dict(labels or {}),
            title=title or f"A density of {count} unknown{'s' if count > 1 else ''}",
            notes=notes,
        )
        self._functions = (own,)


def _prior(name: str, value: Any) -> Written:
    """Return an unknown's prior as text; supports are flat."""
    if isinstance(value, str):
        head, per, tail = value.partition(" per ")
        return _SUPPORTS.get(head.strip(), head) + per + tail
    if isinstance(value, (int, float)) and not isinstance(value, bool):
        return float(value)
    try:
        low, high = (float(end) for end in value)
    except (TypeError, ValueError):
        low = high = np.nan
    if not low < high:
        raise ArgumentError(
            f"`unknowns`: the support of `{name}` must be 'real', 'positive', 'unit', a pair of "
            f"ends such as (0, 5), a prior or a number, not {value!r}."
        )
    ends = {"low": low, "high": high}
    given = ", ".join(f"{end}={v!r}" for end, v in ends.items() if np.isfinite(v))
    return f"{'uniform' if np.isfinite([low, high]).all() else 'flat'}({given})"
