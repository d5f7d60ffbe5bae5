"""One transition of the no-U-turn sampler, as a single flat loop with one gradient call.

The sampler is that of Hoffman and Gelman (2014), with multinomial sampling along the
trajectory and the generalised turn criterion of Betancourt (2017, appendix A). The doubling
of Hoffman and Gelman's algorithm 3 is unrolled into a loop over leapfrog steps: the balanced
subtrees that end at step n of a doubling are those of sizes 2, 4, ... for each trailing one in
the binary form of n, and the first step of each is kept in a small table of marks.

Coordinates: positions q = scale * z with the diagonal metric absorbed into `scale`, so that
momenta r are standard normal and the kinetic energy is r.r / 2.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

import jax.numpy as jnp
import numpy as np
from jax import Array, lax

from millwright.sampling.methods import DEEPEST

__all__ = ["Point", "transition"]

_DIVERGENCE = 1000.0
"""Error of the energy beyond which a trajectory counts as divergent."""

_GOLDEN = np.uint64(0x9E3779B97F4A7C15)


class Point(NamedTuple):
    """A point of phase space without its momentum, with its log density and energy."""

    q: Array
    gradient: Array
    log_density: Array
    energy: Array


class _Tree(NamedTuple):
    """State of the loop: the trajectory so far and the doubling in progress."""

    ends_q: Array
    ends_r: Array
    ends_gradient: Array
    sample: Point
    proposal: Point
    momenta: Array
    new_momenta: Array
    log_weight: Array
    new_log_weight: Array
    mark_r: Array
    mark_sum: Array
    mark_before: Array
    depth: Array
    leaf: Array
    side: Array
    steps: Array
    acceptance: Array
    diverging: Array
    going: Array


class Outcome(NamedTuple):
    """Result of one transition; `end` is where its last good leapfrog step ended."""

    point: Point
    acceptance: Array
    steps: Array
    depth: Array
    diverging: Array
    end: Array


def uniform(seed: Array, counter: Array) -> Array:
    """Return a uniform number in [0, 1) from a 64-bit mix of seed and counter.

    The finaliser of SplitMix64 (Steele, Lea and Flood 2014, figure 17). It costs a few
    instructions; counter-based bits from JAX would cost more than a small gradient.
    """
    z = seed + counter.astype(jnp.uint64) * _GOLDEN
    z = (z ^ (z >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    z = (z ^ (z >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    z = z ^ (z >> np.uint64(31))
    return (z >> np.uint64(11)).astype(jnp.float64) * 2.0**-53


def stretched(scale: Array, r: Array) -> Array:
    """Return a direction in the coordinates of positions: S r for q = S z."""
    return scale * r if scale.ndim == 1 else scale @ r


def shrunk(scale: Array, gradient: Array) -> Array:
    """Return a gradient in standardised coordinates: S' g for q = S z."""
    return scale * gradient if scale.ndim == 1 else gradient @ scale


def transition(
    value_and_gradient: Callable[[Array], tuple[Array, Array]],
    start: Point,
    momentum: Array,
    seed: Array,
    step_size: Array,
    scale: Array,
    max_depth: Array,
) -> Outcome:
    """Move once from `start`.

    Parameters
    ----------
    value_and_gradient
        Log density and its gradient at a position.
    start
        Where to start; its gradient is multiplied by `scale`.
    momentum
        Standard normal, shape (dimension,).
    seed
        64 random bits for the choices along the trajectory.
    step_size, scale, max_depth
        Leapfrog step size, the metric, most doublings. The metric is the standard deviations
        (dimension,), or the Cholesky factor of a covariance (dimension, dimension).
    """
    energy = 0.5 * jnp.sum(momentum * momentum) - start.log_density
    start = start._replace(energy=energy)
    tree = _first(start, momentum, seed)

    def step(tree: _Tree) -> _Tree:
        return _step(value_and_gradient, tree, energy, seed, step_size, scale, max_depth)

    tree = lax.while_loop(lambda tree: tree.going, step, tree)
    return Outcome(
        tree.sample,
        tree.acceptance / tree.steps,
        tree.steps,
        tree.depth,
        tree.diverging,
        _row(tree.ends_q, tree.side),
    )


