"""Random-walk moves of all temperatures of a tempering ladder, compiled or for black boxes."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple

import numpy as np

from millwright.distributions.mathematics import Array
from millwright.sampling.compiling import compiled, on_device
from millwright.sampling.target import TargetDensity

__all__ = ["Plan", "Ladder", "moves_for"]


class Ladder(NamedTuple):
    """Points of a ladder, one a temperature, with their densities and step scales.

    `accepted` is the mean acceptance on the first temperature over the moves made.
    """

    positions: Any
    priors: Any
    likelihoods: Any
    log_scales: Any
    accepted: Any


class Plan(NamedTuple):
    """What a series of moves needs.

    Attributes
    ----------
    powers
        Power of the likelihood at each temperature, shape (temperatures,).
    noise
        Step directions, shape (steps, temperatures, dimension).
    chances
        Logarithms of uniform numbers, shape (steps, temperatures).
    wanted, rate
        Wanted acceptance, and how fast the scales adapt to it; 0 for not at all.
    fresh, independent
        Independent draws at the highest temperature, shape (steps, dimension), and whether to
        use them in the place of its steps.
    """

    powers: Any
    noise: Any
    chances: Any
    wanted: Any
    rate: Any
    fresh: Any
    independent: Any


def moves_for(
    target: TargetDensity, temperatures: int, steps: int
) -> Callable[[Ladder, Plan], Ladder]:
    """Return a function that makes `steps` moves every temperature."""
    if not target.traceable:
        return lambda at, plan: _moved(np, target.split, at, plan)
    arguments = on_device(target.arguments)
    empty, square = np.zeros(temperatures), np.zeros((temperatures, target.dimension))
    number = np.float64(0)
    example = (
        Ladder(square, empty, empty, empty, number),
        Plan(
            empty,
            np.zeros((steps, *square.shape)),
            np.zeros((steps, temperatures)),
            number,
            number,
            np.zeros((steps, target.dimension)),
            np.bool_(False),
        ),
        arguments,
    )
    executable = compiled(_compiled_moves, target.split_key, example)

    def move(at: Ladder, plan: Plan) -> Ladder:
        return Ladder(*map(np.asarray, executable(at, plan, arguments)))

    return move


def _compiled_moves(split: Callable[[Any, Any], Any], at: Ladder, plan: Plan, data: Any) -> Ladder:
    import jax
    import jax.numpy as jnp

    def values(positions: Array) -> Any:
        return jax.vmap(lambda q: split(q, data))(positions)

    def one(step: Array, at: Ladder) -> Ladder:
        return _one_move(jnp, values, at, plan, step)

    steps = plan.noise.shape[0]
    moved = jax.lax.fori_loop(0, steps, one, at._replace(accepted=jnp.zeros_like(at.accepted)))
    return moved._replace(accepted=moved.accepted / steps)


def _moved(m: Any, split: Callable[[Any], Any], at: Ladder, plan: Plan) -> Ladder:
    at = at._replace(accepted=0.0)
    for step in range(len(plan.noise)):
        at = _one_move(m, split, at, plan, step)
    return at._replace(accepted=at.accepted / len(plan.noise))


def _one_move(m: Any, split: Callable[[Any], Any], at: Ladder, plan: Plan, step: Any) -> Ladder:
    candidates = at.positions + m.exp(at.log_scales)[:, None] * plan.noise[step]
    # The highest temperature can be drawn from: a fresh draw is always taken.
    drawn = plan.independent & (m.arange(len(plan.powers)) == len(plan.powers) - 1)
    candidates = m.where(drawn[:, None], plan.fresh[step], candidates)
    prior, likelihood = split(candidates)
    there = tempered(m, prior, likelihood, plan.powers)
    here = tempered(m, at.priors, at.likelihoods, plan.powers)
    log_ratio = m.where(drawn, 0.0, m.minimum(0.0, there - here))
    taken = plan.chances[step] < log_ratio
    accepted = m.exp(log_ratio)
    return Ladder(
        m.where(taken[:, None], candidates, at.positions),
        m.where(taken, prior, at.priors),
        m.where(taken, likelihood, at.likelihoods),
        at.log_scales + plan.rate * (accepted - plan.wanted),
        at.accepted + accepted[0],
    )


def tempered(m: Any, prior: Any, likelihood: Any, powers: Any) -> Any:
    """Return the log density of each temperature; -inf where it is not a number."""
    # At power 0 an impossible point of the likelihood is as good as any.
    total = prior + m.where(powers > 0, powers * likelihood, 0.0)
    return m.where(m.isnan(total), -m.inf, total)
