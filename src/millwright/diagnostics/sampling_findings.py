"""What the way of sampling shows: the plan, stuck chains, divergences, energy, acceptance."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from millwright.diagnostics.convergence import FEWEST_DRAWS
from millwright.diagnostics.disagreement import numbers
from millwright.diagnostics.energy import energy_fraction
from millwright.diagnostics.finding import (
    ENERGY_LEAST,
    HIGHEST_GOOD_K,
    Finding,
    Sampling,
    Weight,
    good_range,
    listed,
    more_temperatures,
    percent,
)
from millwright.wording import either, setting

__all__ = [
    "acceptance_findings",
    "angle_findings",
    "approximation_finding",
    "candidate_findings",
    "divergence_findings",
    "energy_findings",
    "jump_findings",
    "length_findings",
    "plan_findings",
    "repeated_findings",
    "stuck_findings",
    "trip_findings",
]

_GO_ON = either(
    "posterior.extend(), or mw.resume() for a stored run", "millwright resume", "resume it"
)
_WEIGHTS: tuple[Weight, ...] = ("stop", "caution", "note")
_FEW_DIVERGENCES = 0.001
_FEW_TRIPS = 5


def approximation_finding(k: float) -> Finding:
    good = k < HIGHEST_GOOD_K
    return Finding(
        "caution" if good else "stop",
        "These are draws from a NORMAL APPROXIMATION around the mode, not from the posterior. "
        f"Pareto k of the posterior against it is {k:.2f}; below {HIGHEST_GOOD_K} it is close, "
        "larger is worse.",
        "Use it for a first look; fit() samples the posterior itself.",
    )


def candidate_findings(made: Sampling) -> list[Finding]:
    k = made.candidates_k
    if k is None or k < HIGHEST_GOOD_K:
        return []
    return [
        Finding(
            "caution",
            f"The candidates of the grid differ much from the posterior: the Pareto k of their "
            f"weights is {k:.2f}; below {HIGHEST_GOOD_K} is good, larger is worse. A part of the "
            "posterior may be missing.",
            f"Compare with {setting('method', 'no_u_turn')}.",
        )
    ]


def plan_findings(made: Sampling) -> list[Finding]:
    found = []
    if not made.complete:
        found.append(
            Finding(
                "caution",
                f"The fit was stopped before its end; {made.draws} draws a chain are kept.",
                f"Let it go on: {_GO_ON}.",
                of_plan=True,
            )
        )
    if made.trial:
        found.append(
            Finding(
                "caution",
                f"This was a trial: {made.draws} draws a chain show whether the model works, no "
                "more.",
                f"Fit without {setting('trial', True)} before you report anything.",
                of_plan=True,
            )
        )
    if made.draws < FEWEST_DRAWS:
        found.append(
            Finding(
                "stop",
                f"{made.draws} draws a chain are too few to judge anything.",
                "Ask for at least 100 draws a chain.",
                of_plan=True,
            )
        )
    if made.chains == 1:
        found.append(
            Finding(
                "caution",
                "There is one chain only, so nothing shows whether another would agree.",
                f"Run four chains ({setting('chains', 4)}).",
                of_plan=True,
            )
        )
    return found


def stuck_findings(made: Sampling) -> list[Finding]:
    if not made.stuck:
        return []
    which = numbers(made.stuck)
    return [
        Finding(
            "stop",
            f"Never moved: chain {which}. All its draws are one point.",
            "Its start was too far from the posterior, or the density is not smooth there. "
            f"{made.warm_up_again} Or give priors that keep to sensible values.",
        )
    ]


def divergence_findings(made: Sampling) -> list[Finding]:
    count = 0 if made.diverging is None else int(made.diverging.sum())
    if not count:
        return []
    share = count / made.total
    if share <= _FEW_DIVERGENCES:
        return [
            Finding(
                "note",
                f"Trajectories diverged at {count} of {made.total} draws; 0 is best, and up to "
                f"{_FEW_DIVERGENCES:.1%} hardly change an answer.",
                f"You need not do anything; {setting('target_acceptance', 0.95)} should remove "
                "them.",
            )
        ]
    weight: Weight = "stop" if share > 0.01 else "caution"
    return [
        Finding(
            weight,
            f"Trajectories diverged at {count} of {made.total} draws ({percent(share)}); 0 is "
            "good. The sampler could not follow the posterior there, so a part of it may be "
            "missing." + (f" {made.divergent_at}" if made.divergent_at else ""),
            f"Try {setting('target_acceptance', 0.95)} or 0.99. If divergences stay, tighten the "
            f"priors of scales, or try another {setting('parameterisation')} for group "
            "effects and processes.",
        )
    ]


def repeated_findings(made: Sampling) -> list[Finding]:
    count, rows = made.repeated
    if not count:
        return []
    return [
        Finding(
            "caution",
            f"{count} of {rows} rows of the data repeat another row in every column that the "
            "model uses, though values of the outcome hardly ever repeat. If they were entered "
            "twice, every interval is too narrow.",
            "Look for doubled rows (data.duplicated()), drop them, and fit again.",
            of_data=True,
        )
    ]


def trip_findings(made: Sampling) -> list[Finding]:
    if made.round_trips is None or made.round_trips[0] >= _FEW_TRIPS:
        return []
    trips, rate = made.round_trips
    return [
        Finding(
            "caution",
            f"Few round trips along the tempering ladder: {trips} in the worst chain; "
            f"{_FEW_TRIPS} or more is good. Separate modes may be weighed wrongly.",
            f"Run longer, or give more temperatures ({more_temperatures()}): the lowest rate of "
            f"exchange is {rate:.2f}, and 0.3 or more is good.",
        )
    ]


def energy_findings(energy: np.ndarray | None) -> list[Finding]:
    if energy is None:
        return []
    fraction = energy_fraction(energy)
    low = np.flatnonzero(np.nan_to_num(fraction, nan=1.0) < ENERGY_LEAST)
    if not low.size:
        return []
    return [
        Finding(
            "caution",
            f"Slow moves between energies in chain {numbers(low + 1)}: the energy fraction "
            f"(E-BFMI) is down to {np.nanmin(fraction):.2f}; {ENERGY_LEAST} or more is good. "
            "Heavy tails or a funnel are the usual reason.",
            "Run longer, and give scales priors that keep them away from zero.",
        )
    ]


def length_findings(made: Sampling) -> list[Finding]:
    if made.cut_short <= 0.01 * made.total:
        return []
    return [
        Finding(
            "note",
            f"{percent(made.cut_short / made.total)} of the trajectories were cut at "
            f"{2**made.max_depth} steps. This costs time, not correctness.",
            "Put quantities on similar scales, for instance by standardising columns.",
        )
    ]


def angle_findings(made: Sampling, others: Sequence[Finding]) -> list[Finding]:
    """Say of angles on both sides of the cut that it may be behind what else was found."""
    if not made.angles:
        return []
    many = len(made.angles) > 1
    return [
        Finding(
            min(("caution", *(other.weight for other in others)), key=_WEIGHTS.index),
            f"{listed(made.angles)} {'have' if many else 'has'} draws near both pi and -pi, which "
            "are one direction: chains do not pass from one to the other, and means and "
            f"intervals of {'them' if many else 'it'} mean nothing.",
            "Write such an angle as a turn from a direction near its draws, 3 + turn, and give "
            "the turn the prior von_mises(...).",
        )
    ]


def jump_findings(made: Sampling, others: Sequence[Finding]) -> list[Finding]:
    """Say that jumps may be behind what else was found."""
    if not others or not made.compared:
        return []
    many = len(made.compared) > 1
    return [
        Finding(
            min((other.weight for other in others), key=_WEIGHTS.index),
            f"The density may jump where {listed(made.compared)} {'pass' if many else 'passes'} "
            f"what the model compares {'them' if many else 'it'} with. The chains follow "
            "gradients, which do not show jumps.",
            f"Try {setting('method', 'tempering')} or {setting('method', 'random_walk')}, which "
            "need none.",
        )
    ]


def acceptance_findings(made: Sampling) -> list[Finding]:
    if made.acceptance is None:
        return []
    least, most = made.good_acceptance
    off = np.flatnonzero((made.acceptance < least) | (made.acceptance > most))
    off = np.array([chain for chain in off if chain + 1 not in made.stuck], dtype=int)
    if not off.size:
        return []
    worst = made.acceptance[off[0]]
    return [
        Finding(
            "caution",
            f"{'Few' if worst < least else 'Too many'} steps are accepted in chain "
            f"{numbers(off + 1)}: {worst:.2f} on average; {good_range(made.good_acceptance)} is "
            "good. The warm-up did not find a good size of steps.",
            made.warm_up_again,
        )
    ]
