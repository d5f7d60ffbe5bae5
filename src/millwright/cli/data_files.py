"""Files that a user names: data as tables, and names without their usual endings."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from millwright.errors import DataError, StorageError

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["DATA", "SHEETS", "found", "read_data"]

DATA = (".csv", ".tsv", ".tab", ".json", ".parquet", ".xlsx")
SHEETS = (".toml",)


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

    from millwright.exchange.text_tables import text_table

    try:
        if ending == ".json":
            return pd.read_json(source)
        if ending == ".parquet":
            return pd.read_parquet(source)
        if ending == ".xlsx":
            return pd.read_excel(source)
        return text_table(source, _first_up(name), "\t" if ending in (".tsv", ".tab") else ",")
    except DataError:
        raise
    except UnicodeDecodeError as error:
        raise DataError(
            f"{_first_up(name)} is not UTF-8 text ({error}): save it as such."
        ) from error
    except FileNotFoundError:
        raise StorageError(f"There is no data file {source}.") from None
    except (pd.errors.ParserError, pd.errors.EmptyDataError) as error:
        raise DataError(f"{_first_up(name)} is not a table: {str(error).strip()}.") from error
    except OSError as error:
        words = error.strerror or str(error)
        raise StorageError(f"{_first_up(name)} cannot be read: {words}.") from error
    except Exception as error:
        # Readers of Parquet, JSON and Excel have errors of their own kinds.
        raise DataError(f"{_first_up(name)} is not a table: {error}.") from error


def _first_up(text: str) -> str:
    return text[0].upper() + text[1:]
