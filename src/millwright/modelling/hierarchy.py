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
its own data. For priors of another shape with a location and a scale, such as Student-t, the same
map serves, and their log density at (theta - mu) / tau stands in place of the normal one. For
lognormal effects theta is the logarithm.

For vectors theta_j ~ normal(mu, L L') the same with matrices: A = 1 + L' I_j L = C C',
h = b_j - I_j mu, z = A^-1 L' h + C'^-1 eta, theta = mu + L z, and the log term is
-z'z / 2 - log det(A) / 2. A Gaussian process is such a vector, with information about each of
its places, where the likelihood limits that.

The pull follows coefficients that stand beside the effects (`companions`): what the data say of
an effect is what an intercept leaves to it.

For a function, or a series whose values rest on the one before, read by normal outcomes, I and b
are functions of the other unknowns instead of constants (`series_readings`), so that eta is
standard normal whatever they are; the map of a series is that of `chain_smoothing`. Other
processes are mapped from standard steps.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping

import numpy as np

from millwright.distributions import on_numpy
from millwright.distributions.chain_smoothing import from_informed, to_informed
from millwright.distributions.gaussian import covariance_of
from millwright.distributions.location_scale import Normal
from millwright.distributions.mathematics import Array, Mathematics
from millwright.distributions.processes import ChainProcess, GaussianProcess, Process
from millwright.modelling.arguments import family_of
from millwright.modelling.companions import companions, values_of
from millwright.modelling.parameterisations import informed_by_readings, on_log_scale
from millwright.modelling.program import Program
from millwright.modelling.specification import Part

__all__ = [
    "constants_of",
    "from_standard",
    "no_information",
    "place_group",
    "to_standard",
    "unplace_group",
]

Constants = tuple[Array, Array] | None

_HALF_LOG_2PI = 0.5 * math.log(2 * math.pi)


def _standardised(
    m: Mathematics, mu: Array, tau: Array, information: Array, pull: Array
) -> tuple[Array, Array, Array]:
    """Return D, h / D, and sqrt(D)."""
    spread = 1.0 + information * tau * tau
    return spread, (pull - information * mu) / spread, m.sqrt(spread)


def from_standard(
    m: Mathematics,
    log_shape: Callable[[Array], Array],
    eta: Array,
    mu: Array,
    tau: Array,
    information: Array,
    pull: Array,
) -> tuple[Array, Array]:
    """Return theta, and log prior plus log derivative, for standard coordinates.

    `log_shape` is the log prior of (theta - mu) / tau.
    """
    spread, lean, root = _standardised(m, mu, tau, information, pull)
    z = tau * lean + eta / root
    return mu + tau * z, log_shape(z) - 0.5 * m.log(spread)


def to_standard(
    theta: Array, mu: Array, tau: Array, information: Array, pull: Array
) -> np.ndarray:
    """Return the standard coordinates of theta (NumPy)."""
    _, lean, root = _standardised(np, mu, tau, information, pull)
    return ((theta - mu) / tau - tau * lean) * root


def _vector_standardised(
    m: Mathematics, location: Array, factor: Array, information: Array, pull: Array
) -> tuple[Array, Array]:
    """Return A^-1 L' h and the Cholesky factor C of A = 1 + L' I L."""
    across = m.swapaxes(factor, -1, -2)
    root = m.cholesky(m.eye(factor.shape[-1]) + across @ information @ factor)
    lean = _times(across, pull - _times(information, location))
    inverse = m.lower_inverse(root)
    return _times(m.swapaxes(inverse, -1, -2), _times(inverse, lean)), inverse


def _times(matrix: Array, vector: Array) -> Array:
    return (matrix @ vector[..., None])[..., 0]


def place_group(
    m: Mathematics, part: Part, u: Array, p: dict[str, Array], constants: Constants
) -> tuple[Array, Array]:
    """Return values of a group prior, and log prior plus log derivative, at coordinates u.

    Parameters
    ----------
    constants
        Information and pull; None for a vector in the non-centred form.
    """
    family = family_of(part.family, part.arguments)
    if part.event == "number":
        assert constants is not None
        family = Normal() if on_log_scale(part) else family
        standard = {**p, "location": 0.0, "scale": 1.0}
        log_shape = lambda z: family.log_density(m, z, standard)  # noqa: E731
        theta, joint = from_standard(m, log_shape, u, p["location"], p["scale"], *constants)
        return (m.exp(theta) if on_log_scale(part) else theta), joint
    if isinstance(family, Process):
        if constants is None:
            return family.from_steps(m, u, p), family.log_steps(m, u, p)
        if isinstance(family, ChainProcess):
            values, log_slope = from_informed(m, u, family.chain(m, u.shape[-1], p), *constants)
            return values, family.log_density(m, values, p) + log_slope
        assert isinstance(family, GaussianProcess)
        return _place_function(m, u, p["location"], family.covariance(m, p), *constants)
    root = m.cholesky(covariance_of(p))
    if constants is None:
        z, log_det = u, 0.0
    else:
        shift, inverse = _vector_standardised(m, p["location"], root, *constants)
        z = shift + _times(m.swapaxes(inverse, -1, -2), u)
        log_det = m.sum(m.log(m.diagonal(inverse, axis1=-2, axis2=-1)), axis=-1)
    joint = m.sum(-0.5 * z * z - _HALF_LOG_2PI, axis=-1) + log_det
    return p["location"] + _times(root, z), joint


def _function_standardised(
    m: Mathematics, location: Array, covariance: Array, information: Array, pull: Array
) -> tuple[Array, Array, Array]:
    """Return L, the Cholesky factor C of A = 1 + L' I L, and L' h."""
    factor = m.cholesky(covariance)
    across = m.swapaxes(factor, -1, -2)
    root = m.cholesky(m.eye(factor.shape[-1]) + (across * information[..., None, :]) @ factor)
    return factor, root, _times(across, pull - information * location)


def _place_function(
    m: Mathematics, u: Array, location: Array, covariance: Array, information: Array, pull: Array
) -> tuple[Array, Array]:
    """Return values of a Gaussian process, and log prior plus log derivative."""
    compiled = getattr(m, "informed_function", None)
    if compiled is not None and u.ndim == 1 and covariance.ndim == 2:
        values, log_term = compiled(u, location, covariance, information, pull)
        return values, log_term
    factor, root, lean = _function_standardised(m, location, covariance, information, pull)
    inverse = m.lower_inverse(root)
    z = _times(m.swapaxes(inverse, -1, -2), _times(inverse, lean) + u)
    log_det = m.sum(m.log(m.diagonal(root, axis1=-2, axis2=-1)), axis=-1)
    return location + _times(factor, z), m.sum(-0.5 * z * z - _HALF_LOG_2PI, axis=-1) - log_det


def unplace_group(part: Part, x: Array, p: dict[str, Array], constants: Constants) -> np.ndarray:
    """Return the coordinates of values of a group prior (NumPy)."""
    if part.event == "number":
        assert constants is not None
        theta = np.log(x) if on_log_scale(part) else x
        return to_standard(theta, p["location"], p["scale"], *constants)
    family = family_of(part.family, part.arguments)
    if isinstance(family, Process):
        if constants is not None and isinstance(family, ChainProcess):
            return to_informed(x, family.chain(on_numpy, x.shape[-1], p), *constants)
        steps = np.asarray(family.to_steps(x, p))
        if constants is None:
            return steps
        assert isinstance(family, GaussianProcess)
        covariance = family.covariance(on_numpy, p)
        _, root, lean = _function_standardised(on_numpy, p["location"], covariance, *constants)
        turned = _times(np.swapaxes(root, -1, -2), steps)
        return np.asarray(turned - np.linalg.solve(root, lean[..., None])[..., 0])
    root = on_numpy.cholesky(np.asarray(covariance_of(p)))
    z = np.linalg.solve(root, np.asarray(x - p["location"])[..., None])[..., 0]
    if constants is None:
        return np.asarray(z)
    shift, inverse = _vector_standardised(on_numpy, p["location"], root, *constants)
    return np.asarray(
        np.linalg.solve(np.swapaxes(inverse, -1, -2), (z - shift)[..., None])[..., 0]
    )


def constants_of(
    program: Program, arguments: Mapping[tuple[str, ...], Array], name: str
) -> Constants:
    """Return information and pull of a group prior, or None if its form has none."""
    if program.by_name[name].event == "vector" and dict(program.forms)[name] != "informed":
        return None
    return arguments["information", name], arguments["pull", name]


def no_information(program: Program) -> dict[tuple[str, ...], np.ndarray]:
    """Return the constants that make every form non-centred."""
    result: dict[tuple[str, ...], np.ndarray] = {}
    for name, form in program.forms:
        part = program.by_name[name]
        shape = program.shape(part.per)
        if form == "centred" or (part.event == "vector" and form != "informed"):
            continue
        if informed_by_readings(program, part):
            continue
        process = isinstance(family_of(part.family, part.arguments), Process)
        square = (*shape, shape[-1]) if part.event == "vector" and not process else shape
        result["information", name] = np.zeros(square)
        result["pull", name] = np.zeros(shape)
        if form == "informed" and (beside := companions(program, name)):
            result["mixed", name] = np.zeros((*shape, values_of(program, *beside)))
    return result
