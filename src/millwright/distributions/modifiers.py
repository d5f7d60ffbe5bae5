"""Distributions made from others: mixtures, zeros, censoring, rounding, selection."""

from __future__ import annotations

from millwright.distributions.mixtures import Mixture, MixtureOverLabels
from millwright.distributions.modified import Modified
from millwright.distributions.recording import Censored, Rounded
from millwright.distributions.selected import Selected
from millwright.distributions.zeros import Hurdle, ZeroInflated

__all__ = ["MODIFIERS", "VARIANTS"]


VARIANTS: dict[tuple[str, int], type[Modified]] = {("mixture", 1): MixtureOverLabels}
"""Forms of a modifier with another number of components."""


MODIFIERS: dict[str, type[Modified]] = {
    kind.name: kind for kind in (Censored, Hurdle, Mixture, Rounded, Selected, ZeroInflated)
}
