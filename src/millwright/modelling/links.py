"""Inverse links inside an argument, handed to the density on a scale that cannot overflow.

A chance that is computed first is 1 to the last digit from where its complement is below 1e-16:
the density of a failure would be nothing there, and so would its derivative.
"""

from __future__ import annotations

from collections.abc import Callable

from millwright.distributions.family import Distribution
from millwright.distributions.mathematics import Array, Mathematics
from millwright.language.tree import Call, Node, Number, Operation

__all__ = ["LOG_ODDS", "through_link"]

_LARGEST_EXPONENT = 700.0
_SMALL = 1e-8


def _of_normal(m: Mathematics, z: Array) -> Array:
    """Return the log odds of P(Z < z) for standard normal Z."""
    below, above = m.log_ndtr_tails(z)
    return below - above


def _of_hazard(m: Mathematics, log_hazard: Array) -> Array:
    """Return the log odds of 1 - exp(-h), h = exp(`log_hazard`)."""
    hazard = m.exp(m.minimum(log_hazard, _LARGEST_EXPONENT))
    some = hazard > _SMALL
    small = log_hazard - 0.5 * hazard
    return m.where(some, m.log(-m.expm1(-m.where(some, hazard, 1.0))), small) + hazard


LOG_ODDS: dict[str, Callable[[Mathematics, Array], Array]] = {
    "log odds of normal_cdf": _of_normal,
    "log odds of a hazard": _of_hazard,
}
"""Functions of a tree that nobody can write, since their names have blanks."""


def through_link(family: Distribution, name: str, node: Node) -> tuple[str, Node]:
    """Return an argument without its link function, if the family has one that takes it so."""
    known = {parameter.name for parameter in family.parameters}
    match name, node:
        case "rate", Call("exp", (inner,)) if "log_rate" in known:
            return "log_rate", inner
        case "probability", _ if "log_odds" in known:
            found = _log_odds(node)
            return (name, node) if found is None else ("log_odds", found)
    return name, node


def _log_odds(node: Node) -> Node | None:
    """Return the log odds of a chance that is written as an inverse link, or None."""
    match node:
        case Call("expit", (inner,)):
            return inner
        case Call("normal_cdf", arguments):
            return Call("log odds of normal_cdf", arguments, place=node.place)
        # 1 - exp(-exp(x)), and -expm1(-exp(x)).
        case Operation("-", (Number(1), Call("exp", (lost,)))):
            return _of_lost(lost)
        case Operation("negative", (Call("expm1", (lost,)),)):
            return _of_lost(lost)
    return None


def _of_lost(lost: Node) -> Node | None:
    match lost:
        case Operation("negative", (Call("exp", arguments),)):
            return Call("log odds of a hazard", arguments, place=lost.place)
    return None
