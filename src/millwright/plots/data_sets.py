"""Intervals of one quantity over many data sets."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from matplotlib.figure import Figure

from millwright.draws.intervals import IntervalKind, kind_words
from millwright.errors import ArgumentError
from millwright.plots.bars import bars, label_rows
from millwright.plots.choose import check_reference, on_page
from millwright.plots.panels import Size, single_panel
from millwright.plots.style import BLUE, GREY, INK, finish, styled
from millwright.posterior.posteriors import Posteriors
from millwright.wording import visible

__all__ = ["intervals_over_data_sets"]

_MOST_ROWS = 60
_MOST_NAMED = 5


def intervals_over_data_sets(
    posteriors: Posteriors,
    names: str | Sequence[str] | None,
    level: float,
    kind: IntervalKind,
    reference: Mapping[str, float] | None,
    page: int | None,
    size: Size | None,
    text: bool,
) -> Figure:
    """Draw a row for each data set; see `intervals`."""
    found, quantity = _one_quantity(posteriors, names)
    marked = check_reference(reference, found)
    rows, page_words = on_page(list(found), "data sets", _MOST_ROWS, page)
    verdicts = {str(name): one.verdict for name, one in posteriors.items()}
    with styled():
        height = min(8.0, 2.0 + 0.34 * len(rows))
        figure, panel = single_panel(size or (12.8, height), None)
        for row, name in enumerate(rows):
            value = found[name].reshape(-1)
            bars(panel, row, value, level, kind, BLUE if verdicts[name].good else GREY)
            if name in marked:
                panel.plot(marked[name], row, "D", color=INK, mec="white", ms=8, zorder=5)
        middle = float(np.median([np.median(value) for value in found.values()]))
        panel.axvline(middle, color=GREY, ls="--", lw=1.2, zorder=1)
        label_rows(
            panel,
            [visible(name) + ("" if verdicts[name].good else " (see verdict)") for name in rows],
        )
        first = next(iter(posteriors.values()))
        panel.set_xlabel(first.draws.binding.specification.with_unit(quantity))
        return finish(
            figure,
            f"{quantity}: {kind_words(kind, level)}s, one data set a row{page_words}",
            f"Dot: median. Thick bar: 50 % interval. Thin bar: {kind_words(kind, level)}. Each "
            f"data set was fitted by itself. Dashed: median of the medians of all {len(found)} "
            "data sets; a dotted line marks zero where it is in view."
            + " Diamond: reference value." * bool(marked)
            + " Grey: the verdict on that fit is not good." * _any_bad(posteriors, rows)
            + _failed(posteriors.failures),
            text,
        )


def _one_quantity(
    posteriors: Posteriors, names: str | Sequence[str] | None
) -> tuple[dict[str, np.ndarray], str]:
    """Return the draws of a single number by data set, and its name."""
    asked = [names] if isinstance(names, str) else list(names or ())
    if len(asked) != 1:
        raise ArgumentError(
            "Over many data sets one quantity is drawn: name one, such as "
            "intervals(posteriors, 'slope')."
        )
    numbers = posteriors.draws_of(asked[0])
    parts = list(dict.fromkeys(part for _, part in numbers))
    if len(parts) > 1:
        raise ArgumentError(
            f"`{asked[0]}` has several numbers a data set: choose one, such as `{parts[0]}`."
        )
    return {str(name): value for (name, _), value in numbers.items()}, parts[0]


def _any_bad(posteriors: Posteriors, rows: Sequence[str]) -> bool:
    return any(not one.verdict.good for n, one in posteriors.items() if str(n) in rows)


def _failed(failures: Mapping[Any, str]) -> str:
    if not failures:
        return ""
    named = ", ".join(visible(str(name)) for name in list(failures)[:_MOST_NAMED])
    more = f" and {len(failures) - _MOST_NAMED} more" if len(failures) > _MOST_NAMED else ""
    return f" Not fitted: {named}{more}."
