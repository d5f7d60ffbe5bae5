"""The Bayes factor of a point inside one model: posterior over prior density there.

Dickey (1971), "The weighted likelihood ratio, linear hypotheses on normal location parameters",
Annals of Mathematical Statistics 42; the posterior density by Chen's importance-weighted marginal
density estimator (1994, Journal of the American Statistical Association 89, eq. 2.3).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.special import logsumexp

from millwright.diagnostics.convergence import mean_size
from millwright.distributions import on_numpy
from millwright.distributions.mathematics import Array
from millwright.draws.known_priors import KnownPrior, known_prior
from millwright.draws.labelled_draws import Draws, label_texts
from millwright.errors import ArgumentError, ModelError
from millwright.evidence.bayes_factor import BayesFactor
from millwright.evidence.of_fit import density_in_pieces, positions_of
from millwright.fitting.target import target_of
from millwright.language.parse import read_text
from millwright.language.tree import Label, Lookup, Name, Node, Number, Operation, constant
from millwright.modelling.anchors import anchor_of
from millwright.modelling.middles import middles
from millwright.modelling.space import free_of, onto_support, places
from millwright.modelling.specification import Part

__all__ = [
    "FARTHEST",
    "Point",
    "far_away",
    "inside_support",
    "log_likelihood_at",
    "point_factor",
    "point_of",
]

FARTHEST = 3.0
"""How many standard deviations from the mean a density is estimated; kernels fail earlier."""

_HALF_WIDTH = 1.5
"""In standard deviations: that of the bump by which densities are estimated."""


@dataclass(frozen=True, kw_only=True)
class Point:
    """A value of one unknown number.

    Attributes
    ----------
    name
        The unknown.
    at
        Which number of it, from 0.
    coordinate
        Its place in the sampler's vector.
    free
        The value in the sampler's coordinates; infinite at an edge of the support. Of the middle
        of groups the value itself: its coordinate rests on other unknowns.
    log_prior
        Log density of the prior there, in those coordinates.
    anchored
        Whether it is such a middle.
    """

    statement: str
    name: str
    at: int
    single: bool
    value: float
    coordinate: int
    free: float
    log_prior: float
    anchored: bool = False


def point_of(draws: Draws, statement: str) -> Point | None:
    """Return the point that a statement such as `drying == 0` names; None for other statements.

    Raises
    ------
    ArgumentError
        For a value outside the support, or what is not one number of an unknown.
    ModelError
        Where the prior rests on other unknowns.
    """
    node, _ = read_text(statement.strip(), "statement")
    if not isinstance(node, Operation) or node.operator != "==":
        return None
    left, right = node.operands
    value = constant(right)
    named = left
    if value is None:
        value, named = constant(left), right
    if value is None:
        raise ArgumentError(
            f"`{statement}`: a point is an unknown and a number, as in 'drying == 0'. For "
            "differences define the difference as an unknown, or compare two models by "
            "mw.bayes_factors(...)."
        )
    part, at = _unknown(draws, named, statement)
    known = known_prior(draws.binding.specification, part.name)
    if known is None or part.name in draws.binding.program.mapped:
        raise ModelError(
            f"The prior of `{part.name}` rests on other unknowns, so its density at a point is "
            "not known. Write the model without it, fit it, and compare both by "
            "mw.bayes_factors(...)."
        )
    return _placed(draws, part, at, float(value), statement, known)


def _placed(
    draws: Draws, part: Part, at: int, value: float, statement: str, known: KnownPrior
) -> Point:
    x = np.array([value])
    if not known.family.support(known.values).contains(x).all():
        raise ArgumentError(
            f"`{statement}`: {value:g} is outside the support of `{part.name}`, where its prior "
            "has no density."
        )
    parameters = {name: np.array([number]) for name, number in known.values.items()}
    with np.errstate(all="ignore"):
        free = float(free_of(part, x, parameters)[0])
        _, slope = onto_support(on_numpy, part, np.array([free]), parameters)
        log_prior = float(known.family.log_density(on_numpy, x, known.values)[0] + slope[0])
        back = float(onto_support(on_numpy, part, np.array([free]), parameters)[0][0])
    # At an edge of the support coordinates are cut, and do not lead back.
    edge = not np.isfinite(log_prior) or abs(back - value) > 1e-9 * max(1.0, abs(value))
    start = next(p.start for p in places(draws.binding.program) if p.name == part.name)
    return Point(
        statement=statement,
        name=part.name,
        at=at,
        single=not part.per,
        value=value,
        coordinate=start + at,
        free=np.inf if edge or _at_edge(known, value) else free,
        log_prior=log_prior,
        anchored=part.name in middles(draws.binding.program),
    )


def inside_support(known: KnownPrior, value: float) -> bool:
    """Whether a value lies in the support of a prior, and not at its end."""
    within = known.family.support(known.values).contains(np.array([value])).all()
    return bool(within) and not _at_edge(known, value)


def _at_edge(known: KnownPrior, value: float) -> bool:
    support = known.family.support(known.values)
    ends = (support.lower, support.upper)
    return any(end is not None and float(np.ravel(end)[0]) == value for end in ends)


def _unknown(draws: Draws, node: Node, statement: str) -> tuple[Part, int]:
    """Return the unknown that a statement names, and which number of it."""
    base = node.base if isinstance(node, Lookup) else node
    program = draws.binding.program
    names = [part.name for part in program.unknowns]
    if not isinstance(base, Name) or base.name not in names:
        raise ArgumentError(
            f"`{statement}`: a point is a value of one unknown ({', '.join(names[:8])}), as in "
            f"'{names[0]} == 0'. For others compare two models by mw.bayes_factors(...)."
        )
    part = program.by_name[base.name]
    if part.event != "number":
        raise ArgumentError(
            f"`{statement}`: `{part.name}` is a vector or matrix; a point is a value of a number."
        )
    if not part.per and base is node:
        return part, 0
    if not isinstance(node, Lookup) or len(node.labels) != len(part.per):
        raise ArgumentError(
            f"`{statement}`: `{part.name}` has a number for each {', '.join(part.per)}; name one "
            "in brackets."
        )
    index = []
    for label, axis in zip(node.labels, part.per, strict=True):
        texts = list(label_texts(draws.binding.labels[axis]))
        text = _label_text(label)
        if text not in texts:
            raise ArgumentError(f"`{statement}`: `{axis}` has no label {text!r}.")
        index.append(texts.index(text))
    return part, int(np.ravel_multi_index(index, program.shape(part.per)))


def _label_text(label: Node) -> str:
    if isinstance(label, Label):
        return label.value
    if isinstance(label, Number):
        return f"{label.value:g}"
    return label.name if isinstance(label, Name) else "?"


def far_away(draws: Draws, point: Point) -> float:
    """Return how many standard deviations a point is from the posterior mean."""
    if point.anchored:
        values = draws.get(point.name)
    else:
        values = positions_of(draws)[0][:, :, point.coordinate]
    return float(abs(point.free - values.mean()) / values.std())


def log_likelihood_at(draws: Draws, point: Point) -> float:
    """Return the log likelihood at the point of a model with that one unknown number."""
    values = density_in_pieces(target_of(draws.binding))
    return float(values(np.array([[point.free]]))[0] - point.log_prior)


def point_factor(draws: Draws, point: Point) -> BayesFactor:
    """Return the Bayes factor of the point, the posterior density there over the prior density."""
    positions, _ = positions_of(draws)
    chains, size, dimension = positions.shape
    values = density_in_pieces(target_of(draws.binding))
    flat = positions.reshape(-1, dimension)
    moved = flat.copy()
    moved[:, point.coordinate], log_slope = _coordinates(draws, point)
    terms = _log_conditional(flat, point.coordinate) + values(moved) - values(flat) + log_slope
    log_density = float(logsumexp(terms) - np.log(len(terms)))
    scaled = np.exp(terms - terms.max()).reshape(chains, size)
    independent = float(mean_size(scaled[:, :, None])[0])
    independent = independent if np.isfinite(independent) else float(scaled.size)
    error = float(scaled.std() / (scaled.mean() * np.sqrt(independent)))
    good = error < 0.2
    return BayesFactor(
        statement=point.statement,
        against=f"not ({point.statement})",
        log_value=log_density - point.log_prior,
        standard_error=error,
        method="the ratio of posterior to prior density at the point",
        trusted=good,
        reasons=()
        if good
        else ("The estimate of the density varies too much: fit with more draws.",),
    )


def _coordinates(draws: Draws, point: Point) -> tuple[Array, Array]:
    """Return the point's coordinate at each draw, and the log of its factor of the density."""
    if not point.anchored:
        return np.array(point.free), np.array(0.0)
    part = draws.binding.program.by_name[point.name]
    centre, root = anchor_of(draws.evaluation(), part)
    return (point.value - centre) * root, np.log(root)


def _log_conditional(flat: np.ndarray, at: int) -> np.ndarray:
    """Return the log density of each draw's coordinate in a bump around its mean given others.

    Chen's estimator holds for any such density, and its variance is that of bump over posterior:
    a bump with tails, where those of the posterior are light, rests on draws that hardly occur.
    """
    others = np.delete(flat, at, axis=1)
    away = others - others.mean(axis=0)
    own = flat[:, at] - flat[:, at].mean()
    slope = np.linalg.lstsq(away, own, rcond=None)[0] if others.shape[1] else np.zeros(0)
    left = own - away @ slope
    half = _HALF_WIDTH * left.std()
    inside = np.maximum(1.0 - (left / half) ** 2, 0.0)
    with np.errstate(divide="ignore"):
        return np.asarray(np.log(0.75 * inside / half))
