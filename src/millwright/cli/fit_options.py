"""Settings of a fit from a sheet's table [fit] and from options; options win."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import fields, replace
from typing import Any

from millwright.cli.pairs import pairs
from millwright.errors import ArgumentError
from millwright.sampling.methods import (
    Ensemble,
    LaplaceGrid,
    Method,
    NoUTurn,
    Rejection,
    Tempering,
    method_with,
)

__all__ = ["fit_options"]

_OF_NO_U_TURN = tuple(f.name for f in fields(NoUTurn))
_SPREADING = (Ensemble.name, Rejection.name, Tempering.name, LaplaceGrid.name)
"""Methods that spread their own first points."""


def fit_options(
    of_sheet: Mapping[str, Any],
    given: Mapping[str, Any],
    method_settings: Sequence[str],
    forms: Sequence[str],
    starts: Sequence[str] = (),
) -> dict[str, Any]:
    """Return the settings as `Model.fit` takes them.

    Parameters
    ----------
    of_sheet
        Settings of the sheet, as `Model.fit_settings` gives them.
    given
        Options by name; those that are None were not given.
    method_settings
        Choices of the method as `name=value`.
    forms
        Forms of group effects: one form, or some as `name=form`.
    starts
        Values at which all chains begin, as `name=value` or `name[label]=value`.

    Raises
    ------
    ArgumentError
        For settings that the method does not have, or a text that is not `name=value`.
    """
    stated = {name: value for name, value in given.items() if value is not None}
    settings = {**of_sheet, **stated}
    if "method" in stated and stated["method"] != NoUTurn.name:
        # The sheet's settings of another method do not go with this one.
        for name in _OF_NO_U_TURN:
            if name not in stated:
                settings.pop(name, None)
        if stated["method"] in _SPREADING:
            settings.pop("start", None)
    if method_settings:
        settings |= _with_method_settings(
            settings.get("method"), pairs("setting", method_settings, "temperatures=12")
        )
    if forms:
        settings["parameterisation"] = _forms(forms)
    if starts:
        settings["start"] = start_values(starts)
    return settings


def start_values(texts: Sequence[str]) -> dict[str, Any]:
    """Read values at which chains begin.

    Raises
    ------
    ArgumentError
        For a text that is not `name=value` or `name[label]=value`, or no number.
    """
    result: dict[str, Any] = {}
    for name, value in pairs("start", texts, "slope=0.1").items():
        base, bracket, rest = name.partition("[")
        if isinstance(value, str | bool) or (bracket and not rest.endswith("]")):
            raise ArgumentError(
                f"--start takes NAME=NUMBER or NAME[LABEL]=NUMBER, not {name}={value}. Vectors "
                "and a start for each chain are written in the sheet, under [fit.start]."
            )
        if bracket:
            inner = result.setdefault(base.strip(), {})
            if isinstance(inner, dict):
                inner[rest[:-1].strip().strip("'\"")] = value
                continue
        elif name not in result:
            result[name] = value
            continue
        raise ArgumentError(f"--start: `{base.strip()}` has one number and labels of its own.")
    return result


def _with_method_settings(
    method: str | Method | None, method_settings: Mapping[str, Any]
) -> dict[str, Any]:
    """Return a method's settings as a fit takes them: those of the gradient sampler by name."""
    name = method.name if isinstance(method, Method) else method or NoUTurn.name
    chosen = method_with(name, method_settings)
    if method is None or method == NoUTurn.name:
        return dict(method_settings)
    return {"method": replace(method, **method_settings) if isinstance(method, Method) else chosen}


def _forms(forms: Sequence[str]) -> str | dict[str, Any]:
    if len(forms) == 1 and "=" not in forms[0]:
        return forms[0]
    return pairs("parameterisation", forms, "mill_effect=centred")
