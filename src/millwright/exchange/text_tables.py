"""Tables from text files, in which no column is taken for another."""

from __future__ import annotations

import io
import warnings
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from millwright.errors import DataError

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["text_table"]

_SIGNS = {";": "a semicolon", "\t": "a tab", ",": "a comma"}


def text_table(source: Any, name: str, sep: str = ",", comment: str | None = None) -> pd.DataFrame:
    """Read a table whose columns cannot be taken for others.

    Left to itself the reader takes a first field more than there are names for an index, which
    moves every name by one column, and gives a name that stands twice a number.

    Parameters
    ----------
    source
        A path, or an open text.
    name
        What it is called at the start of a sentence.
    comment
        Sign with which lines begin that hold no values.

    Raises
    ------
    DataError
        If names do not fit the columns.
    """
    import pandas as pd

    text = source.read() if hasattr(source, "read") else None
    first = pd.read_csv(
        _again(source, text),
        sep=sep,
        comment=comment,
        header=None,
        nrows=1,
        dtype=str,
        keep_default_na=False,
    )
    _check_names([str(one) for one in first.iloc[0] if str(one)], name, sep)
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error", pd.errors.ParserWarning)
            return pd.read_csv(_again(source, text), sep=sep, comment=comment, index_col=False)
    except pd.errors.ParserWarning:
        raise DataError(
            f"{name} has more fields in a row than names in its first line: give every "
            "column a name."
        ) from None


def _check_names(names: Sequence[str], name: str, sep: str) -> None:
    """Refuse names that stand twice, and a first line that another sign separates."""
    twice = next((one for one in names if names.count(one) > 1), None)
    if twice is not None:
        raise DataError(f"{name} has two columns `{twice}`: rename one of them.")
    other = next((one for one in _SIGNS if one != sep and one in "".join(names)), None)
    if len(names) == 1 and other is not None:
        raise DataError(
            f"{name} has a single column, {names[0]!r}: its values seem to be "
            f"separated by {_SIGNS[other]}. Here {_SIGNS[sep]} separates them (in .csv a comma, "
            "in .tsv a tab), and decimals have a point."
        )


def _again(source: Any, text: str | None) -> Any:
    return source if text is None else io.StringIO(text)
