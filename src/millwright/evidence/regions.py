"""The Bayes factor of a region inside one model: posterior odds over prior odds."""

from __future__ import annotations

import numpy as np

from millwright.diagnostics.convergence import mean_size
from millwright.draws.expressions import evaluated
from millwright.draws.known_priors import known_prior
from millwright.draws.labelled_draws import Draws
from millwright.draws.prior import prior_draws
from millwright.errors import ArgumentError
from millwright.evidence.bayes_factor import BayesFactor
from millwright.language.tree import Name, Node, Operation, constant
from millwright.sampling.streams import Stream, generator_of

__all__ = ["region_factor"]

_PRIOR_DRAWS = 40_000
_MOST_PRIOR_DRAWS = 640_000
_ENOUGH = 400
_ORDERS = {"<": 1, "<=": 1, ">": -1, ">=": -1}


def region_factor(draws: Draws, statement: str, seed: int) -> BayesFactor:
    """Return the Bayes factor of a statement against its contrary.

    Raises
    ------
    ArgumentError
        If the statement is none, has several answers, or has a prior probability of 0 or 1.
    ModelError
        If the prior is improper.
    """
    holds = _holds(draws, statement)
    share = float(holds.mean())
    size = float(mean_size(holds[:, :, None].astype(float))[0])
    size = size if np.isfinite(size) and size > 1 else float(holds.size)
    prior, error, how = _prior_probability(draws, statement, seed)
    if not 0 < prior < 1:
        raise ArgumentError(
            f"The prior gives `{statement}` a probability of {prior:g}"
            + ("" if how == "exact" else f" ({how})")
            + ", so no data can change it and there is no Bayes factor. Compare models with other "
            "priors by mw.bayes_factors(...)."
        )
    prior_odds = np.log(prior) - np.log1p(-prior)
    bound = share in (0.0, 1.0)
    seen = float(np.clip(share, 0.5 / size, 1 - 0.5 / size))
    posterior_odds = np.log(seen) - np.log1p(-seen)
    of_posterior = np.sqrt(1 / (size * seen * (1 - seen)))
    of_prior = error / (prior * (1 - prior))
    reasons = [f"Prior probability: {how}."]
    few = min(share, 1 - share) * size < 10
    if bound:
        reasons.append(
            f"None of the draws is {'outside' if share else 'inside'} the region: the factor is "
            "at least this; more draws would tell more."
        )
    elif few and not bound:
        reasons.append(
            "Fewer than ten effective draws lie on one side, so its error is itself rough; more "
            "draws would tell more."
        )
    return BayesFactor(
        statement=statement,
        against=f"not ({statement})",
        log_value=float(posterior_odds - prior_odds),
        standard_error=float(np.hypot(of_posterior, of_prior)),
        method="posterior odds over prior odds",
        trusted=bound or not few,
        reasons=tuple(reasons),
        at_least=bound,
        prior_probability=prior,
        posterior_probability=share,
    )


def _holds(draws: Draws, statement: str) -> np.ndarray:
    found = evaluated(draws, statement)
    if found.values.dtype != bool:
        raise ArgumentError(
            f"`{statement}` is not true or false: a statement compares, as in 'drying < 0'."
        )
    if found.joint:
        reduce = np.all if found.joint == "all" else np.any
        return np.asarray(reduce(found.values, axis=-1))
    if found.values.shape[-1] > 1:
        raise ArgumentError(
            f"`{statement}` has an answer for each label ({', '.join(found.labels[:4])}): "
            "name one, as in \"effect['Upper'] < 0\", or write all(...) or any(...) around it."
        )
    return np.asarray(found.values[:, :, 0])


def _prior_probability(draws: Draws, statement: str, seed: int) -> tuple[float, float, str]:
    """Return the prior probability, its error, and how it was found."""
    node = evaluated(draws, statement).node
    exact = _exact(draws, node)
    if exact is not None:
        return exact, 0.0, "exact"
    count, held, total = _PRIOR_DRAWS, 0.0, 0
    generator = generator_of(seed, Stream.ODDS)
    while True:
        part = _holds(prior_draws(draws.binding, count, generator), statement)
        held, total = held + float(part.sum()), total + part.size
        if min(held, total - held) >= _ENOUGH or total >= _MOST_PRIOR_DRAWS:
            break
    share = held / total
    return share, float(np.sqrt(share * (1 - share) / total)), f"from {total:,} prior draws"


def _exact(draws: Draws, node: Node) -> float | None:
    """Return the probability of an interval of one unknown whose prior rests on numbers alone."""
    ends = _ends(node)
    if ends is None:
        return None
    name, low, high = ends
    known = known_prior(draws.binding.specification, name)
    if known is None or draws.binding.axes.get(name):
        return None
    with np.errstate(all="ignore"):
        below = known.family.cdf(np.array([low, high]), known.values)
    below = np.where(np.isinf([low, high]), [0.0, 1.0], below)
    found = float(below[1] - below[0])
    return found if np.isfinite(found) else None


def _ends(node: Node) -> tuple[str, float, float] | None:
    """Return a name with the ends between which a statement puts it."""
    if not isinstance(node, Operation):
        return None
    if node.operator == "and":
        found = [_ends(part) for part in node.operands]
        known = [one for one in found if one is not None]
        if len(known) < len(found) or len({name for name, _, _ in known}) > 1:
            return None
        return known[0][0], max(o[1] for o in known), min(o[2] for o in known)
    if node.operator not in _ORDERS:
        return None
    left, right = node.operands
    sign = _ORDERS[node.operator]
    value = constant(right)
    name = left
    if value is None:
        value, name, sign = constant(left), right, -sign
    if value is None or not isinstance(name, Name):
        return None
    return (name.name, -np.inf, value) if sign > 0 else (name.name, value, np.inf)
