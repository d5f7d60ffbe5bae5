"""The study of which candidates explain an outcome: every subset weighed, or those walks meet."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import Any, ClassVar, Literal

import numpy as np
import pandas as pd

from millwright.checks import check_list, check_path, check_whole
from millwright.errors import ArgumentError, DataError
from millwright.fitting.record import Origin
from millwright.models.exact import exact_posterior
from millwright.models.model import Model
from millwright.posterior.posterior import Posterior
from millwright.sampling.progress import ChainProgress, Listener, Progress
from millwright.studies.findings import Findings
from millwright.studies.folder import ending_of
from millwright.studies.selection_data import Candidates, candidates_of, term_numbers
from millwright.studies.selection_draws import drawn_over_subsets
from millwright.studies.selection_findings import SelectionFindings
from millwright.studies.selection_models import average_model, subset_model
from millwright.studies.selection_prior import g_prior, size_prior, space_of
from millwright.studies.selection_words import choice_words
from millwright.studies.sparse_study import SparseStudy, refuse_search, sparse_selection
from millwright.studies.study import Fitting, Simulations, Study
from millwright.subsets.explore import Explored, Told, Walks, enumerated, walked
from millwright.subsets.space import Space
from millwright.subsets.weights import GPrior, Table
from millwright.terminal.progress import chosen_listener
from millwright.wording import setting

__all__ = ["SelectionStudy", "variable_selection"]

_ALL_UP_TO = 20
_MOST_ENUMERATED = 30
_DRAWS = 2500
_WAYS = ("auto", "all", "walk")


@dataclass(frozen=True, eq=False, kw_only=True)
class SelectionStudy(Study):
    """Candidates for a linear regression.

    Attributes
    ----------
    candidates
        Outcome, columns and terms.
    """

    name: ClassVar[str] = "variable_selection"

    candidates: Candidates = field(repr=False)

    @cached_property
    def space(self) -> Space:
        """The allowed subsets with their prior probabilities."""
        return space_of(self.candidates, self.settings)

    @cached_property
    def g(self) -> GPrior:
        """What is said of g."""
        return g_prior(self.settings["g"], self.candidates.rows, len(self.candidates.names))

    @property
    def most(self) -> int:
        """The most columns of a subset: three rows are left for level and noise."""
        return min(len(self.candidates.names), self.candidates.rows - 3)

    @property
    def walks(self) -> Walks | None:
        """How subsets are walked over; None where all are weighed."""
        way, count = self.settings["search"], len(self.space.free)
        if way == "all" or (way == "auto" and count <= _ALL_UP_TO):
            return None
        steps = int(self.settings["steps"])
        chains = int(self.settings["walks"])
        burn = self.settings["burn_in"]
        each = max(steps // chains, 100)
        return Walks(
            chains=chains, steps=each, burn_in=each // 5 if burn is None else int(burn) // chains
        )

    def explored(self, seed: int, told: Told = lambda share: None) -> Explored:
        """Weigh the subsets."""
        columns = self.candidates.cross_products(self.most)
        table = self.g.table(self.most, self._highest)
        return self._weighed(table, columns, seed, told)

    @property
    def bound(self) -> bool:
        """Whether some subsets are left out, so that prior probabilities have no closed form."""
        space, made = self.space, self.candidates
        tied = len(space.parents) > 0 or len(space.rivals) > 0 or len(made.same) > 0
        return tied or self.most < len(made.names)

    @cached_property
    def prior(self) -> tuple[np.ndarray, np.ndarray]:
        """Prior probability of each term and of each number of terms.

        Where subsets are bound or left out they come from weighing all without the data, or from a
        walk without them.
        """
        space, made = self.space, self.candidates
        if not self.bound:
            sizes = size_prior(space)
            return _inclusion(space, sizes), sizes
        nothing = Table(made.rows, 0.0, np.zeros((4, self.most + 1, 4, 1)), 1e9)
        columns = made.cross_products(self.most)
        found = self._weighed(nothing, columns, 0, lambda share: None)
        if found.visits is None:
            return found.included, found.size
        return found.visits.included.mean(axis=(0, 1)), found.visits.size

    def _weighed(self, table: Table, columns: Any, seed: int, told: Told) -> Explored:
        kept = int(self.settings["kept"])
        walks = self.walks
        if walks is None:
            return enumerated(columns, self.space, table, kept, told)
        return walked(columns, self.space, table, kept, walks, seed, told)

    @cached_property
    def _highest(self) -> float:
        """The largest share that any subset explains."""
        made = self.candidates
        if len(made.names) >= made.rows - 3:
            return 1.0
        outcome = (made.readings - made.readings.mean()) / made.outcome_length
        left = outcome - made.values @ np.linalg.lstsq(made.values, outcome, rcond=None)[0]
        return float(1 - left @ left)

    def model_of(self, *terms: str) -> tuple[Model, pd.DataFrame]:
        """Return the visible model of one subset under its g-prior, with its data.

        Parameters
        ----------
        terms
            Names of candidates.

        Raises
        ------
        ArgumentError
            For a name that is no candidate, or more columns than the rows allow.
        """
        self.check_terms(terms)
        return subset_model(self.candidates, self.g, terms)

    def check_terms(self, terms: Sequence[str]) -> list[int]:
        """Return the numbers of terms; see `model_of`."""
        numbers = term_numbers(self.candidates, terms, "terms")
        columns = sum(len(self.candidates.columns_of[one]) for one in terms)
        if columns > self.most:
            raise ArgumentError(
                f"{columns} columns are more than {self.candidates.rows} rows allow: at most "
                f"{self.most}."
            )
        return numbers

    def data_of(self, name: str) -> pd.DataFrame:
        """Return the columns that a model uses."""
        return self._average_data

    @cached_property
    def _average_data(self) -> pd.DataFrame:
        return average_model(self.candidates)[1]

    def write(self, folder: str | Path, replace: bool = False) -> Path:
        """Write the sheet of the average, and the data as it uses them; see `Study.write`."""
        place, data = check_path("folder", folder), self.data_of("average")
        return self._written(
            {"average": place / "average.toml"}, {place / f"data{ending_of(data)}": data}, replace
        )

    def data_lines(self) -> tuple[str, ...]:
        """Return rows, candidates and columns."""
        made = self.candidates
        terms, columns = len(made.terms), len(made.names)
        lines = [
            f"{made.rows} rows; {terms} candidate{'s' * (terms > 1)}"
            + (f" with {columns} columns" if columns != terms else "")
            + f", so {2.0 ** len(self.space.free):,.6g} subsets."
        ]
        if self.most < columns:
            lines.append(
                f"Subsets of more than {self.most} columns are left out: the rows could not tell "
                "them apart from a perfect fit."
            )
        return tuple(lines)

    def simulate(self, *, draws: int = 500, seed: int = 0) -> Simulations:
        """Draw slopes and data from the prior of the model of all candidates; see `Study`.

        Level and noise, whose priors are flat, are held at those of the outcome.

        Raises
        ------
        ArgumentError
            If there are more candidates than the rows allow.
        """
        made = self.candidates
        model, data = self.model_of(*made.terms)
        held = {
            "intercept": float(made.readings.mean()),
            "log_noise": float(np.log(made.readings.std(ddof=1))),
        }
        found = model.simulate(data, draws=draws, seed=seed, given=held)
        return Simulations({"every candidate": found})

    def _fit_one(self, name: str, how: Fitting) -> Posterior:
        seed = int(how.settings.get("seed", 0))
        explored = self.explored(seed, _listened(how.progress))
        self._known[seed] = explored
        settings = {"draws": _DRAWS, **how.settings}
        meant = {k: settings[k] for k in ("seed", "chains", "draws") if settings.get(k)}
        binding = self.models[name].bind(self.data_of(name))

        def drawn(generator: np.random.Generator, count: int) -> dict[str, np.ndarray]:
            return drawn_over_subsets(self.candidates, self.g, explored, generator, count)

        words = "draws over subsets by their weights, each from its closed form"
        posterior = exact_posterior(binding, drawn, method=words, origin=Origin.AVERAGE, **meant)
        if how.save is not None:
            posterior.save(how.save, replace=True)
        return posterior

    @cached_property
    def _known(self) -> dict[int, Explored]:
        return {}

    def _found(self, posteriors: Mapping[str, Posterior], settings: Mapping[str, Any]) -> Findings:
        seed = int(settings.get("seed", 0))
        if seed not in self._known:
            self._known[seed] = self.explored(seed)
        return SelectionFindings(
            study=self,
            posteriors=posteriors,
            fit_settings=settings,
            explored=self._known[seed],
        )


def _inclusion(space: Space, sizes: np.ndarray) -> np.ndarray:
    """Return prior probabilities of terms where nothing binds them."""
    found = np.ones(len(space.first) - 1)
    if space.log_odds.any():
        found[space.free] = 1 / (1 + np.exp(-space.log_odds[space.free]))
    elif len(space.free):
        forced = len(found) - len(space.free)
        found[space.free] = (np.arange(len(sizes)) - forced) @ sizes / len(space.free)
    return found


def _listened(progress: bool | Listener) -> Told:
    """Return what tells a listener, or the terminal, how far the search is."""
    listener, began = chosen_listener(progress), time.monotonic()
    listener(Progress("compiling", 0.0))

    def told(share: float) -> None:
        one = ChainProgress(
            chain=0, warming=False, done=int(1000 * share), total=1000, divergences=0, steps=0
        )
        stage: Literal["finished", "weighing"] = "finished" if share >= 1 else "weighing"
        listener(Progress(stage, time.monotonic() - began, (one,)))

    return told


def variable_selection(
    data: Any,
    outcome: str | None = None,
    candidates: Sequence[str] | str | None = None,
    *,
    always: Sequence[str] = (),
    exclusive: Sequence[Sequence[str]] = (),
    family: str = "normal",
    link: str | None = None,
    trials: str | None = None,
    exposure: str | None = None,
    region: float | None = None,
    priors: Mapping[str, str] | None = None,
    g: str | float = "max(n, k^2)",
    prior: str | float | Mapping[str, float] | None = None,
    expected_size: float | None = None,
    search: str = "auto",
    steps: int = 200_000,
    burn_in: int | None = None,
    walks: int = 4,
    kept: int = 2000,
    missing: str = "refuse",
) -> SelectionStudy | SparseStudy:
    """Ask which candidates explain an outcome.

    Of a normal outcome by linear regressions on every subset, weighed one by one; of other
    families, or with `prior="horseshoe"`, by one regression of all candidates whose slopes are
    pulled to 0 (Piironen and Vehtari 2017), which approximates it.

    Parameters
    ----------
    data
        DataFrame, or mapping of columns.
    outcome
        The column to explain.
    candidates
        Columns that may explain it, or a formula such as `~ heat + grain + heat:grain`; by
        default all other columns. Columns of labels enter as a whole; interactions only beside
        their parents.
    always
        Candidates that are in every subset.
    exclusive
        Groups of candidates of which at most one is in.
    family, link, trials, exposure
        Distribution of the outcome, as for `regression`: `bernoulli`, `poisson`, ...
    region
        With a horseshoe: a candidate is in where its slope, for one sd, is larger than this; by
        default a tenth of the outcome's sd, 0.18 on the scale of log odds, 0.1 on that of logs.
    priors
        With a horseshoe: priors by class, as for `regression`.
    g
        Of the prior of slopes (Zellner 1986): `n`, `k^2`, `max(n, k^2)` (Fernandez, Ley and Steel
        2001), with k columns, or a number; or with a prior of its own, `hyper-g` or `hyper-g/n`
        with a = 3 (Liang et al. 2008).
    prior
        Of the subsets: `beta-binomial`, by which every number of candidates is as probable as
        another (Ley and Steel 2009), or `uniform`; a probability for every candidate, or one each.
        Or `horseshoe`. By default `beta-binomial` for a normal outcome, `horseshoe` for others.
    expected_size
        Of the beta-binomial prior, by default half of the candidates; of the horseshoe a fifth.
    search
        `all` subsets, or a `walk` over them; `auto` takes all up to 20 free candidates.
    steps, burn_in
        Steps of all walks together, and steps before them; by default a fifth of `steps`.
    walks
        How many walks, from different starts.
    kept
        How many of the best subsets to keep.
    missing
        `refuse` rows with gaps, or `drop` them.

    Returns
    -------
    The study; nothing is computed yet.

    Raises
    ------
    ArgumentError
        For columns or settings that make no sense.
    DataError
        For gaps, columns that do not vary, too few rows.
    """
    if prior is None:
        prior = "beta-binomial" if family == "normal" else "horseshoe"
    search_given = {
        "exclusive": (exclusive, ()),
        "g": (g, "max(n, k^2)"),
        "search": (search, "auto"),
        "steps": (steps, 200_000),
        "burn_in": (burn_in, None),
        "walks": (walks, 4),
        "kept": (kept, 2000),
    }
    if isinstance(prior, str) and prior == "horseshoe":
        refuse_search({key: one for key, (one, usual) in search_given.items() if one != usual})
        return sparse_selection(
            data,
            outcome,
            candidates,
            always=always,
            expected_size=expected_size,
            region=region,
            missing=missing,
            family=family,
            link=link,
            trials=trials,
            exposure=exposure,
            priors=priors,
        )
    _refuse_families(
        {
            "family": None if family == "normal" else family,
            "link": None if link == "identity" else link,
            "trials": trials,
            "exposure": exposure,
            "region": region,
            "priors": priors,
        }
    )
    made = candidates_of(data, outcome, candidates, missing)
    settings = {
        "outcome": made.outcome,
        "candidates": made.formula,
        "always": check_list("always", always),
        "exclusive": [
            one if isinstance(one, str) else check_list("exclusive", one)
            for one in check_list("exclusive", exclusive)
        ],
        "g": g,
        "prior": dict(prior) if isinstance(prior, Mapping) else prior,
        "expected_size": expected_size,
        "search": search,
        "steps": steps,
        "burn_in": burn_in,
        "walks": walks,
        "kept": kept,
    }
    return build(made, settings)


def _refuse_families(given: Mapping[str, Any]) -> None:
    for name, value in given.items():
        if value is not None:
            raise ArgumentError(
                f"{setting(name)} goes with {setting('prior', 'horseshoe')}: only linear "
                "regressions of a normal outcome are weighed subset by subset."
            )


def build(made: Candidates, settings: Mapping[str, Any]) -> SelectionStudy:
    """Return the study of candidates under settings, all checked."""
    if settings["search"] not in _WAYS:
        raise ArgumentError(f"`search` is one of {', '.join(_WAYS)}, not {settings['search']!r}.")
    for name, least in (("steps", 1000), ("walks", 2), ("kept", 10)):
        check_whole(name, settings[name], least)
    if settings["burn_in"] is not None:
        check_whole("burn_in", settings["burn_in"], 0)
    study = SelectionStudy(
        question=f"Which of {len(made.terms)} candidates explain `{made.outcome}`?",
        data=made.frame,
        models={"average": average_model(made)[0]},
        choices=(),
        remarks=made.remarks,
        settings=settings,
        candidates=made,
    )
    if settings["search"] == "all" and len(study.space.free) > _MOST_ENUMERATED:
        raise ArgumentError(
            f"{len(study.space.free)} free candidates have too many subsets to weigh all: "
            f"{setting('search', 'walk')}."
        )
    forced = [made.terms[at] for at in range(len(made.terms)) if at not in study.space.free]
    columns = [name for one in forced for name in made.columns_of[one]]
    if len(columns) > study.most:
        raise DataError("There are more columns in `always` than the rows allow.")
    values = made.values[:, [made.names.index(name) for name in columns]]
    if columns and np.linalg.matrix_rank(values) < len(columns):
        raise DataError("Columns in `always` say what others there say: leave one of them out.")
    return replace(study, choices=choice_words(study))


def rebuild(
    data: pd.DataFrame, settings: Mapping[str, Any], remarks: tuple[str, ...]
) -> SelectionStudy:
    """Return a stored study."""
    made = candidates_of(data, settings["outcome"], settings["candidates"], "refuse")
    kept = tuple(one for one in remarks if one not in made.remarks)
    return build(replace(made, remarks=(*kept, *made.remarks)), settings)
