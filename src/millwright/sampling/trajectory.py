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


class _Ends(NamedTuple):
    """Both ends of the trajectory, the left one first.

    Attributes
    ----------
    q
        Positions, shape (3, dimension); the last row is where a step that diverged goes.
    r, gradient
        Momenta and gradients, shape (2, dimension).
    """

    q: Array
    r: Array
    gradient: Array


class _Marks(NamedTuple):
    """The first step of each subtree in progress, each of shape (DEEPEST + 1, dimension).

    Attributes
    ----------
    r, before
        Its momentum, and that of the step before it.
    sum
        Sum of the momenta of the doubling before it.
    """

    r: Array
    sum: Array
    before: Array


class _Doubling(NamedTuple):
    """The doubling in progress; numbers without an axis but for `momenta` (dimension,).

    Attributes
    ----------
    side
        0 if it grows to the left, 1 to the right.
    leaf
        How many steps it has.
    proposal
        A point of it, drawn by weight.
    momenta, log_weight
        Sum of its momenta, and logarithm of the sum of its weights.
    """

    side: Array
    leaf: Array
    proposal: Point
    momenta: Array
    log_weight: Array
    marks: _Marks


class _Tree(NamedTuple):
    """State of the loop: the trajectory of full doublings, and the one in progress.

    Attributes
    ----------
    sample, momenta, log_weight
        Of the full doublings: a point drawn by weight, the sum of momenta (dimension,) and the
        logarithm of the sum of weights.
    depth
        How many doublings are full.
    steps, acceptance
        Leapfrog steps so far, and the sum of their acceptance probabilities.
    diverging, going
        Whether the last step diverged, and whether another is to be taken.
    """

    ends: _Ends
    sample: Point
    momenta: Array
    log_weight: Array
    doubling: _Doubling
    depth: Array
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
        _row(tree.ends.q, tree.doubling.side),
    )


