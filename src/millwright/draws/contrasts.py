"""Differences between the levels of a quantity with labels."""

from __future__ import annotations

from itertools import combinations

import numpy as np

from millwright.draws.labelled_draws import Draws, label_texts
from millwright.errors import ArgumentError, nearest

__all__ = ["contrasts"]

_MOST = 400


def contrasts(draws: Draws, name: str, against: str | None = None) -> dict[str, np.ndarray]:
    """Return draws of each difference, shape (chains, draws), named `Upper - Lower`.

    Parameters
    ----------
    name
        A quantity with one label set.
    against
        The level that all others are compared with; by default each pair, later minus earlier.

    Raises
    ------
    ArgumentError
        For a quantity without labels or with several label sets, an unknown level, or more than
        400 differences.
    """
    value = draws.get(name)
    axes = draws.binding.axes[name]
    if len(axes) != 1:
        raise ArgumentError(
            f"`{name}` has {len(axes) or 'no'} label sets; contrasts compare the levels of one."
        )
    labels = label_texts(draws.labels(axes[0]))
    if against is None:
        pairs = [(b, a) for a, b in combinations(range(len(labels)), 2)]
    else:
        if str(against) not in labels:
            raise ArgumentError(
                f"`{against}` is not a level of `{name}`.{nearest(str(against), labels)}"
            )
        base = labels.index(str(against))
        pairs = [(at, base) for at in range(len(labels)) if at != base]
    if not 0 < len(pairs) <= _MOST:
        raise ArgumentError(
            f"`{name}` has {len(labels)} levels, which make {len(pairs)} differences; name one "
            "level to compare with (against=)."
        )
    return {f"{labels[a]} - {labels[b]}": value[:, :, a] - value[:, :, b] for a, b in pairs}
