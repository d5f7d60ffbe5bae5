"""Quantities whose posterior has all its moments, whatever the tail of a few draws looks like.

A prior with exponential tails or lighter has all moments, and a likelihood grows at most as a
power of an unknown; so have sums and products of such unknowns. The tail of a posterior that is
narrow with a wide exponential shoulder, as of degrees of freedom, can look like a power law.
"""

from __future__ import annotations

from millwright.language.tree import Label, Lookup, Name, Node, Number, Operation, constant
from millwright.modelling.specification import Part, Specification
from millwright.modelling.words import constant_arguments

__all__ = ["light_tailed"]

_LIGHT = frozenset(
    {
        *("beta", "exponential", "gamma", "gumbel", "half_normal", "laplace", "logistic"),
        *("normal", "skew_normal", "uniform", "von_mises"),
    }
)


def light_tailed(specification: Specification) -> frozenset[str]:
    """Return the unknowns and derived quantities that are known to have all moments."""
    found: set[str] = set()
    for part in specification.parts:
        if part.kind == "unknown" and _light_prior(part):
            found.add(part.name)
    for part in specification.parts:
        if part.kind == "derived" and _polynomial(part.expression, found):
            found.add(part.name)
    return frozenset(found)


def _light_prior(part: Part) -> bool:
    if part.family not in _LIGHT or part.event != "number":
        return False
    return constant_arguments(part) is not None


def _polynomial(node: Node, light: set[str]) -> bool:
    """Whether an expression is a polynomial of quantities with light tails."""
    match node:
        case Number():
            return True
        case Name(name=name):
            return name in light
        case Lookup(base=base, labels=labels):
            return _polynomial(base, light) and all(isinstance(one, Label) for one in labels)
        case Operation(operator="+" | "-" | "*" | "negative", operands=operands):
            return all(_polynomial(one, light) for one in operands)
        case Operation(operator="/", operands=(one, other)):
            return _polynomial(one, light) and constant(other) not in (None, 0)
    return False
