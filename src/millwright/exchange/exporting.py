"""Draws, tables and whole runs as files that other programs read."""

from __future__ import annotations

import zipfile
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from millwright.checks import check_path
from millwright.errors import ArgumentError, StorageError
from millwright.posterior.posterior import Posterior
from millwright.storage.own_files import refuse_links
from millwright.storage.place import check_new, run_in
from millwright.storage.run import check_is_run

__all__ = ["export_draws", "export_run", "export_table"]


def export_draws(posterior: Posterior, path: str | Path, replace: bool = False) -> None:
    """Write all draws of unknown and derived quantities, one row a draw.

    `.csv`, `.parquet`, `.json` (records) or `.nc` (NetCDF, one flat data set with a dimension
    `row` and variables `chain`, `iteration` and one a number), by the ending of `path`.

    Parameters
    ----------
    posterior
        The fit.
    path
        The file to write.
    replace
        Whether to overwrite a file that is there.

    Raises
    ------
    ArgumentError
        For another ending.
    StorageError
        If the file exists and `replace` is not set, or cannot be written.
    """
    place = _checked(path, replace, _DRAWS)
    _guarded(place, lambda: _DRAWS[place.suffix.lower()](posterior.to_dataframe(), place))


def export_table(posterior: Posterior, path: str | Path, replace: bool = False) -> None:
    """Write the posterior table: `.csv` and `.xlsx` with all digits, `.md`, `.tex` and `.html`
    with those that the draws support, by the ending of `path`.

    Parameters
    ----------
    posterior
        The fit.
    path
        The file to write.
    replace
        Whether to overwrite a file that is there.

    Raises
    ------
    ArgumentError
        For another ending.
    StorageError
        If the file exists and `replace` is not set, or cannot be written.
    """
    place = _checked(path, replace, (*_FORMS, ".xlsx"))
    ending = place.suffix.lower()
    if ending == ".xlsx":
        _guarded(place, lambda: posterior.table().to_excel(place))
    else:
        form: Any = _FORMS[ending]
        text = posterior.summary(form=form)
        _guarded(place, lambda: place.write_text(text, encoding="utf-8"))


def export_run(run: str | Path, path: str | Path, replace: bool = False) -> None:
    """Pack a stored run into one zip file, which unpacked anywhere loads again.

    Parameters
    ----------
    run
        The folder of the run.
    path
        The zip file to write.
    replace
        Whether to overwrite a file that is there.

    Raises
    ------
    StorageError
        If `run` is not a stored run, the file exists and `replace` is not set, or cannot be
        written.
    """
    folder = run_in(check_path("run", run))
    check_is_run(folder)
    refuse_links(folder)
    place = _checked(path, replace, (".zip",))

    def pack() -> None:
        with zipfile.ZipFile(place, "w", zipfile.ZIP_DEFLATED) as packed:
            for file in sorted(folder.rglob("*")):
                if file.is_file() and file.name != "lock":
                    packed.write(file, Path(folder.name) / file.relative_to(folder))

    _guarded(place, pack)


def _to_netcdf(frame: Any, place: Path) -> None:
    frame.rename_axis("row").to_xarray().to_netcdf(place, engine="scipy")


_DRAWS: Mapping[str, Callable[[Any, Path], None]] = {
    ".csv": lambda frame, place: frame.to_csv(place, index=False),
    ".parquet": lambda frame, place: frame.to_parquet(place, index=False),
    ".json": lambda frame, place: frame.to_json(place, orient="records"),
    ".nc": _to_netcdf,
}
_FORMS = {".csv": "csv", ".md": "markdown", ".tex": "latex", ".html": "html"}


def _checked(path: str | Path, replace: bool, endings: Any) -> Path:
    place = check_path("path", path)
    if place.suffix.lower() not in endings:
        raise ArgumentError(f"{place} needs one of the endings {', '.join(endings)}.")
    check_new(place, replace)
    return place


def _guarded(place: Path, write: Callable[[], Any]) -> None:
    try:
        write()
    except OSError as error:
        raise StorageError(f"{place} cannot be written: {error.strerror or error}.") from error
