"""Formulas as they are given: texts read, functions tried for a gradient and for many draws."""

from __future__ import annotations

import inspect
import warnings
from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from millwright.distributions.kernels import KERNELS
from millwright.distributions.registry import DISTRIBUTIONS, MODIFIERS
from millwright.errors import ArgumentError, ModelError, nearest
from millwright.language.definition import Definition
from millwright.language.parse import is_writable, normal_name, read_text
from millwright.language.tree import Name, walk
from millwright.language.vocabulary import FUNCTIONS
from millwright.studies.curve_formula import Formula, FunctionFormula, TextFormula, Values
from millwright.wording import setting

__all__ = ["read_formula"]


def read_formula(
    given: Any,
    columns: Sequence[str],
    unknowns: Sequence[str],
    tried: tuple[Sequence[np.ndarray], Values],
) -> Formula:
    """Return a formula, and find out whether it has a gradient.

    Parameters
    ----------
    given
        A text, or a function.
    columns
        Names of the columns it is a function of.
    unknowns
        Names of all unknowns.
    tried
        Columns, and draws of all unknowns, on which a function is tried.

    Raises
    ------
    ArgumentError
        For what is neither, or a function whose arguments are other than columns and unknowns.
    LanguageError, ModelError
        For a text that cannot be read; a function that fails or gives another shape.
    """
    if isinstance(given, str):
        return _text(given, columns, unknowns)
    if not callable(given):
        raise ArgumentError(
            f"A curve is a function of arrays or a text such as 'base + slope * flow', not "
            f"{given!r}."
        )
    used = _arguments(given, len(columns), unknowns)
    made = FunctionFormula(
        columns=tuple(columns),
        unknowns=used,
        name=_function_name(given),
        function=given,
        differentiable=False,
    )
    x, draws = tried
    found = made.values(x, {name: draws[name] for name in used})
    if not np.isfinite(found).any():
        raise ModelError(
            f"The function `{made.name}` gave no finite value at any of {len(found)} draws of "
            "the priors: do its arguments stand in the order columns, unknowns, and do the priors "
            "suit it?"
        )
    why = _why_black_box(made, x, draws, found)
    if not why:
        return replace(made, differentiable=True)
    together = replace(made, why=why, together=True)
    single = _why_single(together, x, draws, found)
    return replace(made, why=why, why_single=single) if single else together


def _why_single(
    together: FunctionFormula, x: Sequence[np.ndarray], draws: Values, found: np.ndarray
) -> str:
    """Say why a function has to be called for each draw; nothing where it takes many at once."""
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            wide = together.values(x, {name: draws[name] for name in together.unknowns})
    except (ModelError, TypeError, ValueError) as error:
        cause = error.__cause__ or error
        return f"many in one call fail ({type(cause).__name__})"
    if not np.allclose(wide, found, rtol=1e-12, atol=0, equal_nan=True):
        return "many in one call give other values"
    return ""


def _text(text: str, columns: Sequence[str], unknowns: Sequence[str]) -> TextFormula:
    node, per = read_text(text.strip(), "the curve")
    definition = Definition("the curve", node, per, written=text)
    named = {one.name for one in walk(node) if isinstance(one, Name)}
    known = (*columns, *unknowns)
    for name in sorted(named):
        if name not in known:
            problem = f"`{name}` is neither a column of x nor an unknown"
            raise ModelError(
                f"{definition.message(problem)}{nearest(name, known)} Known: {', '.join(known)}."
            )
    made = TextFormula(
        columns=tuple(columns),
        unknowns=tuple(name for name in unknowns if name in named),
        text=text.strip(),
    )
    made.check()
    return made


def _arguments(
    function: Callable[..., Any], columns: int, unknowns: Sequence[str]
) -> tuple[str, ...]:
    """Return the unknowns among the arguments of a function."""
    try:
        parameters = list(inspect.signature(function).parameters.values())
    except (TypeError, ValueError) as error:
        raise ArgumentError(
            f"The arguments of {function!r} are not known; wrap it in a Python function."
        ) from error
    if any(one.kind in (one.VAR_POSITIONAL, one.VAR_KEYWORD) for one in parameters):
        raise ArgumentError(
            "The function of a curve names each unknown as an argument, without * and **, so that "
            "none is mistaken for another."
        )
    told = "1 column" if columns == 1 else f"{columns} columns"
    if len(parameters) < columns or any(p.kind == p.KEYWORD_ONLY for p in parameters[:columns]):
        raise ArgumentError(f"The function of the curve takes {told} first, then the unknowns.")
    found = []
    for one in parameters[columns:]:
        if one.kind == one.POSITIONAL_ONLY:
            raise ArgumentError(
                f"The argument `{one.name}` of the function cannot be given by name: leave out "
                "the / among its arguments."
            )
        if one.name in unknowns:
            found.append(one.name)
        elif one.default is one.empty:
            raise ArgumentError(
                f"The function's argument `{one.name}` is not among {setting('unknowns')}."
                f"{nearest(one.name, unknowns)} After {told} its arguments are called like the "
                f"unknowns: {', '.join(unknowns)}."
            )
    return tuple(found)


def _function_name(function: Callable[..., Any]) -> str:
    name = normal_name(str(getattr(function, "__name__", "")))
    taken = (*FUNCTIONS, *KERNELS, *DISTRIBUTIONS, *MODIFIERS)
    if is_writable(name) and name not in taken:
        return name
    return "curve_function"


def _why_black_box(
    made: FunctionFormula, x: Sequence[np.ndarray], draws: Values, found: np.ndarray
) -> str:
    """Say why a function has no gradient that can be used; nothing where it has one."""
    import jax

    from millwright.distributions import on_jax

    def each(columns: Any, given: Any) -> Any:
        value, back = jax.vjp(lambda now: made.once(on_jax, columns, now), given)
        return value, back(jax.numpy.ones_like(value))[0]

    given = [draws[name] for name in made.unknowns]
    try:
        # Columns are traced too, as they are where the curve is sampled.
        values, slopes = jax.jit(jax.vmap(each, in_axes=(None, 0)))(list(x), given)
    except Exception as error:  # Whatever it is, the function cannot be traced.
        return f"JAX cannot trace it ({type(error).__name__})"
    finite = np.isfinite(found).all(axis=1)
    if not np.allclose(np.asarray(values)[finite], found[finite], rtol=1e-8, atol=1e-12):
        return "traced by JAX it gives other values"
    if not all(np.isfinite(np.asarray(one)[finite]).all() for one in slopes):
        return "its gradient is not finite everywhere that its value is"
    return ""
