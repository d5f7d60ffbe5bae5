"""Arguments of compiled functions, worked out from the data when they are first asked for."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import cached_property
from typing import Any

import numpy as np

from millwright.errors import DataError
from millwright.modelling.tables import Tables, joined

__all__ = ["Data"]


class Data(dict[tuple[str, ...], Any]):
    """Arguments that are worked out from the tables the first time they are asked for."""

    def __init__(
        self,
        tables: Tables,
        labels: Mapping[str, tuple[Any, ...]],
        label_outcomes: frozenset[str],
        fitted: Tables | None = None,
        filled: frozenset[str] = frozenset(),
        passed_over: frozenset[str] = frozenset(),
    ) -> None:
        super().__init__()
        self.passed_over = passed_over
        self.tables = tables
        self.labels = labels
        self.label_outcomes = label_outcomes
        self.filled = filled
        self.fitted = fitted

    @cached_property
    def all_rows(self) -> Tables:
        """The rows with those that labels were taken from; a copy of all that few models need."""
        return joined(self.fitted, self.tables) if self.fitted else self.tables

    def __missing__(self, key: tuple[str, ...]) -> Any:
        makers: dict[str, Callable[..., np.ndarray]] = {
            "column": self.numbers,
            "codes": self.codes,
            "observed": self.observed,
            "partly": self.partly,
            "gaps": self.gaps,
            "reduced": self.reduced,
        }
        self[key] = makers[key[0]](*key[1:])
        return self[key]

    def numbers(self, name: str) -> np.ndarray:
        return self.tables.numbers(name)

    def observed(self, name: str) -> np.ndarray:
        """Return an outcome's values: numbers, or the positions of its labels."""
        if name in self.passed_over:
            return self.tables.numbers(name, gaps=True)
        if name in self.label_outcomes:
            return self.codes(name, name).astype(float)
        return self.partly(name) if name in self.filled else self.numbers(name)

    def gaps(self, name: str) -> np.ndarray:
        """Return the positions of the rows in which a column has no value."""
        return np.flatnonzero(self.tables.column(name).missing()).astype(np.int32)

    def partly(self, name: str) -> np.ndarray:
        """Return a column with one of its values in place of each missing one."""
        values = self.tables.column(name).values
        known = ~np.isnan(values)
        return np.where(known, values, values[known][0] if known.any() else 1.0)

    def codes(self, name: str, label_set: str) -> np.ndarray:
        return self.tables.codes(name, self.labels[label_set], label_set)

    def reduced(self, name: str, *label_sets: str) -> np.ndarray:
        """Return a column as one value per label; it must be constant within each label.

        Of a column of labels, the positions of its labels.
        """
        column = self.all_rows.column(name)
        if column.numeric:
            values = self.all_rows.numbers(name)
        else:
            if name not in self.labels:
                self.all_rows.numbers(name)
            values = self.all_rows.codes(name, self.labels[name], name).astype(float)
        shared = [s for s in label_sets if s not in self.tables.columns]
        if shared:
            raise DataError(
                f"The column `{name}` has one value a row; it cannot be used `per {shared[0]}`, "
                "whose labels are not those of one column."
            )
        shape = tuple(len(self.labels[s]) for s in label_sets)
        index = tuple(self.all_rows.codes(s, self.labels[s], s) for s in label_sets)
        if any(len(codes) != len(values) for codes in index):
            raise DataError(
                f"The column `{name}` is in another table than `{', '.join(label_sets)}`."
            )
        flat = np.ravel_multi_index(index, shape)
        result = np.full(int(np.prod(shape)), np.nan)
        result[flat] = values
        differs = np.flatnonzero(result[flat] != values)
        if differs.size:
            names = [str(self.labels[label_sets[0]][index[0][at]]) for at in differs]
            shown = ", ".join(list(dict.fromkeys(names))[:4])
            raise DataError(
                f"The column `{name}` must have one value for each {', '.join(label_sets)} here, "
                f"but it varies within {shown}."
            )
        if np.isnan(result).any():
            raise DataError(f"The column `{name}` has no value for some {', '.join(label_sets)}.")
        return result.reshape(shape)
