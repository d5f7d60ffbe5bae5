"""The walk through one expression tree: each node's value on labelled arrays."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np

from millwright.distributions.kernels import KERNELS
from millwright.distributions.mathematics import Array
from millwright.errors import DataError, ModelError, nearest
from millwright.language.printing import number_text, text_of
from millwright.language.tree import (
    Call,
    Label,
    Listed,
    Lookup,
    Name,
    Node,
    Number,
    Operation,
    Slot,
    Taken,
)
from millwright.language.vocabulary import FUNCTIONS
from millwright.modelling.arguments import mixes_labels
from millwright.modelling.clashes import clash, per_words
from millwright.modelling.foreign import Foreign, call_foreign
from millwright.modelling.labelled import (
    DRAW,
    LIST,
    Labelled,
    aligned,
    base_axis,
    is_rows,
    spread_over,
    twin,
    union_axes,
)
from millwright.modelling.links import LOG_ODDS
from millwright.modelling.lookups import compared_with_label, looked_up, refuse_drawn
from millwright.modelling.program import NUMBERS, TAKEN
from millwright.modelling.specification import Part

if TYPE_CHECKING:
    from millwright.modelling.evaluate import Evaluation

__all__ = ["Walk"]

_BINARY: dict[str, Callable[[Any, Any], Any]] = {
    "+": lambda a, b: a + b,
    "-": lambda a, b: a - b,
    "*": lambda a, b: a * b,
    "/": lambda a, b: a / b,
    "**": lambda a, b: a**b,
    "<": lambda a, b: a < b,
    "<=": lambda a, b: a <= b,
    ">": lambda a, b: a > b,
    ">=": lambda a, b: a >= b,
    "==": lambda a, b: a == b,
    "!=": lambda a, b: a != b,
}


_CALLED = {"log_gamma": "gammaln", "normal_cdf": "ndtr"}
"""Functions of the language that have another name in `Mathematics`."""

_ARITHMETIC = frozenset({"+", "-", "*", "/", "**", "@", "negative"})


class Walk:
    """One walk over one definition's tree."""

    def __init__(self, evaluation: Evaluation, part: Part) -> None:
        self.evaluation = evaluation
        self.m = evaluation.m
        self.part = part

    def text(self, node: Node) -> str:
        """Return a node as the user would write it, numbers back in their places."""
        numbers = self.evaluation.arguments.get(NUMBERS, ())
        return re.sub(r"#(\d+)", lambda m: number_text(float(numbers[int(m[1])])), text_of(node))

    def fail(self, problem: str, node: Node) -> ModelError:
        return ModelError(self.part.definition.message(problem, node))

    def visit(self, node: Node) -> Labelled:
        match node:
            case Number(value=value):
                return Labelled(value)
            case Slot(index=index):
                return Labelled(self.evaluation.arguments[NUMBERS][index])
            case Taken(index=index):
                return Labelled(
                    self.evaluation.arguments[TAKEN, str(index)],
                    self.evaluation.program.taken[index],
                )
            case Name():
                return self._name(node)
            case Lookup():
                return looked_up(self, node)
            case Operation():
                return self._operation(node)
            case Call():
                return self._call(node)
            case Listed(items=items):
                return self._listed(items, node)
            case Label():
                raise self.fail(
                    f"the label {node.value!r} can stand in brackets, or be compared with a "
                    "column of labels by `==` or `!=`",
                    node,
                )

    def _name(self, node: Name) -> Labelled:
        program = self.evaluation.program
        if node.name in program.by_name or node.name in self.evaluation.values:
            return self.evaluation.get(node.name)
        if node.name not in program.column_axes:
            known = [*program.by_name, *program.column_axes]
            raise self.fail(f"`{node.name}` is not known.{nearest(node.name, known)}", node)
        axes = program.column_axes[node.name]
        try:
            return self._column(node.name, axes)
        except DataError as error:
            raise DataError(self.part.definition.message(error.marked, node)) from None

    def _column(self, name: str, axes: tuple[str, ...]) -> Labelled:
        arguments = self.evaluation.arguments
        if self.part.per and any(map(is_rows, axes)):
            refuse_drawn(self, name)
            return Labelled(arguments["reduced", name, *self.part.per], self.part.per)
        return self.evaluation.column(name)

    def _listed(self, items: tuple[Node, ...], node: Node) -> Labelled:
        """Return a list, or a list of lists, along axes that an argument will name."""
        parts = [self._as_number(self.visit(item)) for item in items]
        inner = {part.labels for part in parts}
        with_labels = inner - {(), (LIST,)}
        if len(with_labels) == 1 and inner <= {(), *with_labels} and not _lists(with_labels):
            axes, values = aligned(parts)
            return Labelled(self.m.stack(self.m.broadcast_arrays(*values), -1), (*axes, LIST))
        if len(inner) > 1 or with_labels:
            raise self.fail(
                "a list holds single values, values over one label set or the rows, or lists of "
                "one length",
                node,
            )
        if len({np.shape(part.values)[-1:] for part in parts}) > 1 and inner == {(LIST,)}:
            raise self.fail("the lists in a list must have one length", node)
        lead = (DRAW,) if any(DRAW in part.axes for part in parts) else ()
        rest = next(iter(inner))
        spread = [self.m.asarray(spread_over(part, (*lead, *rest))) for part in parts]
        shape = np.broadcast_shapes(*(value.shape for value in spread))
        stacked = self.m.stack([self.m.broadcast_to(value, shape) for value in spread], -1)
        if rest:
            return Labelled(self.m.swapaxes(stacked, -1, -2), (*lead, LIST, twin(LIST)))
        return Labelled(stacked, (*lead, LIST))

    def _operation(self, node: Operation) -> Labelled:
        if node.operator in ("==", "!=") and any(isinstance(p, Label) for p in node.operands):
            return compared_with_label(self, node)
        operands = [self.visit(part) for part in node.operands]
        if node.operator in _ARITHMETIC:
            operands = [self._as_number(item) for item in operands]
        if node.operator == "@":
            return self._dot(operands, node)
        if node.operator == "negative":
            return Labelled(-operands[0].values, operands[0].axes)
        if node.operator == "not":
            return Labelled(self.m.logical_not(operands[0].values), operands[0].axes)
        axes, values = self._together(operands, node.operands, node)
        if node.operator in ("and", "or"):
            join = self.m.logical_and if node.operator == "and" else self.m.logical_or
            result = values[0]
            for value in values[1:]:
                result = join(result, value)
            return Labelled(result, axes)
        return Labelled(_BINARY[node.operator](values[0], values[1]), axes)

    def _as_number(self, item: Labelled) -> Labelled:
        """Return 1 for true and 0 for false: array libraries differ in arithmetic on truths."""
        values = self.m.asarray(item.values)
        return Labelled(values + 0.0, item.axes) if values.dtype.kind == "b" else item

    def _call(self, node: Call) -> Labelled:
        if node.function in KERNELS:
            return self._kernel(node)
        items = [self._as_number(self.visit(argument)) for argument in node.arguments]
        if node.function == "where":
            items[0] = self.visit(node.arguments[0])
        if node.function == "dot":
            return self._dot(items, node)
        if node.function in ("sum", "mean", "sd"):
            self._refuse_fresh(items[0].labels, node)
            return self._reduce(node.function, items[0])
        if node.function == "standardise":
            return self._standardised(items[0], node)
        own = self.evaluation.program.foreign_by_name.get(node.function)
        if own is not None and own.shape is not None:
            self._refuse_fresh([axis for item in items for axis in item.labels], node)
            return self._of_own_shape(own, items, node)
        axes, values = self._together(items, node.arguments, node)
        if node.function in LOG_ODDS:
            return Labelled(LOG_ODDS[node.function](self.m, *values), axes)
        if node.function not in FUNCTIONS:
            return self._foreign(node, axes, values, [bool(item.labels) for item in items])
        return Labelled(getattr(self.m, _CALLED.get(node.function, node.function))(*values), axes)

    def _of_own_shape(self, foreign: Foreign, items: list[Labelled], node: Call) -> Labelled:
        """Call a registered function whose result has the shape that it declares.

        Each argument has its own axes; a vector or a matrix is laid out as a list would be.
        """
        for item, argument in zip(items, node.arguments, strict=True):
            self._no_list(item, argument)
        drawn = any(DRAW in item.axes for item in items)
        values = [self.m.asarray(item.values) for item in items]
        if drawn:
            values = [
                value if DRAW in item.axes else value[None]
                for value, item in zip(values, items, strict=True)
            ]
        try:
            result = call_foreign(foreign, self.m, values, drawn, ())
        except ModelError as error:
            raise self.fail(error.marked, node) from error
        own = (LIST, twin(LIST))[: result.ndim - drawn]
        return Labelled(result, (DRAW, *own) if drawn else own)

    def _foreign(
        self, node: Call, axes: tuple[str, ...], values: list[Array], labelled: list[bool]
    ) -> Labelled:
        """Call a registered function; arguments with any label reach it in full shape."""
        foreign = self.evaluation.program.foreign_by_name[node.function]
        drawn = DRAW in axes
        shape = self.evaluation.program.shape(tuple(axis for axis in axes if axis != DRAW))
        lead = 1 if drawn else 0
        full = []
        for value, spread in zip(values, labelled, strict=True):
            array = self.m.asarray(value)
            if drawn and array.ndim == 0:
                array = array[None]
            inner = shape if spread else ()
            front = array.shape[:lead]
            array = array if spread else array.reshape(front)
            full.append(self.m.broadcast_to(array, (*front, *inner)))
        try:
            result = call_foreign(foreign, self.m, full, drawn, shape)
        except ModelError as error:
            raise self.fail(error.marked, node) from error
        return Labelled(result, axes)

    def _kernel(self, node: Call) -> Labelled:
        """Return the covariance of all pairs of inputs: a matrix over a label set or rows."""
        # Inputs belong to the last label set; others are copies of the process.
        inner = self.part
        if len(inner.per) > 1:
            inner = replace(inner, per=inner.per[-1:])
        x = Walk(self.evaluation, inner).visit(node.arguments[0])
        if len(x.labels) not in (1, 2):
            raise self.fail(
                f"`{node.function}` needs inputs, one number (or one row of a matrix) for each "
                f"place, but {self._words(node.arguments[0], x)}",
                node.arguments[0],
            )
        several = len(x.labels) == 2
        if several and not KERNELS[node.function].several:
            raise self.fail(f"`{node.function}` takes one input, not a matrix of them", node)
        given = {name: self.visit(value) for name, value in node.keywords}
        columns = x.labels[1:]
        copies = tuple(
            dict.fromkeys(
                axis for item in given.values() for axis in item.labels if axis not in columns
            )
        )
        drawn = any(DRAW in item.axes for item in (x, *given.values()))
        lead = (*((DRAW,) if drawn else ()), *copies)
        spread = {}
        for name, item in given.items():
            own = columns if name == "length" and set(columns) & set(item.labels) else ()
            if x.labels[0] in item.labels or set(item.labels) - set(copies) - set(own):
                raise self.fail(
                    f"`{name}` of `{node.function}` must be one number for all places", node
                )
            spread[name] = self.m.asarray(spread_over(item, (*lead, *own)))
        values = self.m.asarray(spread_over(x, (*lead, *x.labels)))
        result = KERNELS[node.function](self.m, values, spread, several)
        return Labelled(result, (*lead, x.labels[0], twin(x.labels[0])))

    def _reduce(self, function: str, item: Labelled) -> Labelled:
        over = tuple(at for at, axis in enumerate(item.axes) if axis != DRAW)
        kept = (DRAW,) if DRAW in item.axes else ()
        values = self.m.asarray(item.values)
        if function != "sd":
            return Labelled(getattr(self.m, function)(values, axis=over), kept)
        return Labelled(self._sd(values, over), kept)

    def _sd(self, values: Array, over: tuple[int, ...]) -> Array:
        count = int(np.prod([values.shape[at] for at in over]))
        apart = values - self.m.mean(values, axis=over, keepdims=True)
        return self.m.sqrt(self.m.sum(apart**2, axis=over) / (count - 1 if count > 1 else np.nan))

    def _refuse_fresh(self, axes: Sequence[str], node: Node) -> None:
        """Refuse to reduce over new rows or new labels: the fit's answer would be another."""
        fresh = [axis for axis in axes if base_axis(axis) in self.evaluation.program.fresh]
        if fresh:
            raise self.fail(
                f"`{self.text(node)}` runs over {'the rows' if is_rows(fresh[0]) else fresh[0]} "
                "with something unknown in it, so for other rows than those of the fit it would "
                "be another quantity. Reduce the data alone, as in slope * mean(hours), or make "
                "the row's own part of it a definition",
                node,
            )

    def centre_and_scale(self, item: Labelled, node: Node) -> tuple[Labelled, Labelled]:
        """Return what `standardise` subtracts and divides by."""
        if not item.labels:
            raise self.fail("a single value cannot be standardised", node)
        rows = [at for at, axis in enumerate(item.axes) if is_rows(axis)]
        over = tuple(rows or (at for at, axis in enumerate(item.axes) if axis != DRAW))
        kept = tuple(axis for at, axis in enumerate(item.axes) if at not in over)
        values = self.m.asarray(item.values)
        if np.prod([values.shape[at] for at in over]) < 2:
            raise self.fail(
                "what is standardised does not vary: it is a single row or label", node
            )
        scale = self._sd(values, over)
        return Labelled(self.m.mean(values, axis=over), kept), Labelled(scale, kept)

    def _standardised(self, item: Labelled, node: Call) -> Labelled:
        self._refuse_fresh(item.labels, node)
        centre, scale = self.centre_and_scale(item, node)
        _, (x, middle, sd) = aligned([item, centre, scale])
        return Labelled((x - middle) / sd, item.axes)

    def _dot(self, items: list[Labelled], node: Operation | Call) -> Labelled:
        left, right = items
        for item, side in zip(items, _sides(node), strict=True):
            self._no_list(item, side)
        shared = tuple(axis for axis in left.labels if axis in right.labels)
        if left.labels[-1:] != shared[-1:]:
            # Of several only the last one of the left side is meant, as for matrices.
            shared = tuple(axis for axis in shared if not is_rows(axis))
        shared = shared[-1:] if left.labels[-1:] == shared[-1:] or len(shared) == 1 else ()
        if not shared:
            sides = _sides(node)
            raise self.fail(
                f"`@` sums over a label set that both sides share, but "
                f"{self._words(sides[0], left)} and {self._words(sides[1], right)}",
                node,
            )
        self._refuse_fresh(shared, node)
        letters = {axis: chr(97 + at) for at, axis in enumerate(union_axes(items))}
        kept = [axis for axis in letters if axis not in shared and axis != DRAW]
        axes = (DRAW, *kept) if DRAW in letters else tuple(kept)
        code = ["".join(letters[axis] for axis in each) for each in (left.axes, right.axes, axes)]
        rule = f"{code[0]},{code[1]}->{code[2]}"
        return Labelled(self.m.einsum(rule, left.values, right.values), axes)

    def _together(
        self, items: list[Labelled], nodes: tuple[Node, ...], node: Node
    ) -> tuple[tuple[str, ...], list[Array]]:
        """Align operands; label sets that neither side holds in full do not combine."""
        for item, operand in zip(items, nodes, strict=True):
            self._no_list(item, operand)
        axes, values = aligned(items)
        wanted = {axis for axis in axes if axis != DRAW}
        if wanted <= set(self.part.per) or any(wanted == set(item.labels) for item in items):
            return axes, values
        if self.part.kind == "outcome" and self.part.name in wanted and self._rows_of_one(wanted):
            return axes, values
        if self._over_components(wanted):
            return axes, values
        texts = [self.text(operand) for operand in nodes]
        raise self.fail(clash(self.evaluation.program, texts, items), node)

    def _no_list(self, item: Labelled, node: Node) -> None:
        if LIST in item.axes:
            raise self.fail(
                "a list can only be an argument of a distribution that takes a vector; elsewhere "
                "use a quantity with labels",
                node,
            )

    def _rows_of_one(self, wanted: set[str]) -> bool:
        """Whether the label sets are an outcome's own, and the rows of one table."""
        others = wanted - {self.part.name}
        return len(others) == 1 and all(map(is_rows, others))

    def _over_components(self, wanted: set[str]) -> bool:
        """Whether the label sets are those of a mixture's values, and that of its components."""
        part = self.part
        drawn = part.kind in ("unknown", "outcome")
        if not (drawn and mixes_labels(part.family, part.arguments)):
            return False
        own = {axis for axis in wanted if is_rows(axis)} or set(part.per)
        others = wanted - own
        columns = self.evaluation.program.column_axes
        return len(others) == 1 and bool(own) and not others & columns.keys()

    def _words(self, node: Node, item: Labelled) -> str:
        return per_words(self.evaluation.program, self.text(node), item)


def _lists(inner: set[tuple[str, ...]]) -> bool:
    return any(LIST in labels for labels in inner)


def _sides(node: Operation | Call) -> tuple[Node, ...]:
    return node.operands if isinstance(node, Operation) else node.arguments
