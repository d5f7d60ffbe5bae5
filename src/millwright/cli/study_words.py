"""Words of the shell as studies take them: priors, regions, candidates, a file of equations."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from millwright.errors import ArgumentError, StorageError, nearest

__all__ = ["equations_in", "of_candidates", "parts_in", "per_of", "priors_of", "region_of"]

_OF_EQUATIONS = ("equations", "unknowns", "shocks", "readings", "errors", "priors")


def parts_in(place: Path, parts: Sequence[str]) -> dict[str, Any]:
    """Read a TOML file that has some of these parts.

    Raises
    ------
    ArgumentError
        For a part that such a file does not have.
    StorageError
        If it cannot be read.
    """
    try:
        found = tomllib.loads(place.read_text("utf-8"))
    except (OSError, UnicodeDecodeError) as error:
        raise StorageError(f"{place} cannot be read: {error}.") from error
    except tomllib.TOMLDecodeError as error:
        raise StorageError(f"{place} is no TOML file: {error}.") from error
    for name in found:
        if name not in parts:
            raise ArgumentError(
                f"{place}: there is no part `{name}`.{nearest(name, parts)} Parts: "
                f"{', '.join(parts)}."
            )
    return found


def equations_in(place: Path) -> dict[str, Any]:
    """Read a file of equations with expectations.

    Raises
    ------
    ArgumentError
        For a part that such a file does not have.
    StorageError
        If it cannot be read.
    """
    found = parts_in(place, _OF_EQUATIONS)
    for name in ("equations", "unknowns", "shocks", "readings"):
        if name not in found:
            raise ArgumentError(f"{place} lacks the part `{name}`.")
    if not isinstance(found.get("priors", {}), Mapping):
        raise ArgumentError(f"{place}: [priors] is a table of names and priors.")
    return found


def per_of(key: str, texts: Sequence[str]) -> Any:
    """Read group effects of a regression, or the one column of trials."""
    if key == "regression":
        return _pairs("per", texts)
    if len(texts) > 1:
        raise ArgumentError(f"--per of a {key.replace('_', ' ')} is one column, not {len(texts)}.")
    return texts[0]


def of_candidates(stated: Mapping[str, Any]) -> dict[str, Any]:
    """Read options of a variable selection as the study takes them."""
    found: dict[str, Any] = {}
    if "g" in stated:
        found["g"] = _number_or_text(stated["g"])
    if "exclusive" in stated:
        found["exclusive"] = [
            tuple(one.strip() for one in group.split("|")) for group in stated["exclusive"]
        ]
    chosen = stated.get("candidates")
    if chosen and len(chosen) == 1 and "~" in chosen[0]:
        found["candidates"] = chosen[0]
    return found


def region_of(option: str, text: str) -> tuple[float, float] | None:
    """Read `-0.1 to 0.1`."""
    if text.strip().lower() == "none" and option == "effect_rope":
        return None
    try:
        low, high = (float(part) for part in text.split(" to "))
    except ValueError:
        raise ArgumentError(
            f"--{option.replace('_', '-')} is written as 'LOW to HIGH', such as '-0.1 to 0.1', "
            f"not {text!r}."
        ) from None
    return low, high


def priors_of(key: str, texts: Sequence[str], known: Mapping[str, Any]) -> dict[str, Any]:
    """Read `NAME=prior` as the study takes it."""
    if key == "variable_selection":
        return _selection_priors(texts)
    found = _pairs("prior", texts)
    if not found:
        return {}
    if "priors" in known:
        return {"priors": found}
    if key == "meta_analysis":
        return {"prior": {name: _probability(name, text) for name, text in found.items()}}
    if "prior" in known:
        return {"prior": found["share"] if list(found) == ["share"] else found}
    raise ArgumentError(
        f"The prior of a {key.replace('_', ' ')} is stated by --width and --direction."
    )


def _selection_priors(texts: Sequence[str]) -> dict[str, Any]:
    """Read a prior of subsets, probabilities of candidates, and priors of unknowns."""
    alone = [text for text in texts if "=" not in text.split("(")[0]]
    if len(alone) > 1:
        raise ArgumentError(f"Give one --prior of subsets, not {' and '.join(alone)}.")
    found = _pairs("prior", [text for text in texts if text not in alone])
    made: dict[str, Any] = {"prior": _number_or_text(alone[0])} if alone else {}
    unknowns = {name: text for name, text in found.items() if "(" in text}
    if unknowns:
        made["priors"] = unknowns
    chances = {name: _probability(name, text) for name, text in found.items() if "(" not in text}
    if chances and alone:
        raise ArgumentError(f"Give --prior {alone[0]} or probabilities of candidates, not both.")
    if chances:
        made["prior"] = chances
    return made


def _probability(name: str, text: str) -> float:
    try:
        return float(text)
    except ValueError:
        raise ArgumentError(
            f"--prior is here a probability, such as {name}=0.25, not {name}={text}; of effect "
            "and spread of a meta-analysis priors are stated by --effect and --spread."
        ) from None


def _number_or_text(text: str) -> float | str:
    try:
        return float(text)
    except ValueError:
        return text


def _pairs(option: str, texts: Sequence[str]) -> dict[str, str]:
    """Read texts of the form NAME=TEXT."""
    found = {}
    for text in texts:
        name, equals, value = text.partition("=")
        if not equals or not name.strip() or not value.strip():
            what = "PRIOR" if option == "prior" else "TERMS"
            raise ArgumentError(f"--{option} takes NAME={what}, not {text!r}.")
        found[name.strip()] = value.strip()
    return found
