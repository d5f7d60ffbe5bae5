"""From a formula and a table to the columns of a regression.

Formulas are in the notation of Wilkinson and Rogers (1973) and are read by formulaic. What a
formula may call is checked first: names of columns, numbers, arithmetic and the transformations
listed here, so that a formula from a stranger runs nothing.
"""

from __future__ import annotations

import ast
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pandas as pd
from formulaic import Formula, ModelSpec
from formulaic.errors import FormulaicError
from formulaic.parser.types import Factor, Term

from millwright.errors import ArgumentError, DataError, nearest
from millwright.studies.formula_parsing import parsed_formula
from millwright.studies.reading import label_text

__all__ = ["Design", "ReadFormula", "design_of", "read_formula"]

_TRANSFORMATIONS = frozenset(
    {
        *("C", "I", "poly", "bs", "cr", "cc", "center", "scale", "standardize"),
        *("log", "log10", "log2", "exp", "Treatment", "Sum", "Helmert", "Poly", "Diff"),
    }
)
_ALLOWED = (
    *(ast.Expression, ast.Call, ast.Name, ast.Load, ast.Constant, ast.keyword),
    *(ast.BinOp, ast.UnaryOp, ast.Add, ast.Sub, ast.Mult, ast.Div, ast.Pow, ast.USub, ast.UAdd),
)
LONGEST = 2000


@dataclass(frozen=True, kw_only=True)
class ReadFormula:
    """A formula whose pieces are known to be harmless.

    Attributes
    ----------
    outcome
        The column on the left; empty for a one-sided formula.
    right
        The right side.
    columns
        The columns that the right side uses.
    factors
        Those of them that are named as factors by C(...).
    """

    text: str
    outcome: str
    right: Any = field(repr=False)
    columns: tuple[str, ...]
    factors: tuple[str, ...]


def read_formula(text: Any, one_sided: bool = False, longest: int = LONGEST) -> ReadFormula:
    """Read a formula, and refuse what would run code.

    Raises
    ------
    ArgumentError
        For what is no formula, or calls something else than the transformations allowed.
    """
    if not isinstance(text, str) or not text.strip():
        raise ArgumentError(f"A formula is a text such as 'moisture ~ hours', not {text!r}.")
    if len(text) > longest:
        raise ArgumentError(f"The formula has {len(text)} characters; at most {longest} are read.")
    parsed = parsed_formula(text)
    left = getattr(parsed, "lhs", None)
    right = getattr(parsed, "rhs", parsed)
    if one_sided:
        if left is not None:
            raise ArgumentError(f"{text!r} has a left side; write it as '~ loft'.")
        outcome = ""
    else:
        outcome = _outcome(left, text)
    try:
        terms: list[Term] = list(right)
        factors = [factor for term in terms for factor in term.factors]
    except (TypeError, AttributeError) as error:
        raise ArgumentError(f"The formula {text!r} has more than one part.") from error
    used: dict[str, None] = {}
    named: dict[str, None] = {}
    for factor in factors:
        for name, as_factor in _columns(factor, text):
            used[name] = None
            if as_factor:
                named[name] = None
    return ReadFormula(
        text=text, outcome=outcome, right=right, columns=tuple(used), factors=tuple(named)
    )


def _outcome(left: Any, text: str) -> str:
    terms = [] if left is None else list(left)
    if len(terms) != 1 or len(terms[0].factors) != 1:
        raise ArgumentError(f"{text!r} needs one outcome on the left, as in 'moisture ~ hours'.")
    factor = terms[0].factors[0]
    if factor.eval_method is not Factor.EvalMethod.LOOKUP:
        raise ArgumentError(
            f"The outcome in {text!r} is to be a column as it is; transform it in the data first, "
            "or choose a family such as lognormal."
        )
    return str(factor.expr)