def _first(start: Point, momentum: Array, seed: Array) -> _Tree:
    marks = jnp.zeros((DEEPEST + 1, start.q.shape[0]))
    none = jnp.asarray(0, jnp.int32)
    no = jnp.asarray(False)
    return _Tree(
        ends=_Ends(
            q=jnp.stack([start.q, start.q, start.q]),
            r=jnp.stack([momentum, momentum]),
            gradient=jnp.stack([start.gradient, start.gradient]),
        ),
        sample=start,
        momenta=momentum,
        log_weight=jnp.asarray(0.0),
        doubling=_Doubling(
            side=(uniform(seed, jnp.asarray(0)) < 0.5).astype(jnp.int32),
            leaf=none,
            proposal=start,
            momenta=jnp.zeros_like(start.q),
            log_weight=jnp.asarray(-jnp.inf),
            marks=_Marks(marks, marks, marks),
        ),
        depth=none,
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


def _leapfrog(
    value_and_gradient: Callable[[Array], tuple[Array, Array]],
    ends: _Ends,
    side: Array,
    step_size: Array,
    scale: Array,
) -> tuple[Point, Array, Array]:
    """Return the point one leapfrog step beyond an end, its momentum, and the momentum before."""
    signed = jnp.where(side == 1, step_size, -step_size)
    before = _row(ends.r, side)
    half = before + 0.5 * signed * _row(ends.gradient, side)
    q = _row(ends.q, side) + signed * stretched(scale, half)
    log_density, gradient = value_and_gradient(q)
    gradient = shrunk(scale, gradient)
    r = half + 0.5 * signed * gradient
    return Point(q, gradient, log_density, 0.5 * jnp.sum(r * r) - log_density), r, before


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
    side, leaf = tree.doubling.side, tree.doubling.leaf
    new, r, r_before = _leapfrog(value_and_gradient, tree.ends, side, step_size, scale)
    error = start_energy - new.energy
    # Beyond all numbers a density comes of rounding: a chain would never leave such a point.
    nowhere = jnp.isnan(error) | (new.log_density == jnp.inf)
    log_weight = jnp.where(nowhere, -jnp.inf, error)
    diverging = log_weight < -_DIVERGENCE

    marks, momenta, turning = _turns_within(tree.doubling, r, r_before)
    total_weight = jnp.logaddexp(tree.doubling.log_weight, log_weight)
    draw = 3 * tree.steps + 1
    take = (leaf == 0) | (uniform(seed, draw) < jnp.exp(log_weight - total_weight))
    proposal = lax.cond(take, lambda: new, lambda: tree.doubling.proposal)

    good = ~diverging & ~turning
    full = good & (leaf + 1 == (jnp.asarray(1, jnp.int32) << tree.depth))
    ends = _Ends(
        # A step that diverged goes to a spare row: its beginning shows where the trouble is.
        q=_with_row(tree.ends.q, jnp.where(diverging, 2, side), new.q),
        r=_with_row(tree.ends.r, side, r),
        gradient=_with_row(tree.ends.gradient, side, new.gradient),
    )
    doubling = _Doubling(side, leaf, proposal, momenta, total_weight, marks)
    grown = tree._replace(ends=ends, doubling=doubling)
    sample, total, weight, turned, next_side = lax.cond(
        full,
        lambda: _merge(grown, r, seed, draw),
        lambda: (tree.sample, tree.momenta, tree.log_weight, jnp.asarray(False), side),
    )
    depth = tree.depth + full
    return _Tree(
        ends=ends,
        sample=sample,
        momenta=total,
        log_weight=weight,
        doubling=doubling._replace(
            side=next_side,
            leaf=jnp.where(full, 0, leaf + 1),
            momenta=jnp.where(full, 0.0, momenta),
            log_weight=jnp.where(full, -jnp.inf, total_weight),
        ),
        depth=depth,
        steps=tree.steps + 1,
        acceptance=tree.acceptance + jnp.exp(jnp.minimum(log_weight, 0.0)),
        diverging=diverging,
        going=good & ~turned & (depth < max_depth),
    )


def _turns_within(doubling: _Doubling, r: Array, r_before: Array) -> tuple[_Marks, Array, Array]:
    """Mark an even step; at an odd one, check every subtree that ends here.

    Each subtree of 2^k steps is checked as a whole and, for k > 1, across its two halves: the
    first half with the first momentum of the second, and the second half with the last
    momentum of the first. Without these, near-independent targets run to the longest
    trajectory.

    Returns the marks, the sum of momenta of the doubling so far, and whether it turns.
    """
    leaf = doubling.leaf
    even = (leaf & 1) == 0
    row = lax.population_count(leaf >> 1)
    # An odd step writes to a spare row, which spares a copy of the table.
    write = jnp.where(even, row, DEEPEST)
    marks = _Marks(
        r=_with_row(doubling.marks.r, write, r),
        sum=_with_row(doubling.marks.sum, write, doubling.momenta),
        before=_with_row(doubling.marks.before, write, r_before),
    )
    total = doubling.momenta + r
    trailing_ones = lax.population_count(leaf & ~(leaf + 1))
    first = jnp.where(even, row + 1, row - trailing_ones + 1)

    def check(state: tuple[Array, Array]) -> tuple[Array, Array]:
        at, _ = state
        start_r, start_sum = _row(marks.r, at), _row(marks.sum, at)
        whole = _turns(start_r, r, total - start_sum)
        middle_r, middle_sum = _row(marks.r, at + 1), _row(marks.sum, at + 1)
        last_r = _row(marks.before, at + 1)
        across = _turns(start_r, middle_r, middle_sum - start_sum + middle_r)
        across |= _turns(last_r, r, total - middle_sum + last_r)
        return at - 1, whole | ((at < row) & across)

    _, turning = lax.while_loop(
        lambda state: (state[0] >= first) & ~state[1], check, (row, jnp.asarray(False))
    )
    return marks, total, turning


def _merge(
    tree: _Tree, r: Array, seed: Array, draw: Array
) -> tuple[Point, Array, Array, Array, Array]:
    """Join a finished doubling, whose last momentum is `r`; choose the side of the next."""
    new = tree.doubling
    take = uniform(seed, draw + 1) < jnp.exp(new.log_weight - tree.log_weight)
    sample = lax.cond(take, lambda: new.proposal, lambda: tree.sample)
    total = tree.momenta + new.momenta
    far_end = _row(tree.ends.r, 1 - new.side)
    first_new, last_old = new.marks.r[0], new.marks.before[0]
    turned = (
        _turns(far_end, r, total)
        | _turns(far_end, first_new, tree.momenta + first_new)
        | _turns(last_old, r, new.momenta + last_old)
    )
    side = (uniform(seed, draw + 2) < 0.5).astype(jnp.int32)
    weight = jnp.logaddexp(tree.log_weight, new.log_weight)
    return sample, total, weight, turned, side
