"""A model in words: every definition, every prior in full, and what each allows."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from millwright.distributions import on_numpy
from millwright.distributions.registry import DISTRIBUTIONS
from millwright.language.printing import text_of
from millwright.language.tree import Call, Name, Node, walk
from millwright.modelling.arguments import family_of
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.labelled import DRAW, Labelled
from millwright.modelling.program import Program
from millwright.modelling.specification import Part, Specification

__all__ = ["describe", "prior_range"]


def describe(specification: Specification, sizes: dict[str, int] | None = None) -> str:
    """Return the model in words.

    Parameters
    ----------
    sizes
        Lengths of the label sets, if the data are known.
    """
    lines = [specification.title or "A model without a title"]
    if specification.notes:
        lines += [specification.notes]
    groups = {
        "Priors (each with the range that holds its central 95 %)": ("unknown", "fixed"),
        "Likelihood (how each outcome column arises)": ("outcome",),
        "Derived quantities (computed from the unknowns)": ("derived",),
        "Terms added to the log density": ("term",),
    }
    for heading, kinds in groups.items():
        parts = [part for part in _in_written_order(specification) if part.kind in kinds]
        if parts:
            lines += ["", heading]
            lines += [line for part in parts for line in _lines(part, specification, sizes or {})]
    return "\n".join(lines)


def _in_written_order(specification: Specification) -> list[Part]:
    groups = (
        specification.priors,
        specification.likelihood,
        specification.derived,
        specification.terms,
    )
    return [specification.part(d.name) for group in groups for d in group]


def _lines(part: Part, specification: Specification, sizes: dict[str, int]) -> list[str]:
    relation = "~" if part.kind in ("unknown", "outcome") else "="
    lines = [f"  {part.name} {relation} {full_text(part)}"]
    if part.kind == "fixed":
        lines.append("      held fixed at this value")
    if part.kind == "outcome":
        lines.append(f"      {family_of(part.family, part.arguments).summary}")
    if part.kind == "unknown":
        lines.append(
            f"      {family_of(part.family, part.arguments).summary}; "
            f"{_range_words(part, specification)}"
        )
        if part.per:
            count = int(np.prod([sizes[s] for s in part.per])) if sizes else 0
            number = f"{count} values, " if count else ""
            lines.append(f"      {number}one for each {' and '.join(part.per)}")
    return lines


def full_text(part: Part) -> str:
    """Return a definition with every argument named."""
    definition = part.definition
    tail = f" per {', '.join(part.per)}" if part.per else ""
    return (
        text_of(_named(definition.expression)) if part.family else text_of(part.expression)
    ) + tail


def _named(node: Node) -> Node:
    """Give the positional arguments of distributions their names."""
    if not isinstance(node, Call):
        return node
    if node.function in DISTRIBUTIONS:
        names = [p.name for p in DISTRIBUTIONS[node.function].parameters if p.positional]
        return replace(
            node,
            arguments=(),
            keywords=(*zip(names, node.arguments, strict=False), *node.keywords),
        )
    return replace(node, arguments=tuple(map(_named, node.arguments)))


def _range_words(part: Part, specification: Specification) -> str:
    found = prior_range(part, specification)
    if found is None:
        return "its range depends on other quantities or on the data"
    exact, low, high = found
    return f"{'' if exact else 'about '}{_short(low)} to {_short(high)}"


def prior_range(part: Part, specification: Specification) -> tuple[bool, float, float] | None:
    """Return the central 95 % range of a prior, and whether it is exact.

    Ranges of priors that depend on other unknowns are simulated; priors that depend on data
    give None.
    """
    names = {name for _, node in part.arguments for name in _names(node)}
    if not names:
        values = {name: _constant(node, part) for name, node in part.arguments}
        family = family_of(part.family, part.arguments)
        low, high = family.quantile(np.array([0.025, 0.975]), values)
        return True, float(low), float(high)
    needed = _ancestors(part, specification)
    if needed is None:
        return None
    draws = _simulate(needed)
    if not np.isfinite(draws).any():
        return None
    low, high = np.nanquantile(draws, [0.025, 0.975])
    return False, float(low), float(high)


def _names(node: Node) -> list[str]:
    return [inner.name for inner in walk(node) if isinstance(inner, Name)]


def _constant(node: Node, part: Part) -> float:
    evaluation = Evaluation(on_numpy, Program((), (), (), ()), {})
    return float(evaluation.expression(node, part).values)


def _ancestors(part: Part, specification: Specification) -> list[Part] | None:
    """Return all definitions that `part` rests on, itself last; None if data are among them."""
    defined = set(specification.defined)
    wanted = {part.name}
    for candidate in reversed(
        [p for p in specification.parts if p.kind not in ("outcome", "term")]
    ):
        if candidate.name in wanted:
            used = {name for _, node in candidate.arguments for name in _names(node)}
            if not used <= defined:
                return None
            wanted |= used
    return [
        p for p in specification.parts if p.name in wanted and p.kind not in ("outcome", "term")
    ]


def _simulate(parts: list[Part], draws: int = 4000) -> np.ndarray:
    """Draw from the prior of the last part, with a single label in each label set."""
    generator = np.random.default_rng(20_001)
    sets = {name for part in parts for name in part.per}
    program = Program(tuple(parts), (), tuple((name, 1) for name in sets), ())
    evaluation = Evaluation(on_numpy, program, {})
    with np.errstate(all="ignore"):
        for part in parts:
            if part.kind != "unknown":
                evaluation.get(part.name)
                continue
            values = {
                name: np.asarray(item.values, dtype=float).reshape(-1)
                for name, item in evaluation.parameters(part).items()
            }
            family = family_of(part.family, part.arguments)
            drawn = np.asarray(family.draw(generator, (draws,), values))
            shaped = drawn.reshape((draws,) + (1,) * len(part.per))
            evaluation.values[part.name] = Labelled(shaped, (DRAW, *part.per))
    return evaluation.values[parts[-1].name].values


def _short(value: float) -> str:
    return f"{value:.3g}"
