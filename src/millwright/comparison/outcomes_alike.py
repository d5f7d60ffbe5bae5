"""Whether models are of the same observations."""

from __future__ import annotations

from collections.abc import Mapping

from millwright.errors import ArgumentError
from millwright.posterior.posterior import Posterior

__all__ = ["check_posteriors", "check_same_outcomes"]


def check_posteriors(posteriors: Mapping[str, object]) -> dict[str, Posterior]:
    """Return posteriors by name.

    Raises
    ------
    ArgumentError
        For what is none.
    """
    found = {}
    for name, posterior in posteriors.items():
        if not isinstance(posterior, Posterior):
            raise ArgumentError(f"`{name}` must be a posterior, not {type(posterior).__name__}.")
        found[name] = posterior
    return found


def check_same_outcomes(posteriors: Mapping[str, Posterior], what: str) -> None:
    """Refuse models that were fitted to different outcomes or rows.

    Raises
    ------
    ArgumentError
        Which says that `what` cannot be compared.
    """
    fingerprints = {
        posterior.draws.binding.tables.fingerprint(
            [part.name for part in posterior.draws.binding.program.outcomes]
        )
        for posterior in posteriors.values()
    }
    if len(fingerprints) > 1:
        raise ArgumentError(
            f"The models {', '.join(posteriors)} were fitted to different outcomes or rows, so "
            f"their {what} cannot be compared. Fit all to the same rows."
        )
