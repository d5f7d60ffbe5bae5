"""The usual prior of a length-scale: between the spacing of the places and their span."""

from __future__ import annotations

import numpy as np
from scipy import optimize, stats

from millwright.errors import DataError

__all__ = ["length_prior", "span_and_spacing"]

_TAIL = 0.01
_LEAST_RATIO = 2.5


def span_and_spacing(x: np.ndarray, name: str) -> tuple[float, float]:
    """Return the span of places and the median distance of neighbours.

    Raises
    ------
    DataError
        If there are fewer than three different places.
    """
    places = np.unique(x)
    if len(places) < 3:
        raise DataError(
            f"`{name}` has {len(places)} different value{'s' * (len(places) != 1)}; a shape takes "
            "three or more."
        )
    return float(places[-1] - places[0]), float(np.median(np.diff(places)))


def length_prior(span: float, spacing: float) -> tuple[float, float]:
    """Return shape and scale of an inverse gamma prior with 1 % below spacing, 1 % above span.

    Lengths below the spacing and above the span are not told apart by the data, and are where a
    posterior goes astray (Betancourt 2020, "Robust Gaussian process modeling").
    """
    ratio = max(span / spacing, _LEAST_RATIO)

    def missed(log_shape: float) -> float:
        shape = np.exp(log_shape)
        ends = stats.invgamma.ppf([_TAIL, 1 - _TAIL], shape)
        return float(np.log(ends[1] / ends[0]) - np.log(ratio))

    shape = float(np.exp(optimize.brentq(missed, np.log(0.3), np.log(500))))
    low, high = stats.invgamma.ppf([_TAIL, 1 - _TAIL], shape)
    scale = float(np.sqrt(span / ratio * span) / np.sqrt(low * high))
    return float(f"{shape:.3g}"), float(f"{scale:.3g}")
