"""Pieces of answers in words: a size with its interval, a probability, a decision."""

from __future__ import annotations

import textwrap
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np

from millwright.draws.intervals import IntervalKind, interval, kind_words
from millwright.draws.numbers import decimals_of, fixed, range_text
from millwright.wording import visible

_ONE_SIDED, _TWO_SIDED = 0.95, 0.975

__all__ = ["bulleted", "middle_words", "readings", "size_words"]


def size_words(values: np.ndarray, level: float, kind: IntervalKind) -> str:
    """Return the median with its interval: `0.82 (95 % central interval 0.31 to 1.35)`."""
    flat = values.reshape(-1)
    ends = interval(flat, level, kind)
    spread = float(flat.std(ddof=1))
    return middle_words(float(np.median(flat)), ends, spread, kind_words(kind, level))


def middle_words(middle: float, ends: tuple[Any, Any], spread: float, words: str = "") -> str:
    """Return a median with its interval, with the decimals of tables, so that both agree.

    Parameters
    ----------
    spread
        The sd of the number, which decides the decimals.
    words
        What kind of interval it is; nothing where a caption says it.
    """
    told = range_text(float(ends[0]), float(ends[1]), spread)
    return f"{fixed(middle, decimals_of(spread))} ({words}{' ' * bool(words)}{told})"


def readings(statement: str, share: float, told: Callable[[float], str]) -> list[str]:
    """Say what a one-sided and a two-sided reading make of a probability, and why they differ.

    Parameters
    ----------
    share
        Probability of the statement.
    told
        Words a probability.
    """
    one, two = share >= _ONE_SIDED, share >= _TWO_SIDED
    lines = [
        f"One-sided reading (asks for {_ONE_SIDED:g} on one side): {statement} is "
        f"{'shown' if one else 'not shown'} at 95 %, with {told(share)}.",
        "Two-sided reading (asks for 0.975 on one side, that the central 95 % interval leaves out "
        f"the boundary): a difference is {'shown' if two else 'not shown'} at 95 %.",
    ]
    if one != two:
        lines.append(
            "They differ because a one-sided reading, decided on before the data were seen, has "
            "its 5 % on one side; a two-sided one leaves 2.5 % on either."
        )
    return lines


def bulleted(lines: Sequence[str]) -> str:
    """Return lines with a dash each, broken where they are long."""
    told = (
        textwrap.fill(
            # A number stays on one line with its per cent.
            visible(line).replace(" %", "\xa0%"),
            100,
            initial_indent="  - ",
            subsequent_indent="    ",
            break_long_words=False,
            break_on_hyphens=False,
        )
        for line in lines
    )
    return "\n".join(told).replace("\xa0", " ")
