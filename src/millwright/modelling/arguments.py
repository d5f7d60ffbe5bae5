"""The arguments of distribution and function calls: which are known, given, and missing."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from millwright.distributions.family import DOMAIN_WORDS, Distribution, Family
from millwright.distributions.kernels import KERNELS
from millwright.distributions.mixtures import MixtureOverLabels
from millwright.distributions.modified import Modified
from millwright.distributions.ordered import Ordered
from millwright.distributions.recording import Censored, Rounded
from millwright.distributions.registry import (
    DISTRIBUTIONS,
    MODIFIERS,
    VARIANTS,
    FamilyKey,
    family_for,
)
from millwright.distributions.selected import Selected
from millwright.errors import ModelError, nearest
from millwright.language.definition import Definition
from millwright.language.tree import Call, Node, Number, walk
from millwright.language.vocabulary import FUNCTIONS
from millwright.modelling.foreign import foreign_function
from millwright.modelling.links import through_link

__all__ = [
    "check_computed",
    "check_functions",
    "distribution_arguments",
    "family_of",
    "kernel_usage",
    "mixes_labels",
    "modifier_usage",
]

_BOUNDS = ("low", "high")


def check_functions(definition: Definition) -> None:
    """Check every call below a definition's outermost distribution.

    Raises
    ------
    ModelError
        For an unknown function, a wrong number of arguments, or a distribution that stands
        inside an expression.
    """
    for call in _inner_calls(definition):
        if call.function in DISTRIBUTIONS or call.function in MODIFIERS:
            hint = ". The inverse of logit is `expit`" if call.function in _INVERSE_LOGIT else ""
            raise ModelError(
                definition.message(
                    f"the distribution `{call.function}` cannot stand inside an expression or "
                    "in a derived quantity; give the quantity its own line among the priors"
                    + hint,
                    call,
                )
            )
        if call.function in KERNELS:
            _check_kernel(definition, call)
            continue
        own = foreign_function(call.function)
        if call.function not in FUNCTIONS and own is None:
            raise _unknown_function(definition, call)
        fewest, most = (own.fewest, own.most) if own else FUNCTIONS[call.function][:2]
        if call.keywords:
            raise ModelError(
                definition.message(f"`{call.function}` takes no named arguments", call)
            )
        if not fewest <= len(call.arguments) <= most:
            takes = f"{fewest} argument{'s' if fewest > 1 else ''}"
            raise ModelError(
                definition.message(
                    f"`{call.function}` takes {takes}, not {len(call.arguments)}", call
                )
            )


def _check_kernel(definition: Definition, call: Call) -> None:
    """A kernel takes its inputs first, and its own arguments by name."""
    needed = KERNELS[call.function].arguments
    given = [name for name, _ in call.keywords]
    if len(call.arguments) != 1 or sorted(given) != sorted(needed):
        raise ModelError(
            definition.message(f"`{call.function}` is written {kernel_usage(call.function)}", call)
        )


def kernel_usage(name: str) -> str:
    """Return how a covariance function is written."""
    return f"{name}(inputs, {', '.join(f'{a}=...' for a in KERNELS[name].arguments)})"


def _inner_calls(definition: Definition) -> Iterator[Call]:
    """Yield the calls that are not the definition's own distribution or a component of it."""
    own = {id(call) for call in _distribution_calls(definition.expression)}
    for node in walk(definition.expression):
        if isinstance(node, Call) and id(node) not in own:
            yield node


def _distribution_calls(node: Node) -> Iterator[Call]:
    if isinstance(node, Call) and node.function in DISTRIBUTIONS:
        yield node
    elif isinstance(node, Call) and node.function in MODIFIERS:
        yield node
        for argument in node.arguments:
            yield from _distribution_calls(argument)


_INVERSE_LOGIT = ("inverse_logit", "inv_logit", "invlogit", "logistic", "sigmoid")


def _unknown_function(definition: Definition, call: Call) -> ModelError:
    known = [*FUNCTIONS, *KERNELS]
    made_of = [
        part for node in _distribution_calls(definition.expression) for part in node.arguments
    ]
    if call in (definition.expression, *made_of):
        known += [*DISTRIBUTIONS, *MODIFIERS]
    # The nearest word, `logit`, would be the opposite.
    inverse = call.function in _INVERSE_LOGIT
    hint = " Did you mean `expit`?" if inverse else nearest(call.function, known)
    return ModelError(
        definition.message(
            f"there is no function `{call.function}`.{hint} A function "
            "of your own is made known with mw.register(name, function)",
            call,
        )
    )


