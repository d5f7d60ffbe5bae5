"""What a sampler or an optimiser sees of a bound model."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import numpy as np

from millwright.distributions import on_numpy
from millwright.errors import ModelError
from millwright.fitting.not_finite import not_finite
from millwright.fitting.over_devices import spread_over_devices
from millwright.fitting.plain_density import short_way
from millwright.modelling.binding import Binding
from millwright.modelling.density import LogDensity, SplitLogDensity
from millwright.modelling.gathering import gathered
from millwright.modelling.middles import middles
from millwright.modelling.program import COUNTS
from millwright.modelling.same_shape import padded, without_label_names
from millwright.modelling.simulate import draw_unknowns, positions_from
from millwright.modelling.space import places
from millwright.sampling.compiling import compiled, on_device
from millwright.sampling.target import TargetDensity
from millwright.wording import setting

__all__ = ["in_parts", "target_in_shape", "target_of", "target_of_first_rows"]

_OVER_DISPERSED = 1.5


def target_of(binding: Binding, jacobian: bool = True, prior: bool = True) -> TargetDensity:
    """Return what a sampler or an optimiser sees of a bound model."""
    whole = gathered(binding).binding
    target = _target_through(spread_over_devices(whole), jacobian, prior)
    return replace(target, explain=lambda positions: not_finite(whole, positions))


def refuse_missing_functions(binding: Binding) -> None:
    """Refuse to compute a density with a function that is known by its record alone.

    Raises
    ------
    ModelError
        Which names the function.
    """
    missing = [f.name for f in binding.program.foreign if f.missing]
    if missing:
        raise ModelError(
            f"The run needs the function `{missing[0]}`, which is not known here: give "
            f"{setting('model')} (the model or target that made it), or register the "
            "function first."
        )


def _target_through(binding: Binding, jacobian: bool = True, prior: bool = True) -> TargetDensity:
    """Return the target of a binding whose rows are as the log density goes through them."""
    refuse_missing_functions(binding)
    binding = replace(binding, program=without_label_names(binding.program))
    values = _Values(binding, jacobian, prior)
    black_box = bool(binding.program.black_boxes)
    flat = any(part.improper for part in binding.program.unknowns)
    return TargetDensity(
        dimension=binding.dimension,
        log_density=LogDensity(binding.program, jacobian, prior),
        arguments=binding.arguments,
        starts=lambda generator, n: _starts(binding, generator, n),
        explain=lambda positions: not_finite(binding, positions),
        plain=values.total,
        split=values,
        prior_draws=None if flat else lambda generator, n: _prior_draws(binding, generator, n),
        traceable=not black_box,
        split_density=values.split,
    )


def in_parts(target: TargetDensity) -> TargetDensity:
    """Return a target that knows which of its unknowns are latent values."""
    # Written in JAX, which takes a second to load: results are read without it.
    from millwright.modelling.latent_density import LatentDensity

    assert isinstance(target.log_density, LogDensity)
    return replace(target, latent=LatentDensity(target.log_density.program))


def _prior_draws(binding: Binding, generator: np.random.Generator, n: int) -> np.ndarray:
    return positions_from(binding, draw_unknowns(binding, n, generator))


def _starts(binding: Binding, generator: np.random.Generator, n: int) -> np.ndarray:
    positions = _prior_draws(binding, generator, n)
    standard = {*binding.program.mapped, *middles(binding.program)}
    for place in places(binding.program):
        if place.name in standard:
            # In standard coordinates the posterior is about standard normal.
            wide = _OVER_DISPERSED * generator.standard_normal((n, place.size))
            positions[:, place.start : place.stop] = wide
    return positions


def target_in_shape(binding: Binding, places: Mapping[str, int]) -> TargetDensity:
    """Return a target whose rows are filled up; what it explains is said of the data as given."""
    if not places:
        return target_of(binding)
    filled = _target_through(padded(binding, places))
    return replace(filled, explain=lambda positions: not_finite(binding, positions))


def target_of_first_rows(binding: Binding, axis: str, rows: int) -> TargetDensity:
    """Return the target of the first rows alone; all numbers of rows share what is compiled."""
    size = binding.program.size_of[axis]
    filled = padded(binding, {axis: size})
    counts = (np.arange(size) < rows).astype(float)
    return _target_through(replace(filled, arguments={**filled.arguments, (COUNTS, axis): counts}))


class _Values:
    """Log prior and log likelihood at several positions; compiled unless there is a black box."""

    def __init__(self, binding: Binding, jacobian: bool, prior: bool) -> None:
        self.binding = binding
        self.split = SplitLogDensity(binding.program, jacobian, prior)
        self.kept: dict[tuple[int, ...], Any] = {}
        self.on_device: Any = None
        boxes = jacobian and prior and bool(binding.program.black_boxes)
        self.short = short_way(binding) if boxes else None

    def total(self, positions: np.ndarray) -> np.ndarray:
        """Return the log density at each position."""
        prior, likelihood = self(positions)
        return prior + likelihood

    def __call__(self, positions: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        arguments = self.binding.arguments
        if not self.binding.program.black_boxes:
            if positions.shape not in self.kept:
                self.on_device = on_device(arguments)
                found = compiled(_at_each, self.split, (positions, self.on_device))
                self.kept[positions.shape] = found
            prior, likelihood = self.kept[positions.shape](positions, self.on_device)
            return np.asarray(prior), np.asarray(likelihood)
        if self.short is not None:
            return self.short(positions)
        with np.errstate(all="ignore"):
            parts = self.split.parts(on_numpy, positions, arguments)
        prior, likelihood = (np.broadcast_to(part, len(positions)) for part in parts)
        return np.asarray(prior, dtype=float), np.asarray(likelihood, dtype=float)


def _at_each(split: SplitLogDensity, positions: Any, arguments: Any) -> Any:
    """Return log prior and log likelihood at each of several positions; to be compiled."""
    import jax

    return jax.vmap(lambda q: split(q, arguments))(positions)