def _columns(factor: Factor, text: str) -> list[tuple[str, bool]]:
    """Return the columns that a factor uses, and whether it makes a factor of them."""
    if factor.eval_method is Factor.EvalMethod.LITERAL:
        return []
    if factor.eval_method is Factor.EvalMethod.LOOKUP:
        return [(str(factor.expr), False)]
    # Backticks name columns that Python cannot write; as names of our own while it is looked at.
    pieces = str(factor.expr).split("`")
    quoted = {f"quoted_{at}": name for at, name in enumerate(pieces[1::2])}
    plain = "".join(
        piece if at % 2 == 0 else f"quoted_{at // 2}" for at, piece in enumerate(pieces)
    )
    try:
        tree = ast.parse(plain, mode="eval")
    except SyntaxError as error:
        raise ArgumentError(f"`{factor.expr}` in {text!r} cannot be read.") from error
    called = set()
    for node in ast.walk(tree):
        if not isinstance(node, _ALLOWED):
            raise ArgumentError(
                f"`{factor.expr}` in {text!r} is refused: a formula holds columns, numbers, "
                f"arithmetic and the calls {', '.join(sorted(_TRANSFORMATIONS))}."
            )
        if isinstance(node, ast.Call):
            if not isinstance(node.func, ast.Name) or node.func.id not in _TRANSFORMATIONS:
                raise ArgumentError(
                    f"`{factor.expr}` in {text!r} calls what a formula may not call. Known: "
                    f"{', '.join(sorted(_TRANSFORMATIONS))}."
                )
            called.add(id(node.func))
    names = [
        node.id for node in ast.walk(tree) if isinstance(node, ast.Name) and id(node) not in called
    ]
    contrasts = {"Treatment", "Sum", "Helmert", "Poly", "Diff"}
    as_factor = isinstance(tree.body, ast.Call) and getattr(tree.body.func, "id", "") == "C"
    return [(quoted.get(name, name), as_factor) for name in names if name not in contrasts]


@dataclass(frozen=True, kw_only=True)
class Design:
    """The columns of a regression.

    Attributes
    ----------
    names
        The columns without the intercept, as the formula makes them.
    values
        Shape (rows, columns), on the scale of the data.
    intercept
        Whether there is one.
    middle, spread
        Mean and sd of each column; the mean is 0 without an intercept, since columns must not be
        shifted then.
    terms
        The columns of each term.
    levels
        Labels of each column of text, in order; the first is the reference.
    """

    formula: ReadFormula
    names: tuple[str, ...]
    values: np.ndarray = field(repr=False)
    intercept: bool
    middle: np.ndarray = field(repr=False)
    spread: np.ndarray = field(repr=False)
    terms: Mapping[str, tuple[str, ...]]
    levels: Mapping[str, tuple[str, ...]]
    spec: ModelSpec = field(repr=False)

    @property
    def standardised(self) -> np.ndarray:
        """The columns, shifted and scaled."""
        return (self.values - self.middle) / self.spread

    def labels_of(self, name: str) -> tuple[str, str] | None:
        """Return the label that a column stands for and the reference, or None for others."""
        for column, (reference, *others) in self.levels.items():
            for factor in (column, f"C({column})", f"C(`{column}`)"):
                for label in others:
                    if name == f"{factor}[T.{label}]":
                        return label, reference
        return None

    def rows(self, frame: pd.DataFrame) -> np.ndarray:
        """Return the columns of new rows, on the scale of the data.

        Raises
        ------
        DataError
            For columns or labels that are not there, or gaps.
        """
        table = prepared(frame, self.formula, self.levels)
        try:
            made = self.spec.get_model_matrix(table)
        except FormulaicError as error:
            raise DataError(f"The new rows cannot be put into the formula: {error}") from error
        found = pd.DataFrame(made)
        missing = [name for name in self.names if name not in found.columns]
        if missing or len(found) != len(frame):
            raise DataError("The new rows do not make the columns of the fitted formula.")
        return found[list(self.names)].to_numpy(float)


