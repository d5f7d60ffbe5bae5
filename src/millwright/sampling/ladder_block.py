"""Blocks of draws of a tempering ladder, compiled or for black boxes."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from millwright.sampling.block import padded
from millwright.sampling.compiling import compiled, on_device
from millwright.sampling.ladder_moves import Drawn, Ladder, Numbers, Plan, one_draw
from millwright.sampling.target import TargetDensity

__all__ = ["Block", "ladder_for", "ladder_length"]

Block = Callable[[Ladder, Numbers, Plan], tuple[Ladder, Drawn]]


def ladder_length(dimension: int, temperatures: int, steps: int) -> int:
    """Return the most draws of one block, by memory: about 4 MB of steps."""
    return int(np.clip(500_000 // (dimension * temperatures * steps), 1, 500))


def ladder_for(target: TargetDensity, temperatures: int, steps: int) -> Block:
    """Return a function that makes a block of draws, as many as it gets numbers for."""
    if not target.traceable:
        return lambda at, numbers, plan: _called(target.split, at, numbers, plan)
    length = ladder_length(target.dimension, temperatures, steps)
    arguments = on_device(target.arguments)
    example = _example(target.dimension, temperatures, steps, length)
    executable = compiled(_compiled_block, target.split_key, (*example, arguments))

    def block(at: Ladder, numbers: Numbers, plan: Plan) -> tuple[Ladder, Drawn]:
        count = len(numbers.noise)
        whole = Numbers(*(padded(one, length) for one in numbers))
        moved, drawn = executable(at, whole, plan, np.int64(count), arguments)
        kept = (np.asarray(one)[:count] for one in drawn)
        return Ladder(*map(np.asarray, moved)), Drawn(*kept)

    return block


def _example(dimension: int, temperatures: int, steps: int, length: int) -> tuple[Any, ...]:
    number, whole = np.float64(0), np.int64(0)
    each, pairs = np.zeros(temperatures), np.zeros(temperatures - 1)
    points = np.zeros((temperatures, dimension))
    at = Ladder(
        positions=points,
        priors=each,
        likelihoods=each,
        log_scales=each,
        refused=pairs,
        offered=pairs,
        travellers=np.zeros(temperatures, dtype=np.int64),
        heading=each,
        round_trips=whole,
        exchanges=whole,
    )
    numbers = Numbers(
        noise=np.zeros((length, steps, temperatures, dimension)),
        chances=np.zeros((length, steps, temperatures)),
        swaps=np.zeros((length, temperatures - 1)),
        fresh=np.zeros((length, steps, dimension)),
        rate=np.zeros(length),
    )
    return at, numbers, Plan(each, number, np.bool_(False), np.bool_(False)), whole


def _compiled_block(
    split: Callable[[Any, Any], Any],
    at: Ladder,
    numbers: Numbers,
    plan: Plan,
    count: Any,
    arguments: Any,
) -> tuple[Ladder, Drawn]:
    import jax
    import jax.numpy as jnp

    def values(positions: Any) -> Any:
        return jax.vmap(lambda one: split(one, arguments))(positions)

    def loop(rounds: int, body: Callable[[Any, Any], Any], start: Any) -> Any:
        return jax.lax.fori_loop(0, rounds, body, start)

    def draw(carry: tuple[Any, Ladder, Drawn]) -> tuple[Any, Ladder, Drawn]:
        number, ladder, kept = carry
        own = Numbers(*(one[number] for one in numbers))
        ladder, drawn = one_draw(jnp, loop, values, ladder, own, plan)
        held = (all_.at[number].set(one) for all_, one in zip(kept, drawn, strict=True))
        return number + 1, ladder, Drawn(*held)

    length = len(numbers.rate)
    some = jnp.zeros(length)
    kept = Drawn(jnp.zeros((length, *at.positions.shape)), some, some, some)
    start = jnp.zeros_like(count), at, kept
    return jax.lax.while_loop(lambda carry: carry[0] < count, draw, start)[1:]


def _called(
    split: Callable[[Any], Any], at: Ladder, numbers: Numbers, plan: Plan
) -> tuple[Ladder, Drawn]:
    """Make the draws one after the other, calling the density from here."""

    def loop(rounds: int, body: Callable[[Any, Any], Any], carry: Any) -> Any:
        for number in range(rounds):
            carry = body(number, carry)
        return carry

    kept = []
    for number in range(len(numbers.rate)):
        own = Numbers(*(one[number] for one in numbers))
        at, drawn = one_draw(np, loop, split, at, own, plan)
        kept.append(drawn)
    return at, Drawn(*(np.stack(one) for one in zip(*kept, strict=True)))
