"""Units of quantities and columns, as tables and figures show them."""

from __future__ import annotations

from collections.abc import Mapping

__all__ = ["unit_of", "with_unit"]


def unit_of(units: Mapping[str, str], name: str) -> str:
    """Return the unit of a quantity, a column or one number of it; empty if there is none.

    An expression has none: that of `drying['Upper'] ** 2` is not the unit of `drying`.
    """
    base, bracket, rest = name.partition("[")
    alone = not bracket or (rest.endswith("]") and "[" not in rest)
    return units.get(base, "") if alone else ""


def with_unit(units: Mapping[str, str], name: str) -> str:
    """Return a name with its unit in brackets, if it has one: `share[wild] (per cent)`."""
    unit = unit_of(units, name)
    return f"{name} ({unit})" if unit else name
