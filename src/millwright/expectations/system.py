"""Equations with expectations, as text, to the matrices of a linear system.

The system is A E[x(t+1)] + B x(t) + C x(t-1) + D shocks(t) + k = 0, x(t) the variables at time t.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from millwright.errors import ArgumentError, LanguageError
from millwright.expectations.linear_form import BEFORE, EXPECTED, Form, Names, minus, read_form
from millwright.language.definition import Definition
from millwright.language.parse import is_writable, normal_name, read_text
from millwright.language.printing import text_of
from millwright.language.tree import Name, constant, walk

__all__ = ["MATRICES", "System", "read_equations", "read_system"]

MATRICES = ("ahead", "now", "before", "shocks", "constant")
_EQUALS = re.compile(r"(?<![<>=!])=(?!=)")
_TIMES = {1: "ahead", 0: "now", -1: "before"}


@dataclass(frozen=True, kw_only=True)
class System:
    """A linear system with expectations.

    Attributes
    ----------
    variables
        In the order of the matrices: those that the equations name, then helpers for what lies
        more than one time ahead or before.
    named
        How many of them the equations name.
    shocks
        Their names.
    texts
        The equations as they were written, by name.
    entries
        Matrix (one of `MATRICES`), row, column and number of each constant entry.
    asked
        The expressions of unknowns among the entries, each once, as text.
    placed
        Matrix, row, column and place in `asked` of every other entry.
    """

    variables: tuple[str, ...]
    named: int
    shocks: tuple[str, ...]
    texts: tuple[tuple[str, str], ...]
    entries: tuple[tuple[str, int, int, float], ...]
    asked: tuple[str, ...]
    placed: tuple[tuple[str, int, int, int], ...]

    @property
    def size(self) -> int:
        """Number of variables, and of equations."""
        return len(self.variables)

    @property
    def has_constants(self) -> bool:
        """Whether the equations say where the variables rest."""
        every = (*self.entries, *self.placed)
        return any(matrix == "constant" for matrix, *_ in every)

    @property
    def lasting(self) -> tuple[int, ...]:
        """The variables whose values of the time before matter."""
        every = (*self.entries, *self.placed)
        return tuple(sorted({column for matrix, _, column, _ in every if matrix == "before"}))

    @cached_property
    def fixed(self) -> dict[str, np.ndarray]:
        """The matrices with their constant entries; 0 elsewhere."""
        shapes = dict.fromkeys(MATRICES, (self.size, self.size))
        shapes |= {"shocks": (self.size, len(self.shocks)), "constant": (self.size, 1)}
        made = {name: np.zeros(shape) for name, shape in shapes.items()}
        for matrix, row, column, number in self.entries:
            made[matrix][row, column] += number
        return made

    def matrices(
        self, values: Sequence[np.ndarray | float], shape: tuple[int, ...] = ()
    ) -> dict[str, np.ndarray]:
        """Return the matrices at values of the expressions asked for.

        Parameters
        ----------
        values
            One number for each of `asked`, or arrays.
        shape
            Of the arrays.

        Returns
        -------
        By name, (..., rows, columns).
        """
        made = {
            name: np.broadcast_to(one, (*shape, *one.shape)).copy()
            for name, one in self.fixed.items()
        }
        for matrix, row, column, at in self.placed:
            made[matrix][..., row, column] += values[at]
        return made


def read_equations(equations: str | Sequence[str] | Mapping[str, str]) -> dict[str, str]:
    """Return equations by name: of a text each line, `#` beginning a comment.

    Raises
    ------
    ArgumentError
        If there is none, or they are no texts.
    """
    if not isinstance(equations, str | Mapping | Sequence):
        raise ArgumentError(
            f"Equations are a text, one a line, or a list or mapping of texts, not {equations!r}."
        )
    if isinstance(equations, Mapping):
        named = {str(name): str(text) for name, text in equations.items()}
    else:
        lines = equations.splitlines() if isinstance(equations, str) else list(equations)
        texts = [str(line).split("#")[0].strip() for line in lines]
        named = {f"equation {at}": text for at, text in enumerate(filter(None, texts), 1)}
    if not named:
        raise ArgumentError("There is no equation: write one a line, such as `price = -stock`.")
    return named


def read_system(
    equations: Mapping[str, str], unknowns: Sequence[str], shocks: Sequence[str]
) -> System:
    """Read the equations of a system.

    Parameters
    ----------
    equations
        By name, each `left = right`. `expected(x)` is what is expected now of x at the next time,
        `before(x)` its value the time before; every name that is no unknown and no shock is a
        variable.
    unknowns, shocks
        Their names.

    Raises
    ------
    LanguageError
        For an equation that cannot be read, or is not linear.
    ArgumentError
        If there are not as many equations as variables, or a shock or unknown stands in none.
    """
    sides = {name: _sides(name, text) for name, text in equations.items()}
    used = _names_in(sides)
    variables = [one for one in used if one not in unknowns and one not in shocks]
    _check_names(variables, unknowns, shocks, used, len(equations))
    names = Names(variables=tuple(variables), unknowns=tuple(unknowns), shocks=tuple(shocks))
    forms = {
        name: minus(read_form(left, names), read_form(right, names))
        for name, (left, right) in sides.items()
    }
    return _System(names, equations, list(forms.values())).made()


def _sides(name: str, text: str) -> tuple[Definition, Definition]:
    parts = _EQUALS.split(text)
    if len(parts) != 2 or not all(part.strip() for part in parts):
        raise LanguageError(
            f"`{name}`: an equation is written as `left = right`, with one equals sign, not "
            f"{text!r}."
        )
    left, right = (_side(name, part.strip()) for part in parts)
    return left, right


def _side(name: str, text: str) -> Definition:
    expression, per = read_text(text, name)
    if per:
        raise LanguageError(f"`{name}`: `per` has no meaning in an equation: {text!r}.")
    return Definition(name, expression, written=text)


def _names_in(sides: Mapping[str, tuple[Definition, Definition]]) -> list[str]:
    found = (
        node.name
        for pair in sides.values()
        for side in pair
        for node in walk(side.expression)
        if isinstance(node, Name)
    )
    return list(dict.fromkeys(found))


def _check_names(
    variables: Sequence[str],
    unknowns: Sequence[str],
    shocks: Sequence[str],
    used: Sequence[str],
    equations: int,
) -> None:
    for name in (*unknowns, *shocks, *variables):
        if not is_writable(normal_name(name)):
            raise ArgumentError(f"`{name}` cannot be written as a name in an equation.")
        if name in (EXPECTED, BEFORE):
            raise ArgumentError(f"`{name}` is a word of equations: call it something else.")
    both = sorted(set(unknowns) & set(shocks))
    if both:
        raise ArgumentError(f"`{both[0]}` is both an unknown and a shock.")
    for name in shocks:
        if name not in used:
            raise ArgumentError(f"The shock `{name}` stands in no equation.")
    if not shocks:
        raise ArgumentError("Nothing moves the system: name at least one shock.")
    if len(variables) != equations:
        raise ArgumentError(
            f"There are {equations} equations and {len(variables)} variables "
            f"({', '.join(variables)}): every name that is no unknown and no shock is a variable, "
            "and each needs its equation. Is a name written in two ways, or an unknown left out?"
        )


@dataclass(frozen=True)
class _System:
    """Puts the forms of equations together."""

    names: Names
    equations: Mapping[str, str]
    forms: list[Form]

    def made(self) -> System:
        helpers = self._helpers()
        variables = (*self.names.variables, *helpers)
        numbers: list[tuple[str, int, int, float]] = []
        texts: dict[str, int] = {}
        placed: list[tuple[str, int, int, int]] = []
        for row, form in enumerate(self.forms):
            for place, factor in form.items():
                matrix, column = self._entry(place, variables)
                number = constant(factor)
                if number is None:
                    at = texts.setdefault(text_of(factor), len(texts))
                    placed.append((matrix, row, column, at))
                elif number != 0:
                    numbers.append((matrix, row, column, number))
        for row, (_, (name, time)) in enumerate(helpers.items(), len(self.forms)):
            # A helper is the variable one step nearer: h = expected(x), or h = before(x).
            inner = _helper(name, time - np.sign(time)) if abs(time) > 1 else name
            numbers.append(("now", row, row, -1.0))
            numbers.append((_TIMES[int(np.sign(time))], row, variables.index(inner), 1.0))
        return System(
            variables=variables,
            named=len(self.names.variables),
            shocks=self.names.shocks,
            texts=tuple(self.equations.items()),
            entries=tuple(numbers),
            asked=tuple(texts),
            placed=tuple(placed),
        )

    def _helpers(self) -> dict[str, tuple[str, int]]:
        """Return a helper for each time of a variable between now and the farthest but one."""
        found: dict[str, tuple[str, int]] = {}
        for form in self.forms:
            for place in form:
                if place is None or abs(place[1]) < 2:
                    continue
                name, time = place
                sign = int(np.sign(time))
                for step in range(1, abs(time)):
                    found[_helper(name, sign * step)] = (name, sign * step)
        return found

    def _entry(self, place: tuple[str, int] | None, variables: tuple[str, ...]) -> tuple[str, int]:
        if place is None:
            return "constant", 0
        name, time = place
        if name in self.names.shocks:
            return "shocks", self.names.shocks.index(name)
        sign = int(np.sign(time))
        inner = _helper(name, time - sign) if abs(time) > 1 else name
        return _TIMES[sign], variables.index(inner)


def _helper(name: str, time: int) -> str:
    return f"{name}, {abs(time)} {'ahead' if time > 0 else 'before'}"
