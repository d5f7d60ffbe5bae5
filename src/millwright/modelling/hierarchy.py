"""Group effects in coordinates that the sampler can follow, whatever the data say.

For theta_j ~ normal(mu, tau), one for each label, neither theta itself (centred) nor
(theta - mu) / tau (non-centred) suits weak and strong data alike. Here the coordinate eta_j
standardises the normal approximation of theta_j given mu, tau and the data: with constants
I_j >= 0, the information that the likelihood holds about theta_j, and b_j, where I_j and b_j
describe it as a quadratic b_j theta - I_j theta^2 / 2,

    D_j     = 1 + I_j tau^2,          h_j = b_j - I_j mu,
    theta_j = mu + tau^2 h_j / D_j + tau eta_j / sqrt(D_j),

and the log prior plus the log derivative of the map is

    -(tau h_j / D_j + eta_j / sqrt(D_j))^2 / 2 - log(D_j) / 2 - log(2 pi) / 2.

The map is one to one for any constants, so the posterior is exact whatever they are; they only
decide how fast the chains move. I = 0 is the non-centred form; large I is theta standardised by
its own data.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Literal, get_args

import numpy as np

from millwright.distributions.mathematics import Array, Mathematics
from millwright.errors import ArgumentError, nearest
from millwright.modelling.program import Program
from millwright.modelling.specification import Part, rests_on_unknowns

__all__ = [
    "Form",
    "chosen_forms",
    "from_standard",
    "group_priors",
    "no_information",
    "to_standard",
]

Form = Literal["informed", "centred", "non-centred"]

_HALF_LOG_2PI = 0.5 * math.log(2 * math.pi)


def group_priors(program: Program) -> tuple[str, ...]:
    """Return the unknowns with labels and a normal prior whose location or scale is unknown."""
    return tuple(part.name for part in program.unknowns if _is_group_prior(part, program))


def _is_group_prior(part: Part, program: Program) -> bool:
    if part.family != "normal" or not part.per:
        return False
    names = {name for name, _ in part.arguments}
    return not names & {"low", "high"} and any(
        rests_on_unknowns(node, program.by_name) for _, node in part.arguments
    )


def chosen_forms(program: Program, wanted: str | Mapping[str, str]) -> tuple[tuple[str, str], ...]:
    """Return the form of each group prior.

    Parameters
    ----------
    wanted
        One form for all, or a mapping from the name of an unknown to its form; others are
        `informed`.

    Raises
    ------
    ArgumentError
        For an unknown form, or a name that is not a group prior.
    """
    names = group_priors(program)
    by_name = dict.fromkeys(names, wanted) if isinstance(wanted, str) else dict(wanted)
    for name in by_name:
        if name not in names:
            have = ", ".join(names) or "none"
            raise ArgumentError(
                f"`group_form`: `{name}` is not a normal prior with labels and an unknown "
                f"location or scale.{nearest(name, names)} There are: {have}."
            )
    for form in [wanted] if isinstance(wanted, str) else by_name.values():
        if form not in get_args(Form):
            raise ArgumentError(
                f"`group_form` must be one of {', '.join(get_args(Form))}, not {form!r}."
            )
    return tuple((name, by_name.get(name, "informed")) for name in names)


def _standardised(
    m: Mathematics, mu: Array, tau: Array, information: Array, pull: Array
) -> tuple[Array, Array, Array]:
    """Return D, h / D, and sqrt(D)."""
    spread = 1.0 + information * tau * tau
    return spread, (pull - information * mu) / spread, m.sqrt(spread)


def from_standard(
    m: Mathematics, eta: Array, mu: Array, tau: Array, information: Array, pull: Array
) -> tuple[Array, Array]:
    """Return theta, and log prior plus log derivative, for standard coordinates."""
    spread, lean, root = _standardised(m, mu, tau, information, pull)
    z = tau * lean + eta / root
    return mu + tau * z, -0.5 * z * z - 0.5 * m.log(spread) - _HALF_LOG_2PI


def to_standard(
    theta: Array, mu: Array, tau: Array, information: Array, pull: Array
) -> np.ndarray:
    """Return the standard coordinates of theta (NumPy)."""
    _, lean, root = _standardised(np, mu, tau, information, pull)
    return ((theta - mu) / tau - tau * lean) * root


def no_information(program: Program) -> dict[tuple[str, ...], np.ndarray]:
    """Return the constants that make every form non-centred."""
    result: dict[tuple[str, ...], np.ndarray] = {}
    for name, form in program.forms:
        if form != "centred":
            shape = program.shape(program.by_name[name].per)
            result["information", name] = np.zeros(shape)
            result["pull", name] = np.zeros(shape)
    return result
