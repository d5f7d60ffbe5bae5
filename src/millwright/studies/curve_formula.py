"""The formula of a curve: a text of the model language, or a function of arrays."""

from __future__ import annotations

import functools
from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np

from millwright.distributions import on_numpy
from millwright.distributions.mathematics import Array, Mathematics
from millwright.errors import ArgumentError, ModelError
from millwright.modelling.binding import Binding
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.foreign import Foreign, foreign_function
from millwright.modelling.labelled import DRAW, Labelled, full
from millwright.models.model import Model

__all__ = ["Formula", "FunctionFormula", "TextFormula", "Values", "brought", "known_function"]

_MOST_ARGUMENTS = 1000

Values = Mapping[str, np.ndarray]


@dataclass(frozen=True, kw_only=True)
class Formula(ABC):
    """A curve as a function of columns and unknowns.

    Attributes
    ----------
    columns
        The columns it is a function of, by the names it has for them.
    unknowns
        The unknowns it uses.
    """

    columns: tuple[str, ...]
    unknowns: tuple[str, ...]

    @property
    @abstractmethod
    def traceable(self) -> bool:
        """Whether it has a gradient."""

    @property
    def here(self) -> bool:
        """Whether it can be computed: a function of a stored study is known by its name alone."""
        return True

    @property
    def at_once(self) -> bool:
        """Whether a black box takes many draws in one call."""
        return False

    @property
    @abstractmethod
    def words(self) -> str:
        """What it is, in words."""

    @property
    @abstractmethod
    def plain(self) -> dict[str, Any]:
        """What it is, as plain values that a folder holds."""

    @abstractmethod
    def values(self, columns: Sequence[np.ndarray], unknowns: Values) -> np.ndarray:
        """Return the curve for each draw.

        Parameters
        ----------
        columns
            Each of shape (rows,).
        unknowns
            Each of shape (draws,), or (draws, rows) where it differs by row.

        Returns
        -------
        Shape (draws, rows).

        Raises
        ------
        ModelError
            If it fails, or gives another shape.
        """

    @abstractmethod
    def once(self, m: Mathematics, columns: Sequence[Array], unknowns: Sequence[Array]) -> Array:
        """Return the curve for one value of each unknown, shape (rows,); traceable if `m` is."""


@dataclass(frozen=True, kw_only=True)
class TextFormula(Formula):
    """A text of the model language."""

    text: str

    @property
    def traceable(self) -> bool:
        return True

    @property
    def words(self) -> str:
        return self.text

    @property
    def plain(self) -> dict[str, Any]:
        return {"text": self.text}

    @cached_property
    def _model(self) -> Model:
        return Model(
            priors=dict.fromkeys(self.unknowns, "normal(0, 1)"),
            likelihood={},
            derived={_CURVE: self.text},
        )

    def _bound(self, rows: int) -> Binding:
        return _bound_to(self, rows)

    def bind(self, rows: int) -> Binding:
        """Return the formula, bound to so many rows of columns."""
        return self._model.bind({name: np.zeros(rows) for name in self.columns})

    def check(self) -> None:
        """Refuse what cannot stand in a curve.

        Raises
        ------
        ModelError, LanguageError
            For what is not known.
        ArgumentError
            For words that take numbers from the data.
        """
        if self._bound(3).program.taken:
            raise ArgumentError(
                f"The formula {self.text!r} takes numbers from the data, such as a mean: write "
                "the numbers, so that the curve is the same at other places."
            )

    def values(self, columns: Sequence[np.ndarray], unknowns: Values) -> np.ndarray:
        rows = len(columns[0])
        draws = max((len(one) for one in unknowns.values()), default=1)
        bound = self._bound(rows)
        axes = bound.program.column_axes[self.columns[0]]
        known = {
            name: Labelled(one, (DRAW, *axes) if one.ndim == 2 else (DRAW,))
            for name, one in unknowns.items()
        }
        with np.errstate(all="ignore"):
            found = self._evaluated(on_numpy, bound, columns, known)
        return np.array(full(found, (DRAW, *axes), (draws, rows)))

    def once(self, m: Mathematics, columns: Sequence[Array], unknowns: Sequence[Array]) -> Array:
        bound = self._bound(columns[0].shape[0])
        axes = bound.program.column_axes[self.columns[0]]
        known = {
            name: Labelled(one, axes if np.ndim(one) else ())
            for name, one in zip(self.unknowns, unknowns, strict=True)
        }
        found = self._evaluated(m, bound, columns, known)
        return found.values + m.zeros(columns[0].shape)

    def _evaluated(
        self,
        m: Mathematics,
        bound: Binding,
        columns: Sequence[Array],
        known: Mapping[str, Labelled],
    ) -> Labelled:
        here: dict[Any, Any] = dict(bound.arguments)
        here |= {("column", n): one for n, one in zip(self.columns, columns, strict=True)}
        return Evaluation(m, bound.program, here, known).get(_CURVE)


_CURVE = "the_curve"


@functools.lru_cache(maxsize=64)
def _bound_to(formula: TextFormula, rows: int) -> Binding:
    return formula.bind(rows)


