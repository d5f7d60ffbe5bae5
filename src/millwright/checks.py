"""Checks of arguments, in one wording for all rooms."""

from __future__ import annotations

from collections.abc import Container, Hashable, Iterable, Mapping
from os import PathLike
from pathlib import Path
from typing import Any

import numpy as np

from millwright.errors import ArgumentError

__all__ = [
    "check_list",
    "check_mapping",
    "check_path",
    "check_positive",
    "check_text",
    "check_texts",
    "check_whole",
    "is_among",
]


def check_whole(name: str, value: Any, least: int, most: int | None = None) -> None:
    """Refuse what is not a whole number of a range, both ends included.

    Raises
    ------
    ArgumentError
        If it is not.
    """
    whole = isinstance(value, int | np.integer) and not isinstance(value, bool)
    if not whole or value < least or (most is not None and value > most):
        ends = f"from {least}" if most is None else f"from {least} to {most}"
        raise ArgumentError(f"`{name}` must be a whole number {ends}, not {value!r}.")


def check_text(name: str, value: Any) -> str:
    """Return a text.

    Raises
    ------
    ArgumentError
        For anything else.
    """
    if not isinstance(value, str):
        raise ArgumentError(f"`{name}` must be a text, not {value!r}.")
    return value


def check_path(name: str, value: Any) -> Path:
    """Return the path of a file or a folder.

    Raises
    ------
    ArgumentError
        For anything else.
    """
    if not isinstance(value, str | PathLike) or not str(value):
        raise ArgumentError(f"`{name}` must be the path of a file or folder, not {value!r}.")
    return Path(value)


def check_texts(name: str, value: Any) -> list[str]:
    """Return a list of texts, of which one may stand alone.

    Raises
    ------
    ArgumentError
        For anything else.
    """
    texts = check_list(name, value)
    if not all(isinstance(one, str) for one in texts):
        raise ArgumentError(f"`{name}` must be a text or a list of texts, not {value!r}.")
    return texts


def is_among(value: Any, known: Container[Any]) -> bool:
    """Whether a value is one of those known; what has no hash is none."""
    return isinstance(value, Hashable) and value in known


def check_list(name: str, value: Any) -> list[Any]:
    """Return a list, of which one text may stand alone.

    Raises
    ------
    ArgumentError
        For anything else.
    """
    if isinstance(value, str):
        return [value]
    if not isinstance(value, Iterable):
        raise ArgumentError(f"`{name}` must be a text or a list, not {value!r}.")
    return list(value)


def check_mapping(name: str, value: Any) -> dict[Any, Any]:
    """Return what gives a value for each of several names; nothing for None.

    Raises
    ------
    ArgumentError
        For anything else.
    """
    if value is None:
        return {}
    if not isinstance(value, Mapping) and not hasattr(value, "items"):
        raise ArgumentError(
            f"`{name}` must give a value for each name, as {{'a': 1.5}} does, not {value!r}."
        )
    return dict(value.items())


def check_positive(name: str, value: Any) -> float:
    """Return a number that is above 0 and finite.

    Raises
    ------
    ArgumentError
        If it is not.
    """
    number = isinstance(value, int | float | np.number) and not isinstance(value, bool)
    if not number or not 0 < value < np.inf:
        raise ArgumentError(f"`{name}` must be a number above 0, not {value!r}.")
    return float(value)
