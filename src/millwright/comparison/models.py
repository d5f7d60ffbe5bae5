"""Comparing posteriors of the same data."""

from __future__ import annotations

from millwright.comparison.compare import Comparison, compare_results
from millwright.errors import ArgumentError
from millwright.posterior.posterior import Posterior

__all__ = ["compare"]


def compare(**posteriors: Posterior) -> Comparison:
    """Compare models of the same data by leave-one-out: `compare(straight=a, flat=b)`.

    Raises
    ------
    ArgumentError
        For fewer than two, or for models of different outcomes.
    """
    for name, posterior in posteriors.items():
        if not isinstance(posterior, Posterior):
            raise ArgumentError(f"`{name}` must be a posterior, not {type(posterior).__name__}.")
    fingerprints = {
        name: posterior.draws.binding.tables.fingerprint(
            [part.name for part in posterior.draws.binding.program.outcomes]
        )
        for name, posterior in posteriors.items()
    }
    results = {name: posterior.leave_one_out() for name, posterior in posteriors.items()}
    return compare_results(results, fingerprints)
