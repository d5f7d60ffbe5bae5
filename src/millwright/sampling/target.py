"""What a sampler sees of a model: nothing but a log density over the real numbers."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np

if TYPE_CHECKING:
    from millwright.sampling.latent_mode import LatentSplit
    from millwright.sampling.peaks import Peaks

__all__ = ["TargetDensity"]


@dataclass(frozen=True, kw_only=True)
class TargetDensity:
    """A density to sample from.

    Attributes
    ----------
    dimension
        Number of unconstrained coordinates.
    log_density
        `log_density(position, arguments)`, traceable by JAX, a float64 scalar for a position of
        shape (dimension,). It compares by content: targets with equal functions and arguments
        of equal shapes share one compiled sampler.
    arguments
        Arrays passed on to `log_density`, in any nesting of mappings and tuples.
    starts
        `starts(generator, n)` gives n over-dispersed candidate positions, shape (n, dimension).
    explain
        `explain(positions)` says in words why the density is not finite there.
    plain
        `plain(positions)` gives the log density at positions (n, dimension), shape (n,), for
        samplers that need no gradient.
    split
        `split(positions)` gives log prior and log likelihood apart, each of shape (n,).
    prior_draws
        `prior_draws(generator, n)` gives n draws from the prior, shape (n, dimension); None
        where the prior cannot be drawn from.
    split_density
        `split_density(position, arguments)` gives log prior and log likelihood of one position,
        traceable by JAX; it compares by content.
    traceable
        Whether `log_density` can be traced; a black box has `plain` and `split` only.
    begin_at
        Where the first chains begin, shape (chains, dimension); the others where `starts` says.
    peaks
        What a search for separate modes has found, if there was one.
    latent
        The log density in parts, where some unknowns are latent values in standard steps.
    """

    dimension: int
    log_density: Callable[[Any, Any], Any] = field(repr=False)
    arguments: Any = field(repr=False)
    starts: Callable[[np.random.Generator, int], np.ndarray] = field(repr=False)
    explain: Callable[[np.ndarray], str] = field(repr=False, default=lambda positions: "")
    plain: Callable[[np.ndarray], np.ndarray] = field(
        repr=False, default=lambda positions: np.full(len(positions), np.nan)
    )
    split: Callable[[np.ndarray], tuple[np.ndarray, np.ndarray]] = field(
        repr=False, default=lambda positions: (np.full(len(positions), np.nan),) * 2
    )
    prior_draws: Callable[[np.random.Generator, int], np.ndarray] | None = field(
        repr=False, default=None
    )
    traceable: bool = True
    split_density: Callable[[Any, Any], tuple[Any, Any]] | None = field(repr=False, default=None)
    begin_at: np.ndarray | None = field(repr=False, default=None)
    peaks: Peaks | None = field(repr=False, default=None)
    latent: LatentSplit | None = field(repr=False, default=None)

    def beginning(self, chain: int) -> np.ndarray | None:
        """Return where a chain begins, if that is settled."""
        if self.begin_at is None or chain >= len(self.begin_at):
            return None
        return np.asarray(self.begin_at[chain])

    @property
    def key(self) -> Hashable:
        """What the compiled functions of this target depend on, besides shapes."""
        return self.log_density

    @property
    def split_key(self) -> Hashable:
        """The same, where prior and likelihood are apart."""
        return self.split_density