@dataclass(frozen=True, kw_only=True)
class FunctionFormula(Formula):
    """A function of arrays; unknowns by the names of its arguments.

    Attributes
    ----------
    name
        What it is called.
    function
        Takes the columns, then the unknowns by name; None where only its name is known.
    differentiable
        Whether it can be traced, and has a gradient.
    why
        Why not.
    together
        Whether a function that is no differentiable one takes many draws in one call, unknowns as
        columns of shape (draws, 1).
    why_single
        Why not.
    """

    name: str
    function: Callable[..., Any] | None = field(repr=False)
    differentiable: bool
    why: str = ""
    together: bool = False
    why_single: str = ""

    @property
    def traceable(self) -> bool:
        return self.differentiable

    @property
    def here(self) -> bool:
        return self.function is not None

    @property
    def at_once(self) -> bool:
        return self.together

    @property
    def words(self) -> str:
        return f"the function `{self.name}`"

    @property
    def plain(self) -> dict[str, Any]:
        return {
            "function": self.name,
            "unknowns": list(self.unknowns),
            "differentiable": self.differentiable,
            "why": self.why,
            "together": self.together,
            "why_single": self.why_single,
        }

    @property
    def called(self) -> Callable[..., Any]:
        """The function.

        Raises
        ------
        ModelError
            If it is not here, as in a stored study.
        """
        if self.function is None:
            raise ModelError(_not_here(self.words))
        return self.function

    def values(self, columns: Sequence[np.ndarray], unknowns: Values) -> np.ndarray:
        draws = max((len(one) for one in unknowns.values()), default=1)
        if self.differentiable:
            return self._compiled(draws, columns, unknowns)
        if self.together:
            return self._together(draws, columns, unknowns)
        return self.one_by_one(draws, columns, unknowns)

    def _together(self, draws: int, columns: Sequence[np.ndarray], unknowns: Values) -> np.ndarray:
        wide = {name: unknowns[name] for name in self.unknowns}
        wide = {name: one[:, None] if one.ndim == 1 else one for name, one in wide.items()}
        found = np.asarray(self._result(columns, wide), dtype=float)
        return np.array(np.broadcast_to(found, (draws, len(columns[0]))))

    def _result(self, columns: Sequence[np.ndarray], unknowns: Values) -> Any:
        """Call the function with NumPy arrays, and say where it failed."""
        called = self.called
        try:
            with np.errstate(all="ignore"):
                return called(*columns, **unknowns)
        except ModelError:
            raise
        except Exception as error:
            given = ", ".join(f"{n} = {float(np.mean(one)):.6g}" for n, one in unknowns.items())
            raise ModelError(
                f"The function `{self.name}` failed at {given}: {type(error).__name__}: {error}."
            ) from error

    def agrees(self, columns: Sequence[np.ndarray], unknowns: Values) -> bool:
        """Whether many draws in one call give what each gives by itself."""
        draws = len(next(iter(unknowns.values())))
        one = self.one_by_one(draws, columns, unknowns)
        every = self._together(draws, columns, unknowns)
        return bool(np.allclose(one, every, rtol=1e-9, atol=0, equal_nan=True))

    def one_by_one(
        self, draws: int, columns: Sequence[np.ndarray], unknowns: Values
    ) -> np.ndarray:
        """Return the curve for each draw, by a call for each."""
        rows = [
            self.once(on_numpy, columns, [unknowns[n][at] for n in self.unknowns])
            for at in range(draws)
        ]
        return np.array(rows, dtype=float).reshape(draws, len(columns[0]))

    def _compiled(self, draws: int, columns: Sequence[np.ndarray], unknowns: Values) -> np.ndarray:
        given = [unknowns[name] for name in self.unknowns]
        if draws == 1:
            return np.array(self._one(list(columns), [one[0] for one in given]))[None]
        return np.array(self._several(list(columns), given))

    @cached_property
    def _one(self) -> Callable[..., Any]:
        import jax

        from millwright.distributions import on_jax

        return jax.jit(lambda columns, given: self.once(on_jax, columns, given))

    @cached_property
    def _several(self) -> Callable[..., Any]:
        import jax

        from millwright.distributions import on_jax

        def every(columns: Any, given: Any) -> Any:
            return jax.vmap(lambda now: self.once(on_jax, columns, now))(given)

        return jax.jit(every)

    def once(self, m: Mathematics, columns: Sequence[Array], unknowns: Sequence[Array]) -> Array:
        rows, given = columns[0].shape, dict(zip(self.unknowns, unknowns, strict=True))
        if m is on_numpy:
            found = m.asarray(self._result(columns, given))
        else:
            found = m.asarray(self.called(*columns, **given))
        if found.shape not in ((), rows):
            raise ModelError(
                f"The function `{self.name}` gave an array of shape {found.shape} for "
                f"{rows[0]} rows; it must give one value for each row."
            )
        if m is on_numpy and found.dtype.kind not in "biuf":
            raise ModelError(
                f"The function `{self.name}` gave {found.dtype} values, not real numbers."
            )
        return found + m.zeros(rows)


def _not_here(words: str) -> str:
    return (
        f"This study was made with {words}, which is not known here: `mw.register(...)` it under "
        "that name before the study is loaded."
    )


def known_function(name: str) -> Callable[..., Any] | None:
    """Return the function registered under a name, if it is here."""
    foreign = foreign_function(name)
    return None if foreign is None or foreign.missing else foreign.function


def brought(name: str, formula: Formula) -> Foreign:
    """Return a formula as a function that a model brings along."""
    count = len(formula.columns)

    def traced(*given: Any) -> Any:
        from millwright.distributions import on_jax

        return formula.once(on_jax, given[:count], given[count:])

    def single(*given: Any) -> Any:
        return formula.once(on_numpy, given[:count], given[count:])

    def every(*given: Any) -> Any:
        # Columns come once for each draw, all alike.
        unknowns = dict(zip(formula.unknowns, given[count:], strict=True))
        return formula.values([one[0] for one in given[:count]], unknowns)

    return Foreign(
        name=name,
        function=traced if formula.traceable else every if formula.at_once else single,
        fewest=1,
        most=_MOST_ARGUMENTS,
        black_box=not formula.traceable,
        gives="same",
        vectorised=formula.at_once,
        missing=not formula.here,
    )
