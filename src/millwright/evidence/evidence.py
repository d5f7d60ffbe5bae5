"""The evidence of a fit: the marginal likelihood of its data, with its error."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from millwright.display import Shown
from millwright.draws.numbers import fixed

__all__ = ["STATED", "Evidence", "error_words", "log_text"]

STATED = 2.5
"""How many standard errors the stated range has: of the bridge's errors few are larger."""
_SMALLEST = 1e-4


@dataclass(frozen=True, kw_only=True)
class Evidence(Shown):
    """The logarithm of the marginal likelihood of a fit's data under its model and priors.

    Attributes
    ----------
    log_value
        Natural logarithm.
    standard_error
        Its standard error; for quadrature how far the last halving of the step moved it.
    method
        How it was found, in words.
    trusted
        Whether nothing speaks against it.
    reasons
        Why it is trusted, or not, in sentences.
    checks
        Estimates by other methods: (log value, standard error) by method.
    normalised
        Whether all constants are in it; otherwise only evidences of one density compare.
    """

    log_value: float
    standard_error: float
    method: str
    trusted: bool
    reasons: tuple[str, ...]
    checks: Mapping[str, tuple[float, float]] = field(default_factory=dict)
    normalised: bool = True

    @property
    def log10_value(self) -> float:
        """Logarithm to base 10."""
        return self.log_value / float(np.log(10))

    @property
    def record(self) -> dict[str, Any]:
        """All of it as plain values."""
        return {
            "log_value": self.log_value,
            "standard_error": self.standard_error,
            "log10_value": self.log10_value,
            "method": self.method,
            "trusted": self.trusted,
            "normalised": self.normalised,
            "reasons": list(self.reasons),
            "checks": {
                name: {"log_value": value, "standard_error": error}
                for name, (value, error) in self.checks.items()
            },
        }

    def __str__(self) -> str:
        head = "Evidence" if self.normalised else "Evidence up to a constant that is not known"
        lines = [
            f"{head}: log {log_text(self.log_value, self.standard_error)} "
            f"{error_words(self.standard_error)}; log10 {self.log10_value:.2f}. By {self.method}.",
            "Trusted." if self.trusted else "NOT TO BE TRUSTED.",
            *(f"  {reason}" for reason in self.reasons),
            "It is the probability (density) of the data under model and priors together: wider "
            "priors give less. It says something in comparison with another model of the same "
            "data only.",
        ]
        return "\n".join(lines)


def log_text(value: float, error: float) -> str:
    """Return a logarithm with the decimals that its error supports, at least one."""
    if not np.isfinite(value):
        return f"{value:g}"
    digits = int(np.clip(np.ceil(-np.log10(max(error, _SMALLEST))), 1, 4))
    return fixed(value, digits)


def error_words(error: float) -> str:
    """Return the stated range of a log value."""
    if not np.isfinite(error):
        return "+- an unknown error"
    if error < _SMALLEST:
        return f"+- less than {_SMALLEST:.4f}"
    stated = STATED * error
    digits = int(np.clip(1 - np.floor(np.log10(stated)), 1, 4))
    return f"+- {fixed(stated, digits)} ({STATED} standard errors)"
