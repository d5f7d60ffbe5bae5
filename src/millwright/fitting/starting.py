"""Where chains begin, when the user says so."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from millwright.draws.labelled_draws import from_positions
from millwright.errors import ArgumentError
from millwright.fitting.target import target_of
from millwright.modelling.binding import Binding
from millwright.modelling.simulate import draw_unknowns, positions_from, stated_values
from millwright.sampling.methods import Ensemble, LaplaceGrid, Method, Rejection, Tempering
from millwright.sampling.streams import Stream, generator_of

__all__ = ["Start", "StartValues", "checked_start", "start_from"]

StartValues = Mapping[str, Any] | Sequence[Mapping[str, Any]]


@dataclass(frozen=True, eq=False)
class Start:
    """Starting points.

    Attributes
    ----------
    given
        As the user gave them, as plain values: one mapping for all chains, or one for each.
    """

    given: Any
    _points: np.ndarray = field(repr=False)

    def positions(self, chains: int) -> np.ndarray:
        """Return a point for each chain in unconstrained coordinates, (chains, dimension)."""
        if len(self._points) == 1:
            return np.repeat(self._points, chains, axis=0)
        return self._points


def start_from(binding: Binding, given: StartValues, seed: int) -> Start:
    """Check starting values, and turn them into unconstrained coordinates.

    Parameters
    ----------
    given
        Values of unknowns by name, for all chains, or a list of such mappings, one for each
        chain. Unknowns that are not named begin at a draw from their prior.

    Raises
    ------
    ArgumentError
        For unknown names, values of the wrong shape or outside the support, or a point at which
        the density is zero.
    """
    several = isinstance(given, Sequence) and not isinstance(given, str)
    each: list[Any] = list(given) if several else [given]
    if not each or not all(isinstance(one, Mapping) and one for one in each):
        raise ArgumentError(
            "`start` must be a mapping of unknowns to values, such as {'slope': 0.1}, or a list "
            f"of such mappings, one for each chain, not {given!r}."
        )
    points = np.concatenate([_point(binding, one, seed, at) for at, one in enumerate(each)])
    if not any(foreign.missing for foreign in binding.program.foreign):
        _check_density(binding, points)
    plain = [_plain(one) for one in each]
    return Start(plain[0] if isinstance(given, Mapping) else plain, points)


def _check_density(binding: Binding, points: np.ndarray) -> None:
    target = target_of(binding)
    for at, value in enumerate(target.plain(points)):
        if not np.isfinite(value):
            raise ArgumentError(
                f"`start`: the posterior density is zero at the point for chain {at + 1}. "
                f"{target.explain(points[at : at + 1])}"
            )


def checked_start(
    binding: Binding, given: StartValues, seed: int, method: Method, chains: int
) -> Start:
    """Return starting points for the chains of a method.

    Raises
    ------
    ArgumentError
        If the method has no use for them, or their number is not that of the chains.
    """
    if isinstance(method, Rejection | Tempering | LaplaceGrid):
        raise ArgumentError(
            f"`start` is for methods whose chains begin at one point each; {method.words} spreads "
            "its own points."
        )
    found = start_from(binding, given, seed)
    count = 1 if isinstance(given, Mapping) else len(given)
    if isinstance(method, Ensemble) and count != chains:
        raise ArgumentError(
            f"`start` holds {count} point{'s' * (count != 1)} for {chains} walkers: give a list "
            "with one for each; walkers that begin together stay together."
        )
    if count not in (1, chains):
        raise ArgumentError(
            f"`start` holds {count} points for {chains} chains: give one for all, or one for each."
        )
    return found


def _point(binding: Binding, given: Mapping[str, Any], seed: int, at: int) -> np.ndarray:
    values = stated_values(binding, given, "start")
    generator = generator_of(seed, Stream.START, at)
    with np.errstate(all="ignore"):
        evaluation = draw_unknowns(binding, 1, generator, values)
        point = positions_from(binding, evaluation)
        back = from_positions(binding, point[None]).values
    for name, item in values.items():
        if not np.allclose(back[name][0, 0], item.values, rtol=1e-6, atol=1e-9):
            text = binding.specification.part(name).definition.text
            raise ArgumentError(
                f"`start`: {given[name]!r} is outside the support of `{name}`, whose prior is "
                f"{text}."
            )
    return point


def _plain(given: Mapping[str, Any]) -> dict[str, Any]:
    """Return values as a record can hold them."""
    return {
        name: dict(value) if isinstance(value, Mapping) else np.asarray(value).tolist()
        for name, value in given.items()
    }
