"""How arguments of a distribution are laid out against its values.

Values of a one-dimensional distribution are independent elements, and every argument spreads
over them. A vector's last axis is one event; arguments then are single numbers, vectors or
matrices for each event.
"""

from __future__ import annotations

from millwright.distributions.family import Parameter
from millwright.distributions.mathematics import Array, Mathematics
from millwright.errors import ModelError
from millwright.modelling.arguments import family_of
from millwright.modelling.labelled import (
    DRAW,
    LIST,
    Labelled,
    base_axis,
    is_rows,
    spread_over,
    twin,
)
from millwright.modelling.program import Program
from millwright.modelling.specification import Part

__all__ = ["check_axes", "own_axis", "split_axes", "spread_arguments"]


def split_axes(event: str, axes: tuple[str, ...]) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Split the axes of values into those of independent copies and those of one event."""
    size = {"vector": 1, "matrix": 2}.get(event, 0)
    return axes[: len(axes) - size], axes[len(axes) - size :]


def spread_arguments(
    m: Mathematics, part: Part, named: dict[str, Labelled], axes: tuple[str, ...], program: Program
) -> dict[str, Array]:
    """Return the arguments of a distribution as arrays shaped for values with these axes."""
    known = _parameters(part)
    if part.event == "number" and not any(q.rank for q in known.values()):
        return {name: spread_over(item, axes) for name, item in named.items()}
    batch, event = split_axes(part.event, axes)
    result: dict[str, Array] = {}
    for name, item in named.items():
        parameter = known.get(name)
        if parameter is None or parameter.rank == 0:
            result[name] = spread_over(item, batch)
        else:
            result[name] = _over_event(m, parameter, item, batch, event, program)
    return result


def _parameters(part: Part) -> dict[str, Parameter]:
    return {q.name: q for q in family_of(part.family, part.arguments).parameters}


def _over_event(
    m: Mathematics,
    parameter: Parameter,
    item: Labelled,
    batch: tuple[str, ...],
    event: tuple[str, ...],
    program: Program,
) -> Array:
    along = (*batch, *event[:1]) if parameter.by_entry else batch
    axis = own_axis(item, along) if parameter.own_labels else event[0]
    if axis is None:
        return m.asarray(spread_over(item, along))[..., None]
    renamed = {LIST: axis, twin(LIST): twin(axis)}
    item = Labelled(item.values, tuple(renamed.get(a, a) for a in item.axes))
    if parameter.rank == 2:
        return spread_over(item, (*batch, axis, twin(axis)))
    values = m.asarray(
        spread_over(item, (*along, axis) if parameter.own_labels else (*batch, axis))
    )
    if parameter.own_labels:
        return values
    return m.broadcast_to(values, (*values.shape[:-1], program.shape((axis,))[0]))


def own_axis(item: Labelled, batch: tuple[str, ...]) -> str | None:
    """Return the axis of an argument that runs over a label set of its own."""
    own = [axis for axis in item.labels if axis not in batch and base_axis(axis) == axis]
    if LIST in own:
        return LIST
    return own[0] if own else None


def check_axes(
    part: Part, named: dict[str, Labelled], axes: tuple[str, ...], program: Program, mend: str
) -> None:
    """Refuse arguments with label sets that the values do not have.

    Raises
    ------
    ModelError
        Which says what the argument has and what the values have.
    """
    batch, event = split_axes(part.event, tuple(a for a in axes if a != DRAW))
    known = _parameters(part)
    owners: dict[str, tuple[str, int]] = {}
    for name, item in named.items():
        parameter = known.get(name, Parameter(name, "real", ""))
        node = dict(part.arguments)[name]
        allowed = set(batch)
        if parameter.own_labels:
            allowed |= set(event[:1]) if parameter.by_entry else set()
            own = own_axis(item, tuple(allowed))
            _check_one_label_set(part, name, item, own, owners)
            allowed |= {own, twin(own)} if own else set()
        elif parameter.rank:
            # For a rank of 1 the second axis of a matrix is no part of it.
            allowed |= {event[0], LIST}
            allowed |= {twin(event[0]), twin(LIST)} if parameter.rank == 2 else set()
            _check_list(part, name, item, event[0], program)
        if parameter.rank == 2 and len(set(item.labels) - set(batch)) < 2:
            over = "a label set" if parameter.own_labels else f"`{event[0]}`"
            raise ModelError(
                part.definition.message(f"its `{name}` must be a matrix over {over}", node)
            )
        extra = [axis for axis in item.labels if axis not in allowed]
        if not extra:
            continue
        if LIST in map(base_axis, extra):
            raise ModelError(
                part.definition.message(f"its `{name}` is one number, not a list", node)
            )
        if extra[0] in event:
            raise ModelError(
                part.definition.message(
                    f"its `{name}` must be one number, the same for all labels of `{extra[0]}`",
                    node,
                )
            )
        if twin(base_axis(extra[0])) in item.labels:
            raise ModelError(
                part.definition.message(
                    f"its `{name}` is a matrix over {base_axis(extra[0])}, not one number",
                    node,
                )
            )
        words = ", ".join(f"{axis} ({program.shape((axis,))[0]})" for axis in axes)
        more = "" if is_rows(extra[0]) else mend.format(axis=extra[0])
        single = "is a single unknown" if part.kind == "unknown" else "is a single value"
        has = f"has one value per {words}" if words else single
        raise ModelError(
            part.definition.message(
                f"its `{name}` has one value per {extra[0]} ({program.shape((extra[0],))[0]}), "
                f"but `{part.name}` {has}{more}",
                node,
            )
        )


def _check_one_label_set(
    part: Part, name: str, item: Labelled, own: str | None, owners: dict[str, tuple[str, int]]
) -> None:
    """Refuse arguments over different label sets, or lists of different lengths."""
    if own is None:
        return
    lengths = {
        item.values.shape[at] for at, axis in enumerate(item.axes) if base_axis(axis) == own
    }
    for other, (axis, length) in owners.items():
        apart = LIST not in (own, axis) and own != axis
        if apart or lengths != {length}:
            here, there = ("a list" if one == LIST else f"`{one}`" for one in (own, axis))
            raise ModelError(
                part.definition.message(
                    f"its `{other}` runs over {there} ({length}), its `{name}` over {here} "
                    f"({' x '.join(map(str, sorted(lengths)))}): both must run over one label "
                    "set, or be lists of one length",
                    dict(part.arguments)[name],
                )
            )
    if len(lengths) > 1:
        raise ModelError(
            part.definition.message(
                f"its `{name}` must be a square matrix", dict(part.arguments)[name]
            )
        )
    owners[name] = (own, lengths.pop())


def _check_list(part: Part, name: str, item: Labelled, axis: str, program: Program) -> None:
    if LIST not in item.axes:
        return
    size, wanted = item.values.shape[item.axes.index(LIST)], program.shape((axis,))[0]
    if size != wanted:
        raise ModelError(
            part.definition.message(
                f"its `{name}` lists {size} values, but `{axis}` has {wanted} labels",
                dict(part.arguments)[name],
            )
        )
