"""Gaussian processes whose rows are gone through one after the other, in place of a matrix.

That is where the kernel is a Matern one of one column and the readings have independent noise.
"""

from __future__ import annotations

from millwright.distributions.matern import MATERN, Along
from millwright.distributions.mathematics import Array, Mathematics
from millwright.language.tree import Call, Node
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.labelled import DRAW, Labelled, is_rows, spread_over
from millwright.modelling.specification import Part

__all__ = ["along_one_axis"]


def along_one_axis(evaluation: Evaluation, part: Part) -> Along | None:
    """Return an outcome as a process along one column; None if it is another.

    What differs from draw to draw has them in front.
    """
    given = dict(part.arguments)
    kernel = given.get("kernel")
    if part.family != "gaussian_process" or "noise" not in given or not _is_matern(kernel):
        return None
    assert isinstance(kernel, Call)
    axes = dict(evaluation.program.outcome_axes)[part.name]
    if part.rows_of or len(axes) != 1 or not is_rows(axes[0]):
        return None
    own = dict(kernel.keywords)
    by_row = {"x": kernel.arguments[0], "location": given["location"], "noise": given["noise"]}
    alone = {"height": own["scale"], "length": own["length"]}
    rows = {name: evaluation.expression(node, part) for name, node in by_row.items()}
    numbers = {name: evaluation.expression(node, part) for name, node in alone.items()}
    if rows["x"].labels != axes or any(item.labels for item in numbers.values()):
        return None
    if any(set(item.labels) - set(axes) for item in rows.values()):
        return None
    m, size = evaluation.m, evaluation.size(axes[0])
    return Along(
        kernel.function,
        **{name: m.asarray(item.values) for name, item in numbers.items()},
        **{name: _of_rows(m, item, axes[0], size) for name, item in rows.items()},
    )


def _is_matern(node: Node | None) -> bool:
    return isinstance(node, Call) and node.function in MATERN


def _of_rows(m: Mathematics, item: Labelled, axis: str, size: int) -> Array:
    """Return values with one for each row, those of draws in front."""
    drawn = (DRAW,) if DRAW in item.axes else ()
    values = m.asarray(spread_over(item, (*drawn, axis)))
    return m.broadcast_to(values, (*values.shape[: len(drawn)], size))