def check_computed(definition: Definition) -> None:
    """Refuse a distribution where a computed quantity is needed."""
    node = definition.expression
    if isinstance(node, Call) and (node.function in DISTRIBUTIONS or node.function in MODIFIERS):
        raise ModelError(
            definition.message(
                "a computed quantity is needed here, not a distribution: unknowns belong among "
                "the priors, outcomes into the likelihood",
                node,
            )
        )


def distribution_arguments(
    definition: Definition,
) -> tuple[FamilyKey, tuple[tuple[str, Node], ...]]:
    """Return the family's key and its arguments by name.

    Raises
    ------
    ModelError
        If the definition is not a distribution or its arguments do not fit.
    """
    key, given = _read(definition, definition.expression)
    return key, tuple(given.items())


def _read(definition: Definition, node: Node) -> tuple[FamilyKey, dict[str, Node]]:
    if isinstance(node, Call) and node.function in MODIFIERS:
        return _read_modified(definition, node)
    if isinstance(node, Call) and node.function in DISTRIBUTIONS:
        family = DISTRIBUTIONS[node.function]
        given = _named(definition, node, family)
        given = dict(through_link(family, name, inner) for name, inner in given.items())
        _check_complete(definition, node, given, family)
        return node.function, given
    known = isinstance(node, Call) and foreign_function(node.function)
    if isinstance(node, Call) and not known and node.function not in (*FUNCTIONS, *KERNELS):
        raise _unknown_function(definition, node)
    raise ModelError(
        definition.message(
            "a distribution is needed here, such as normal(0, 1); a quantity computed "
            "from others belongs among the derived ones",
            node,
        )
    )


def _read_modified(definition: Definition, call: Call) -> tuple[FamilyKey, dict[str, Node]]:
    """Read a modifier: its components come first, its own arguments by name."""
    kind = MODIFIERS[call.function]
    other = VARIANTS.get((call.function, len(call.arguments)), kind)
    if {name for name, _ in call.keywords} <= {parameter.name for parameter in other.own}:
        kind = other
    usage = modifier_usage(kind)
    if len(call.arguments) != len(kind.components):
        raise ModelError(
            definition.message(
                f"`{kind.name}` is made from {len(kind.components)} distribution"
                f"{'s' if len(kind.components) > 1 else ''}: {usage}",
                call,
            )
        )
    parts = [_read(definition, argument) for argument in call.arguments]
    families = [family_of(key, tuple(given.items())) for key, given in parts]
    for argument, family in zip(call.arguments, families, strict=True):
        if not isinstance(family, Family) or (isinstance(family, Modified) and kind is Ordered):
            raise ModelError(
                definition.message(
                    f"`{kind.name}` is made from one-dimensional distributions, which "
                    f"`{family.name}` is not",
                    argument,
                )
            )
        if kind.needs_whole is not None and family.whole != kind.needs_whole:
            wanted = "counts" if kind.needs_whole else "a continuous quantity"
            raise ModelError(
                definition.message(f"`{kind.name}` needs a distribution of {wanted}", argument)
            )
        if family.whole != families[0].whole:
            raise ModelError(
                definition.message("counts and a continuous quantity do not mix", argument)
            )
        if isinstance(family, MixtureOverLabels):
            raise ModelError(
                definition.message(
                    f"a mixture over labels stands outermost: put `{kind.name}` inside it, as in "
                    f"mixture({kind.name}(...), weights=...)",
                    argument,
                )
            )
        if kind is Selected and _recording(argument):
            raise ModelError(
                definition.message(
                    "what is selected must not be recorded yet, since a recorded value may lie on "
                    "the limit itself. Record what was selected instead, as in "
                    "rounded(selected(...), to=...)",
                    argument,
                )
            )
        if _recording(argument) != _recording(call.arguments[0]):
            raise ModelError(
                definition.message(
                    "values that are recorded in different ways do not mix: a single value has a "
                    "probability in one of them and a density in the other. Record the mixture "
                    "instead, as in censored(mixture(...), low=...)",
                    argument,
                )
            )
    given = {
        f"{name}.{inner}": node
        for name, (_, arguments) in zip(kind.components, parts, strict=True)
        for inner, node in arguments.items()
    }
    own = dict(call.keywords)
    allowed = [parameter.name for parameter in kind.own]
    for name, node in own.items():
        if name not in allowed:
            raise ModelError(
                definition.message(
                    f"`{kind.name}` has no argument `{name}`.{nearest(name, allowed)} It is "
                    f"written {usage}",
                    node,
                )
            )
    needed = [parameter.name for parameter in kind.own if not parameter.instead_of]
    either = [parameter.name for parameter in kind.own if parameter.instead_of]
    if not own.keys() >= set(needed) or (either and not own.keys() & set(either)):
        raise ModelError(definition.message(f"`{kind.name}` is written {usage}", call))
    key: FamilyKey = (
        kind.name,
        *((key, frozenset(arguments)) for key, arguments in parts),
    )
    return key, {**given, **own}


