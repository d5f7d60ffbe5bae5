"""A set of definitions, checked as far as that is possible without data, in order of use."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from graphlib import CycleError, TopologicalSorter
from typing import Any, Literal

from millwright.distributions.family import Event
from millwright.distributions.registry import FamilyKey
from millwright.errors import LanguageError, ModelError, nearest
from millwright.language.definition import Definition, define
from millwright.language.parse import is_writable, normal_name
from millwright.language.symbols import Symbol
from millwright.language.tree import Name, Node, Number, walk
from millwright.language.vocabulary import RESERVED
from millwright.modelling.arguments import (
    check_computed,
    check_functions,
    distribution_arguments,
    family_of,
)
from millwright.modelling.labelled import twin
from millwright.modelling.units import with_unit
from millwright.wording import either

__all__ = ["Kind", "Part", "Specification", "Written", "reaches", "rests_on_unknowns", "specify"]

Written = str | float | int | Callable[..., Any] | Symbol
Kind = Literal["unknown", "fixed", "derived", "outcome", "term"]


@dataclass(frozen=True, kw_only=True)
class Part:
    """One checked definition.

    Attributes
    ----------
    kind
        `unknown` has a distribution; `fixed` a constant prior; `derived` is computed;
        `outcome` is a data column with a distribution; `term` is added to the log density.
    family
        Key of the distribution (its name, if it is a plain one), or '' for fixed and derived
        quantities.
    arguments
        Arguments of the distribution by name, or one unnamed expression.
    event
        What one value of the distribution is.
    rows_of
        For the missing values of a column, the column.
    """

    name: str
    kind: Kind
    family: FamilyKey
    arguments: tuple[tuple[str, Node], ...]
    per: tuple[str, ...]
    definition: Definition = field(compare=False)
    event: Event = "number"
    rows_of: str = ""

    @property
    def axes(self) -> tuple[str, ...]:
        """Axes of an unknown's values: its label sets, the last one twice for a matrix."""
        return (*self.per, twin(self.per[-1])) if self.event == "matrix" else self.per

    @property
    def improper(self) -> bool:
        """Whether this is an unknown with an improper prior."""
        return self.kind == "unknown" and family_of(self.family, self.arguments).improper

    @property
    def open_start(self) -> bool:
        """Whether this is a series whose first state may be anything."""
        return self.family == "state_space" and "start" not in dict(self.arguments)

    @property
    def expression(self) -> Node:
        """The expression of a fixed or derived quantity."""
        return self.arguments[0][1]


@dataclass(frozen=True, kw_only=True)
class Specification:
    """Everything a model says, before it meets data.

    `parts` holds the definitions in an order in which each uses only those before it, the
    outcomes last.
    """

    title: str
    notes: str
    priors: tuple[Definition, ...]
    likelihood: tuple[Definition, ...]
    derived: tuple[Definition, ...]
    columns: tuple[tuple[str, str | tuple[str, ...]], ...] = ()
    log_density_terms: tuple[Definition, ...] = ()
    labels: tuple[tuple[str, str | tuple[str | int, ...]], ...] = ()
    units: tuple[tuple[str, str], ...] = ()
    parts: tuple[Part, ...] = field(default=(), compare=False)

    def part(self, name: str) -> Part:
        """Return the definition called `name`."""
        return next(part for part in self.parts if part.name == name)

    def with_unit(self, name: str) -> str:
        """Return a name with its unit in brackets, if it has one: `share[wild] (per cent)`."""
        return with_unit(dict(self.units), name)

    @property
    def defined(self) -> tuple[str, ...]:
        """Names of unknowns, fixed and derived quantities."""
        return tuple(part.name for part in self.parts if part.kind not in ("outcome", "term"))


def rests_on_unknowns(node: Node, by_name: Mapping[str, Part]) -> bool:
    """Whether an expression uses an unknown, itself or through derived quantities."""
    for inner in walk(node):
        part = by_name.get(inner.name) if isinstance(inner, Name) else None
        if part is None or part.kind not in ("unknown", "derived"):
            continue
        if part.kind == "unknown" or rests_on_unknowns(part.expression, by_name):
            return True
    return False


def reaches(node: Node, name: str, by_name: Mapping[str, Part]) -> bool:
    """Whether an expression uses a definition, itself or through derived quantities."""
    for inner in walk(node):
        if not isinstance(inner, Name):
            continue
        part = by_name.get(inner.name)
        if inner.name == name:
            return True
        if part is not None and part.kind == "derived" and reaches(part.expression, name, by_name):
            return True
    return False


