"""Candidates of a regression: their columns, terms, and what binds them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np
import pandas as pd

from millwright.checks import check_list
from millwright.errors import ArgumentError, DataError, nearest
from millwright.studies.design import Design, ReadFormula, design_of, read_formula
from millwright.studies.reading import complete_rows, find_column, numbers_in, quoted, table_of
from millwright.subsets.state import Columns
from millwright.wording import setting

__all__ = ["Candidates", "candidate_formula", "candidates_of", "term_numbers"]

_SAME = 1e-9
_NAMED = 8


@dataclass(frozen=True, kw_only=True)
class Candidates:
    """The outcome and the columns that may explain it.

    Attributes
    ----------
    frame
        Complete rows of the outcome and the columns that the formula uses.
    outcome
        The column of the outcome.
    formula
        Of all candidates, one-sided.
    design
        Columns that the formula makes.
    terms
        Names of the terms, in the order of their columns.
    same
        Columns that others explain wholly.
    """

    frame: pd.DataFrame = field(repr=False)
    outcome: str
    formula: str
    design: Design = field(repr=False)
    terms: tuple[str, ...]
    same: tuple[str, ...] = ()
    remarks: tuple[str, ...] = ()

    @property
    def rows(self) -> int:
        """Number of rows."""
        return len(self.frame)

    @property
    def names(self) -> tuple[str, ...]:
        """Names of the columns, term by term."""
        return tuple(name for term in self.terms for name in self.columns_of[term])

    @cached_property
    def columns_of(self) -> dict[str, tuple[str, ...]]:
        """Columns of each term."""
        return {term.replace("`", ""): columns for term, columns in self.design.terms.items()}

    @cached_property
    def first(self) -> np.ndarray:
        """First column of each term, and the number of all columns."""
        sizes = [len(self.columns_of[term]) for term in self.terms]
        return np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64)

    @cached_property
    def _order(self) -> np.ndarray:
        return np.array([self.design.names.index(name) for name in self.names])

    @cached_property
    def middle(self) -> np.ndarray:
        """Means of the columns."""
        return self.design.middle[self._order]

    @cached_property
    def length(self) -> np.ndarray:
        """Roots of the sums of squares of the columns around their means."""
        return self.design.spread[self._order] * np.sqrt(self.rows - 1)

    @cached_property
    def values(self) -> np.ndarray:
        """The columns, centred and of length 1, (rows, columns)."""
        return (self.design.values[:, self._order] - self.middle) / self.length

    @cached_property
    def readings(self) -> np.ndarray:
        """The outcome."""
        return self.frame[self.outcome].to_numpy(float)

    @property
    def outcome_length(self) -> float:
        """Root of the sum of squares of the outcome around its mean."""
        return float(np.sqrt(np.sum((self.readings - self.readings.mean()) ** 2)))

    def new_rows(self, frame: pd.DataFrame) -> np.ndarray:
        """Return the columns of new rows, centred and scaled as those of the data."""
        return (self.design.rows(frame)[:, self._order] - self.middle) / self.length

    def cross_products(self, most: int) -> Columns:
        """Return correlations of the columns, for subsets of up to `most`."""
        outcome = (self.readings - self.readings.mean()) / self.outcome_length
        return Columns(
            np.ascontiguousarray(self.values.T @ self.values), self.values.T @ outcome, most
        )

    @cached_property
    def _factors(self) -> dict[str, tuple[str, ...]]:
        """Factors of each term, as the formula writes them."""
        found = {}
        for term in self.design.spec.term_indices:
            found[str(term).replace("`", "")] = tuple(str(one.expr) for one in term.factors)
        return found

    @cached_property
    def written(self) -> dict[str, str]:
        """Each term as a formula writes it."""
        return {
            term: ":".join(
                quoted(one) if one in self.frame else one for one in self._factors[term]
            )
            for term in self.terms
        }

    @cached_property
    def parents(self) -> dict[str, tuple[str, ...]]:
        """Terms that each interaction needs: those of some of its factors."""
        parts = {term: frozenset(self._factors[term]) for term in self.terms}
        return {
            term: tuple(other for other in self.terms if parts[other] < parts[term])
            for term in self.terms
        }


def candidates_of(
    data: Any, outcome: Any, candidates: Sequence[str] | str | None, missing: str
) -> Candidates:
    """Read outcome and candidates.

    Parameters
    ----------
    candidates
        Columns; or a formula such as `~ a + b + a:b`; by default every other column.

    Raises
    ------
    ArgumentError
        For columns that are not there, or no candidate.
    DataError
        For gaps, columns that do not vary, too few rows.
    """
    frame = table_of(data)
    name = find_column(frame, outcome, "outcome")
    formula = candidate_formula(frame, name, candidates)
    text = formula.text
    every = {name: numbers_in(frame, name, "outcome")}
    for column in formula.columns:
        every[find_column(frame, column, "candidates")] = frame[str(column)]
    table = pd.DataFrame(every)
    table, remarks = complete_rows(table, missing)
    if len(table) < 4:
        raise DataError(
            f"There are {len(table)} complete rows: four are the least that tell anything."
        )
    if table[name].nunique() == 1:
        raise DataError(f"The outcome `{name}` is the same in all rows: nothing to explain.")
    design = design_of(table, formula)
    if not design.intercept or not design.names:
        raise ArgumentError("The formula of candidates keeps its intercept, and names a column.")
    made = Candidates(
        frame=table,
        outcome=name,
        formula=text,
        design=design,
        terms=tuple(term.replace("`", "") for term in design.terms),
        remarks=remarks,
    )
    return _with_remarks(made)


def candidate_formula(
    frame: pd.DataFrame,
    outcome: str,
    candidates: Sequence[str] | str | None,
    leave_out: Sequence[str] = (),
) -> ReadFormula:
    """Return the one-sided formula of candidates.

    Parameters
    ----------
    leave_out
        Columns that are no candidates where none are named.

    Raises
    ------
    ArgumentError
        For columns that are not there, named twice, the outcome, or no candidate.
    """
    if isinstance(candidates, str) and "~" in candidates:
        formula = read_formula(candidates, one_sided=True)
    else:
        chosen = None if candidates is None else check_list("candidates", candidates)
        if chosen is None:
            chosen = [str(c) for c in frame.columns if str(c) not in (outcome, *leave_out)]
        found = [find_column(frame, column, "candidates") for column in chosen]
        if len(set(found)) < len(found):
            twice = next(column for column in found if found.count(column) > 1)
            raise ArgumentError(f"`{twice}` is named twice among the candidates.")
        if not found:
            raise ArgumentError("There is no candidate: name at least one column.")
        text = "~ " + " + ".join(map(quoted, found))
        # It is made of names that are columns, however many they are.
        formula = read_formula(text, one_sided=True, longest=len(text))
    if outcome in formula.columns:
        raise ArgumentError(f"`{outcome}` is the outcome; leave it out of the candidates.")
    return formula


def _with_remarks(made: Candidates) -> Candidates:
    """Add what is to be known of the columns: those that say what others say."""
    same = _said_by_others(made)
    if not same:
        return made
    shown = ", ".join(f"`{name}`" for name in same[:_NAMED])
    more = f" and {len(same) - _NAMED} more" * (len(same) > _NAMED)
    remark = (
        f"Said by other candidates together: {shown}{more}. Models that hold all of these are "
        "left out: their columns cannot be told apart."
    )
    return replace(made, same=tuple(same), remarks=(*made.remarks, remark))


def _said_by_others(made: Candidates) -> list[str]:
    """Return columns that others explain wholly, where rows are enough to tell."""
    values = made.values
    if values.shape[1] >= values.shape[0] - 1:
        return []
    _, sizes, turned = np.linalg.svd(values, full_matrices=False)
    null = turned[sizes < _SAME * sizes[0] * len(sizes)]
    if not len(null):
        return []
    involved = np.abs(null).max(axis=0) > 1e-6
    return [name for name, one in zip(made.names, involved, strict=True) if one]


def term_numbers(made: Candidates, names: Sequence[str], what: str) -> list[int]:
    """Return the numbers of terms.

    Raises
    ------
    ArgumentError
        For a term that is not there.
    """
    found = []
    for name in names:
        if name not in made.terms:
            raise ArgumentError(
                f"{setting(what)} names `{name}`, which is no candidate."
                f"{nearest(str(name), made.terms)} Candidates: {', '.join(made.terms[:30])}."
            )
        found.append(made.terms.index(name))
    return found
