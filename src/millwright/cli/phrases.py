"""Advice that the library words for Python, in words for the shell."""

from __future__ import annotations

import re
import shlex
from pathlib import Path

__all__ = ["in_shell"]

_OPTIONS = (
    *("chains", "draws", "warmup", "thin", "target_acceptance", "max_depth", "metric"),
    *("method", "group_form", "missing", "workers", "replace"),
)
_ARGUMENT = re.compile(rf"\b({'|'.join(_OPTIONS)})=('[^']*'|True|[0-9][0-9.]*[0-9]|[0-9])?")
_EXTEND = re.compile(r"posterior\.extend\((\d+)\)")
_EXISTING = re.compile(r"give existing='replace'(?: to overwrite the run in it)?")


def in_shell(text: str, run: Path | None = None) -> str:
    """Return a text with arguments as options and calls as commands.

    Parameters
    ----------
    run
        The run that calls on a posterior are about.
    """
    place = "RUN" if run is None else shlex.quote(str(run))
    text = _EXTEND.sub(lambda found: f"millwright extend {place} {found[1]}", text)
    text = text.replace("posterior.extend()", f"millwright extend {place} DRAWS")
    text = text.replace("mw.resume()", f"millwright resume {place}")
    text = _EXISTING.sub("give --replace to overwrite the run in it", text)
    text = text.replace("existing='resume' to go on with it", "millwright resume to go on with it")
    return _ARGUMENT.sub(_option, text)


def _option(found: re.Match[str]) -> str:
    option, value = "--" + found[1].replace("_", "-"), (found[2] or "").strip("'")
    return option if value in ("", "True") else f"{option} {value}"