def _first(start: Point, momentum: Array, seed: Array) -> _Tree:
    zeros = jnp.zeros_like(start.q)
    marks = jnp.zeros((DEEPEST + 1, start.q.shape[0]))
    none = jnp.asarray(0, jnp.int32)
    no = jnp.asarray(False)
    return _Tree(
        ends_q=jnp.stack([start.q, start.q, start.q]),
        ends_r=jnp.stack([momentum, momentum]),
        ends_gradient=jnp.stack([start.gradient, start.gradient]),
        sample=start,
        proposal=start,
        momenta=momentum,
        new_momenta=zeros,
        log_weight=jnp.asarray(0.0),
        new_log_weight=jnp.asarray(-jnp.inf),
        mark_r=marks,
        mark_sum=marks,
        mark_before=marks,
        depth=none,
        leaf=none,
        side=(uniform(seed, jnp.asarray(0)) < 0.5).astype(jnp.int32),
        steps=none,
        acceptance=jnp.asarray(0.0),
        diverging=no,
        going=~no,
    )


def _row(table: Array, at: Array) -> Array:
    """Return one row; plain indexing would also handle negative positions, at a cost."""
    return lax.dynamic_index_in_dim(table, at, keepdims=False)


def _with_row(table: Array, at: Array, row: Array) -> Array:
    return lax.dynamic_update_index_in_dim(table, row, at, 0)


def _turns(first: Array, last: Array, total: Array) -> Array:
    """Whether a stretch with end momenta `first`, `last` and momentum sum `total` turns back."""
    return (jnp.sum(first * total) <= 0) | (jnp.sum(last * total) <= 0)


def _step(
    value_and_gradient: Callable[[Array], tuple[Array, Array]],
    tree: _Tree,
    start_energy: Array,
    seed: Array,
    step_size: Array,
    scale: Array,
    max_depth: Array,
) -> _Tree:
    """Take one leapfrog step; finish the doubling if it was the last one of it."""
    side, leaf = tree.side, tree.leaf
    signed = jnp.where(side == 1, step_size, -step_size)
    r_before = _row(tree.ends_r, side)
    r_half = r_before + 0.5 * signed * _row(tree.ends_gradient, side)
    q = _row(tree.ends_q, side) + signed * stretched(scale, r_half)
    log_density, gradient = value_and_gradient(q)
    gradient = shrunk(scale, gradient)
    r = r_half + 0.5 * signed * gradient
    new = Point(q, gradient, log_density, 0.5 * jnp.sum(r * r) - log_density)
    error = start_energy - new.energy
    log_weight = jnp.where(jnp.isnan(error), -jnp.inf, error)
    diverging = log_weight < -_DIVERGENCE

    marks, momenta, turning = _turns_within(tree, r, r_before)
    new_log_weight = jnp.logaddexp(tree.new_log_weight, log_weight)
    draw = 3 * tree.steps + 1
    take = (leaf == 0) | (uniform(seed, draw) < jnp.exp(log_weight - new_log_weight))
    proposal = lax.cond(take, lambda: new, lambda: tree.proposal)

    good = ~diverging & ~turning
    full = good & (leaf + 1 == (jnp.asarray(1, jnp.int32) << tree.depth))
    ends_r = _with_row(tree.ends_r, side, r)
    grown = tree._replace(
        # A step that diverged goes to a spare row: its beginning shows where the trouble is.
        ends_q=_with_row(tree.ends_q, jnp.where(diverging, 2, side), q),
        ends_r=ends_r,
        ends_gradient=_with_row(tree.ends_gradient, side, gradient),
        proposal=proposal,
        mark_r=marks[0],
        mark_sum=marks[1],
        mark_before=marks[2],
    )
    sample, total, weight, turned, next_side = lax.cond(
        full,
        lambda: _merge(grown, momenta, new_log_weight, r, seed, draw),
        lambda: (tree.sample, tree.momenta, tree.log_weight, jnp.asarray(False), side),
    )
    depth = tree.depth + full
    return grown._replace(
        sample=sample,
        momenta=total,
        new_momenta=jnp.where(full, 0.0, momenta),
        log_weight=weight,
        new_log_weight=jnp.where(full, -jnp.inf, new_log_weight),
        depth=depth,
        leaf=jnp.where(full, 0, leaf + 1),
        side=next_side,
        steps=tree.steps + 1,
        acceptance=tree.acceptance + jnp.exp(jnp.minimum(log_weight, 0.0)),
        diverging=diverging,
        going=good & ~turned & (depth < max_depth),
    )