def specify(
    title: str,
    notes: str,
    priors: Mapping[str, Written | Definition],
    likelihood: Mapping[str, Written | Definition],
    derived: Mapping[str, Written | Definition],
    columns: Mapping[str, str | list[str] | tuple[str, ...]],
    log_density_terms: Mapping[str, Written | Definition] | None = None,
    labels: Mapping[str, str | list[str | int] | tuple[str | int, ...]] | None = None,
    units: Mapping[str, str] | None = None,
) -> Specification:
    """Read and check all definitions of a model.

    Raises
    ------
    LanguageError
        If a definition cannot be read.
    ModelError
        If definitions do not fit together.
    """
    groups: dict[str, Mapping[str, Written | Definition]] = {
        "priors": priors,
        "likelihood": likelihood,
        "derived": derived,
        "log_density_terms": log_density_terms or {},
    }
    for group, items in groups.items():
        _check_mapping(group, items)
    read = {
        group: tuple(define(normal_name(name), value) for name, value in items.items())
        for group, items in groups.items()
    }
    _check_names([d for definitions in read.values() for d in definitions])
    parts = [_prior(definition) for definition in read["priors"]]
    parts += [_derived(definition) for definition in read["derived"]]
    outcomes = [_outcome(definition) for definition in read["likelihood"]]
    extra = [_term(definition) for definition in read["log_density_terms"]]
    _check_uses(parts)
    return Specification(
        title=title,
        notes=notes,
        priors=read["priors"],
        likelihood=read["likelihood"],
        derived=read["derived"],
        columns=_aliases(columns, read),
        log_density_terms=read["log_density_terms"],
        labels=_labels(
            labels or {},
            [d for group in ("priors", "derived", "log_density_terms") for d in read[group]],
        ),
        units=_units(units or {}, [d for definitions in read.values() for d in definitions]),
        parts=(*_ordered(parts), *extra, *outcomes),
    )


def _units(units: object, definitions: Sequence[Definition]) -> tuple[tuple[str, str], ...]:
    """Return the units of quantities and columns; refuse names that the model does not use."""
    if not isinstance(units, Mapping):
        raise ModelError(f"`units` must be a mapping of names to texts, not {units!r}.")
    known = {name for d in definitions for name in (d.name, *d.names, *d.per)}
    found = []
    for given, unit in units.items():
        name = normal_name(given)
        if name not in known:
            raise ModelError(
                f"`units` names `{name}`, which the model does not use.{nearest(name, known)}"
            )
        if not isinstance(unit, str) or not unit.strip() or not unit.isprintable():
            raise ModelError(f"`units`: the unit of `{name}` must be a text, not {unit!r}.")
        found.append((name, unit.strip()))
    return tuple(found)


def _check_mapping(group: str, items: object) -> None:
    if not isinstance(items, Mapping):
        raise ModelError(
            f"`{group}` must be a mapping of names to definitions, not {type(items).__name__}."
        )
    for name in items:
        if not isinstance(name, str):
            raise ModelError(f"`{group}`: the name {name!r} is not text.")


def _check_names(definitions: list[Definition]) -> None:
    seen: set[str] = set()
    for definition in definitions:
        name = definition.name
        if name in RESERVED:
            raise ModelError(f"`{name}` is reserved; choose another name.")
        if not is_writable(name):
            raise ModelError(
                f"`{name}` cannot be written as a name in a model: use letters, digits and "
                "underscores. A data column can be given another name with "
                + either("columns={...}", "[columns] in the sheet")
                + "."
            )
        if name in seen:
            raise ModelError(f"`{name}` is defined twice.")
        seen.add(name)
        check_functions(definition)


def _prior(definition: Definition) -> Part:
    if isinstance(definition.expression, Number) and not definition.per:
        return Part(
            name=definition.name,
            kind="fixed",
            family="",
            arguments=(("", definition.expression),),
            per=(),
            definition=definition,
        )
    family, arguments = distribution_arguments(definition)
    known = family_of(family, arguments)
    if known.whole:
        raise ModelError(
            definition.message(
                "an unknown cannot have a discrete distribution: the sampler "
                "moves through continuous unknowns only. Sum the discrete unknown out of the "
                "likelihood",
                definition.expression,
            )
        )
    if known.event != "number" and not definition.per:
        raise ModelError(
            definition.message(
                f"`{known.name}` is a distribution of a {known.event}, so it needs the label set "
                f"that this runs over: {definition.text} per ...",
                definition.expression,
            )
        )
    part = Part(
        name=definition.name,
        kind="unknown",
        family=family,
        arguments=arguments,
        per=definition.per,
        definition=definition,
        event=known.event,
    )
    if part.open_start:
        raise ModelError(
            definition.message(
                "the first state of an unknown series needs `start` and `start_scale`: only that "
                "of an outcome may be left open",
                definition.expression,
            )
        )
    return part


