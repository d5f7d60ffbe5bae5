"""Data files to tables."""

from __future__ import annotations

from pathlib import Path

import pandas as pd

from millwright.errors import DataError, StorageError

__all__ = ["read_data"]


def read_data(path: Path) -> pd.DataFrame:
    """Read a CSV file, or a TSV file by its ending.

    Raises
    ------
    StorageError
        If the file is missing or cannot be read.
    DataError
        If it is not a table.
    """
    separator = "\t" if path.suffix.lower() in (".tsv", ".tab") else ","
    try:
        return pd.read_csv(path, sep=separator)
    except FileNotFoundError:
        raise StorageError(f"There is no data file {path}.") from None
    except OSError as error:
        raise StorageError(f"The data file {path} cannot be read: {error.strerror}.") from error
    except (pd.errors.ParserError, pd.errors.EmptyDataError, UnicodeDecodeError) as error:
        raise DataError(f"The data file {path} is not a table: {error}.") from error
