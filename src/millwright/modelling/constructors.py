"""The functions of the model language as functions of Python, with signatures and help."""

from __future__ import annotations

import inspect
from collections.abc import Callable, Iterable
from inspect import Parameter as Argument

from millwright.distributions.family import DOMAIN_WORDS, Distribution, Parameter
from millwright.distributions.kernels import KERNELS
from millwright.distributions.registry import DISTRIBUTIONS, MODIFIERS
from millwright.language.symbols import Symbol, called
from millwright.language.vocabulary import FUNCTIONS
from millwright.modelling.arguments import kernel_usage, modifier_usage

__all__ = ["constructor"]


def constructor(name: str) -> Callable[..., Symbol]:
    """Return the Python form of a distribution, modifier, kernel or function of the language.

    It makes a piece of a definition, for use in the functions that a model is written with.

    Raises
    ------
    KeyError
        For another name.
    """
    build = called(name)
    arguments: Iterable[Argument]
    if name in DISTRIBUTIONS:
        family = DISTRIBUTIONS[name]
        arguments, text = _of_distribution(family), _distribution_text(family)
    elif name in MODIFIERS:
        kind = MODIFIERS[name]
        inside = [Argument(n, Argument.POSITIONAL_ONLY) for n in kind.components]
        arguments = [*inside, *(_keyword(p.name, p.optional) for p in kind.own)]
        own = _listed(kind.own)
        text = f"{_sentence(kind.summary)}\n\nWritten `{modifier_usage(kind)}`.{own}"
    elif name in KERNELS:
        inputs = Argument("inputs", Argument.POSITIONAL_ONLY)
        arguments = [inputs, *(_keyword(n, False) for n in KERNELS[name].arguments)]
        text = f"Covariance function of a Gaussian process.\n\nWritten `{kernel_usage(name)}`."
    else:
        fewest, most, gives = FUNCTIONS[name]
        names = ["x", "y", "z"][:most]
        arguments = [
            Argument(n, Argument.POSITIONAL_ONLY, default=Argument.empty if at < fewest else None)
            for at, n in enumerate(names)
        ]
        text = _sentence(gives)
    build.__doc__ = text
    build.__signature__ = inspect.Signature(  # type: ignore[attr-defined]
        list(arguments), return_annotation="Symbol"
    )
    return build


def _of_distribution(family: Distribution) -> list[Argument]:
    replaced = {parameter.instead_of for parameter in family.parameters}
    found = [
        Argument(p.name, Argument.POSITIONAL_OR_KEYWORD)
        if p.positional and p.name not in replaced
        else _keyword(p.name, p.optional or bool(p.instead_of) or p.name in replaced)
        for p in family.parameters
    ]
    names = {parameter.name for parameter in family.parameters}
    if family.truncatable:
        found += [_keyword(end, True) for end in ("low", "high") if end not in names]
    return sorted(found, key=lambda argument: argument.kind)


def _keyword(name: str, optional: bool) -> Argument:
    return Argument(name, Argument.KEYWORD_ONLY, default=None if optional else Argument.empty)


def _distribution_text(family: Distribution) -> str:
    ends = ""
    if family.truncatable:
        ends = "\nlow, high\n    Ends between which the distribution is cut; none by default."
    return _sentence(family.summary) + _listed(family.parameters, ends)


def _listed(parameters: Iterable[Parameter], more: str = "") -> str:
    lines = []
    for p in parameters:
        instead = f" (instead of `{p.instead_of}`)" if p.instead_of else ""
        optional = "; may be left out" if p.optional else ""
        lines.append(f"{p.name}\n    {_sentence(p.meaning)[:-1]}, {DOMAIN_WORDS[p.domain]}")
        lines[-1] += f"{instead}{optional}."
    if not lines and not more:
        return ""
    return "\n\nParameters\n----------\n" + "\n".join(lines) + more


def _sentence(words: str) -> str:
    return f"{words[:1].upper()}{words[1:].rstrip('.')}."