def _derived(definition: Definition) -> Part:
    check_computed(definition)
    return Part(
        name=definition.name,
        kind="derived",
        family="",
        arguments=(("", definition.expression),),
        per=definition.per,
        definition=definition,
    )


def _term(definition: Definition) -> Part:
    if definition.per:
        raise ModelError(definition.message("`per` belongs to priors; a term is one sum"))
    check_computed(definition)
    return Part(
        name=definition.name,
        kind="term",
        family="",
        arguments=(("", definition.expression),),
        per=(),
        definition=definition,
    )


def _outcome(definition: Definition) -> Part:
    if definition.per:
        raise ModelError(
            definition.message("`per` belongs to priors; an outcome has one value a row")
        )
    family, arguments = distribution_arguments(definition)
    event = family_of(family, arguments).event
    if event == "matrix":
        raise ModelError(definition.message("a matrix cannot be an outcome"))
    return Part(
        name=definition.name,
        kind="outcome",
        family=family,
        arguments=arguments,
        per=(),
        definition=definition,
        event=event,
    )


def _check_uses(parts: list[Part]) -> None:
    if not any(part.kind == "unknown" for part in parts):
        raise ModelError("The model has no unknowns: give at least one prior a distribution.")


def _ordered(parts: list[Part]) -> tuple[Part, ...]:
    """Sort definitions so that each uses only those before it."""
    by_name = {part.name: part for part in parts}
    uses = {
        part.name: [name for name in part.definition.names if name in by_name] for part in parts
    }
    try:
        order = list(TopologicalSorter(uses).static_order())
    except CycleError as error:
        cycle = list(reversed(error.args[1]))
        path = " -> ".join(f"`{name}`" for name in cycle)
        raise ModelError(
            by_name[cycle[0]].definition.message(f"definitions go round in a circle ({path})")
        ) from None
    return tuple(by_name[name] for name in order)


def _labels(
    labels: Mapping[str, str | list[str | int] | tuple[str | int, ...]],
    definitions: list[Definition],
) -> tuple[tuple[str, str | tuple[str | int, ...]], ...]:
    """Check the stated label sets: a text names columns, a list gives the labels."""
    _check_mapping("labels", labels)
    taken = {definition.name for definition in definitions}
    result: list[tuple[str, str | tuple[str | int, ...]]] = []
    for name, value in labels.items():
        if name in taken or name in RESERVED or not is_writable(name):
            raise ModelError(f"`labels`: `{name}` is taken or cannot be written as a name.")
        if isinstance(value, str) and value.strip():
            result.append((normal_name(name), value))
        elif (
            isinstance(value, list | tuple)
            and value
            and all(isinstance(item, str | int) for item in value)
            and len(set(value)) == len(value)
        ):
            kept = (normal_name(v) if isinstance(v, str) else v for v in value)
            result.append((normal_name(name), tuple(kept)))
        else:
            raise ModelError(
                f"`labels`: `{name}` must be a list of different labels, or a text that names "
                "the columns whose labels it holds, such as 'sender, receiver'."
            )
    return tuple(result)


def _aliases(
    columns: Mapping[str, str | list[str] | tuple[str, ...]],
    read: Mapping[str, tuple[Definition, ...]],
) -> tuple[tuple[str, str | tuple[str, ...]], ...]:
    _check_mapping("columns", columns)
    taken = {d.name for group in ("priors", "derived") for d in read[group]}
    result: list[tuple[str, str | tuple[str, ...]]] = []
    for alias, column in columns.items():
        name = normal_name(alias)
        if name in taken or name in RESERVED or not is_writable(name):
            raise ModelError(f"`columns`: `{alias}` is taken or cannot be written as a name.")
        if isinstance(column, str):
            result.append((name, column))
        elif (
            isinstance(column, list | tuple)
            and column
            and all(isinstance(item, str) for item in column)
        ):
            result.append((name, tuple(column)))
        else:
            raise LanguageError(
                f"`columns`: `{alias}` must stand for a column's name or a list of names."
            )
    return tuple(result)