def _turns_within(
    tree: _Tree, r: Array, r_before: Array
) -> tuple[tuple[Array, Array, Array], Array, Array]:
    """Mark an even step; at an odd one, check every subtree that ends here.

    Each subtree of 2^k steps is checked as a whole and, for k > 1, across its two halves: the
    first half with the first momentum of the second, and the second half with the last
    momentum of the first. Without these, near-independent targets run to the longest
    trajectory.

    Returns the marks, the sum of momenta of the doubling so far, and whether it turns.
    """
    leaf = tree.leaf
    even = (leaf & 1) == 0
    row = lax.population_count(leaf >> 1)
    # An odd step writes to a spare row, which spares a copy of the table.
    write = jnp.where(even, row, DEEPEST)
    mark_r = _with_row(tree.mark_r, write, r)
    mark_sum = _with_row(tree.mark_sum, write, tree.new_momenta)
    mark_before = _with_row(tree.mark_before, write, r_before)
    total = tree.new_momenta + r
    trailing_ones = lax.population_count(leaf & ~(leaf + 1))
    first = jnp.where(even, row + 1, row - trailing_ones + 1)

    def check(state: tuple[Array, Array]) -> tuple[Array, Array]:
        at, _ = state
        start_r, start_sum = _row(mark_r, at), _row(mark_sum, at)
        whole = _turns(start_r, r, total - start_sum)
        middle_r, middle_sum = _row(mark_r, at + 1), _row(mark_sum, at + 1)
        last_r = _row(mark_before, at + 1)
        across = _turns(start_r, middle_r, middle_sum - start_sum + middle_r)
        across |= _turns(last_r, r, total - middle_sum + last_r)
        return at - 1, whole | ((at < row) & across)

    _, turning = lax.while_loop(
        lambda state: (state[0] >= first) & ~state[1], check, (row, jnp.asarray(False))
    )
    return (mark_r, mark_sum, mark_before), total, turning


def _merge(
    tree: _Tree, momenta: Array, new_log_weight: Array, r: Array, seed: Array, draw: Array
) -> tuple[Point, Array, Array, Array, Array]:
    """Join a finished doubling to the trajectory; choose the side of the next."""
    take = uniform(seed, draw + 1) < jnp.exp(new_log_weight - tree.log_weight)
    sample = lax.cond(take, lambda: tree.proposal, lambda: tree.sample)
    total = tree.momenta + momenta
    far_end = _row(tree.ends_r, 1 - tree.side)
    first_new, last_old = tree.mark_r[0], tree.mark_before[0]
    turned = (
        _turns(far_end, r, total)
        | _turns(far_end, first_new, tree.momenta + first_new)
        | _turns(last_old, r, momenta + last_old)
    )
    side = (uniform(seed, draw + 2) < 0.5).astype(jnp.int32)
    weight = jnp.logaddexp(tree.log_weight, new_log_weight)
    return sample, total, weight, turned, side
