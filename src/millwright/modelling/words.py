"""A model in words: every definition, every prior in full, and what each allows."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace

import numpy as np

from millwright.distributions import on_numpy
from millwright.distributions.family import Family
from millwright.distributions.processes import JITTER
from millwright.distributions.registry import DISTRIBUTIONS
from millwright.errors import ModelError
from millwright.language.printing import text_of
from millwright.language.tree import Call, Listed, Lookup, Name, Node, walk
from millwright.modelling.arguments import family_of
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.foreign import foreign_function
from millwright.modelling.labelled import DRAW, Labelled
from millwright.modelling.program import Program
from millwright.modelling.shaping import check_axes, spread_arguments
from millwright.modelling.specification import Part, Specification
from millwright.modelling.taken import TakenValue
from millwright.wording import visible

__all__ = ["constant_arguments", "describe", "prior_range", "ends_text"]


def describe(
    specification: Specification,
    sizes: dict[str, int] | None = None,
    taken: Collection[TakenValue] = (),
    gathered: Collection[str] = (),
) -> str:
    """Return the model in words.

    Parameters
    ----------
    sizes
        Lengths of the label sets, if the data are known.
    taken
        Values taken from the data.
    gathered
        What a fit goes through instead of all rows.
    """
    lines = [visible(specification.title) or "A model without a title"]
    if specification.notes:
        lines += [visible(specification.notes, keep="\n")]
    groups = {
        "Priors (each with its central 95 % range)": ("unknown", "fixed"),
        "Likelihood (how each outcome column arises)": ("outcome",),
        "Derived quantities (computed from the unknowns)": ("derived",),
        "Terms added to the log density": ("term",),
    }
    for heading, kinds in groups.items():
        parts = [part for part in _in_written_order(specification) if part.kind in kinds]
        if parts:
            lines += ["", heading]
            lines += [line for part in parts for line in _lines(part, specification, sizes or {})]
    if not specification.likelihood and not specification.log_density_terms:
        lines += ["", "No likelihood: what is sampled is the prior."]
    if taken:
        lines += ["", "Taken from the data of the fit, and kept for new rows"]
        lines += [f"  {value.text} = {_taken_text(value)}  (in {value.part})" for value in taken]
    if gathered:
        lines += ["", "Rows that a fit need not go through one by one (exact; for speed)"]
        lines += [f"  {note}" for note in gathered]
    return "\n".join(lines)


def _taken_text(value: TakenValue) -> str:
    return ", ".join(f"{one:.6g}" for one in np.ravel(value.item.values))


def _in_written_order(specification: Specification) -> list[Part]:
    groups = (
        specification.priors,
        specification.likelihood,
        specification.derived,
        specification.log_density_terms,
    )
    return [specification.part(d.name) for group in groups for d in group]


def _lines(part: Part, specification: Specification, sizes: dict[str, int]) -> list[str]:
    relation = "~" if part.kind in ("unknown", "outcome") else "="
    unit = dict(specification.units).get(part.name)
    lines = [f"  {part.name} {relation} {full_text(part)}" + (f"   [{unit}]" if unit else "")]
    if part.kind == "fixed":
        lines.append("      fixed at this value")
    if part.kind == "outcome":
        lines.append(f"      {family_of(part.family, part.arguments).summary}")
        if part.open_start:
            lines.append("      its first state may be anything: flat, and improper")
    if part.kind == "unknown":
        lines.append(
            f"      {family_of(part.family, part.arguments).summary}; "
            f"{_range_words(part, specification, sizes)}"
        )
        if part.family == "gaussian_process" and "noise" not in dict(part.arguments):
            lines.append(
                f"      {JITTER:g} of its variance is added to the diagonal, for rounding"
            )
        if part.per:
            count = int(np.prod([sizes[s] for s in part.per])) if sizes else 0
            number = f"{count} values, " if count else ""
            if part.event == "matrix" and count:
                number = f"a matrix of {sizes[part.per[-1]]} x {sizes[part.per[-1]]}, "
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


def _range_words(part: Part, specification: Specification, sizes: dict[str, int]) -> str:
    found = prior_range(part, specification, sizes)
    if part.improper:
        return "nothing can be drawn from it"
    if found is None:
        return "its range depends on other quantities or on the data"
    exact, low, high = found
    each = ""
    if part.event != "number":
        what = "each correlation" if part.event == "matrix" else "each value"
        count = sizes.get(part.per[-1])
        each = f"{what}{'' if count else f' (of {_LABELS_OF_A_VECTOR}, say)'} "
    return f"{each}{'' if exact else 'about '}{ends_text(low, high)}"


def prior_range(
    part: Part, specification: Specification, sizes: dict[str, int] | None = None
) -> tuple[bool, float, float] | None:
    """Return the central 95 % range of a prior, and whether it is exact.

    Ranges of priors that depend on other unknowns are simulated; priors that depend on data
    give None.
    """
    family = family_of(part.family, part.arguments)
    if any(_calls_foreign(node) for _, node in part.arguments):
        return None
    values = constant_arguments(part)
    if values is not None and isinstance(family, Family):
        with np.errstate(all="ignore"):
            low, high = family.quantile(np.array([0.025, 0.975]), values)
        return True, float(low), float(high)
    needed = _ancestors(part, specification)
    if needed is None or any(one.improper for one in (part, *needed)):
        return None
    try:
        draws = _simulate(needed, sizes or {})
    except ModelError:
        # Shapes that do not agree are for binding to report, with the data's labels.
        return None
    if part.event == "matrix":
        draws = draws[..., *np.triu_indices(draws.shape[-1], 1)]
    if not np.isfinite(draws).any():
        return None
    low, high = np.nanquantile(draws, [0.025, 0.975])
    return False, float(low), float(high)


def constant_arguments(part: Part) -> dict[str, float] | None:
    """Return the arguments of a distribution if they are plain numbers, else None."""
    for _, node in part.arguments:
        if _names(node) or _calls_foreign(node) or any(isinstance(n, Listed) for n in walk(node)):
            return None
    return {name: _constant(node, part) for name, node in part.arguments}


def _calls_foreign(node: Node) -> bool:
    """Whether a registered function is called, which may be slow: describing calls none."""
    return any(isinstance(n, Call) and foreign_function(n.function) for n in walk(node))


def _names(node: Node) -> list[str]:
    return [inner.name for inner in walk(node) if isinstance(inner, Name)]


def _constant(node: Node, part: Part) -> float:
    evaluation = Evaluation(on_numpy, Program(parts=(), columns=(), sizes=(), outcome_axes=()), {})
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
            lookups = any(
                isinstance(n, Lookup) for _, top in candidate.arguments for n in walk(top)
            )
            own = any(_calls_foreign(top) for _, top in candidate.arguments)
            if not used <= defined or lookups or own:
                return None
            wanted |= used
    return [
        p for p in specification.parts if p.name in wanted and p.kind not in ("outcome", "term")
    ]


_LABELS_OF_A_VECTOR = 3
"""Labels assumed for a vector's label set as long as there are no data."""


