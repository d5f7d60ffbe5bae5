"""Many fits as the shell prints them."""

from __future__ import annotations

from typing import Any

from millwright.cli.reports import rows_record
from millwright.posterior.posteriors import Posteriors

__all__ = ["many_record", "many_text"]

_MOST = 12


def many_text(found: Posteriors) -> str:
    """Return verdicts, and a table for each unknown that is a single number."""
    parts = [str(found)]
    parts += [found.summary(name) for name in _single(found)[:_MOST]]
    return "\n\n".join(parts)


def many_record(found: Posteriors) -> dict[str, Any]:
    """Return verdicts and tables as plain values."""
    return {
        "good": found.good,
        "data_sets": {
            str(name): {
                "verdict": one.verdict.headline,
                "good": one.verdict.good,
                "method": one.record.method["method"],
                "seed": one.record.seed,
                "table": rows_record(one.table()),
            }
            for name, one in found.items()
        },
        "failures": {str(name): why for name, why in found.failures.items()},
        "fitted_again": [str(name) for name in found.again],
    }


def _single(found: Posteriors) -> list[str]:
    """Return the unknown and derived quantities that are one number in every data set."""
    axes = [one.draws.binding.axes for one in found.values()]
    if not axes:
        return []
    fixed = {
        part.name
        for part in next(iter(found.values())).draws.binding.program.parts
        if part.kind == "fixed"
    }
    return [name for name, own in axes[0].items() if not own and name not in fixed]
