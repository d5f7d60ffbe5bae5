"""The stable path of a linear system with expectations, by the generalised Schur decomposition.

Klein (2000), "Using the generalized Schur form to solve a multivariate linear rational
expectations model", Journal of Economic Dynamics and Control 24; existence and uniqueness by
counting roots: Blanchard and Kahn (1980), Econometrica 48.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np
from scipy import linalg

__all__ = ["Path", "solved", "rest_of"]

_LARGEST_CONDITION = 1e12
_EDGE = 1e-9
_TINY = 1e-13
_NAMED = 5


@dataclass(frozen=True, kw_only=True)
class Path:
    """What follows from a system: x(t) = transition x(t-1) + impact shocks(t).

    Attributes
    ----------
    kind
        `one` stable path, `none`, `several`, or `unclear` where the equations do not say how the
        variables move.
    transition, impact
        (n, n) and (n, shocks); NaN unless there is one path.
    roots
        Moduli of all 2n roots, smallest first; infinite ones are of what is only expected.
    """

    kind: str
    transition: np.ndarray = field(repr=False)
    impact: np.ndarray = field(repr=False)
    roots: np.ndarray = field(repr=False)

    @property
    def words(self) -> str:
        """Say how many stable paths there are, and by which roots."""
        n = len(self.roots) // 2
        if self.kind == "unclear":
            return (
                "The equations do not determine the variables: one of them follows from the "
                "others, or a variable stands in none alone."
            )
        inside = int((self.roots < 1).sum())
        lie = "lies" if inside == 1 else "lie"
        count = f"{inside} of its {2 * n} roots {lie} inside the unit circle and {n} are needed"
        if self.kind == "one":
            return f"There is one stable path: {inside} of {2 * n} roots lie inside the circle."
        if (np.abs(self.roots - 1) < _EDGE).any():
            return (
                "There is no stable path: a root lies on the unit circle, so that a shock never "
                "dies out. Write the system in changes, or let the variable come back."
            )
        if self.kind == "several":
            nearest = self.roots[self.roots < 1][::-1]
            return (
                f"There are several stable paths: {count}; those inside, nearest to the circle "
                f"first, have the moduli {_listed(nearest)}. Expectations could fulfil "
                "themselves; an equation must react more strongly to what is expected."
            )
        if inside < n:
            nearest = self.roots[self.roots >= 1]
            return (
                f"There is no stable path: {count}; those outside, nearest to the circle first, "
                f"have the moduli {_listed(nearest)}."
            )
        return (
            f"There is no stable path: {count}, but they do not belong to values of the past: the "
            "equations split into parts, one with no stable path and one with several."
        )


def _listed(roots: np.ndarray) -> str:
    shown = ", ".join(f"{one:.4g}" for one in roots[:_NAMED])
    more = f" and {len(roots) - _NAMED} more" * (len(roots) > _NAMED)
    return f"{shown}{more}"


def solved(matrices: Mapping[str, np.ndarray]) -> Path:
    """Return the stable path of a system.

    Parameters
    ----------
    matrices
        As of `System.matrices`, without leading axes.

    Returns
    -------
    The path, or why there is none.
    """
    ahead, now, before = (matrices[name] for name in ("ahead", "now", "before"))
    n = len(now)
    nothing = np.full((n, n), np.nan), np.full(matrices["shocks"].shape, np.nan)
    every = np.concatenate([ahead, now, before, matrices["shocks"]], axis=1)
    if not np.isfinite(every).all():
        return _nothing("unclear", nothing, np.full(2 * n, np.nan))
    one, zero = np.eye(n), np.zeros((n, n))
    left = np.block([[zero, one], [-before, -now]])
    right = np.block([[one, zero], [zero, ahead]])
    *_, above, below, _, basis = linalg.ordqz(left, right, sort="iuc", output="real")
    scale = max(np.abs(left).max(), np.abs(right).max())
    if ((np.abs(above) < _EDGE * scale) & (np.abs(below) < _EDGE * scale)).any():
        return _nothing("unclear", nothing, np.full(2 * n, np.nan))
    with np.errstate(divide="ignore", over="ignore"):
        roots = np.sort(np.abs(above) / np.abs(below))
    inside = int((roots < 1).sum())
    if (np.abs(roots - 1) < _EDGE).any():
        return _nothing("none", nothing, roots)
    if inside != n:
        return _nothing("several" if inside > n else "none", nothing, roots)
    known, moved = basis[:n, :n], basis[n:, :n]
    if np.linalg.cond(known) > _LARGEST_CONDITION:
        return _nothing("none", nothing, roots)
    transition = np.linalg.solve(known.T, moved.T).T
    inner = ahead @ transition + now
    if np.linalg.cond(inner) > _LARGEST_CONDITION:
        return _nothing("unclear", nothing, roots)
    impact = -np.linalg.solve(inner, matrices["shocks"])
    return Path(kind="one", transition=_clean(transition), impact=_clean(impact), roots=roots)


def _clean(matrix: np.ndarray) -> np.ndarray:
    """Put 0 where rounding left next to nothing."""
    return np.where(np.abs(matrix) < _TINY * np.abs(matrix).max(initial=0.0), 0.0, matrix)


def _nothing(kind: str, nothing: tuple[np.ndarray, np.ndarray], roots: np.ndarray) -> Path:
    return Path(kind=kind, transition=nothing[0], impact=nothing[1], roots=roots)


def rest_of(matrices: Mapping[str, np.ndarray]) -> np.ndarray:
    """Return where the variables rest without shocks, (n,); not numbers where nothing says it.

    Parameters
    ----------
    matrices
        As of `System.matrices`, without leading axes.
    """
    total = matrices["ahead"] + matrices["now"] + matrices["before"]
    if np.linalg.cond(total) > _LARGEST_CONDITION:
        return np.full(len(total), np.nan)
    return -np.linalg.solve(total, matrices["constant"][:, 0])
