"""What the study of a curve is given, read: data sets, columns, ranges of unknowns."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
import pandas as pd

from millwright.errors import ArgumentError, DataError, nearest
from millwright.language.parse import is_writable, normal_name
from millwright.studies.curve_parts import ERROR_FACTOR, NOISE
from millwright.studies.priors import range_prior
from millwright.studies.reading import (
    complete_rows,
    find_column,
    labels_in,
    named,
    numbers_in,
    table_of,
)
from millwright.wording import setting

__all__ = [
    "check_axes",
    "check_each",
    "column_or_number",
    "columns_of_x",
    "ranges",
    "rows_of",
    "stacked",
]

_SETS = "set"
_OWN = (NOISE, ERROR_FACTOR)
_AXES = ("linear", "log x", "log y", "log")


def stacked(data: Any, sets: str | None) -> tuple[pd.DataFrame, str | None]:
    """Return one table, of several with a column that names them."""
    several = (
        isinstance(data, Mapping)
        and data
        and all(isinstance(one, Mapping | pd.DataFrame) for one in data.values())
    )
    if not several:
        return table_of(data), sets
    column = _SETS if sets is None else str(sets)
    tables = []
    for name, one in data.items():
        table = table_of(one)
        if column in table.columns:
            raise ArgumentError(
                f"The data set `{name}` has a column `{column}` already: say by "
                f"{setting('sets')} how the column of data sets is to be called."
            )
        tables.append(table.assign(**{column: str(name)}))
    return pd.concat(tables, ignore_index=True), column


def columns_of_x(frame: pd.DataFrame, x: Any) -> dict[str, str]:
    """Return the columns of x by the names that formulas have for them; own names come later."""
    if isinstance(x, Mapping):
        found = {normal_name(str(n)): find_column(frame, c, "x") for n, c in x.items()}
        for name in found:
            if not is_writable(name):
                raise ArgumentError(f"`{name}` cannot be written as a name in a formula.")
            if name in _OWN:
                raise ArgumentError(
                    f"`{name}` is what the study itself calls an unknown: give the column another "
                    f"name by {setting('x')}."
                )
    else:
        every = list(x) if isinstance(x, list | tuple) else [x]
        columns = [find_column(frame, one, "x") for one in every]
        names = named(dict.fromkeys(columns, "x"), _OWN)
        found = {name: column for column, name in names.of.items()}
        if len(set(columns)) < len(columns):
            raise ArgumentError(f"{setting('x')} names a column twice: {', '.join(columns)}.")
    if not found:
        raise ArgumentError(f"Say which column the curve is a function of: {setting('x')}.")
    return found


def column_or_number(frame: pd.DataFrame, given: Any, what: str) -> str | float | None:
    if given is None or isinstance(given, str):
        return None if given is None else find_column(frame, given, what)
    try:
        value = float(given)
    except (TypeError, ValueError):
        value = np.nan
    if not (np.isfinite(value) and value > 0) or isinstance(given, bool):
        raise ArgumentError(f"{setting(what)} is a column or a number above 0, not {given!r}.")
    return value


def ranges(unknowns: Any) -> dict[str, Any]:
    """Return priors as texts and numbers, ranges as uniform priors."""
    if not isinstance(unknowns, Mapping) or not unknowns:
        raise ArgumentError(
            f"Say what is unknown: {setting('unknowns')}, a mapping of names to ranges such as "
            '{"capacity": (0, 25)}, priors as text, or numbers.'
        )
    found: dict[str, Any] = {}
    for given, value in unknowns.items():
        name = normal_name(str(given))
        if not is_writable(name):
            raise ArgumentError(f"`{given}` cannot be written as a name in a formula.")
        if isinstance(value, str):
            found[name] = value
        elif isinstance(value, int | float | np.number) and not isinstance(value, bool):
            if not np.isfinite(value):
                raise ArgumentError(f"`{given}` is held at {value!r}; that must be finite.")
            found[name] = float(value)
        else:
            found[name] = range_prior(str(given), value)
    if not any(isinstance(one, str) for one in found.values()):
        raise ArgumentError("Every unknown is held at a number: nothing is left to find.")
    return found


def rows_of(
    frame: pd.DataFrame, settings: Mapping[str, Any], missing: str
) -> tuple[pd.DataFrame, tuple[str, ...]]:
    """Return the columns that are used, complete, numbers as numbers."""
    columns = dict.fromkeys(settings["x"].values(), "x") | {settings["y"]: "y"}
    for key in ("error", "smear"):
        if isinstance(settings[key], str):
            columns[settings[key]] = key
    if len(columns) < len(settings["x"]) + 1 + sum(
        isinstance(settings[key], str) for key in ("error", "smear")
    ):
        raise ArgumentError("One column is given for two things: x, y, error and smear differ.")
    made = pd.DataFrame({c: numbers_in(frame, c, what) for c, what in columns.items()})
    if settings["sets"] is not None:
        if settings["sets"] in columns:
            raise ArgumentError(
                f"`{settings['sets']}` names the data sets and is {columns[settings['sets']]} too."
            )
        made[settings["sets"]] = labels_in(frame, settings["sets"], "sets")
    made, remarks = complete_rows(made, missing)
    if len(made) < 2:
        raise DataError(f"There is {len(made)} row; a curve needs two or more.")
    for key, what in (("error", "standard errors"), ("smear", "resolutions")):
        column = settings[key]
        if isinstance(column, str) and not (made[column] > 0).all():
            row = int(np.flatnonzero(~(made[column] > 0).to_numpy())[0]) + 1
            raise DataError(
                f"`{column}` is {made[column].iloc[row - 1]:g} in row {row}; {what} must be above "
                "0. Leave out a row that says nothing; give a point that is exact a small error."
            )
    return made.reset_index(drop=True), remarks


def check_axes(frame: pd.DataFrame, settings: Mapping[str, Any]) -> None:
    axes = settings["axes"]
    if axes not in _AXES:
        raise ArgumentError(f"`axes` is {', '.join(_AXES)}, not {axes!r}.")
    first = next(iter(settings["x"].values()))
    for column, kinds in ((first, ("log x", "log")), (settings["y"], ("log y", "log"))):
        if axes in kinds and not (frame[column] > 0).all():
            raise ArgumentError(
                f"`{column}` has values that are not above 0, which a logarithmic axis cannot "
                "show: choose other axes."
            )


def check_each(settings: Mapping[str, Any]) -> None:
    each, sets = settings["each"], settings["sets"]
    if each and sets is None:
        raise ArgumentError(
            f"{setting('each')} names unknowns that every data set has of its own: say which "
            f"column tells data sets apart, by {setting('sets')}."
        )
    own = ERROR_FACTOR if settings["error_factor"] else NOISE if settings["error"] is None else ""
    known = [*settings["unknowns"], *([own] if own else [])]
    for name in each:
        if name not in known:
            raise ArgumentError(
                f"{setting('each')} names `{name}`, which is no unknown.{nearest(name, known)} "
                f"Unknowns: {', '.join(known)}."
            )
        if isinstance(settings["unknowns"].get(name), float):
            raise ArgumentError(f"`{name}` is held at a number, and cannot differ by data set.")
    if settings["error_factor"] and settings["error"] is None:
        raise ArgumentError(
            f"{setting('error_factor', True)} scales errors that are given: say which, by "
            f"{setting('error')}; without any the size of the noise is unknown anyway."
        )
