"""Label sets that new rows make larger."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from millwright.distributions.processes import GaussianProcess, Process
from millwright.draws.labelled_draws import Draws
from millwright.errors import DataError
from millwright.modelling.arguments import family_of
from millwright.modelling.tables import Tables

__all__ = ["grown_labels"]


def _all_after(new: Sequence[Any], old: Sequence[Any]) -> bool:
    """Whether all new labels come after the old ones: in number, or in the order of text."""
    if any(isinstance(label, str) for label in (*new, *old)):
        return min(map(str, new)) > max(map(str, old))
    return min(map(float, new)) > max(map(float, old))


def grown_labels(
    draws: Draws, tables: Tables, fresh: bool = False
) -> dict[str, tuple[Any, ...]] | None:
    """Return label sets with the new rows' labels added, or None if there are no new ones.

    Label sets of processes can grow; those of other unknowns if `fresh`. A walk goes forward, so
    its new labels must come after the old ones.
    """
    binding = draws.binding
    result = dict(binding.labels)
    for part in binding.program.unknowns:
        family = family_of(part.family, part.arguments)
        if not isinstance(family, Process) or part.per[-1] not in tables.columns:
            continue
        name = part.per[-1]
        old = binding.labels[name]
        new = [label for label in tables.labels(name) if label not in set(old)]
        if new and not isinstance(family, GaussianProcess) and not _all_after(new, old):
            raise DataError(
                part.definition.message(
                    f"new labels of `{name}` must come after the last one fitted ({old[-1]}), "
                    f"but there are {', '.join(map(str, new[:4]))}"
                )
            )
        result[name] = (*old, *new)
    if fresh:
        _add_levels(draws, tables, result)
    return result if result != dict(binding.labels) else None


def _add_levels(draws: Draws, tables: Tables, result: dict[str, tuple[Any, ...]]) -> None:
    """Add the new labels of label sets that only effects of groups run over."""
    for part in draws.binding.program.unknowns:
        if isinstance(family_of(part.family, part.arguments), Process):
            continue
        for name in part.per:
            if name in tables.columns:
                known = set(result[name])
                new = [label for label in tables.labels(name) if label not in known]
                result[name] = (*result[name], *new)
