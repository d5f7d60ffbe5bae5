"""Advice as data inside messages: what to change and to which value, worded by each face.

A message is a text. Where it names something to change, it holds a marked piece that says what:
the same setting is `trial=True` in Python and `--trial` in the shell. Nothing is ever found again
by its wording, so texts of the user's stay as they are.
"""

from __future__ import annotations

import json
import re
import shlex
import unicodedata
from collections.abc import Callable
from typing import Any

__all__ = [
    "action",
    "changes",
    "either",
    "for_page",
    "for_python",
    "for_shell",
    "setting",
    "visible",
]

_OPEN, _CLOSE = "\ue000", "\ue001"
_PIECE = re.compile(f"{_OPEN}(.*?){_CLOSE}", re.DOTALL)
_ABSENT = "\ue002"
_UNSEEN = ("Cc", "Cf", "Co", "Cs", "Zl", "Zp")


def _piece(**parts: Any) -> str:
    return f"{_OPEN}{json.dumps(parts)}{_CLOSE}"


def setting(name: str, value: Any = _ABSENT) -> str:
    """Return a piece for an argument of a call, an option of a command."""
    return _piece(kind="setting", name=name, value=value)


def action(name: str, value: Any = None) -> str:
    """Return a piece for what to do next: `extend` by draws, `extend_study`, or `resume`."""
    return _piece(kind="action", name=name, value=value)


def either(python: str, shell: str, page: str = "") -> str:
    """Return a piece that faces word quite differently; a page as the shell, if not stated."""
    return _piece(kind="either", python=python, shell=shell, page=page or shell)


def visible(text: str, keep: str = "") -> str:
    """Return a text of the user's on one line, with what cannot be seen written out.

    Control characters, line breaks, marks that turn the direction of writing and the like could
    make a line look like another one; they appear as `\\u202e`.
    """
    if text.isascii() and text.isprintable():
        return text
    return "".join(
        one if one in keep or unicodedata.category(one) not in _UNSEEN else _written_out(one)
        for one in text
    )


def _written_out(one: str) -> str:
    number = ord(one)
    return f"\\u{number:04x}" if number < 0x10000 else f"\\U{number:08x}"


def for_python(text: str) -> str:
    """Return a message with what to do as arguments and calls."""
    return _worded(text, _in_python)


def for_shell(text: str, run: object = None) -> str:
    """Return a message with what to do as options and commands.

    Parameters
    ----------
    run
        The run that it is about, for commands that take one.
    """
    place = "RUN" if run is None else shlex.quote(str(run))
    return _worded(text, lambda piece: _in_shell(piece, place))


def for_page(text: str) -> str:
    """Return a message for readers of a page, who may use either: settings by their names."""
    return _worded(text, _on_page)


def changes(text: str) -> list[dict[str, Any]]:
    """Return the settings and actions that a message names, as plain values."""
    found = [json.loads(piece) for piece in _PIECE.findall(text)]
    return [
        {part["kind"]: part["name"], **({} if part["value"] == _ABSENT else {"to": part["value"]})}
        for part in found
        if part["kind"] != "either"
    ]


def _worded(text: str, word: Callable[[dict[str, Any]], str]) -> str:
    return _PIECE.sub(lambda found: word(json.loads(found[1])), text)


def _in_python(piece: dict[str, Any]) -> str:
    if piece["kind"] == "either":
        return str(piece["python"])
    name, value = piece["name"], piece["value"]
    if piece["kind"] == "setting":
        return f"{name}={'' if value == _ABSENT else repr(value)}"
    if name in ("extend", "extend_study"):
        what = "posterior" if name == "extend" else "findings"
        return f"{what}.extend({'' if value is None else value})"
    return f"mw.resume({'' if value is None else repr(value)})"


def _on_page(piece: dict[str, Any]) -> str:
    if piece["kind"] == "either":
        return str(piece["page"])
    name, value = piece["name"].replace("_", " "), piece["value"]
    if piece["kind"] == "action":
        name = name.removesuffix(" study")
        return f"{name} by {value}" if isinstance(value, int) else f"{name} it"
    return name if value is True or value == _ABSENT else f"{name} {value}"


def _in_shell(piece: dict[str, Any], run: str) -> str:
    if piece["kind"] == "either":
        return str(piece["shell"])
    name, value = piece["name"], piece["value"]
    if piece["kind"] == "setting":
        option = "--" + name.replace("_", "-")
        return option if value is True or value == _ABSENT else f"{option} {value}"
    if name in ("extend", "extend_study"):
        return f"millwright extend {run} {'DRAWS' if value is None else value}"
    return f"millwright resume {run if value is None else shlex.quote(str(value))}"
