"""Model sheets: a model as a TOML file.

    title = "Moisture of grain against hours in the drying loft"
    [priors]
    start = "normal(18, 3)"
    [likelihood]
    moisture = "normal(start, 1)"
    [derived]
    [columns]
    [fit]
    draws = 2000

Nothing in a sheet is executed: definitions are read by the model language alone.
"""

from __future__ import annotations

import json
import tomllib
from pathlib import Path
from typing import Any

import tomlkit

from millwright.errors import ModelError, StorageError, nearest
from millwright.language.definition import Definition
from millwright.language.tree import Number
from millwright.modelling.specification import Specification, specify
from millwright.storage.place import check_new
from millwright.storage.sheet_schema import fit_properties

__all__ = [
    "fit_settings",
    "read_sheet",
    "sheet_file_text",
    "sheet_text",
    "specification_from",
    "write_new",
]

_TABLES = ("priors", "likelihood", "derived", "columns", "log_density_terms", "labels", "units")
_TEXTS = ("title", "notes")
_KINDS: dict[str | None, Any] = {
    "start": (dict, list),
    "integer": int,
    "number": (int, float),
    "string": str,
    "object": dict,
    None: (str, dict),
}
_WORDS = {
    "start": "a table of unknowns and values, [fit.start], or one for each chain, [[fit.start]]",
    "integer": "a whole number",
    "number": "a number",
    "string": "a text",
    "object": "a table",
    None: "a text or a table",
}
_FIT = {key: setting.get("type") for key, setting in fit_properties({}).items()}
_FIT["start"] = "start"
_LARGEST = 1_000_000


def read_sheet(path: Path) -> tuple[Specification, str]:
    """Read a model sheet.

    Returns
    -------
    The specification and the text of the file.

    Raises
    ------
    StorageError
        If the file cannot be read.
    ModelError, LanguageError
        If it is not a model.
    """
    text = sheet_file_text(path)
    return specification_from(text, path.name), text


def sheet_file_text(path: Path) -> str:
    """Return the text of a sheet's file.

    Raises
    ------
    StorageError
        If the file cannot be read.
    """
    try:
        if path.stat().st_size > _LARGEST:
            raise StorageError(f"{path} is larger than a model sheet can be (1 MB).")
        text = path.read_text(encoding="utf-8")
    except FileNotFoundError:
        raise StorageError(f"There is no model sheet {path}.") from None
    except (OSError, UnicodeDecodeError) as error:
        if isinstance(error, StorageError):
            raise
        raise StorageError(f"The model sheet {path} cannot be read: {error}.") from error
    return text


def specification_from(text: str, name: str) -> Specification:
    """Read a model sheet's text; `name` stands in messages."""
    try:
        content = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise ModelError(f"{name} is not TOML: {error}.") from error
    except RecursionError as error:
        raise ModelError(f"{name} is nested too deeply.") from error
    known = [*_TABLES, "fit", *_TEXTS]
    for key, value in content.items():
        if key not in known:
            raise ModelError(
                f"{name}: there is no part `{key}` in a model sheet.{nearest(key, known)} "
                f"Parts: {', '.join(known)}."
            )
        wanted: type = str if key in _TEXTS else dict
        if not isinstance(value, wanted):
            words = "a text" if key in _TEXTS else "a table"
            raise ModelError(f"{name}: `{key}` must be {words}.")
    tables: dict[str, Any] = {key: content.get(key, {}) for key in _TABLES}
    return specify(
        content.get("title", ""),
        content.get("notes", ""),
        tables["priors"],
        tables["likelihood"],
        tables["derived"],
        tables["columns"],
        tables["log_density_terms"],
        tables["labels"],
        tables["units"],
    )


def fit_settings(text: str, name: str) -> dict[str, Any]:
    """Return the table `[fit]` of a sheet's text: settings of a fit, as `Model.fit` takes them.

    Raises
    ------
    ModelError
        For a setting that is not there, or of another type.
    """
    content: dict[str, Any] = tomllib.loads(text).get("fit", {})
    for key, value in content.items():
        if key not in _FIT:
            raise ModelError(
                f"{name}: there is no setting `{key}` in [fit].{nearest(key, _FIT)} "
                f"Settings: {', '.join(_FIT)}."
            )
        kind = _FIT[key]
        if isinstance(value, bool) or not isinstance(value, _KINDS[kind]):
            raise ModelError(f"{name}: `{key}` in [fit] must be {_WORDS[kind]}, not {value!r}.")
    return content


def sheet_text(specification: Specification) -> str:
    """Return a model as the text of a sheet; reading it gives an equal model."""
    document = tomlkit.document()
    if specification.title:
        document.add("title", tomlkit.item(specification.title))
    if specification.notes:
        document.add("notes", tomlkit.item(specification.notes))
    for name in ("priors", "likelihood", "derived", "log_density_terms"):
        definitions: tuple[Definition, ...] = getattr(specification, name)
        if definitions:
            table = tomlkit.table()
            for definition in definitions:
                table.add(definition.name, _value(definition))
            document.add(name, table)
    for name in ("columns", "labels", "units"):
        entries = getattr(specification, name)
        if entries:
            table = tomlkit.table()
            for key, value in entries:
                table.add(key, _labels_item(value))
            document.add(name, table)
    return tomlkit.dumps(document)


def _labels_item(value: str | tuple[str | int, ...]) -> Any:
    """Return a text or a list of labels as TOML."""
    if isinstance(value, str):
        return tomlkit.item(value)
    text = json.dumps(list(value), ensure_ascii=False)
    # Adding items one by one takes quadratic time; JSON is TOML but for one character.
    if len(value) > 1000 and "\x7f" not in text:
        return tomlkit.array(text)
    return tomlkit.item(list(value))


def _value(definition: Definition) -> Any:
    if isinstance(definition.expression, Number) and not definition.per:
        return tomlkit.item(definition.expression.value)
    return tomlkit.item(definition.text)


def write_new(path: Path, text: str, replace: bool) -> None:
    """Write a text file; an existing file is replaced only if `replace` says so."""
    check_new(path, replace)
    try:
        path.write_text(text, encoding="utf-8")
    except OSError as error:
        raise StorageError(f"{path} cannot be written: {error.strerror}.") from error
