"""All findings of the convergence check, the most harmful first."""

from __future__ import annotations

from millwright.diagnostics.finding import Finding, Sampling
from millwright.diagnostics.measures import Measures
from millwright.diagnostics.modes import mode_findings
from millwright.diagnostics.quantity_findings import (
    ess_findings,
    r_hat_findings,
    tail_findings,
    value_findings,
)
from millwright.diagnostics.sampling_findings import (
    acceptance_findings,
    angle_findings,
    approximation_finding,
    candidate_findings,
    divergence_findings,
    energy_findings,
    jump_findings,
    length_findings,
    plan_findings,
    repeated_findings,
    stuck_findings,
    trip_findings,
)

__all__ = ["all_findings"]


def all_findings(measures: Measures, made: Sampling) -> list[Finding]:
    """Return what is wrong, the most harmful first."""
    if made.approximation_k is not None:
        return [approximation_finding(made.approximation_k)]
    if made.exact:
        return [*value_findings(measures), *repeated_findings(made)]
    apart, few = r_hat_findings(measures, made), ess_findings(measures, made)
    cut = length_findings(made)
    modes = mode_findings(made.modes) if made.modes else []
    findings = [
        *angle_findings(made, [*modes, *apart, *few]),
        *jump_findings(made, [*apart, *few, *cut]),
        *plan_findings(made),
        *stuck_findings(made),
        *value_findings(measures),
        *modes,
        *apart,
        *divergence_findings(made),
        *few,
        *tail_findings(measures, made.light),
        *repeated_findings(made),
        *trip_findings(made),
        *candidate_findings(made),
        *energy_findings(made.energy),
        *cut,
        *acceptance_findings(made),
    ]
    order = {"stop": 0, "caution": 1, "note": 2}
    return sorted(findings, key=lambda finding: order[finding.weight])
