"""The independences of a causal graph against data, and the strength of its arrows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pandas as pd
from scipy import stats

from millwright.causal.adjustment import fault_of
from millwright.causal.graph import Graph
from millwright.causal.independences import Independence
from millwright.display import Shown, text_table
from millwright.draws.decision import region_ends
from millwright.draws.intervals import check_level
from millwright.errors import ArgumentError
from millwright.studies.causal_data import columns_of, regressed, standardised

__all__ = ["GraphTest", "arrow_strengths", "graph_test"]

_HOLDS = "the data agree"
_AGAINST = "the data speak against it"
_OPEN = "the data cannot tell"


@dataclass(frozen=True, kw_only=True)
class GraphTest(Shown):
    """What data say to the independences that a graph implies.

    Attributes
    ----------
    rows
        Complete rows.
    rope, level
        Region of practical equivalence of standardised coefficients; level of the intervals.
    not_asked
        Independences that a linear regression cannot ask, each with the reason.
    remark
        How many rows were left out for missing values; empty for none.
    """

    frame: pd.DataFrame = field(repr=False)
    rows: int
    rope: tuple[float, float]
    level: float
    not_asked: tuple[str, ...]
    remark: str

    def table(self) -> pd.DataFrame:
        """Return one row an independence.

        Returns
        -------
        The two variables and the set; standardised coefficient, interval, probability of being
        inside the region, and in words.
        """
        return self.frame

    @property
    def against(self) -> pd.DataFrame:
        """The independences that the data speak against."""
        return self.frame[self.frame["in words"] == _AGAINST]

    def __str__(self) -> str:
        frame, low, high = self.frame, *self.rope
        counts = [int((frame["in words"] == one).sum()) for one in (_HOLDS, _OPEN, _AGAINST)]
        head = (
            f"{len(frame)} implied independences asked of {self.rows} rows: the data agree with "
            f"{counts[0]}, cannot tell of {counts[1]}, and speak against {counts[2]}."
        )
        if counts[2]:
            head += (
                " Where they speak against one, an arrow, or a common cause, between the two is "
                "missing, or the relation is not linear."
            )
        names = [
            f"{row['first']}, {row['second']}" + (f" | {row['given']}" if row["given"] else "")
            for _, row in frame.iterrows()
        ]
        words = f"{100 * self.level:g} % interval"
        columns = {
            "coefficient": [f"{one:.2f}" for one in frame["coefficient"]],
            words: [
                f"{one:.2f} to {other:.2f}"
                for one, other in zip(frame.iloc[:, 4], frame.iloc[:, 5], strict=True)
            ],
            "in words": list(frame["in words"]),
        }
        key = (
            f"Standardised coefficients, flat priors. Agree: the interval lies within {low:g} to "
            f"{high:g}. Against: it lies outside. With {len(frame)} asked, about "
            f"{(1 - self.level) * len(frame):.1f} intervals miss the truth by chance."
        )
        notes = [key, *self.not_asked, *([self.remark] if self.remark else [])]
        return "\n".join([head, "", text_table(names, columns), *notes])


def graph_test(
    graph: Graph,
    asked: Sequence[Independence],
    data: Any,
    rope: tuple[float, float],
    level: float,
) -> GraphTest:
    """Ask data; see `CausalGraph.test`."""
    if not asked:
        raise ArgumentError("The graph implies no independence: no data can speak against it.")
    low, high = region_ends(rope)
    check_level(level)
    frame, remark = columns_of(data, graph.observed)
    scores = {name: standardised(frame[name]) for name in frame.columns}
    rows, left = [], []
    for one in asked:
        names = (one.first, one.second, *sorted(one.given))
        labels = [name for name in names if scores[name] is None]
        if labels:
            left.append(f"Not asked: {one.words}; `{labels[0]}` holds labels, or does not vary.")
            continue
        first, second, *others = (np.asarray(scores[name]) for name in names)
        found = regressed(first, [second, *others])
        if found is None:
            left.append(f"Not asked: {one.words}; the columns say the same, or rows are too few.")
            continue
        slope, error, df = float(found[0][0]), float(found[1][0]), found[2]
        ends = stats.t(df, slope, error).ppf([(1 - level) / 2, (1 + level) / 2])
        inside = np.diff(stats.t(df, slope, error).cdf([low, high]))[0]
        words = _OPEN
        if low <= ends[0] and ends[1] <= high:
            words = _HOLDS
        elif ends[0] > high or ends[1] < low:
            words = _AGAINST
        given = ", ".join(sorted(one.given))
        rows.append([one.first, one.second, given, slope, *ends, float(inside), words])
    if not rows:
        raise ArgumentError(f"No independence can be asked. {' '.join(left)}")
    columns = ["first", "second", "given", "coefficient"]
    columns += [f"{100 * level:g} % interval, from", f"{100 * level:g} % interval, to"]
    columns += ["probability inside", "in words"]
    return GraphTest(
        frame=pd.DataFrame(rows, columns=columns),
        rows=len(frame),
        rope=(low, high),
        level=level,
        not_asked=tuple(left),
        remark=remark,
    )


def arrow_strengths(graph: Graph, data: Any) -> dict[tuple[str, str], float]:
    """Return standardised coefficients of arrows; see `CausalGraph.strengths`."""
    frame = columns_of(data, graph.observed)[0]
    scores = {name: standardised(frame[name]) for name in frame.columns}
    found: dict[tuple[str, str], float] = {}
    for node in graph.observed:
        causes = graph.parents(node)
        known = [one for one in causes if one not in graph.unobserved]
        values = [scores[name] for name in (node, *known)]
        if not known or any(one is None for one in values):
            continue
        told = regressed(np.asarray(values[0]), [np.asarray(one) for one in values[1:]])
        if told is None:
            continue
        for cause, slope in zip(known, told[0], strict=True):
            others = [one for one in known if one != cause]
            if not fault_of(graph, cause, node, others, "direct"):
                found[cause, node] = float(slope)
    return found
