"""Gauss-Legendre quadrature piece by piece."""

from __future__ import annotations

import numpy as np

__all__ = ["Rule", "pieces"]

Rule = tuple[np.ndarray, np.ndarray]
"""Nodes and weights between -1 and 1."""


def pieces(edges: np.ndarray, rule: Rule) -> tuple[np.ndarray, np.ndarray]:
    """Return nodes and weights between neighbouring edges, shape (pieces * nodes of the rule,)."""
    nodes, weights = rule
    half = 0.5 * np.diff(edges)[:, None]
    return (edges[:-1, None] + half * (1 + nodes)).ravel(), (half * weights).ravel()