def _simulate(parts: list[Part], sizes: dict[str, int], draws: int = 4000) -> np.ndarray:
    """Draw from the prior of the last part, with a single label in each ordinary label set."""
    generator = np.random.default_rng(20_001)
    lengths = {name: 1 for part in parts for name in part.per}
    for part in parts:
        if part.event != "number":
            listed = (len(node.items) for _, node in part.arguments if isinstance(node, Listed))
            assumed = next(listed, _LABELS_OF_A_VECTOR)
            lengths[part.per[-1]] = sizes.get(part.per[-1], assumed)
    program = Program(
        parts=tuple(parts), columns=(), sizes=tuple(lengths.items()), outcome_axes=()
    )
    evaluation = Evaluation(on_numpy, program, {})
    with np.errstate(all="ignore"):
        for part in parts:
            if part.kind != "unknown":
                evaluation.get(part.name)
                continue
            axes = (DRAW, *part.axes)
            named = evaluation.parameters(part)
            check_axes(part, named, part.axes, program, "")
            values = spread_arguments(on_numpy, part, named, axes, program)
            family = family_of(part.family, part.arguments)
            size = (draws, *program.shape(part.axes))
            drawn = np.asarray(family.draw(generator, size, values))
            evaluation.values[part.name] = Labelled(drawn, axes)
    return evaluation.values[parts[-1].name].values


def ends_text(low: float, high: float) -> str:
    """Return the ends of a prior's range as text, with digits enough to tell them apart."""
    width, largest = high - low, max(abs(low), abs(high))
    more = int(np.ceil(np.log10(largest / width))) if 0 < width < largest else 0
    return f"{low:.{3 + more}g} to {high:.{3 + more}g}" if more > 1 else f"{low:.3g} to {high:.3g}"
