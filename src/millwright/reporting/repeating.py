"""How to repeat a fit: settings, versions, the sheet, and a line of Python and of the shell."""

from __future__ import annotations

import shlex
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, fields
from typing import Any

from millwright.fitting.record import Origin
from millwright.modelling.parameterisations import chosen_forms
from millwright.posterior.posterior import Posterior
from millwright.sampling.methods import Method, NoUTurn, method_from, method_record
from millwright.storage.sheet import fit_settings, sheet_text

__all__ = ["Repeating", "repeating"]

_SIZES = ("chains", "draws", "warmup", "thin")


@dataclass(frozen=True, kw_only=True)
class Repeating:
    """What another needs to get the same draws.

    Attributes
    ----------
    facts
        Name and value of each setting, version and fingerprint.
    code, command
        The fit as a call and as a command; empty where it was not made by this library, the
        command also where the shell cannot do it: with functions of the user's own, without
        data, with starting values that are lists, or with a matrix among the settings.
    functions
        Names of the user's own functions that the model calls.
    """

    facts: tuple[tuple[str, str], ...]
    sheet: str
    code: str
    command: str
    functions: tuple[str, ...] = ()


def _version_words(name: str) -> str:
    return name if name == "processor" else f"version of {name}"


def repeating(posterior: Posterior) -> Repeating:
    """Return what another needs to get the same draws."""
    record = posterior.record
    facts = [
        ("seed", str(record.seed)),
        *((name, str(value)) for name, value in record.settings.items()),
        *((_version_words(name), str(value)) for name, value in record.versions.items()),
        ("fingerprint of the data", record.fingerprint),
        ("started", record.started),
    ]
    binding = posterior.draws.binding
    sheet = posterior.sheet or sheet_text(binding.specification)
    if record.origin is not Origin.CHAINS:
        return Repeating(facts=tuple(facts), sheet=sheet, code="", command="")
    method = method_from(record.method)
    begun_at = record.settings.get("begun_at")
    stated = _stated(posterior, whole=False) | ({"start": begun_at} if begun_at else {})
    functions = tuple(foreign.name for foreign in binding.program.foreign)
    data = bool(binding.tables.columns)
    code = _call(stated, method, data)
    # Where the sheet has settings of its own, usual values must be stated too, to win over them.
    of_sheet = fit_settings(sheet, "the sheet")
    starts = _start_words(begun_at)
    command = ""
    # Nothing in the shell takes back the starting values of a sheet.
    if data and not functions and starts is not None and (begun_at or "start" not in of_sheet):
        command = _command(_stated(posterior, bool(of_sheet)), method, bool(of_sheet), starts)
    return Repeating(
        facts=tuple(facts), sheet=sheet, code=code, command=command, functions=functions
    )


def _start_words(begun_at: Any) -> list[str] | None:
    """Return starting values as options of the shell; None where it cannot state them."""
    if not isinstance(begun_at or {}, Mapping):
        return None
    words = []
    for name, value in (begun_at or {}).items():
        labelled = isinstance(value, Mapping)
        each = {f"{name}[{k}]": v for k, v in value.items()} if labelled else {name: value}
        if not all(isinstance(one, int | float) for one in each.values()):
            return None
        words += [f"--start {shlex.quote(f'{k}={v!r}')}" for k, v in each.items()]
    return words


def _stated(posterior: Posterior, whole: bool) -> dict[str, Any]:
    """Return the settings of the fit, but for the method's; if not `whole`, no usual ones."""
    record, program = posterior.record, posterior.draws.binding.program
    result = {"seed": record.seed, **{key: record.settings[key] for key in _SIZES}}
    if whole or record.settings["missing"] != "refuse":
        result["missing"] = record.settings["missing"]
    if program.forms and (whole or program.forms != chosen_forms(program, "informed")):
        result["parameterisation"] = dict(program.forms)
    return result


def _method_settings(method: Method, whole: bool = False) -> dict[str, Any]:
    """Return the settings of a method; if not `whole`, those that are not its usual ones."""
    usual = type(method)()
    found = {f.name: getattr(method, f.name) for f in fields(method)}
    return {
        name: value
        for name, value in found.items()
        if (whole and value is not None)
        or type(value) is not type(getattr(usual, name))
        or value != getattr(usual, name)
    }


def _call(stated: Mapping[str, Any], method: Method, data: bool) -> str:
    method_settings = _method_settings(method)
    arguments = ["data"] if data else []
    arguments += [f"{name}={value!r}" for name, value in stated.items()]
    if isinstance(method, NoUTurn):
        arguments += [f"{name}={value!r}" for name, value in method_settings.items()]
    else:
        plain = method_record(method)
        inside = ", ".join(f"{name}={plain[name]!r}" for name in method_settings)
        arguments.append(f"method=mw.{type(method).__name__}({inside})")
    return f'mw.Model.read("sheet.toml").fit({", ".join(arguments)})'


def _command(stated: Mapping[str, Any], method: Method, whole: bool, starts: Sequence[str]) -> str:
    method_settings = _method_settings(method, whole)
    if not all(isinstance(value, str | int | float) for value in method_settings.values()):
        return ""
    words = []
    for name, value in stated.items():
        values = [f"{k}={v}" for k, v in value.items()] if isinstance(value, dict) else [value]
        words += [f"--{name.replace('_', '-')} {one}" for one in values]
    if whole or not isinstance(method, NoUTurn):
        words.append(f"--method {method.name}")
    if isinstance(method, NoUTurn):
        words += [f"--{name.replace('_', '-')} {value}" for name, value in method_settings.items()]
    else:
        words += [f"--setting {name}={value}" for name, value in method_settings.items()]
    return f"millwright fit sheet.toml data.csv {' '.join([*words, *starts])}"
