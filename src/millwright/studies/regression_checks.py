"""What is to be known of the columns of a regression before its coefficients are read."""

from __future__ import annotations

import numpy as np
from scipy.linalg import qr
from scipy.optimize import linprog

from millwright.diagnostics.finding import Finding, Weight
from millwright.studies.regression_model import RegressionParts

__all__ = ["aliased_columns", "design_findings", "separating_columns"]

_DEPENDENT = 1e-9
_SEPARATED = 1e-6
_NAMED = 8


def design_findings(parts: RegressionParts) -> tuple[Finding, ...]:
    """Return findings on aliased columns, more columns than rows, separation, single rows."""
    found = []
    # Slopes that are pulled to 0 are meant for more columns than rows can tell apart.
    weight: Weight = "caution" if parts.shrinkage is None else "note"
    x = parts.design.standardised
    rows, columns = x.shape
    if columns >= rows:
        found.append(
            Finding(
                weight,
                f"There are {columns} coefficients and {rows} rows: what the data do not settle "
                "rests on the priors alone.",
                "Read each coefficient beside its prior, or give fewer predictors.",
                of_data=True,
            )
        )
    aliased = aliased_columns(x, parts.design.names) if columns < rows else []
    if aliased:
        found.append(
            Finding(
                "caution",
                f"Aliased: {_listed(aliased)} can be computed from "
                "other columns, so the data settle only sums of their coefficients.",
                "Leave it out, or read predictions in place of these coefficients.",
                of_data=True,
            )
        )
    if parts.family.name == "bernoulli" and not aliased and columns < rows:
        names = separating_columns(parts)
        if names:
            found.append(
                Finding(
                    weight,
                    f"Separation: {_listed(names)} part the 0s from "
                    "the 1s without exception, so the data set no end to the size of the "
                    "coefficients; the prior does.",
                    "Read the coefficients beside their prior; a tighter one may be right, or "
                    "more rows.",
                    of_data=True,
                )
            )
    for group in parts.groups:
        counts = parts.frame[group.column].value_counts()
        if (counts == 1).all():
            found.append(
                Finding(
                    "caution",
                    f"Every label of `{group.name}` has a single row: its effects and the noise "
                    "cannot be told apart by the data.",
                    f"Leave the effects of `{group.name}` out.",
                    of_data=True,
                )
            )
    return tuple(found)


def _listed(names: list[str]) -> str:
    shown = ", ".join(f"`{name}`" for name in names[:_NAMED])
    return shown + f" and {len(names) - _NAMED} more" * (len(names) > _NAMED)


def aliased_columns(x: np.ndarray, names: tuple[str, ...]) -> list[str]:
    """Return columns that are linear combinations of those before them."""
    if not x.shape[1]:
        return []
    _, triangle, order = qr(x, mode="economic", pivoting=True)
    sizes = np.abs(np.diag(triangle))
    rank = int((sizes > _DEPENDENT * sizes[0]).sum())
    if rank == x.shape[1]:
        return []
    # In the order of the formula: the later column is the one that adds nothing.
    kept: list[int] = []
    lost = []
    for at in range(x.shape[1]):
        tried = x[:, [*kept, at]]
        if np.linalg.matrix_rank(tried, tol=_DEPENDENT * np.linalg.norm(tried)) > len(kept):
            kept.append(at)
        else:
            lost.append(names[at])
    return lost or [names[int(one)] for one in order[rank:]]


def separating_columns(parts: RegressionParts) -> list[str]:
    """Return the columns by which some line parts zeros from ones, perfectly or nearly.

    A direction b with s (a + x b) >= 0 in all rows (s = 1 or -1 by the outcome) and > 0 in some
    exists if and only if the likelihood has no maximum (Albert and Anderson 1984); found by
    linear programming.
    """
    outcome = parts.frame[parts.outcome].to_numpy(float)
    known = np.isfinite(outcome)
    x = parts.design.standardised[known]
    signs = 2 * outcome[known] - 1
    if len(set(signs)) < 2:
        return []
    columns = [x] if not parts.design.intercept else [np.ones((len(x), 1)), x]
    signed = signs[:, None] * np.concatenate(columns, axis=1)
    found = linprog(
        -signed.sum(axis=0),
        A_ub=-signed,
        b_ub=np.zeros(len(signed)),
        bounds=[(-1, 1)] * signed.shape[1],
        method="highs",
    )
    if found.status != 0 or -found.fun < _SEPARATED * len(signed):
        return []
    direction = found.x[int(parts.design.intercept) :]
    alone = [name for at, name in enumerate(parts.design.names) if _parts_alone(x[:, at], signs)]
    moved = [n for n, b in zip(parts.design.names, direction, strict=True) if abs(b) > _SEPARATED]
    return alone or moved


def _parts_alone(column: np.ndarray, signs: np.ndarray) -> bool:
    """Whether one column parts the outcomes by itself."""
    ones, zeros = column[signs > 0], column[signs < 0]
    return bool(
        (ones.min() >= zeros.max() and ones.max() > zeros.min())
        or (zeros.min() >= ones.max() and zeros.max() > ones.min())
    )
