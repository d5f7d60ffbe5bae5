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

For a function, or a series whose values rest on the one before, read by normal outcomes, I and b
are functions of the other unknowns instead of constants (`series_readings`), so that eta is
standard normal whatever they are; the map of a series is that of `chain_smoothing`. Other
processes are mapped from standard steps.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from typing import Literal, get_args

import numpy as np

from millwright.distributions import on_numpy
from millwright.distributions.chain_smoothing import from_informed, to_informed
from millwright.distributions.gaussian import covariance_of
from millwright.distributions.location_scale import Normal
from millwright.distributions.mathematics import Array, Mathematics
from millwright.distributions.processes import ChainProcess, GaussianProcess, Process
from millwright.errors import ArgumentError, nearest
from millwright.modelling.arguments import family_of
from millwright.modelling.plain_readings import is_chain, outcomes_of, reads_plainly
from millwright.modelling.program import Program
from millwright.modelling.specification import Part, reaches, rests_on_unknowns

__all__ = [
    "Form",
    "chosen_forms",
    "constants_of",
    "from_standard",
    "group_priors",
    "informed_by_readings",
    "no_information",
    "normal_latents",
    "on_log_scale",
    "place_group",
    "to_standard",
    "unplace_group",
]

Form = Literal["informed", "centred", "non-centred"]

Constants = tuple[Array, Array] | None

LARGEST_INFORMED = 12
"""Length up to which a vector's coordinates are informed: the cost goes as its cube."""

LARGEST_FUNCTION = 200
"""The same for the values of a Gaussian process."""

_NO_NOISE = ("bernoulli", "binomial", "poisson", "negative_binomial", "geometric", "beta_binomial")
_HALF_LOG_2PI = 0.5 * math.log(2 * math.pi)

_NORMAL = ("normal", "multivariate_normal")
_OF_LOCATION_AND_SCALE = (
    *("cauchy", "gumbel", "laplace", "logistic", "lognormal", "skew_normal", "student_t"),
    *_NORMAL,
)


def group_priors(program: Program) -> tuple[str, ...]:
    """Return the unknowns that can be sampled in standard coordinates.

    Priors with labels of a location and a scale, of numbers (or their logarithms) or of normal
    vectors, whose arguments are unknown; and processes.
    """
    return tuple(part.name for part in program.unknowns if _is_group_prior(part, program))


def on_log_scale(part: Part) -> bool:
    """Whether what has a location and a scale is the logarithm of the effects."""
    return part.family == "lognormal"


def normal_latents(program: Program) -> tuple[str, ...]:
    """Return those of them that are normal given the other unknowns, and processes."""
    by_name = program.by_name
    return tuple(
        name
        for name in group_priors(program)
        if by_name[name].family in _NORMAL
        or isinstance(family_of(by_name[name].family, by_name[name].arguments), Process)
    )


def _is_group_prior(part: Part, program: Program) -> bool:
    family = family_of(part.family, part.arguments)
    if isinstance(family, Process):
        return True
    if part.family not in _OF_LOCATION_AND_SCALE or not part.per:
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
                f"`parameterisation`: `{name}` is neither a prior with labels and an unknown "
                f"location or scale nor a process.{nearest(name, names)} There are: {have}."
            )
    for form in [wanted] if isinstance(wanted, str) else by_name.values():
        if form not in get_args(Form):
            raise ArgumentError(
                f"`parameterisation` must be one of {', '.join(get_args(Form))}, not {form!r}."
            )
    forms = {name: _possible(program, name, by_name.get(name, "informed")) for name in names}
    return tuple(_first_of_each_outcome(program, forms).items())


def _first_of_each_outcome(program: Program, forms: dict[str, str]) -> dict[str, str]:
    """Let each outcome inform one series: what it says of one rests on the values of others."""
    result, taken = dict(forms), set[str]()
    for name, form in forms.items():
        if form == "informed" and informed_by_readings(program, program.by_name[name], form):
            mine = {part.name for part in outcomes_of(program, name)}
            if mine & taken:
                chain = is_chain(program, program.by_name[name])
                result[name] = "centred" if chain else "non-centred"
            taken |= mine
    return result


def informed_by_readings(program: Program, part: Part, form: str = "") -> bool:
    """Whether a process is informed by functions of the other unknowns instead of constants."""
    form = form or dict(program.forms).get(part.name, "")
    return form == "informed" and reads_plainly(program, part.name)


def _possible(program: Program, name: str, form: str) -> str:
    """Return another form where the informed one would cost more than it gives.

    A process that normal outcomes read plainly is informed whatever their noise is. Elsewhere,
    with one reading a place and a noise that is unknown, the pilot optimum takes the noise for
    nothing and claims far too much information: a smooth function, whose values hang together,
    moves in its standard steps then, and a series as it is (centred) until a short run says
    better.
    """
    if form != "informed":
        return form
    part = program.by_name[name]
    family = family_of(part.family, part.arguments)
    if isinstance(family, Process):
        if isinstance(family, ChainProcess):
            if reads_plainly(program, name):
                return form
            if is_chain(program, part) and _information_is_limited(program, name):
                # Constants come from a climb, for which a black box has no gradient.
                return "non-centred" if program.black_boxes else form
            return "centred"
        small = program.shape(part.per)[-1] <= LARGEST_FUNCTION
        told = reads_plainly(program, name) or _information_is_limited(program, name)
        return form if small and told else "non-centred"
    large = part.event == "vector" and program.shape(part.per)[-1] > LARGEST_INFORMED
    return "non-centred" if large else form


def _information_is_limited(program: Program, name: str) -> bool:
    """Whether what outcomes say of an unknown is limited whatever the other unknowns are.

    Counts and yes/no outcomes have no noise that could vanish; others do unless it is known. What
    a normal outcome says of the log of its scale is limited too.
    """
    by_name = program.by_name
    told = False
    for part in program.outcomes:
        resting = {key for key, node in part.arguments if reaches(node, name, by_name)}
        if not resting:
            continue
        told = True
        others = [node for key, node in part.arguments if key not in resting]
        known = not any(rests_on_unknowns(node, by_name) for node in others)
        of_noise = part.family == "normal" and resting == {"scale"}
        plain = known and resting <= {"location"}
        if part.family not in _NO_NOISE and not (plain or of_noise):
            return False
    return told


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
    return result
