"""What is refused before equations with expectations are fitted, and what is said of them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from millwright.errors import ArgumentError, nearest
from millwright.expectations.system import System
from millwright.language.parse import read_text
from millwright.language.tree import Name, walk
from millwright.studies.expectations_parts import ExpectationsModel, Worlds, error_of, size_of
from millwright.studies.expectations_paths import covariance_of
from millwright.wording import setting

__all__ = ["check_readings", "check_worlds", "idle_words"]

_SINGULAR = 1e-11
_LOOKED_AT = 20


def check_readings(system: System, read: Mapping[str, str], errors: Mapping[str, Any]) -> None:
    known = system.variables[: system.named]
    for column, variable in read.items():
        if variable not in known:
            raise ArgumentError(
                f"`{column}` reads `{variable}`, which is no variable of the equations."
                f"{nearest(variable, known)} Variables: {', '.join(known)}."
            )
    if len(set(read.values())) < len(read):
        raise ArgumentError("Two columns read one variable: give one of them an equation.")
    for column in errors:
        if column not in read:
            raise ArgumentError(
                f"{setting('errors')} names `{column}`, which is no reading."
                f"{nearest(column, read)} Readings: {', '.join(read)}."
            )
    if len(read) > len(system.shocks) + len(errors):
        raise ArgumentError(
            f"There are {len(read)} readings and {len(system.shocks)} shocks: the equations say "
            "that one reading follows from the others exactly, which no data fulfil. Read fewer, "
            "name a further shock, or an error by `errors`."
        )


def check_worlds(parts: ExpectationsModel, worlds: Worlds) -> None:
    """Refuse priors that no fit could use, by some draws of them.

    Raises
    ------
    ArgumentError
        Where none has a single stable path, a standard deviation can be 0 or less, or readings
        follow from each other exactly.
    """
    sizes = {size_of(shock): worlds.sizes[:, at] for at, shock in enumerate(parts.system.shocks)}
    for variable in parts.with_error:
        sizes[error_of(variable)] = worlds.errors[:, parts.variables.index(variable)]
    for name, values in sizes.items():
        if (values <= 0).any():
            raise ArgumentError(
                f"`{name}` is a standard deviation, and its prior gives {values.min():.3g}: give "
                "one of positive numbers, such as 'half_normal(1)'."
            )
    good = [at for at, path in enumerate(worlds.paths) if path.kind == "one"]
    if not good:
        raise ArgumentError(
            f"None of {len(worlds)} draws of the priors has a single stable path. At the first: "
            f"{worlds.paths[0].words}"
        )
    if all(_singular(parts, worlds, at) for at in good[:_LOOKED_AT]):
        raise ArgumentError(
            "With these equations one reading follows exactly from the others and the past, "
            "which no data fulfil: not every shock reaches the readings. Read fewer, or name an "
            "error by `errors`."
        )


def _singular(parts: ExpectationsModel, worlds: Worlds, at: int) -> bool:
    """Tell whether readings of some times in a row could be computed from each other."""
    times = 2 * len(parts.readings.kept) + 2
    whole = covariance_of(worlds, parts, at, times)
    scale = np.sqrt(np.diag(whole))
    if not (scale > 0).all():
        return True
    values = np.linalg.eigvalsh(whole / np.outer(scale, scale))
    return bool(values[0] < _SINGULAR * values[-1])


def idle_words(parts: ExpectationsModel) -> tuple[str, ...]:
    """Say which unknowns the readings say nothing of."""
    texts = [*parts.system.asked, *(p for p in parts.priors.values() if isinstance(p, str))]
    used = {
        node.name
        for text in texts
        for node in walk(read_text(text, "text")[0])
        if isinstance(node, Name)
    }
    own = {*parts.own_names}
    return tuple(
        f"`{name}` stands in no equation: its posterior is its prior."
        for name in parts.priors
        if name not in used and name not in own
    )
