"""Draws by name that are fetched when they are asked for."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence

import numpy as np

__all__ = ["Columns"]


class Columns(Mapping[str, np.ndarray]):
    """A mapping from names to arrays of shape (chains, draws, ...), read one at a time.

    Parameters
    ----------
    shape
        Number of chains and of draws a chain.
    read
        Returns the array of a name.
    keep
        Whether arrays stay in memory once they were read.
    """

    def __init__(
        self,
        names: Sequence[str],
        shape: tuple[int, int],
        read: Callable[[str], np.ndarray],
        keep: bool,
    ) -> None:
        self.shape = shape
        self._names = dict.fromkeys(names)
        self._read = read
        self._keep = keep
        self._kept: dict[str, np.ndarray] = {}

    def __getitem__(self, name: str) -> np.ndarray:
        if name in self._kept:
            return self._kept[name]
        if name not in self._names:
            raise KeyError(name)
        found = self._read(name)
        if self._keep:
            self._kept[name] = found
        return found

    def __iter__(self) -> Iterator[str]:
        return iter(self._names)

    def __len__(self) -> int:
        return len(self._names)
