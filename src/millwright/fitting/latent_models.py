"""Which models a grid with Laplace's approximation can take, and their coordinates."""

from __future__ import annotations

from collections.abc import Mapping

from millwright.errors import ArgumentError
from millwright.fitting.coordinates import uninformed
from millwright.modelling.binding import Binding
from millwright.modelling.parameterisations import group_priors, normal_latents
from millwright.modelling.program import Program
from millwright.modelling.space import places
from millwright.modelling.specification import reaches
from millwright.sampling.grown_grid import MOST_UNKNOWNS
from millwright.wording import setting

__all__ = ["in_standard_steps", "why_not"]

_MOST_LATENT = 500


def in_standard_steps(binding: Binding, parameterisation: str | Mapping[str, str]) -> Binding:
    """Return the binding with all of its latent values in standard steps.

    Raises
    ------
    ArgumentError
        If the model is not one of latent values and a few other unknowns, or centred values or
        forms that there are not are asked for.
    """
    asked = [parameterisation] if isinstance(parameterisation, str) else parameterisation.values()
    if "centred" in asked:
        raise ArgumentError(
            "A grid with Laplace's approximation has coordinates of its own: leave "
            f"{setting('parameterisation')} out."
        )
    reason = why_not(binding)
    if reason:
        raise ArgumentError(
            f"A grid with Laplace's approximation cannot take this model: {reason}. Use "
            f"{setting('method', 'no_u_turn')}."
        )
    # Asked as well for names and forms that there are not.
    uninformed(binding, parameterisation)
    return uninformed(binding, _forms(binding.program))


def _forms(program: Program) -> dict[str, str]:
    """Return standard steps for what is normal given the rest; other groups stay as they are."""
    latent = normal_latents(program)
    return {name: "non-centred" if name in latent else "centred" for name in group_priors(program)}


def why_not(binding: Binding) -> str:
    """Say why a grid cannot take a model; nothing if it can."""
    program = uninformed(binding, _forms(binding.program)).program
    if program.black_boxes:
        return f"the black box `{program.black_boxes[0]}` has no gradient"
    if not program.mapped:
        return (
            "it has neither effects of groups (a normal prior with `per` and unknown arguments) "
            "nor a process"
        )
    if program.filled:
        # Their prior stands in the likelihood of the column, not beside those of other unknowns.
        return f"missing values of `{next(iter(program.filled))}` are unknowns of it"
    sizes = {place.name: place.size for place in places(program)}
    others = {name: size for name, size in sizes.items() if name not in program.mapped}
    if sum(others.values()) > MOST_UNKNOWNS:
        listed = ", ".join(f"`{name}`" for name in others)
        return (
            f"beside its latent values it has {sum(others.values())} unknown numbers ({listed}), "
            f"and a grid goes over {MOST_UNKNOWNS} at most"
        )
    latent = sum(sizes[name] for name in program.mapped)
    if latent > _MOST_LATENT:
        return f"it has {latent} latent values, and each step factors a matrix of so many rows"
    return _what_the_others_rest_on(program)


def _what_the_others_rest_on(program: Program) -> str:
    """Say what is wrong with the priors of the other unknowns."""
    for part in program.unknowns:
        if part.name in program.mapped:
            continue
        if part.improper:
            return f"the prior of `{part.name}` is improper"
        for name in program.mapped:
            if any(reaches(node, name, program.by_name) for _, node in part.arguments):
                return f"the prior of `{part.name}` rests on the latent values `{name}`"
    return ""