def _recording(node: Node) -> tuple[Any, ...]:
    """Return how a distribution records its values, from the outside in: limits and grids."""
    if not isinstance(node, Call) or node.function not in MODIFIERS or not node.arguments:
        return ()
    inner = _recording(node.arguments[0])
    if node.function in (Censored.name, Rounded.name):
        return ((node.function, frozenset(node.keywords)), *inner)
    return inner


def modifier_usage(kind: type[Modified | Ordered]) -> str:
    """Return how a call of the modifier is written."""
    inside = ["normal(...)" if kind.needs_whole is not True else "poisson(...)"]
    parts = inside * len(kind.components) + [f"{parameter.name}=..." for parameter in kind.own]
    return f"{kind.name}({', '.join(parts)})"


def family_of(function: FamilyKey, arguments: tuple[tuple[str, Node], ...]) -> Distribution:
    """Return the family that a checked call stands for."""
    return family_for(function, frozenset(name for name, _ in arguments))


def mixes_labels(function: FamilyKey, arguments: tuple[tuple[str, Node], ...]) -> bool:
    """Whether a distribution is a mixture over a label set, recorded in some way or not."""
    waiting = [family_of(function, arguments)]
    while waiting:
        family = waiting.pop()
        if isinstance(family, MixtureOverLabels):
            return True
        if isinstance(family, Modified):
            waiting += family.families.values()
    return False


def _named(definition: Definition, call: Call, family: Distribution) -> dict[str, Node]:
    """Return the arguments by parameter name."""
    known = [parameter.name for parameter in family.parameters]
    allowed = known + [b for b in _BOUNDS if family.truncatable and b not in known]
    positional = [parameter.name for parameter in family.parameters if parameter.positional]
    if len(call.arguments) > len(positional):
        raise ModelError(
            definition.message(
                f"arguments of `{family.name}` are given by name: {_usage(family)}", call
            )
        )
    given = dict(zip(positional, call.arguments, strict=False))
    for name, node in call.keywords:
        if name in given:
            raise ModelError(definition.message(f"`{family.name}` is given `{name}` twice", node))
        if name in _BOUNDS and name not in allowed:
            raise ModelError(
                definition.message(f"`{family.name}` cannot be cut with `{name}=`", node)
            )
        if name not in allowed:
            raise ModelError(
                definition.message(
                    f"`{family.name}` has no argument `{name}`."
                    f"{nearest(name, allowed)} It is written {_usage(family)}",
                    node,
                )
            )
        given[name] = node
    return given


def _check_complete(
    definition: Definition, call: Call, given: dict[str, Node], family: Distribution
) -> None:
    for parameter in family.parameters:
        others = [p.name for p in family.parameters if p.instead_of == parameter.name]
        present = [name for name in others if name in given]
        words = " and ".join(f"`{name}`" for name in others)
        if present and parameter.name in given:
            raise ModelError(
                definition.message(f"give either `{parameter.name}` or {words}", call)
            )
        if present and len(present) < len(others):
            raise ModelError(definition.message(f"{words} are given together", call))
        missing = parameter.name not in given and not present
        if missing and not parameter.instead_of and not parameter.optional:
            raise ModelError(
                definition.message(
                    f"`{family.name}` needs `{parameter.name}`: {_usage(family)}", call
                )
            )
        if parameter.given_with and (parameter.name in given) > (parameter.given_with in given):
            words = f"`{parameter.name}` and `{parameter.given_with}`"
            raise ModelError(definition.message(f"{words} are given together", call))
        number = given.get(parameter.name)
        if isinstance(number, Number) and not parameter.valid(number.value):
            raise ModelError(
                definition.message(
                    f"`{parameter.name}` must be {DOMAIN_WORDS[parameter.domain]}, "
                    f"but is {number.value:g}",
                    number,
                )
            )
    low, high = given.get("low"), given.get("high")
    if isinstance(low, Number) and isinstance(high, Number) and low.value >= high.value:
        raise ModelError(
            definition.message(
                f"`low` must be below `high`, but {low.value:g} is not below {high.value:g}", call
            )
        )


def _usage(family: Distribution) -> str:
    """Return how a call of the family is written."""
    parts = [
        parameter.name if parameter.positional else f"{parameter.name}=..."
        for parameter in family.parameters
        if not parameter.instead_of and not parameter.optional
    ]
    return f"{family.name}({', '.join(parts)})"
