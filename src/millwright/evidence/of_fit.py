"""From a fit to its evidence: which method, what refuses it, and whether to trust it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import Any

import numpy as np

from millwright.cores import one_thread
from millwright.diagnostics.verdict import Verdict
from millwright.draws.labelled_draws import Draws
from millwright.errors import ModelError, SamplingError
from millwright.evidence.annealed import SplitValues, annealed
from millwright.evidence.bridge import Bridge, Values, bridge
from millwright.evidence.evidence import Evidence
from millwright.evidence.quadrature import Lattice, log_integral
from millwright.fitting.coordinates import prepared
from millwright.fitting.fit import Fit
from millwright.fitting.target import target_of
from millwright.language.tree import Listed, Name, Node, walk
from millwright.modelling.binding import Binding
from millwright.modelling.labelled import is_rows
from millwright.modelling.simulate import positions_from
from millwright.modelling.specification import Part
from millwright.sampling.methods import LaplaceGrid
from millwright.sampling.streams import Stream, generator_of
from millwright.sampling.target import TargetDensity
from millwright.wording import setting

__all__ = [
    "bridged_evidence",
    "density_in_pieces",
    "evidence_of_fit",
    "positions_of",
    "refuse_improper_priors",
    "split_in_pieces",
]

_AT_ONCE = 500
_MOST_NUMBERS = 5_000_000
_CHEAP_ROWS = 200
_WELL_COVERED = 0.04
_HARDLY_COVERED = 0.004
_SMALL_ERROR = 0.03
_LARGEST_OF_MANY = 0.1
_LARGEST_GAP = 3.0
_ALLOWED = 0.05
_LOST = 0.001


@one_thread
def evidence_of_fit(
    fit: Fit, verdict: Verdict, second: bool = False, unnormalised: bool = False
) -> Evidence:
    """Return the evidence of a fit; see `Posterior.evidence`."""
    _refuse(fit, verdict, unnormalised)
    draws = _well_placed(fit)
    binding = draws.binding
    target = target_of(binding)
    values = density_in_pieces(target)
    positions, lost = positions_of(draws)
    generator = generator_of(fit.record.seed, Stream.EVIDENCE)
    bridged = bridge(positions, values, generator)
    several = bool(fit.record.modes) and int(fit.record.modes["peaks"]) > 1
    copies = _interchangeable(binding)
    flat = positions.reshape(-1, positions.shape[-1])
    lattice = None
    if _few(binding):
        factor = np.linalg.cholesky(np.cov(flat.T).reshape(binding.dimension, -1))
        lattice = log_integral(values, flat.mean(axis=0), factor)
    checks = {"bridge": (bridged.log_value, bridged.standard_error)}
    reasons, doubts = _bridge_reasons(bridged, flat, lost)
    if lattice is not None and lattice.settled:
        value, error = lattice.log_value, lattice.change
        method = f"quadrature with {lattice.points:,} points"
        reasons, doubts = _lattice_reasons(lattice, bridged)
    else:
        value, error = bridged.log_value, bridged.standard_error
        method = "bridge sampling"
        checks = {}
    if second or several or copies:
        third, doubt = _second(target, value, error, generator, bool(binding.program.filled))
        if third is not None:
            checks["annealed sequential Monte Carlo"] = third
        (doubts if doubt else reasons).append(_second_words(third, value, error, doubt))
        if copies:
            (doubts if doubt else reasons).append(_copies_words(copies, doubt))
    doubts += _other_doubts(verdict)
    return Evidence(
        log_value=value,
        standard_error=error,
        method=method,
        trusted=not doubts,
        reasons=(*doubts, *reasons),
        checks=checks,
        normalised=not binding.program.log_density_terms,
    )


def bridged_evidence(fit: Fit) -> float:
    """Return the log evidence by the bridge alone, for one of many fits; NaN if it is poor."""
    _refuse_improper(fit.draws)
    draws = _well_placed(fit)
    positions, _ = positions_of(draws)
    values = density_in_pieces(target_of(draws.binding))
    found = bridge(positions, values, generator_of(fit.record.seed, Stream.EVIDENCE))
    good = found.share >= _HARDLY_COVERED and found.standard_error <= _LARGEST_OF_MANY
    return found.log_value if good else float("nan")


def _well_placed(fit: Fit) -> Draws:
    """Return the draws of a fit, those of a grid in coordinates that the data inform.

    A normal distribution covers latent values much better there than in standard steps.
    """
    if fit.record.method.get("method") != LaplaceGrid.name:
        return fit.draws
    return replace(fit.draws, binding=prepared(fit.draws.binding, "informed", fit.record.seed))


def positions_of(draws: Draws) -> tuple[np.ndarray, float]:
    """Return unconstrained draws, shape (chains, draws, dimension), and the share lost.

    Where a draw is not finite in these coordinates (a share of exactly 0 or 1), it is replaced by
    the one before.
    """
    chains, size = draws.shape
    with np.errstate(all="ignore"):
        flat = positions_from(draws.binding, draws.evaluation())
    found = np.array(flat).reshape(chains, size, -1)
    bad = ~np.isfinite(found).all(axis=2)
    if bad.all():
        raise SamplingError("No draw is finite in the sampler's coordinates.")
    for chain, at in zip(*np.nonzero(bad), strict=True):
        good = np.flatnonzero(~bad[chain])
        source = (chain, good[np.argmin(np.abs(good - at))]) if len(good) else _first_good(bad)
        found[chain, at] = found[source]
    return found, float(bad.mean())


def _first_good(bad: np.ndarray) -> tuple[int, int]:
    chain, at = np.argwhere(~bad)[0]
    return int(chain), int(at)


def refuse_improper_priors(draws: Draws, what: str) -> None:
    """Refuse what depends on the constant that an improper prior lacks.

    Raises
    ------
    ModelError
        Which names the prior.
    """
    flat = [part.name for part in draws.binding.program.unknowns if part.improper]
    if flat:
        raise ModelError(
            f"The prior of `{flat[0]}` is flat and improper, so {what} is not defined: it would "
            "be any number, with the constant that is left out. Give it a proper prior."
        )


def _refuse_improper(draws: Draws) -> None:
    """Refuse flat priors, and first states that may be anything: what is left out has a unit."""
    refuse_improper_priors(draws, "the evidence")
    series = [part.name for part in draws.binding.program.outcomes if part.open_start]
    if series:
        raise ModelError(
            f"The first state of `{series[0]}` may be anything, so the evidence is not defined: "
            "it would be any number, with the unit of the state. Give `start` and `start_scale`."
        )


def _refuse(fit: Fit, verdict: Verdict, unnormalised: bool) -> None:
    program = fit.draws.binding.program
    if not fit.record.origin.of_posterior:
        raise ModelError(
            "An evidence needs draws that were made here from the model, and the origin of "
            f"these is: {fit.record.origin.value}. Fit the model."
        )
    _refuse_improper(fit.draws)
    if program.log_density_terms and not unnormalised:
        name = program.log_density_terms[0].name
        raise ModelError(
            f"`{name}` is added to the log density as it is, and whether its constants are all "
            "there is not known. If only this one density is to be compared with itself, or they "
            f"are, ask with {setting('unnormalised', True)}."
        )
    stops = [finding for finding in verdict.findings if finding.weight == "stop"]
    if stops:
        raise SamplingError(
            f"The draws are not converged, so they give no evidence: {stops[0].problem} See "
            "convergence()."
        )


def density_in_pieces(target: TargetDensity) -> Values:
    """Return the log density in pieces of one size, which bounds the memory and compiles once."""
    size = _piece(target)

    def values(positions: np.ndarray) -> np.ndarray:
        found = np.concatenate([target.plain(p)[:n] for p, n in _pieces(positions, size)])
        return np.where(np.isnan(found), -np.inf, found)

    return values


def split_in_pieces(target: TargetDensity) -> SplitValues:
    """Return log prior and log likelihood in pieces of one size, as `density_in_pieces` does."""
    size = _piece(target)

    def values(positions: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        parts = [[one[:n] for one in target.split(piece)] for piece, n in _pieces(positions, size)]
        prior, likelihood = map(np.concatenate, zip(*parts, strict=True))
        return prior, likelihood

    return values


def _piece(target: TargetDensity) -> int:
    rows = max((int(np.size(values)) for values in target.arguments.values()), default=1)
    return int(np.clip(_MOST_NUMBERS // max(1, rows), 8, _AT_ONCE))


def _pieces(positions: np.ndarray, size: int) -> Iterator[tuple[np.ndarray, int]]:
    """Yield pieces of one size, the last filled up, and how many of their positions count."""
    for at in range(0, len(positions), size):
        piece = positions[at : at + size]
        yield np.concatenate([piece, np.repeat(piece[-1:], size - len(piece), axis=0)]), len(piece)


def _few(binding: Binding) -> bool:
    """Whether there are so few unknowns that quadrature is cheap."""
    if binding.dimension > 3 or binding.program.black_boxes:
        return False
    rows = max(binding.program.size_of.values(), default=1)
    return binding.dimension < 3 or rows <= _CHEAP_ROWS


def _bridge_reasons(bridged: Bridge, flat: np.ndarray, lost: float) -> tuple[list[str], list[str]]:
    reasons, doubts = [], []
    covered = f"{100 * bridged.share:.2g} %"
    if bridged.share < _HARDLY_COVERED:
        doubts.append(
            f"A normal distribution hardly covers the posterior: {covered} of its draws count, "
            f"{100 * _HARDLY_COVERED:g} % or more is needed."
        )
    elif bridged.share < _WELL_COVERED or bridged.standard_error > _SMALL_ERROR:
        reasons.append(
            f"A normal distribution covers the posterior in part ({covered} of its draws count; "
            f"{100 * _WELL_COVERED:g} % or more is good): take it as right to about 0.25."
        )
    else:
        reasons.append(
            f"A normal distribution covers the posterior well ({covered} of its draws count): "
            "right to about 0.08 or better."
        )
    if bridged.gap > _LARGEST_GAP:
        doubts.append(
            f"The two halves of the draws give values that are {bridged.gap:.1f} standard errors "
            f"apart; up to {_LARGEST_GAP:g} is good. More draws may help."
        )
    if lost > _LOST:
        doubts.append(
            f"{100 * lost:.2g} % of the draws lie at an end of their range, to rounding, where "
            "the sampler's coordinates are not finite."
        )
    return reasons, doubts


def _lattice_reasons(lattice: Lattice, bridged: Bridge) -> tuple[list[str], list[str]]:
    apart = abs(lattice.log_value - bridged.log_value)
    allowed = _ALLOWED + 4 * bridged.standard_error
    words = f"Bridge sampling of the same draws gives {bridged.log_value:.3f}"
    if apart > allowed:
        return [], [
            f"{words}, {apart:.2f} away: the lattice or the draws miss a part of the posterior."
        ]
    return [f"{words}, which agrees."], []


def _second(
    target: TargetDensity,
    value: float,
    error: float,
    generator: np.random.Generator,
    filled: bool,
) -> tuple[tuple[float, float] | None, bool]:
    """Estimate by sequential Monte Carlo from the prior; return it, and whether it disagrees."""
    if target.prior_draws is None or filled:
        # Values that are missing are drawn from what counts as likelihood: the powers would
        # count them twice.
        return None, False
    found = annealed(target.prior_draws, target.split, generator)
    apart = abs(found.log_value - value)
    allowed = _ALLOWED + 2.5 * float(np.hypot(found.standard_error, error))
    return (found.log_value, found.standard_error), not apart <= allowed


def _second_words(
    third: tuple[float, float] | None, value: float, error: float, doubt: bool
) -> str:
    if third is None:
        return (
            "A second method was not possible: it needs a prior that can be drawn from, and no "
            "missing values among the unknowns."
        )
    words = (
        f"Annealed sequential Monte Carlo from the prior gives {third[0]:.2f} with a standard "
        f"error of {third[1]:.2f}"
    )
    if not doubt:
        return f"{words}, which agrees."
    more = "more: the draws may miss a mode" if third[0] > value else "less"
    return f"{words}, {abs(third[0] - value):.2f} {more}."


def _other_doubts(verdict: Verdict) -> list[str]:
    return [
        f"The verdict on the draws: {finding.problem}"
        for finding in verdict.findings
        if finding.weight == "caution"
    ]


def _copies_words(copies: int, doubt: bool) -> str:
    """Say what it means that the components of a mixture can be exchanged."""
    factor = int(np.prod(np.arange(1, copies + 1)))
    words = (
        f"The {copies} components of the mixture can be exchanged, so the posterior has {factor} "
        "equal copies, all of which count"
    )
    if not doubt:
        return f"{words}; nothing shows that some are missing."
    return (
        f"{words}. If the draws stay in one of them, log {factor} = {np.log(factor):.3f} is "
        "missing; a prior with `ordered(...)` leaves one copy."
    )


def _interchangeable(binding: Binding) -> int:
    """Return how many components of a mixture can be exchanged, or 0.

    They can where they are of one family, and nothing that tells them apart is in their priors:
    no order, no number or column of its own for each.
    """
    program = binding.program
    for part in program.outcomes:
        if _head(part.family) != "mixture":
            continue
        names = {n.name for _, top in part.arguments for n in _names(top)}
        own = [p for p in program.unknowns if p.name in names]
        if len(part.family) == 2:
            per = [p for p in own if len(p.per) == 1 and not any(map(is_rows, p.per))]
            if per and all(_alike(p) for p in per):
                return int(program.size_of[per[0].per[0]])
        elif len(set(part.family[1:])) == 1 and len({(p.family, p.arguments) for p in own}) == 1:
            return len(part.family) - 1
    return 0


def _head(family: Any) -> str:
    """Return the name of a family, of a modified one that of what modifies it."""
    return family if isinstance(family, str) else str(family[0])


def _alike(part: Part) -> bool:
    """Whether the numbers of an unknown have one and the same prior, in no order."""
    nodes = (node for _, top in part.arguments for node in walk(top))
    return _head(part.family) != "ordered" and not any(isinstance(n, Listed) for n in nodes)


def _names(top: Node) -> list[Name]:
    return [node for node in walk(top) if isinstance(node, Name)]
