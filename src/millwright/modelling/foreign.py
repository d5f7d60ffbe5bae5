"""Functions of the user's own, known to the model language by a registered name."""

from __future__ import annotations

import inspect
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass, field, replace
from types import MappingProxyType
from typing import Any, Literal

import numpy as np

from millwright.distributions.kernels import KERNELS
from millwright.distributions.mathematics import Array, Mathematics
from millwright.distributions.registry import DISTRIBUTIONS, MODIFIERS
from millwright.errors import ArgumentError, ModelError
from millwright.language.parse import is_writable, normal_name
from millwright.language.symbols import Symbol, called
from millwright.language.vocabulary import FUNCTIONS

__all__ = ["Foreign", "call_foreign", "foreign_function", "lent", "make_known", "register"]

Gives = Literal["same", "number"] | tuple[int] | tuple[int, int]


@dataclass(frozen=True, eq=False, kw_only=True)
class Foreign:
    """A registered function; it compares by identity, so that a new one is never mistaken.

    Attributes
    ----------
    fewest, most
        How many arguments it takes.
    black_box
        Whether it cannot be traced, and so has no gradient.
    gives
        `same`: an array shaped like its arguments together; `number`: one number; or the shape
        of a vector or a matrix.
    vectorised
        Whether a black box takes many draws in one call, as a first axis of its arguments.
    missing
        Whether only its record is known, as in a stored run: what needs it cannot be computed.
    """

    name: str
    function: Callable[..., Any] = field(repr=False)
    fewest: int
    most: int
    black_box: bool
    gives: Gives
    vectorised: bool = False
    missing: bool = False

    @property
    def record(self) -> dict[str, Any]:
        """All but the function itself, as plain values."""
        names = ("name", "fewest", "most", "black_box", "gives", "vectorised")
        plain = {name: getattr(self, name) for name in names}
        return plain | ({"gives": list(self.gives)} if isinstance(self.gives, tuple) else {})

    @classmethod
    def known_as(cls, record: Mapping[str, Any]) -> Foreign:
        """Return the function registered under a recorded name, or what stands for it.

        Raises
        ------
        ValueError
            If the record does not describe a function.
        """
        name, gives = record["name"], record["gives"]
        gives = tuple(gives) if isinstance(gives, list) else gives
        counts = [record["fewest"], record["most"]]
        flags = [record["black_box"], record.get("vectorised", False)]
        if not (
            isinstance(name, str)
            and is_writable(name)
            and all(type(count) is int and count > 0 for count in counts)
            and all(type(flag) is bool for flag in flags)
            and _is_shape(gives)
        ):
            raise ValueError(f"not a function: {dict(record)}")
        known = _REGISTERED.get(name)
        return known or cls(function=_not_here, missing=True, **{**record, "gives": gives})

    @property
    def shape(self) -> tuple[int, ...] | None:
        """Shape of its result; None if it is that of its arguments."""
        if isinstance(self.gives, tuple):
            return self.gives
        return () if self.gives == "number" else None


def _is_shape(gives: Any) -> bool:
    """Whether this says what a function gives."""
    if isinstance(gives, tuple):
        return len(gives) in (1, 2) and all(type(n) is int and n > 0 for n in gives)
    return isinstance(gives, str) and gives in ("same", "number")


def _not_here(*_: Any) -> Any:
    raise ModelError(
        "it is not registered here: register it, or give the model that brings it along"
    )


_REGISTERED: dict[str, Foreign] = {}
_LENT: ContextVar[Mapping[str, Foreign]] = ContextVar(
    "lent functions", default=MappingProxyType({})
)


@contextmanager
def lent(functions: Iterable[Foreign]) -> Iterator[None]:
    """Let definitions name functions of one run, without making them known to other models."""
    token = _LENT.set({**_LENT.get(), **{foreign.name: foreign for foreign in functions}})
    try:
        yield
    finally:
        _LENT.reset(token)


def register(
    name: str,
    function: Callable[..., Any],
    *,
    black_box: bool = False,
    gives: Gives = "same",
) -> Callable[..., Symbol]:
    """Make a function of arrays known by a name, for text and for functions of a model.

    It is called with float64 arrays, one for each argument: numbers have no axis, quantities
    with labels or rows one axis for each label set. Unless it is a black box it must be written
    with `jax.numpy`, so that it can be compiled and differentiated.

    Parameters
    ----------
    name
        Name in the model language. Registering it again replaces the function for models fitted
        from then on.
    function
        Takes positional arguments only.
    black_box
        Declare that it cannot be traced by JAX: a simulator, a table, code in another language.
        Models that use it are sampled without gradients.
    gives
        `same` for a result shaped like the arguments together, `number` for a single number;
        `(n,)` or `(n, n)` for a vector or a matrix of that size, which can be an argument of a
        distribution that takes one, as a list can.

    Returns
    -------
    What stands for the function inside definitions written in Python.

    Raises
    ------
    ArgumentError
        For a name that is taken or cannot be written, or a function whose arguments cannot be
        counted.
    """
    key = normal_name(str(name))
    if not is_writable(key):
        raise ArgumentError(f"`{name}` cannot be written as a name in a model.")
    if key in (*FUNCTIONS, *KERNELS, *DISTRIBUTIONS, *MODIFIERS):
        raise ArgumentError(f"`{name}` is a function of the model language already.")
    if not _is_shape(gives):
        raise ArgumentError(
            "`gives` must be 'same' or 'number', or the shape of a vector or a matrix such as "
            f"(2, 2), not {gives!r}."
        )
    if not callable(function):
        raise ArgumentError(f"`{name}`: {function!r} is not a function.")
    fewest, most = _arguments(key, function)
    _REGISTERED[key] = Foreign(
        name=key,
        function=function,
        fewest=fewest,
        most=most,
        black_box=bool(black_box),
        gives=gives,
    )
    return called(key)


