"""Causal graphs for users: what a graph says, and what data say to it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from pathlib import Path as FilePath
from typing import Any

import pandas as pd

from millwright.causal.adjustment import (
    Instrument,
    adjustment_sets,
    causal_nodes,
    check_effect,
    fault_of,
    forbidden,
    instruments,
)
from millwright.causal.graph import Graph, read_graph
from millwright.causal.independences import Independence, independences
from millwright.causal.paths import MOST as MOST_PATHS, Path, paths_between
from millwright.causal.separators import MOST
from millwright.checks import check_path
from millwright.display import Shown
from millwright.errors import StorageError
from millwright.studies.causal_estimates import EffectEstimates, estimated
from millwright.studies.causal_test import GraphTest, arrow_strengths, graph_test
from millwright.studies.sentences import bulleted

__all__ = ["CausalGraph"]

_MOST_SHOWN = 12
_HIDDEN = "unobserved:"


class CausalGraph(Shown):
    """What causes what, as a directed acyclic graph.

    Parameters
    ----------
    graph
        A text, `"flow -> speed; speed -> heat; grain -> heat"`, several names with commas, and
        `a <-> b` for a common cause that is not observed; a mapping from each cause to its
        effects; or a directed networkx graph.
    unobserved
        Names of nodes that no data hold.

    Raises
    ------
    ArgumentError
        For what cannot be read, a cycle, or names that are not in the graph.
    """

    def __init__(self, graph: Any, unobserved: Iterable[str] = ()) -> None:
        self._graph = read_graph(graph, unobserved)

    @classmethod
    def read(cls, path: str | FilePath) -> CausalGraph:
        """Read a graph file.

        Parameters
        ----------
        path
            A text file: a line `cause -> effect` for each arrow, `a <-> b` for a common cause that
            is not observed, `unobserved: a, b`; `#` begins a comment.

        Returns
        -------
        The graph.

        Raises
        ------
        StorageError
            If it cannot be read.
        ArgumentError
            If it holds no graph.
        """
        place = check_path("path", path)
        try:
            text = place.read_text("utf-8")
        except (OSError, UnicodeDecodeError) as error:
            raise StorageError(f"The graph file {place} cannot be read: {error}.") from error
        lines = [line.split("#")[0].strip() for line in text.splitlines()]
        hidden = [one for one in lines if one.startswith(_HIDDEN)]
        names = [n.strip() for one in hidden for n in one.removeprefix(_HIDDEN).split(",")]
        return cls("\n".join(one for one in lines if one not in hidden), names)

    @property
    def graph(self) -> Graph:
        """Nodes and arrows."""
        return self._graph

    def adjustment_sets(
        self, exposure: str, outcome: str, effect: str = "total"
    ) -> list[tuple[str, ...]]:
        """Return all minimal sets of variables that identify an effect by adjustment.

        Parameters
        ----------
        exposure, outcome
            Names of observed nodes.
        effect
            `total`, through whatever lies between; or `direct`, by the arrow alone (in linear
            models).

        Returns
        -------
        The sets, smaller ones first, at most 2000; none where the effect is not identified by
        adjustment.

        Raises
        ------
        ArgumentError
            For names that are not in the graph, or not observed.
        """
        check_effect(effect)
        pair = self._graph.check_pair(exposure, outcome)
        return [self._ordered(some) for some in adjustment_sets(self._graph, *pair, effect)]

    def _ordered(self, some: Iterable[str]) -> tuple[str, ...]:
        chosen = set(some)
        return tuple(node for node in self._graph.nodes if node in chosen)

    def forbidden(self, exposure: str, outcome: str, effect: str = "total") -> dict[str, str]:
        """Return variables that must not be adjusted for, each with the reason.

        Raises
        ------
        ArgumentError
            As `adjustment_sets`.
        """
        return forbidden(self._graph, *self._graph.check_pair(exposure, outcome), effect)

    def instruments(self, exposure: str, outcome: str) -> list[Instrument]:
        """Return variables that move the outcome through the exposure alone, given others.

        Raises
        ------
        ArgumentError
            As `adjustment_sets`.
        """
        return instruments(self._graph, *self._graph.check_pair(exposure, outcome))

    def independences(self) -> list[Independence]:
        """Return the conditional independences that the graph implies, a smallest set for each."""
        return independences(self._graph)

    def paths(self, exposure: str, outcome: str, given: Iterable[str] = ()) -> pd.DataFrame:
        """Return the paths between two nodes, at most 500.

        Parameters
        ----------
        exposure, outcome
            Names of observed nodes.
        given
            What is adjusted for.

        Returns
        -------
        One row a path: its arrows, its kind (`causal`, `back-door`, `other`), whether it is open,
        and what blocks it.

        Raises
        ------
        ArgumentError
            As `adjustment_sets`.
        """
        rows = [
            {
                "path": path.words,
                "kind": path.kind,
                "open": path.open,
                "blocked by": ", ".join(path.blocked_by),
            }
            for path in self._paths(exposure, outcome, given)
        ]
        return pd.DataFrame(rows, columns=["path", "kind", "open", "blocked by"])

    def _paths(self, exposure: str, outcome: str, given: Iterable[str]) -> list[Path]:
        pair = self._graph.check_pair(exposure, outcome)
        chosen = [self._graph.check(name, "given") for name in given]
        return paths_between(self._graph, *pair, chosen)

    def explain(
        self,
        exposure: str,
        outcome: str,
        effect: str = "total",
        given: Iterable[str] | None = None,
    ) -> str:
        """Say in words what to adjust for, what never, and which paths stay open or are opened.

        Parameters
        ----------
        exposure, outcome, effect
            As for `adjustment_sets`.
        given
            Variables to judge as a set; by default the first minimal one.

        Raises
        ------
        ArgumentError
            As `adjustment_sets`.
        """
        sets = self.adjustment_sets(exposure, outcome, effect)
        lines = [f"{effect.capitalize()} effect of `{exposure}` on `{outcome}`."]
        if not causal_nodes(self._graph, exposure, outcome):
            lines.append(f"No arrows lead from `{exposure}` to `{outcome}`: there is no effect.")
        if not sets:
            lines.append(
                "It is not identified by adjustment: no set of observed variables closes every "
                "path that is not causal."
            )
            lines += [_instrument_words(one) for one in self.instruments(exposure, outcome)]
        else:
            shown = [_set_words(some) for some in sets[:_MOST_SHOWN]]
            more = len(sets) - len(shown)
            least = "at least " * (len(sets) >= MOST)
            told = "; or ".join(shown) + (f"; or {least}{more} more" if more else "")
            lines.append(f"Minimal sets to adjust for: {told}.")
        for node, reason in self.forbidden(exposure, outcome, effect).items():
            lines.append(f"Never adjust for `{node}`: {reason}.")
        if given is not None:
            lines += self._judged(exposure, outcome, list(given), effect)
        return bulleted(lines)

    def _judged(self, exposure: str, outcome: str, given: list[str], effect: str) -> list[str]:
        """Say whether a set identifies the effect, and what it opens."""
        chosen = [self._graph.check(name, "given") for name in given]
        fault = fault_of(self._graph, exposure, outcome, chosen, effect)
        told = _set_words(chosen)
        lines = [f"Adjusting for {told} does not identify it: {fault}."] if fault else []
        if not fault:
            lines.append(f"Adjusting for {told} identifies it.")
        every = self._paths(exposure, outcome, chosen)
        if len(every) >= MOST_PATHS:
            lines.append(f"Only {MOST_PATHS} of its paths were looked through for those open.")
        before = {path.words for path in self._paths(exposure, outcome, ()) if path.open}
        for path in every:
            if path.open and path.kind != "causal":
                opened = path.words not in before
                lines.append(f"{'Opened' if opened else 'Still open'}: {path.words}.")
        return lines

    def estimate(
        self,
        data: Any,
        *,
        effect_of: str,
        on: str,
        effect: str = "total",
        given: Iterable[str] | None = None,
        standardise: bool = False,
        seed: int = 0,
        **settings: Any,
    ) -> EffectEstimates:
        """Estimate an effect by regression, with every minimal adjustment set side by side.

        Parameters
        ----------
        data
            DataFrame, or mapping of columns.
        effect_of, on
            Exposure and outcome.
        effect
            `total` or `direct`.
        given
            One set to adjust for; by default every minimal one, at most four.
        standardise
            Whether columns of numbers are put in units of their sd around their mean; the outcome
            only with the families normal and student_t.
        seed
            Any whole number from 0.
        settings
            Further arguments of `mw.studies.regression`, such as `family`.

        Returns
        -------
        The estimates, with the studies behind them.

        Raises
        ------
        ArgumentError
            If the effect is not identified, a column is missing, or a set does not identify it.
        """
        check_effect(effect)
        pair = self._graph.check_pair(effect_of, on)
        return estimated(self._graph, data, pair, effect, given, standardise, seed, settings)

    def test(
        self, data: Any, *, rope: tuple[float, float] = (-0.1, 0.1), level: float = 0.95
    ) -> GraphTest:
        """Ask data whether the independences that the graph implies hold.

        Each by a linear regression of one variable on the other and the set, all standardised,
        with flat priors: the coefficient's posterior is a t distribution.

        Parameters
        ----------
        data
            DataFrame, or mapping of columns.
        rope
            Region around 0 in which a standardised coefficient is as good as none.
        level
            Of the intervals.

        Returns
        -------
        The coefficients, and in words what they say.

        Raises
        ------
        ArgumentError
            If the graph implies none, or a column is missing.
        """
        return graph_test(self._graph, self.independences(), data, rope, level)

    def strengths(self, data: Any) -> Mapping[tuple[str, str], float]:
        """Return the standardised coefficient of every arrow that its effect's causes identify.

        By a linear regression of each node on its causes, where all of these are observed.

        Parameters
        ----------
        data
            DataFrame, or mapping of columns.

        Raises
        ------
        ArgumentError
            If a column is missing.
        """
        return arrow_strengths(self._graph, data)

    def __str__(self) -> str:
        graph = self._graph
        lines = []
        for node in graph.nodes:
            causes = [one for one in graph.parents(node) if " <-> " not in one]
            if causes:
                lines.append(f"`{node}` is caused by {_names(causes)}.")
        for node in graph.nodes:
            if " <-> " in node and node in graph.unobserved:
                one, other = node.split(" <-> ")
                lines.append(f"`{one}` and `{other}` have a common cause that is not observed.")
        hidden = [node for node in graph.nodes if node in graph.unobserved and " <-> " not in node]
        if hidden:
            lines.append(f"Not observed: {_names(hidden)}.")
        found = self.independences()
        told = "; ".join(one.words for one in found[:_MOST_SHOWN])
        more = f"; and {len(found) - _MOST_SHOWN} more" * (len(found) > _MOST_SHOWN)
        lines.append(
            f"The graph implies that {told}{more}."
            if found
            else "The graph implies no independence: no data can speak against it."
        )
        return bulleted(lines)


def _names(some: Iterable[str]) -> str:
    return ", ".join(f"`{one}`" for one in some)


def _set_words(some: Iterable[str]) -> str:
    return _names(some) or "nothing"


def _instrument_words(one: Instrument) -> str:
    given = f" given {_names(sorted(one.given))}" if one.given else ""
    return (
        f"`{one.name}` is an instrument{given}: it moves the outcome through the exposure alone."
    )
