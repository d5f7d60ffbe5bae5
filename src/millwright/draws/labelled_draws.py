"""Posterior draws by name, with derived quantities computed when asked for."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import product

import numpy as np

from millwright.distributions import on_numpy
from millwright.draws.columns import Columns
from millwright.errors import UnknownLabelError, nearest
from millwright.modelling.binding import Binding
from millwright.modelling.density import place_unknowns
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.labelled import DRAW, Labelled, base_axis, full, is_rows, twin
from millwright.wording import visible

__all__ = [
    "Draws",
    "Keep",
    "from_positions",
    "in_all_chains",
    "kept_iterations",
    "label_texts",
    "thinned",
]

Keep = slice | np.ndarray
"""Which draws, of all chains one after the other."""

_TOGETHER = 32


@dataclass(frozen=True, eq=False)
class Draws:
    """Draws of all unknowns of a bound model.

    Attributes
    ----------
    values
        Draws of each unknown, float64 of shape (chains, draws, labels...).
    """

    binding: Binding
    values: Mapping[str, np.ndarray] = field(repr=False)
    _derived: dict[str, np.ndarray] = field(default_factory=dict, repr=False)

    @property
    def shape(self) -> tuple[int, int]:
        """Number of chains and of draws a chain."""
        if isinstance(self.values, Columns):
            return self.values.shape
        return next(iter(self.values.values())).shape[:2]

    def count(self, keep: Keep = slice(None)) -> int:
        """Return how many draws these are, of all chains."""
        return len(np.arange(np.prod(self.shape))[keep])

    def known(self, keep: Keep = slice(None)) -> dict[str, Labelled]:
        """Return the unknowns with one axis of draws, chain after chain."""
        chains, draws = self.shape
        return {
            name: Labelled(
                value.reshape(chains * draws, *value.shape[2:])[keep],
                (DRAW, *self.binding.axes[name]),
            )
            for name, value in self.values.items()
        }

    def evaluation(self, binding: Binding | None = None, keep: Keep = slice(None)) -> Evaluation:
        """Return an evaluation over the draws, for these data or for others of the same model."""
        return (binding or self.binding).evaluation(self.known(keep))

    def get(self, name: str) -> np.ndarray:
        """Return draws of an unknown, fixed or derived quantity, (chains, draws, labels...).

        They cannot be written to: what is asked afterwards rests on the same numbers.
        """
        if name in self.values:
            return _read_only(self.values[name])
        if name not in self._derived:
            if name not in self.binding.axes:
                known = list(self.binding.axes)
                raise UnknownLabelError(
                    f"There is no quantity `{name}`.{nearest(name, known)} "
                    f"Quantities: {', '.join(known)}."
                )
            chains, draws = self.shape
            axes = self.binding.axes[name]
            with np.errstate(all="ignore"):
                item = self.evaluation().get(name)
            size = (chains * draws, *self.binding.program.shape(axes))
            flat = full(item, (DRAW, *axes), size)
            found = np.asarray(flat, dtype=float).reshape(chains, draws, *size[1:])
            self._derived[name] = _read_only(found)
        return self._derived[name]

    def names(self, rows: bool = False) -> list[str]:
        """Return unknown and derived quantities, without those with one value a row.

        What is held at a number is left out, and what rests on such numbers alone.
        """
        specification = self.binding.specification
        written = [d.name for d in (*specification.priors, *specification.derived)]
        fixed: set[str] = set()
        for part in specification.parts:
            rests = set(part.definition.names)
            if part.kind == "fixed" or (part.kind == "derived" and rests and rests <= fixed):
                fixed.add(part.name)
        return [
            name
            for name in written
            if name not in fixed and (rows or not any(map(is_rows, self.binding.axes[name])))
        ]

    def single(self, names: Sequence[str] | None = None) -> dict[str, np.ndarray]:
        """Return draws of every single number, shape (chains, draws), as `effect[Upper]`."""
        result: dict[str, np.ndarray] = {}
        for name in self.names() if names is None else names:
            flat = _one_after_another(self.get(name))
            for at, label in self.shown_cells(name):
                result[name + label] = flat[at]
        return result

    def cells(self, name: str) -> Iterator[str]:
        """Yield the label in brackets of each single number of a quantity, in order."""
        axes = self.binding.axes[name]
        if not axes:
            yield ""
            return
        for labels in product(*(label_texts(self.labels(axis)) for axis in axes)):
            yield f"[{', '.join(labels)}]"

    def shown_cells(self, name: str) -> list[tuple[int, str]]:
        """Return position and label of each number worth showing.

        Of a square matrix that is the part above the diagonal, and the diagonal too unless it
        is that of a correlation matrix.
        """
        cells = list(enumerate(self.cells(name)))
        axes = self.binding.axes[name]
        if len(axes) < 2 or axes[-1] != twin(axes[-2]):
            return cells
        size = len(self.labels(axes[-2]))
        least = 1 if self.binding.specification.part(name).event == "matrix" else 0
        return [c for c in cells if c[0] % size - (c[0] // size) % size >= least]

    def labels(self, axis: str) -> Sequence[object]:
        """Return the labels along an axis; rows are counted from 1."""
        if base_axis(axis) in self.binding.labels:
            return self.binding.labels[base_axis(axis)]
        return range(1, self.binding.program.shape((axis,))[0] + 1)


def _read_only(values: np.ndarray) -> np.ndarray:
    view = values.view()
    view.flags.writeable = False
    return view


def _one_after_another(value: np.ndarray) -> np.ndarray:
    """Return draws (chains, draws, labels...) as (numbers, chains, draws), each in one piece.

    Summaries run over the draws of one number, which should be neighbours in memory. Some
    numbers at a time are moved, so that what is read stays in the cache.
    """
    flat = value.reshape(*value.shape[:2], -1)
    if flat.shape[2] == 1:
        return flat.transpose(2, 0, 1)
    moved = np.empty((flat.shape[2], *flat.shape[:2]))
    for at in range(0, len(moved), _TOGETHER):
        moved[at : at + _TOGETHER] = flat[:, :, at : at + _TOGETHER].transpose(2, 0, 1)
    return moved


def label_texts(labels: Sequence[object]) -> list[str]:
    """Return labels as text; numbers in six digits, as long as that tells them apart."""
    short = [f"{label:.6g}" if isinstance(label, float) else str(label) for label in labels]
    texts = short if len(set(short)) == len(short) else list(map(str, labels))
    return [visible(text) for text in texts]


def thinned(draws: Draws, most: int) -> slice:
    """Return every k-th draw so that at most `most` are left."""
    chains, n = draws.shape
    return slice(None, None, max(1, -(-chains * n // most)))


def kept_iterations(draws: Draws, most: int) -> np.ndarray:
    """Return every k-th iteration, from 0, so that all chains keep about `most` draws at most."""
    chains, n = draws.shape
    return np.arange(0, n, max(1, -(-chains * n // most)))


def in_all_chains(draws: Draws, iterations: np.ndarray) -> np.ndarray:
    """Return where iterations of every chain are, chain after chain."""
    chains, n = draws.shape
    return (np.arange(chains)[:, None] * n + iterations).reshape(-1)


def from_positions(binding: Binding, positions: np.ndarray, length: int = 5000) -> Draws:
    """Return draws from unconstrained positions of shape (chains, draws, dimension).

    They are mapped in stretches of `length` draws of one chain: array libraries round sums
    differently for other shapes, and draws must not depend on when they were looked at.
    """
    draws = positions.shape[1]
    stretches = [
        [_mapped(binding, chain[at : at + length]) for at in range(0, max(draws, 1), length)]
        for chain in positions
    ]
    return Draws(
        binding,
        {
            name: np.stack([np.concatenate([one[name] for one in row]) for row in stretches])
            for name in stretches[0][0]
        },
    )


def _mapped(binding: Binding, positions: np.ndarray) -> dict[str, np.ndarray]:
    evaluation, _ = place_unknowns(on_numpy, binding.program, binding.arguments, positions)
    return {
        part.name: np.asarray(evaluation.values[part.name].values).reshape(
            len(positions), *binding.program.shape(part.axes)
        )
        for part in binding.program.unknowns
    }
