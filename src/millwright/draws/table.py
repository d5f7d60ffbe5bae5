"""The posterior table: one row a quantity, every column with its meaning in the heading."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal, get_args

import numpy as np

from millwright.diagnostics.arrays import QuantityBlock, by_blocks
from millwright.diagnostics.convergence import (
    block_mean_error,
    block_quantile_error,
    block_sd_error,
)
from millwright.diagnostics.measures import Measures, measure
from millwright.diagnostics.verdict import ABOVE_ALL
from millwright.draws.intervals import IntervalKind, check_level, interval, kind_words
from millwright.draws.numbers import decimals_of, fixed, probability_text, range_text
from millwright.errors import ArgumentError

__all__ = ["Order", "Table", "TableKind", "make_table"]

TableKind = Literal["central", "hdi", "both"]
Order = Literal["definition", "mean", "R-hat", "effective draws"]

_KEY = (
    "Effective draws: how many independent draws these are worth; more is better. "
    "R-hat: 1.00 is perfect, up to 1.01 is good, larger is worse."
)
_WORTH_A_NOTE = 0.1


@dataclass(frozen=True, kw_only=True)
class Table:
    """A posterior table as numbers and as text.

    Attributes
    ----------
    names
        One quantity a row.
    columns
        Numbers of each column; see `Posterior.table`.
    shown
        Text of each cell, with only the digits that the draws support.
    notes
        What must be said under the table.
    order
        How the rows are ordered.
    """

    names: tuple[str, ...]
    columns: Mapping[str, np.ndarray] = field(repr=False)
    shown: Mapping[str, Sequence[str]] = field(repr=False)
    notes: tuple[str, ...] = (_KEY,)
    order: Order = "definition"


def make_table(
    single: Mapping[str, np.ndarray],
    level: float = 0.95,
    kind: TableKind = "central",
    order: Order = "definition",
    measures: Measures | None = None,
    one_sided: Collection[str] = (),
    exact: Mapping[str, Mapping[str, float]] | None = None,
) -> Table:
    """Summarise draws of named numbers, each of shape (chains, draws); see `Posterior.table`.

    `measures` are convergence numbers that are known already; others are worked out. Numbers in
    `one_sided` cannot be negative: whether they are above 0 is no question. `exact` holds, by
    number and column, what is known without draws and takes the place of its estimate.
    """
    check_level(level)
    if kind not in get_args(TableKind):
        raise ArgumentError(f"`kind` must be 'central', 'hdi' or 'both', not {kind!r}.")
    if order not in get_args(Order):
        raise ArgumentError(f"`order` must be one of {', '.join(get_args(Order))}, not {order!r}.")
    if not single:
        raise ArgumentError("There is nothing to show.")
    if measures is None or not set(single) <= set(measures.names):
        measures = measure(single)
    kinds: tuple[IntervalKind, ...] = ("central", "hdi") if kind == "both" else (kind,)
    found = by_blocks(list(single.values()), lambda block: _numbers(block, level, kinds))
    numbers = {name: np.concatenate([part[name] for part in found]) for name in found[0]}
    at = {name: row for row, name in enumerate(measures.names)}
    rows = [at[name] for name in single]
    numbers |= {
        "effective draws": np.fmin(measures.bulk_size[rows], measures.tail_size[rows]),
        "R-hat": measures.scale_reduction[rows],
    }
    sided = np.array([name in one_sided for name in single])
    numbers["probability above 0"] = np.where(sided, np.nan, numbers["probability above 0"])
    for row, name in enumerate(single):
        for column, value in (exact or {}).get(name, {}).items():
            numbers[column][row] = value
    chosen = _ordered(numbers, order)
    numbers = {name: value[chosen] for name, value in numbers.items()}
    names = tuple(np.array(list(single), dtype=object)[chosen])
    size = next(iter(single.values())).size
    headings = [kind_words(one, level) for one in kinds]
    columns = {
        **{name: numbers[name] for name in ("mean", "sd", "median")},
        **{f"{h}, {end}": numbers[f"{h}, {end}"] for h in headings for end in ("from", "to")},
        "probability above 0": numbers["probability above 0"],
        **{name: numbers[name] for name in ("effective draws", "R-hat")},
    }
    notes = (*_notes(names, numbers, headings), *_last_digits(names, numbers, size))
    if (numbers["effective draws"] > size).any():
        notes = (*notes, ABOVE_ALL)
    return Table(
        names=names,
        columns=columns,
        shown=_shown(numbers, headings, size),
        notes=notes,
        order=order,
    )


def _numbers(
    block: QuantityBlock, level: float, kinds: tuple[IntervalKind, ...]
) -> dict[str, np.ndarray]:
    tails = ((1 - level) / 2, (1 + level) / 2)
    numbers = {
        "mean": block.flat.mean(axis=1),
        "sd": block.flat.std(axis=1, ddof=1),
        "median": block.quantile(0.5),
        "probability above 0": (block.flat > 0).mean(axis=1),
        "error of mean": block_mean_error(block),
        "error of sd": block_sd_error(block),
        "error of median": block_quantile_error(block, 0.5),
        "error of ends": np.fmax(*(block_quantile_error(block, tail) for tail in tails)),
    }
    for kind in kinds:
        heading = kind_words(kind, level)
        ends = (
            (block.quantile(tails[0]), block.quantile(tails[1]))
            if kind == "central"
            else interval(block.flat.T, level, kind)
        )
        numbers[f"{heading}, from"], numbers[f"{heading}, to"] = ends
    return numbers


def _ordered(numbers: Mapping[str, np.ndarray], order: Order) -> np.ndarray:
    """Return the order of the rows: largest mean, worst R-hat or fewest draws first."""
    if order == "definition":
        return np.arange(len(numbers["mean"]))
    key = {
        "mean": -numbers["mean"],
        "R-hat": -numbers["R-hat"],
        "effective draws": numbers["effective draws"],
    }[order]
    return np.argsort(key, kind="stable")


def _shown(
    numbers: Mapping[str, np.ndarray], headings: Sequence[str], size: int
) -> dict[str, list[str]]:
    """Return the cells as text; a row has the same decimals throughout."""
    spread = numbers["sd"]
    decimals = [decimals_of(sd) for sd in spread]
    shown = {
        column: [fixed(v, d) for v, d in zip(numbers[column], decimals, strict=True)]
        for column in ("mean", "sd", "median")
    }
    for heading in headings:
        ends = zip(numbers[f"{heading}, from"], numbers[f"{heading}, to"], spread, strict=True)
        shown[heading] = [range_text(low, high, sd) for low, high, sd in ends]
    shown["P(above 0)"] = [
        "" if np.isnan(p) else probability_text(p, size) for p in numbers["probability above 0"]
    ]
    shown["effective draws"] = [f"{value:.0f}" for value in numbers["effective draws"]]
    shown["R-hat"] = [f"{value:.3f}" for value in numbers["R-hat"]]
    return shown


def _last_digits(
    names: Sequence[str], numbers: Mapping[str, np.ndarray], size: int
) -> tuple[str, ...]:
    """Say where a last digit is more than the draws support, and how many draws would."""
    columns = ("error of mean", "error of sd", "error of median", "error of ends")
    error = np.nanmax(np.nan_to_num([numbers[c] for c in columns], posinf=0.0), axis=0)
    units = error * 10.0 ** np.array([float(decimals_of(sd)) for sd in numbers["sd"]])
    worst = int(np.argmax(units))
    if not units[worst] > 1.0:
        return ()
    rough = [name for name, unit in zip(names, units, strict=True) if unit > 1.0]
    where = f"`{rough[0]}`" if len(rough) == 1 else f"{len(rough)} rows"
    needed = size * units[worst] ** 2
    draws = f"{float(f'{needed:.1e}'):,.0f}"
    by = f"{units[worst]:.{0 if units[worst] > 2 else 1}f}"
    at = "" if len(rough) == 1 else f" at `{names[worst]}`"
    return (
        f"The last digit of {where} may change with another seed (by about {by}{at}); "
        f"{draws} draws would make it reliable.",
    )


def _notes(
    names: Sequence[str], numbers: Mapping[str, np.ndarray], headings: Sequence[str]
) -> tuple[str, ...]:
    notes = [_KEY]
    if len(headings) == 2:
        central, hdi = headings
        width = numbers[f"{central}, to"] - numbers[f"{central}, from"]
        gap = np.fmax(
            np.abs(numbers[f"{central}, from"] - numbers[f"{hdi}, from"]),
            np.abs(numbers[f"{central}, to"] - numbers[f"{hdi}, to"]),
        )
        apart = [name for name, far in zip(names, gap > _WORTH_A_NOTE * width, strict=True) if far]
        more = f" and {len(apart) - 4} more" if len(apart) > 4 else ""
        notes.append(
            f"The two intervals differ by more than a tenth of their width for "
            f"{', '.join(f'`{name}`' for name in apart[:4])}{more}: skewed posteriors; say which "
            "one you report."
            if apart
            else "The two kinds of interval hardly differ here."
        )
    return tuple(notes)
