"""Differences between the labels of a quantity."""

from __future__ import annotations

from itertools import combinations

import numpy as np

from millwright.draws.expressions import Evaluated, cell_labels, evaluated
from millwright.draws.labelled_draws import Draws, label_texts
from millwright.errors import ArgumentError, nearest
from millwright.wording import setting

__all__ = ["contrasts"]

_MOST = 400


def contrasts(
    draws: Draws, name: str, against: str | None = None, over: str | None = None
) -> dict[str, np.ndarray]:
    """Return draws of each difference, shape (chains, draws), named `Upper - Lower`.

    Parameters
    ----------
    name
        A quantity with labels, or an expression such as `line["slope"]`.
    against
        The label that all others are compared with; by default each pair, later minus earlier.
    over
        The label set whose labels are compared, by default the first. They are compared within
        each label of the others, as in `Upper - Lower at North`.

    Raises
    ------
    ArgumentError
        For a quantity without labels, an unknown label or label set, or more than 400
        differences.
    """
    found = evaluated(draws, name, "quantity")
    axis = _axis(found, name, over)
    labels = label_texts(draws.labels(axis))
    pairs = _pairs(labels, name, against)
    shape = draws.binding.program.shape(found.axes)
    values = np.moveaxis(
        found.values.astype(float).reshape(*found.values.shape[:2], *shape),
        2 + found.axes.index(axis),
        2,
    )
    within = [one for one in found.axes if one != axis]
    flat = values.reshape(*values.shape[:3], -1)
    places = [f" at {text}" if text else "" for text in cell_labels(draws, within)]
    if not 0 < len(pairs) * len(places) <= _MOST:
        raise ArgumentError(
            f"`{name}` has {len(labels)} labels of `{axis}`, which make "
            f"{len(pairs) * len(places)} differences; name one label to compare with "
            f"({setting('against')})."
        )
    return {
        f"{labels[a]} - {labels[b]}{place}": flat[:, :, a, at] - flat[:, :, b, at]
        for at, place in enumerate(places)
        for a, b in pairs
    }


def _axis(found: Evaluated, name: str, over: str | None) -> str:
    if not found.axes:
        raise ArgumentError(f"`{name}` has no label sets; contrasts compare the labels of one.")
    if over is None:
        return found.axes[0]
    if over not in found.axes:
        raise ArgumentError(
            f"`over`: `{name}` has no label set `{over}`.{nearest(over, found.axes)} "
            f"Label sets: {', '.join(found.axes)}."
        )
    return over


def _pairs(labels: list[str], name: str, against: str | None) -> list[tuple[int, int]]:
    if against is None:
        return [(b, a) for a, b in combinations(range(len(labels)), 2)]
    if str(against) not in labels:
        raise ArgumentError(
            f"`{against}` is not a level of `{name}`.{nearest(str(against), labels)}"
        )
    base = labels.index(str(against))
    return [(at, base) for at in range(len(labels)) if at != base]
