"""Words of the shell for curves: a file of formula and unknowns, a function in a Python file."""

from __future__ import annotations

import runpy
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from millwright.cli.study_words import parts_in
from millwright.errors import ArgumentError, StorageError, nearest

__all__ = ["curve_in", "sizes_of"]

_PARTS = ("curve", "formulas", "unknowns", "derived", "priors")
_OF_CURVE = (
    "formula",
    "x",
    "y",
    "error",
    "error_factor",
    "sets",
    "each",
    "smear",
    "kernel",
    "axes",
)
_EXAMPLE = "millwright study curve DATA --curve FILE"


def curve_in(given: Mapping[str, Any]) -> dict[str, Any]:
    """Return the options of a curve as the study takes them, its file and function read.

    Raises
    ------
    ArgumentError
        For a file without a part that it needs, or with one that it does not have; a Python file
        that does not define the function.
    StorageError
        If a file cannot be read.
    """
    stated = dict(given)
    place, code = stated.pop("curve", None), stated.pop("code", None)
    if place is None:
        raise ArgumentError(f"Give the curve: {_EXAMPLE}.")
    found = _read(place)
    table = dict(found.pop("curve"))
    formulas = found.pop("formulas", None)
    formula = table.pop("formula", None)
    ways = [one for one in (formula, formulas, code) if one is not None]
    if len(ways) != 1:
        raise ArgumentError(
            f"{place}: give one of `formula` in [curve], a table [formulas] of several by name, "
            "or --code FILE.py:NAME."
        )
    stated["function"] = _function(code) if code is not None else ways[0]
    return {**table, **found, **stated}


def sizes_of(
    stated: dict[str, Any], chains: int | None, draws: int | None
) -> dict[str, int | None]:
    """Take walkers and steps out of the options: they are chains and draws of an ensemble.

    Raises
    ------
    ArgumentError
        If a number is given by both names.
    """
    walkers, steps = stated.pop("walkers", None), stated.pop("steps", None)
    for one, other, names in (
        (walkers, chains, "--walkers and --chains"),
        (steps, draws, "--steps and --draws"),
    ):
        if one is not None and other is not None:
            raise ArgumentError(f"{names} say the same of a curve: give one of them.")
    sizes: dict[str, int | None] = {"chains": chains if walkers is None else walkers}
    sizes["draws"] = draws if steps is None else steps
    return sizes


def _read(place: Path) -> dict[str, Any]:
    found = parts_in(place, _PARTS)
    for name in ("curve", "unknowns"):
        if not isinstance(found.get(name), Mapping):
            raise ArgumentError(f"{place} lacks the table [{name}].")
    for name in found["curve"]:
        if name not in _OF_CURVE:
            raise ArgumentError(
                f"{place}: [curve] has no `{name}`.{nearest(name, _OF_CURVE)} It has: "
                f"{', '.join(_OF_CURVE)}."
            )
    return found


def _function(code: str) -> Callable[..., Any]:
    """Run a Python file, and return the function that it defines."""
    file, colon, name = code.rpartition(":")
    if not colon or not file or not name:
        raise ArgumentError(f"--code takes FILE.py:NAME, not {code!r}.")
    if not Path(file).is_file():
        raise StorageError(f"There is no file {file}.")
    try:
        made = runpy.run_path(file)
    except Exception as error:
        raise ArgumentError(f"{file} cannot be run: {type(error).__name__}: {error}.") from error
    functions = [one for one, value in made.items() if callable(value) and not one.startswith("_")]
    if name not in functions:
        raise ArgumentError(
            f"{file} defines no function `{name}`.{nearest(name, functions)} It defines: "
            f"{', '.join(functions) or 'none'}."
        )
    function: Callable[..., Any] = made[name]
    return function
