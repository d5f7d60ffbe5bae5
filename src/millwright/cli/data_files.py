"""Files that a user names: data as tables, and names without their usual endings."""

from __future__ import annotations

import io
import sys
import warnings
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from millwright.errors import DataError, StorageError

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["DATA", "SHEETS", "found", "read_data"]

DATA = (".csv", ".tsv", ".tab", ".json", ".parquet", ".xlsx")
SHEETS = (".toml",)
_SIGNS = {";": "a semicolon", "\t": "a tab", ",": "a comma", "|": "a bar"}


def found(path: Path, endings: Sequence[str]) -> Path:
    """Return a file, or the one of that name with a usual ending if there is only one.

    Raises
    ------
    StorageError
        If there are several; they are listed.
    """
    if path.exists() or path.suffix.lower() in endings:
        return path
    there = [path.with_name(path.name + ending) for ending in endings]
    there = [one for one in there if one.is_file()]
    if len(there) > 1:
        listed = ", ".join(one.name for one in there)
        raise StorageError(f"{path} could be any of {listed}: name it with its ending.")
    return there[0] if there else path


def read_data(path: Path) -> pd.DataFrame:
    """Read a table: CSV, TSV, JSON, Parquet or Excel by its ending; `-` is CSV on standard input.

    Raises
    ------
    StorageError
        If the file is missing or cannot be read.
    DataError
        If it is not a table.
    """
    if str(path) == "-":
        return _read(sys.stdin, "standard input", ".csv")
    path = found(path, DATA)
    return _read(path, f"the data file {path}", path.suffix.lower())


def _read(source: Any, name: str, ending: str) -> pd.DataFrame:
    # Heavy, and not needed to say that a sheet is missing.
    import pandas as pd

    try:
        if ending == ".json":
            return pd.read_json(source)
        if ending == ".parquet":
            return pd.read_parquet(source)
        if ending == ".xlsx":
            return pd.read_excel(source)
        return _read_text(source, name, "\t" if ending in (".tsv", ".tab") else ",")
    except DataError:
        raise
    except UnicodeDecodeError as error:
        raise DataError(
            f"{_first_up(name)} is not UTF-8 text ({error}): save it as such."
        ) from error
    except FileNotFoundError:
        raise StorageError(f"There is no data file {source}.") from None
    except (pd.errors.ParserError, pd.errors.EmptyDataError) as error:
        raise DataError(f"{_first_up(name)} is not a table: {error}.") from error
    except OSError as error:
        words = error.strerror or str(error)
        raise StorageError(f"{_first_up(name)} cannot be read: {words}.") from error
    except Exception as error:
        # Readers of Parquet, JSON and Excel have errors of their own kinds.
        raise DataError(f"{_first_up(name)} is not a table: {error}.") from error


def _read_text(source: Any, name: str, sep: str) -> pd.DataFrame:
    """Read a table whose columns cannot be taken for others.

    Left to itself the reader takes a first field more than there are names for an index, which
    moves every name by one column, and gives a name that stands twice a number.
    """
    import pandas as pd

    text = source.read() if hasattr(source, "read") else None
    first = pd.read_csv(
        _again(source, text), sep=sep, header=None, nrows=1, dtype=str, keep_default_na=False
    )
    _check_names([str(one) for one in first.iloc[0] if str(one)], name, sep)
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error", pd.errors.ParserWarning)
            return pd.read_csv(_again(source, text), sep=sep, index_col=False)
    except pd.errors.ParserWarning:
        raise DataError(
            f"{_first_up(name)} has more fields in a row than names in its first line: give every "
            "column a name."
        ) from None


def _check_names(names: Sequence[str], name: str, sep: str) -> None:
    """Refuse names that stand twice, and a first line that another sign separates."""
    twice = next((one for one in names if names.count(one) > 1), None)
    if twice is not None:
        raise DataError(f"{_first_up(name)} has two columns `{twice}`: rename one of them.")
    other = next((one for one in _SIGNS if one != sep and one in "".join(names)), None)
    if len(names) == 1 and other is not None:
        raise DataError(
            f"{_first_up(name)} has a single column, {names[0]!r}: its values seem to be "
            f"separated by {_SIGNS[other]}. Here {_SIGNS[sep]} separates them (in .csv a comma, "
            "in .tsv a tab), and decimals have a point."
        )


def _again(source: Any, text: str | None) -> Any:
    return source if text is None else io.StringIO(text)


def _first_up(text: str) -> str:
    return text[0].upper() + text[1:]
