"""A normal outcome whose location is linear in the unknowns: all its rows in one small matrix.

With columns X, weights w and what is left of the readings r, the sum of squares |r - X w|^2 is
|R (w, -1)|^2 for the triangular factor R of the matrix (X, r), whatever w is (Golub and Van Loan
2013, section 5.3). R has one row and column for each weight, and one more, for any number of rows;
unlike a matrix of sums of products it keeps the digits of small residuals.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from millwright.language.tree import Node
from millwright.modelling.binding import Binding
from millwright.modelling.labelled import is_rows
from millwright.modelling.linear import NonlinearError, Product, linear_parts, runs_over_rows
from millwright.modelling.specification import Part

__all__ = ["found_cross_products"]

_MOST_WORK = 4e11
_CELLS = 2**20
"""Entries of the matrix that are held at a time."""


def found_cross_products(
    binding: Binding, part: Part
) -> tuple[tuple[Node, ...], np.ndarray, int] | None:
    """Return the weights of an outcome's location, its triangular factor, and its rows.

    None where the location is not linear, the scale varies by row, or the matrix would cost more
    than the rows.
    """
    axes = dict(binding.program.outcome_axes)[part.name]
    given = dict(part.arguments)
    normal = part.family == "normal" and given.keys() == {"location", "scale"}
    if not normal or len(axes) != 1 or not is_rows(axes[0]) or part.name in binding.program.filled:
        return None
    if runs_over_rows(binding, given["scale"]):
        return None
    try:
        found = _merged(linear_parts(binding, given["location"], part))
    except NonlinearError:
        return None
    (rows,) = binding.program.shape(axes)
    weighted = [product for product in found if product.weight is not None]
    width = sum(product.width for product in weighted) + 1
    if width**2 > 8 * rows or rows * width**2 > _MOST_WORK:
        return None
    observed = np.asarray(binding.arguments["observed", part.name], dtype=float)
    for product in found:
        if product.weight is None:
            observed = observed - product.values
    weights = tuple(product.weight for product in weighted if product.weight is not None)
    return weights, _triangular(weighted, observed), rows


def _merged(products: Sequence[Product]) -> list[Product]:
    """Add up the columns that have the same weight."""
    kept: dict[Node | None, Product] = {}
    several: list[Product] = []
    for product in products:
        if not product.single:
            several.append(product)
        elif product.weight in kept:
            total = kept[product.weight].values + product.values
            kept[product.weight] = Product(product.weight, total)
        else:
            kept[product.weight] = product
    return [*kept.values(), *several]


def _triangular(products: Sequence[Product], observed: np.ndarray) -> np.ndarray:
    """Return the triangular factor of the columns and the readings, block after block."""
    width = sum(product.width for product in products) + 1
    rows = max(_CELLS // width, width)
    factor: np.ndarray = np.zeros((0, width))
    for start in range(0, len(observed), rows):
        block = slice(start, start + rows)
        count = len(observed[block])
        columns = [_columns(product, block, count) for product in products]
        matrix = np.column_stack([*columns, observed[block]])
        factor = np.asarray(np.linalg.qr(np.concatenate([factor, matrix]), mode="r"))
    return np.concatenate([factor, np.zeros((width - len(factor), width))])


def _columns(product: Product, block: slice, count: int) -> np.ndarray:
    values = product.values if product.values.ndim == 0 else product.values[block]
    if product.codes is None:
        return np.broadcast_to(values, (count,)) if values.ndim < 2 else values
    result = np.zeros((count, product.choices))
    codes = product.codes if product.codes.ndim == 0 else product.codes[block]
    result[np.arange(count), codes] = values
    return result
