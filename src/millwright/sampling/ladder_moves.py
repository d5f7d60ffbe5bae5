"""One draw of a tempering ladder: steps at every temperature, then exchanges of neighbours.

Written for NumPy, where black boxes are called, and for JAX, which compiles it.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple

__all__ = ["Drawn", "Ladder", "Numbers", "Plan", "one_draw", "tempered"]

_UP, _DOWN = 1.0, -1.0


class Ladder(NamedTuple):
    """Points of a ladder, one a temperature, the posterior first.

    Attributes
    ----------
    positions, priors, likelihoods
        Points, shape (temperatures, dimension), with their log priors and log likelihoods.
    log_scales
        Logarithms of the step scales.
    refused, offered
        Sum of refusal probabilities, and offers, of each pair of neighbours.
    travellers
        Which of the original points stands at each temperature.
    heading
        For each traveller: 1 after it was at the posterior's temperature, -1 after the highest.
    round_trips, exchanges
        Completed journeys down the ladder and back, and how often exchanges were offered.
    """

    positions: Any
    priors: Any
    likelihoods: Any
    log_scales: Any
    refused: Any
    offered: Any
    travellers: Any
    heading: Any
    round_trips: Any
    exchanges: Any


class Numbers(NamedTuple):
    """What each draw needs of its own; in a block all have the draws as a first axis.

    Attributes
    ----------
    noise
        Step directions, shape (steps, temperatures, dimension).
    chances, swaps
        Logarithms of uniform numbers for steps, (steps, temperatures), and for exchanges,
        (temperatures - 1,).
    fresh
        Independent draws at the highest temperature, shape (steps, dimension).
    rate
        How fast the scales adapt; 0 for not at all.
    """

    noise: Any
    chances: Any
    swaps: Any
    fresh: Any
    rate: Any


class Plan(NamedTuple):
    """What all draws of a block have in common.

    Attributes
    ----------
    powers
        Power of the likelihood at each temperature, shape (temperatures,).
    wanted
        Acceptance that the scales adapt to.
    independent
        Whether the highest temperature takes its independent draws in the place of steps.
    counting
        Whether round trips count.
    """

    powers: Any
    wanted: Any
    independent: Any
    counting: Any


class Drawn(NamedTuple):
    """What is kept of a draw: positions of all temperatures, and numbers of the first."""

    positions: Any
    log_density: Any
    accepted: Any
    log_scale: Any


Loop = Callable[[int, Callable[[Any, Any], Any], Any], Any]
"""Called with a number of rounds, the round and what it starts from."""


def one_draw(
    m: Any,
    loop: Loop,
    split: Callable[[Any], tuple[Any, Any]],
    at: Ladder,
    numbers: Numbers,
    plan: Plan,
) -> tuple[Ladder, Drawn]:
    """Move every temperature, then let neighbours exchange.

    Parameters
    ----------
    m
        `numpy` or `jax.numpy`.
    split
        Log priors and log likelihoods of positions, shape (temperatures, dimension).
    """
    steps = numbers.noise.shape[0]

    def step(which: Any, carry: tuple[Ladder, Any]) -> tuple[Ladder, Any]:
        ladder, accepted = carry
        moved, here = _one_step(m, split, ladder, numbers, plan, which)
        return moved, accepted + here

    at, accepted = loop(steps, step, (at, m.asarray(0.0)))
    at = _exchanged(m, at, numbers.swaps, plan)
    value = at.priors[0] + at.likelihoods[0]
    return at, Drawn(at.positions, value, accepted / steps, at.log_scales[0])


def _one_step(
    m: Any,
    split: Callable[[Any], tuple[Any, Any]],
    at: Ladder,
    numbers: Numbers,
    plan: Plan,
    step: Any,
) -> tuple[Ladder, Any]:
    candidates = at.positions + m.exp(at.log_scales)[:, None] * numbers.noise[step]
    # The highest temperature can be drawn from: a fresh draw is always taken.
    drawn = plan.independent & (m.arange(len(plan.powers)) == len(plan.powers) - 1)
    candidates = m.where(drawn[:, None], numbers.fresh[step], candidates)
    prior, likelihood = split(candidates)
    there = tempered(m, prior, likelihood, plan.powers)
    here = tempered(m, at.priors, at.likelihoods, plan.powers)
    log_ratio = m.where(drawn, 0.0, m.minimum(0.0, there - here))
    taken = numbers.chances[step] < log_ratio
    accepted = m.exp(log_ratio)
    moved = at._replace(
        positions=m.where(taken[:, None], candidates, at.positions),
        priors=m.where(taken, prior, at.priors),
        likelihoods=m.where(taken, likelihood, at.likelihoods),
        log_scales=at.log_scales + numbers.rate * (accepted - plan.wanted),
    )
    return moved, accepted[0]


def tempered(m: Any, prior: Any, likelihood: Any, powers: Any) -> Any:
    """Return the log density of each temperature; -inf where that is no number, or infinite."""
    # At power 0 an impossible point of the likelihood is as good as any.
    total = prior + m.where(powers > 0, powers * likelihood, 0.0)
    return m.where(total < m.inf, total, -m.inf)


def _exchanged(m: Any, at: Ladder, swaps: Any, plan: Plan) -> Ladder:
    """Let even or odd pairs of neighbours offer each other their points."""
    places = m.arange(len(plan.powers))
    offering = (places[:-1] - at.exchanges) % 2 == 0
    gain = at.likelihoods[1:] - at.likelihoods[:-1]
    log_ratio = m.minimum(0.0, (plan.powers[:-1] - plan.powers[1:]) * gain)
    log_ratio = m.where(m.isnan(log_ratio), -m.inf, log_ratio)
    taken = offering & (swaps < log_ratio)
    none = m.zeros(1, dtype=bool)
    order = places + m.concatenate([taken, none]) - m.concatenate([none, taken])
    travellers = at.travellers[order]
    back = at.heading[travellers[0]] == _DOWN
    heading = m.where(places == travellers[0], _UP, at.heading)
    # Only a traveller that has been at the posterior's temperature begins a round trip.
    begun = (places == travellers[-1]) & (heading != 0)
    return at._replace(
        positions=at.positions[order],
        priors=at.priors[order],
        likelihoods=at.likelihoods[order],
        refused=at.refused + m.where(offering, 1.0 - m.exp(log_ratio), 0.0),
        offered=at.offered + m.where(offering, 1.0, 0.0),
        travellers=travellers,
        heading=m.where(begun, _DOWN, heading),
        round_trips=at.round_trips + m.where(plan.counting & back, 1, 0),
        exchanges=at.exchanges + 1,
    )
