"""Settings of fits that need no sampler: of those of a fit, the ones that still mean something."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from millwright.errors import ArgumentError, nearest

__all__ = ["exact_settings"]

_DRAWS = 5000
_KNOWN = ("seed", "chains", "draws")
_WITHOUT_MEANING = frozenset(
    {
        *("warmup", "thin", "trial", "target_acceptance", "max_depth", "metric"),
        *("parameterisation", "missing", "method", "start"),
    }
)


def exact_settings(settings: Mapping[str, Any], how: str) -> dict[str, Any]:
    """Return the settings of exact draws; those of samplers are passed over.

    Raises
    ------
    ArgumentError
        For a setting that no fit has.
    """
    for name in settings:
        if name not in _KNOWN and name not in _WITHOUT_MEANING:
            known = sorted({*_KNOWN, *_WITHOUT_MEANING})
            raise ArgumentError(f"A fit has no setting `{name}`.{nearest(name, known)}")
    found = {name: settings[name] for name in _KNOWN if settings.get(name) is not None}
    return {"draws": _DRAWS, **found, "method": how}