def design_of(frame: pd.DataFrame, formula: ReadFormula) -> Design:
    """Return the columns that a formula makes of a table without gaps.

    Raises
    ------
    DataError
        For factors with one label, columns that do not vary, or values that are not finite.
    """
    levels = levels_of(frame, formula)
    table = prepared(frame, formula, levels)
    try:
        made = Formula(formula.right).get_model_matrix(table, context={})
    except FormulaicError as error:
        raise DataError(f"The formula {formula.text!r} does not fit the data: {error}") from error
    spec = made.model_spec
    every = pd.DataFrame(made)
    intercept = "Intercept" in every.columns
    names = tuple(name for name in map(str, every.columns) if name != "Intercept")
    values = every[list(names)].to_numpy(float)
    if not np.isfinite(values).all():
        at = int(np.flatnonzero(~np.isfinite(values).all(axis=0))[0])
        raise DataError(f"`{names[at]}` is not finite in some rows (a logarithm of zero?).")
    if values.shape[0] != len(frame):
        raise DataError("The formula loses rows; fill or drop gaps first.")
    spread = values.std(axis=0, ddof=1) if len(frame) > 1 else np.zeros(len(names))
    still = [n for n, s, v in zip(names, spread, values.T, strict=True) if s <= _still(v)]
    if still and intercept:
        raise DataError(
            f"`{still[0]}` is the same in all rows, which the intercept is already: leave it out."
        )
    middle = values.mean(axis=0) if intercept else np.zeros(len(names))
    if not intercept:
        spread = np.sqrt((values**2).mean(axis=0))
        if (spread == 0).any():
            raise DataError(f"`{names[int(np.argmin(spread))]}` is 0 in all rows: leave it out.")
    terms = {
        str(term): tuple(str(every.columns[at]) for at in places)
        for term, places in spec.term_indices.items()
        if str(term) != "1"
    }
    return Design(
        formula=formula,
        names=names,
        values=values,
        intercept=intercept,
        middle=middle,
        spread=spread,
        terms=terms,
        levels=levels,
        spec=spec,
    )


def _still(values: np.ndarray) -> float:
    return float(1e-12 * max(1.0, np.abs(values).max(initial=0.0)))


def levels_of(frame: pd.DataFrame, formula: ReadFormula) -> dict[str, tuple[str, ...]]:
    """Return the labels of the columns of text, and of those that C(...) makes factors.

    Raises
    ------
    ArgumentError
        For a column that is not there.
    DataError
        For a single label.
    """
    found = {}
    for name in formula.columns:
        if name not in frame.columns:
            raise ArgumentError(
                f"There is no column `{name}` for the formula {formula.text!r}."
                f"{nearest(name, frame.columns)} Columns: {', '.join(map(str, frame.columns))}."
            )
        column = frame[name]
        numeric = pd.api.types.is_numeric_dtype(column)
        if numeric and name not in formula.factors:
            continue
        if isinstance(column.dtype, pd.CategoricalDtype):
            there = set(map(label_text, column))
            labels = tuple(t for t in map(label_text, column.cat.categories) if t in there)
        elif numeric:
            labels = tuple(dict.fromkeys(label_text(value) for value in sorted(column)))
        else:
            labels = tuple(sorted(set(map(label_text, column))))
        if len(labels) < 2:
            raise DataError(
                f"The factor `{name}` has one label, `{labels[0]}`: it explains nothing. Leave it "
                "out."
            )
        found[name] = labels
    return found


def prepared(
    frame: pd.DataFrame, formula: ReadFormula, levels: Mapping[str, Iterable[str]]
) -> pd.DataFrame:
    """Return the columns of a formula, factors with their known labels.

    Raises
    ------
    DataError
        For labels that are not known, or numbers that are none.
    """
    columns: dict[str, Any] = {}
    for name in formula.columns:
        if name not in frame.columns:
            raise DataError(f"The rows lack the column `{name}`.")
        column = frame[name]
        if column.isna().any():
            raise DataError(f"`{name}` is missing in some rows.")
        if name in levels:
            known = list(levels[name])
            texts = [label_text(value) for value in column]
            new = sorted(set(texts) - set(known))
            if new:
                raise DataError(
                    f"`{name}` has {'labels' if len(new) > 1 else 'the label'} "
                    f"{', '.join(new[:5])}, which the fit has not seen.{nearest(new[0], known)} "
                    f"Known: {', '.join(known)}."
                )
            columns[name] = pd.Categorical(texts, categories=known)
        elif pd.api.types.is_numeric_dtype(column):
            columns[name] = column.to_numpy(float)
        else:
            raise DataError(f"`{name}` was a column of numbers in the fit, and is text here.")
    return pd.DataFrame(columns, index=frame.index)
