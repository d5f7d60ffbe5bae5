"""A finding of the convergence check, and what the check is told of a fit.

Every threshold is stated with the direction that is good, because numbers such as R-hat are
easily read the wrong way round.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

import numpy as np

from millwright.wording import changes, either, for_python, setting

__all__ = [
    "ENERGY_LEAST",
    "ESS_PER_CHAIN",
    "GRADIENT_ACCEPTANCE",
    "HIGHEST_GOOD_K",
    "WALK_ACCEPTANCE",
    "Finding",
    "Sampling",
    "Weight",
    "good_range",
    "more_temperatures",
    "listed",
    "percent",
]

ESS_PER_CHAIN = 100
ENERGY_LEAST = 0.3
GRADIENT_ACCEPTANCE = (0.6, 1.0)
WALK_ACCEPTANCE = (0.1, 0.6)
HIGHEST_GOOD_K = 0.7

Weight = Literal["stop", "caution", "note"]


@dataclass(frozen=True)
class Finding:
    """One thing that is wrong.

    Attributes
    ----------
    weight
        `stop`: the draws should not be used. `caution`: parts of the answer may be off.
        `note`: nothing is wrong with the answer.
    problem
        What was seen.
    marked
        What to do next, with settings as marked pieces that each face words its own way.
    of_plan
        Whether it is about how much was asked for, and not about how the draws came out.
    of_data
        Whether it is about the data, which every fit of them shares.
    """

    weight: Weight
    problem: str
    marked: str = field(repr=False)
    of_plan: bool = False
    of_data: bool = False

    @property
    def advice(self) -> str:
        """What to do next, in words for Python."""
        return for_python(self.marked)

    @property
    def changes(self) -> list[dict[str, Any]]:
        """Which settings to change, and to what, as far as the advice names any."""
        return changes(self.marked)

    def record(self, word: Callable[[str], str]) -> dict[str, Any]:
        """Return the finding as plain values, its advice worded by a face."""
        return {
            "weight": self.weight,
            "problem": self.problem,
            "advice": word(self.marked),
            "changes": self.changes,
        }


@dataclass(frozen=True, kw_only=True)
class Sampling:
    """How draws were made, as far as the verdict needs it.

    Attributes
    ----------
    chains, draws
        Number of chains, and of draws of each.
    diverging
        Divergent transitions of each chain, shape (chains,); None for a method without
        trajectories.
    cut_short
        Transitions that ended at the longest trajectory, 2^max_depth steps.
    energy
        Energies, shape (chains, draws), where the method has them.
    acceptance
        Mean acceptance of each chain, shape (chains,); None where it says nothing.
    good_acceptance
        Least and largest acceptance that is good for the method.
    enough
        Effective draws that are enough.
    stuck
        Chains (from 1) that never moved.
    complete, trial, extended
        Whether the fit came to its end, was a trial, went on after its planned end.
    flat
        Quantities with an improper prior.
    divergent_at
        Where divergences sit, in words.
    round_trips
        Fewest journeys along a tempering ladder of any chain, and the lowest rate of exchange.
    approximation_k
        For draws from an approximation, the Pareto k of its ratios to the posterior.
    candidates_k
        For draws from independent candidates, the Pareto k of their weights.
    exact
        Whether the draws are independent ones of the posterior itself.
    light
        Quantities that are known to have all moments.
    angles
        Angles with draws near both pi and -pi.
    compared
        Unknowns on whose order with something the density of a method with gradients rests.
    modes
        Separate modes found before sampling.
    goes_on_by
        The action that adds draws.
    repeated
        Rows of the data that repeat another row though their outcome hardly ever repeats, and
        the number of rows.
    """

    chains: int
    draws: int
    diverging: np.ndarray | None = None
    cut_short: int = 0
    max_depth: int = 10
    energy: np.ndarray | None = None
    acceptance: np.ndarray | None = None
    good_acceptance: tuple[float, float] = GRADIENT_ACCEPTANCE
    enough: int = 400
    stuck: tuple[int, ...] = ()
    complete: bool = True
    trial: bool = False
    extended: bool = False
    flat: tuple[str, ...] = ()
    divergent_at: str = ""
    round_trips: tuple[int, float] | None = None
    approximation_k: float | None = None
    candidates_k: float | None = None
    exact: bool = False
    light: frozenset[str] = frozenset()
    angles: tuple[str, ...] = ()
    compared: tuple[str, ...] = ()
    repeated: tuple[int, int] = (0, 0)
    modes: Any = None
    goes_on_by: str = "extend"

    @property
    def total(self) -> int:
        """Draws of all chains."""
        return self.chains * self.draws

    @property
    def warm_up_again(self) -> str:
        """What to say where the warm-up was the trouble."""
        if self.candidates_k is not None:
            return (
                "Give more candidates a draw (the setting `steps` of the method), or use "
                f"{setting('method', 'no_u_turn')}."
            )
        if self.extended:
            return (
                "Extending does not repeat the warm-up, which was the trouble: fit anew with a "
                f"longer one ({setting('warmup')})."
            )
        return f"Give a longer warm-up ({setting('warmup')})."


def more_temperatures() -> str:
    """Return how a tempering ladder is given more temperatures."""
    return either(
        "mw.Tempering(temperatures=...)", "--setting temperatures=20", "its setting temperatures"
    )


def good_range(fitting: tuple[float, float]) -> str:
    """Say which acceptance is good."""
    least, most = fitting
    return f"{least} or more" if most >= 1 else f"{least} to {most}"


def listed(names: Sequence[str], most: int = 4) -> str:
    shown = ", ".join(f"`{name}`" for name in names[:most])
    more = len(names) - most
    return f"{shown} and {more} more" if more > 0 else shown


def percent(share: float) -> str:
    return f"{100 * share:.1f} %" if share >= 0.001 else "under 0.1 %"