def make_known(foreign: Foreign) -> None:
    """Let definitions name a function that its model brings along, unless the name is taken.

    Only the name: the function itself stays with its model, so that a stored run of another
    model never calls it.
    """
    if foreign.name not in _REGISTERED:
        _REGISTERED[foreign.name] = replace(foreign, function=_not_here, missing=True)


def foreign_function(name: str) -> Foreign | None:
    """Return the function registered under a name or lent for now, if there is one."""
    return _LENT.get().get(name) or _REGISTERED.get(name)


def _arguments(name: str, function: Callable[..., Any]) -> tuple[int, int]:
    try:
        parameters = inspect.signature(function).parameters.values()
    except (TypeError, ValueError) as error:
        raise ArgumentError(
            f"`{name}`: the arguments of {function!r} cannot be counted; wrap it in a Python "
            "function."
        ) from error
    plain = [p for p in parameters if p.kind in (p.POSITIONAL_ONLY, p.POSITIONAL_OR_KEYWORD)]
    needed = [p for p in parameters if p.default is p.empty]
    if len(plain) < len([p for p in needed if p.kind != p.VAR_POSITIONAL]) or not plain:
        raise ArgumentError(f"`{name}`: the function must take positional arguments only.")
    return len([p for p in plain if p.default is p.empty]), len(plain)


def call_foreign(
    foreign: Foreign, m: Mathematics, values: list[Array], drawn: bool, shape: tuple[int, ...]
) -> Array:
    """Call a registered function, once for each draw if its arguments have an axis of draws.

    Parameters
    ----------
    values
        Arguments: without draws, numbers or arrays of `shape`; with draws, with one axis more
        in front, of length 1 where an argument is the same for all.

    Raises
    ------
    ModelError
        If it fails, cannot be traced, or gives another shape than declared.
    """
    wanted = shape if foreign.shape is None else foreign.shape
    if foreign.missing and not drawn:
        # Enough to find axes; values are asked for with draws.
        return m.asarray(np.full(wanted, np.nan))
    try:
        if foreign.vectorised:
            result = _all_at_once(foreign, values, drawn)
        elif not drawn:
            result = m.asarray(foreign.function(*values))
        else:
            result = _for_each_draw(foreign, values)
    except ModelError:
        raise
    except Exception as error:
        raise ModelError(f"the registered function `{foreign.name}` {_why(error)}") from error
    found = result.shape[1:] if drawn else result.shape
    if found != wanted:
        raise ModelError(
            f"the registered function `{foreign.name}` gave an array of shape {found}, not "
            f"{wanted}; declare gives='number' if it gives one number, or the shape of a vector "
            "or a matrix, as in gives=(2, 2)"
        )
    return result


def _why(error: Exception) -> str:
    """Say whether a function failed or could not be traced; JAX is loaded by then if it was."""
    import jax

    kind = type(error).__name__
    if isinstance(error, jax.errors.JAXTypeError | jax.errors.JAXIndexError):
        return (
            f"cannot be traced by JAX ({kind}). Write it with jax.numpy, or register it with "
            "black_box=True to sample without gradients"
        )
    return f"failed ({kind}: {error})"


def _all_at_once(foreign: Foreign, values: list[Array], drawn: bool) -> np.ndarray:
    """Call a vectorised black box; without draws, with one."""
    given = values if drawn else [np.asarray(value)[None] for value in values]
    size = max(len(value) for value in given)
    wide = [
        value if len(value) == size else np.broadcast_to(value, (size, *value.shape[1:]))
        for value in given
    ]
    result = np.asarray(foreign.function(*wide), dtype=float)
    if result.shape[:1] != (size,):
        raise ModelError(
            f"the vectorised function `{foreign.name}` was given {size} points and gave an array "
            f"of shape {result.shape}; it must give one value for each point"
        )
    return result if drawn else result[0]


def _for_each_draw(foreign: Foreign, values: list[Array]) -> np.ndarray:
    size = max(len(value) for value in values)
    wide = [
        value if len(value) == size else np.broadcast_to(value, (size, *np.shape(value)[1:]))
        for value in values
    ]
    if not foreign.black_box:
        import jax

        return np.asarray(jax.vmap(foreign.function)(*wide))
    return np.asarray([foreign.function(*row) for row in zip(*wide, strict=True)], dtype=float)
