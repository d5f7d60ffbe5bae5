"""Options that are written as NAME=VALUE."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from millwright.errors import ArgumentError

__all__ = ["pairs"]


def pairs(option: str, texts: Sequence[str], example: str) -> dict[str, Any]:
    """Read `NAME=VALUE` texts; a value is a number, `true` or `false` where it can be one.

    Parameters
    ----------
    option
        Name of the option, and with `example` what a message shows.

    Raises
    ------
    ArgumentError
        For a text that is not of this kind.
    """
    result = {}
    for text in texts:
        name, equals, value = text.partition("=")
        if not equals or not name.strip() or not value.strip():
            raise ArgumentError(f"--{option} takes NAME=VALUE, such as {example}, not {text!r}.")
        result[name.strip()] = _number_or_text(value.strip())
    return result


def _number_or_text(text: str) -> Any:
    if text.lower() in ("true", "false"):
        return text.lower() == "true"
    for kind in (int, float):
        try:
            return kind(text)
        except ValueError:
            continue
    return text
