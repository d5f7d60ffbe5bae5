"""Writes docs/commands.md and docs/sheet.schema.json from the code: `python docs/commands.py`.

A test compares the files with what this gives, so that they cannot go stale.
"""

from __future__ import annotations

import json
from dataclasses import fields
from pathlib import Path
from typing import Any

import typer

from millwright.cli.app import app
from millwright.sampling.methods import METHODS
from millwright.storage.sheet_schema import sheet_schema

_CHOICES = {name: tuple(f.name for f in fields(kind)) for name, kind in METHODS.items()}

PAGE = Path(__file__).parent / "commands.md"
SCHEMA = Path(__file__).parent / "sheet.schema.json"

HEAD = """# The commands

Results go to standard output or to files that you name, messages and progress to standard error.
Exit status: 0 good, 1 not converged or a check failed, 2 bad input, 130 interrupted. A sheet or a
data file may be named without its usual ending where there is no doubt which is meant. Nothing is
overwritten without `--replace`.

Settings of a fit can stand in the sheet, for repeatable work; options win over them:

```toml
[fit]
seed = 7
draws = 2000
```

[sheet.schema.json](sheet.schema.json) lets editors complete and check sheets.
"""


def page() -> str:
    """Return the page."""
    group: Any = typer.main.get_command(app)
    parts = [HEAD]
    for name, command in group.commands.items():
        arguments = [p for p in command.params if p.param_type_name == "argument"]
        usage = " ".join(_argument(one) for one in arguments)
        parts.append(f"## millwright {name} {usage}".rstrip() + "\n")
        parts.append(" ".join((command.help or "").split()) + "\n")
        rows = [_row(p) for p in command.params if getattr(p, "help", None)]
        if rows:
            parts.append("\n".join(["| | |", "| --- | --- |", *rows]) + "\n")
    return "\n".join(parts)


def _argument(one: Any) -> str:
    word = (one.metavar or one.name or "").upper() + ("..." if one.nargs == -1 else "")
    return word if one.required else f"[{word}]"


def _row(one: Any) -> str:
    option = one.param_type_name == "option"
    name = ", ".join(one.opts) if option else (one.name or "").upper()
    words = " ".join(str(getattr(one, "help", "")).split()).replace("|", "\\|")
    return f"| `{name}` | {words} |"


def schema() -> str:
    """Return the schema of a sheet."""
    return json.dumps(sheet_schema(_CHOICES), indent=2) + "\n"


if __name__ == "__main__":
    PAGE.write_text(page(), encoding="utf-8")
    SCHEMA.write_text(schema(), encoding="utf-8")
