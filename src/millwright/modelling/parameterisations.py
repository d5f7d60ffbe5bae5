"""Which coordinates group priors and processes get: informed, centred or in standard steps."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal, get_args

from millwright.distributions.processes import ChainProcess, Process
from millwright.errors import ArgumentError, nearest
from millwright.modelling.arguments import family_of
from millwright.modelling.plain_readings import is_chain, outcomes_of, reads_plainly
from millwright.modelling.program import Program
from millwright.modelling.specification import Part, reaches, rests_on_unknowns

__all__ = [
    "LARGEST_FUNCTION",
    "Form",
    "chosen_forms",
    "group_priors",
    "informed_by_constants",
    "informed_by_readings",
    "normal_latents",
    "on_log_scale",
]

Form = Literal["informed", "centred", "non-centred"]

LARGEST_INFORMED = 12
"""Length up to which a vector's coordinates are informed: the cost goes as its cube."""

LARGEST_FUNCTION = 200
"""The same for the values of a Gaussian process."""

_NO_NOISE = ("bernoulli", "binomial", "poisson", "negative_binomial", "geometric", "beta_binomial")
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


def informed_by_constants(program: Program) -> list[str]:
    """Return the unknowns whose coordinates rest on constants from a pilot."""
    return [
        name
        for name, form in program.forms
        if form == "informed" and not informed_by_readings(program, program.by_name[name])
    ]


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
