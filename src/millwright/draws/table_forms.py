"""Tables in the forms in which they are handed on: text, Markdown, HTML, LaTeX, CSV."""

from __future__ import annotations

from html import escape
from typing import Literal, get_args

from millwright.display import text_table
from millwright.draws.folding import LONGEST, folded
from millwright.draws.table import Table
from millwright.errors import ArgumentError

__all__ = ["Form", "written"]

Form = Literal["text", "markdown", "html", "latex", "csv"]


def written(table: Table, form: Form = "text") -> str:
    """Return a posterior table in one form, with its notes.

    All forms but CSV fold long tables and cut digits to what the draws support; CSV has every
    row and all digits.

    Raises
    ------
    ArgumentError
        For another form.
    """
    if form not in get_args(Form):
        raise ArgumentError(f"`form` must be one of {', '.join(get_args(Form))}, not {form!r}.")
    if form == "text":
        return "\n".join([text_table(*_shown(table)), *table.notes])
    import pandas as pd

    if form == "csv":
        index = pd.Index(table.names, name="quantity")
        return str(pd.DataFrame(table.columns, index=index).to_csv())
    names, columns = _shown(table)
    frame = pd.DataFrame(columns, index=pd.Index(names, name="quantity"))
    notes = " ".join(table.notes)
    if form == "markdown":
        lined = frame.rename(index=_plain_in_markdown).to_markdown(
            disable_numparse=True, stralign="right"
        )
        return f"{lined}\n\n{_plain_in_markdown(notes)}"
    if form == "html":
        return f"{frame.rename_axis(None).to_html(border=0)}\n<p>{escape(notes)}</p>"
    body = frame.rename_axis(None).to_latex(escape=True, column_format="l" + "r" * len(columns))
    return f"{body}% {notes}\n"


def _shown(table: Table) -> tuple[list[str], dict[str, list[str]]]:
    names, columns = folded(table)
    if len(names) <= 2 * LONGEST:
        return names, columns
    names = [*names[:LONGEST], f"... and {len(names) - LONGEST} rows more; choose some by name"]
    return names, {heading: [*cells[:LONGEST], ""] for heading, cells in columns.items()}


def _plain_in_markdown(name: str) -> str:
    return name.replace("|", "\\|").replace("_", "\\_").replace("*", "\\*").replace("<", "&lt;")
