"""A model: definitions of priors, likelihood and derived quantities."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from concurrent.futures import Executor
from html import escape
from pathlib import Path
from typing import TYPE_CHECKING, Any

from millwright.checks import check_mapping, check_path, check_whole
from millwright.display import Shown
from millwright.draws.prior import draws_in, refuse_improper, refuse_terms
from millwright.draws.simulated import Simulated
from millwright.fitting.coordinates import prepared
from millwright.fitting.estimates import Estimate, estimate_at, refuse_hierarchy
from millwright.fitting.method import refuse_black_boxes
from millwright.fitting.plan import FitPlan
from millwright.fitting.starting import StartValues
from millwright.fitting.target import target_of
from millwright.modelling.binding import Binding, bind
from millwright.modelling.data_sets import data_sets
from millwright.modelling.drawn_columns import with_room
from millwright.modelling.foreign import Foreign
from millwright.modelling.pictures import graph, latex
from millwright.modelling.reading import read_tables
from millwright.modelling.simulate import draw_data, stated_values
from millwright.modelling.specification import Specification, Written, specify
from millwright.modelling.words import describe
from millwright.models.approximation import approximate
from millwright.models.many import RunsPlace, fit_data_sets
from millwright.models.runs import fit
from millwright.posterior.posterior import Posterior
from millwright.posterior.posteriors import Posteriors
from millwright.sampling.methods import Method, NoUTurn, method_with
from millwright.sampling.pools import check_workers
from millwright.sampling.progress import Listener
from millwright.sampling.streams import Stream, generator_of
from millwright.sampling.walking import peak_of
from millwright.storage.place import RunPlace
from millwright.storage.sheet import fit_settings, read_sheet, sheet_text, write_new
from millwright.terminal.progress import chosen_listener

if TYPE_CHECKING:
    import networkx as nx

    from millwright.models.calibration import Calibration
    from millwright.models.recovery import Recovery

__all__ = ["Model"]


class Model(Shown):
    """A probabilistic model: named definitions of priors, likelihood and derived quantities.

    Each definition is a text in the model language, a Python function whose arguments are the
    quantities it needs, or a number.

    Parameters
    ----------
    title, notes
        What the model is about.
    priors
        A distribution for each unknown; a number holds the unknown fixed.
    likelihood
        A distribution for each outcome column of the data.
    derived
        Quantities computed from the others.
    columns
        Other names for data columns, or a name for several columns as a matrix.
    log_density_terms
        Expressions added to the log density as they are: soft constraints, likelihoods of your
        own. Values with labels or rows are summed.
    units
        Units of quantities and columns, such as `{"drying": "per cent an hour"}`; tables, axes
        and predictions show them.
    labels
        Label sets that are not a single column: a list of labels, or a text that names the
        columns that share them, such as `{"mill": "sender, receiver"}`.

    Raises
    ------
    LanguageError
        If a definition cannot be read.
    ModelError
        If definitions do not fit together.
    """

    def __init__(
        self,
        *,
        priors: Mapping[str, Written],
        likelihood: Mapping[str, Written],
        derived: Mapping[str, Written] | None = None,
        columns: Mapping[str, str | list[str] | tuple[str, ...]] | None = None,
        log_density_terms: Mapping[str, Written] | None = None,
        labels: Mapping[str, str | list[str | int] | tuple[str | int, ...]] | None = None,
        units: Mapping[str, str] | None = None,
        title: str = "",
        notes: str = "",
    ) -> None:
        self._specification = specify(
            title,
            notes,
            priors,
            likelihood,
            derived or {},
            columns or {},
            log_density_terms,
            labels,
            units,
        )
        self._sheet: str | None = None
        self._functions: tuple[Foreign, ...] = ()

    @classmethod
    def _of(cls, specification: Specification, sheet: str | None = None) -> Model:
        model = cls.__new__(cls)
        model._specification = specification
        model._sheet = sheet
        model._functions = ()
        return model

    @classmethod
    def read(cls, path: str | Path) -> Model:
        """Read a model sheet (TOML).

        Raises
        ------
        StorageError
            If the file cannot be read.
        LanguageError, ModelError
            If it is not a model.
        """
        specification, text = read_sheet(check_path("path", path))
        return cls._of(specification, text)

    def write(self, path: str | Path, replace: bool = False) -> None:
        """Write the model as a sheet; reading it gives an equal model.

        Raises
        ------
        StorageError
            If the file exists and `replace` is not set, or it cannot be written.
        """
        write_new(check_path("path", path), sheet_text(self._specification), replace)

    @property
    def specification(self) -> Specification:
        """The checked definitions."""
        return self._specification

    @property
    def title(self) -> str:
        """What the model is about."""
        return self._specification.title

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Model) and self._specification == other._specification

    def __hash__(self) -> int:
        return hash(self._specification)

    def __str__(self) -> str:
        return self.describe()

    def __repr__(self) -> str:
        names = ", ".join(part.name for part in self._specification.parts)
        return f"<Model {self.title or 'without a title'}: {names}>"

    def describe(self) -> str:
        """Return the model in words, with every prior in full and the range it allows."""
        return describe(self._specification)

    def _repr_html_(self) -> str:
        return f"{super()._repr_html_()}$${escape(self.latex())}$$"

    def latex(self) -> str:
        """Return the model as mathematics: a LaTeX `aligned` environment."""
        return latex(self._specification)

    def graph(self) -> nx.DiGraph:
        """Return the definitions as a directed graph, from what is used to what uses it.

        Nodes have a `kind` (`unknown`, `fixed`, `derived`, `outcome`, `term`, `data`) and a
        `text`. `mw.plots.model_graph(model)` draws it.
        """
        return graph(self._specification)

    @property
    def fit_settings(self) -> dict[str, Any]:
        """Settings in the table `[fit]` of the sheet: `model.fit(data, **model.fit_settings)`."""
        found = fit_settings(self._sheet, "the sheet") if self._sheet else {}
        if settings := found.pop("method_settings", None):
            chosen = method_with(found.get("method", NoUTurn.name), settings)
            found |= settings if isinstance(chosen, NoUTurn) else {"method": chosen}
        return found

    @property
    def functions(self) -> tuple[Foreign, ...]:
        """Functions that the model brings along, beside registered ones."""
        return self._functions

    def bringing(self, *functions: Foreign) -> Model:
        """Return the model with functions that it brings along, known to no other."""
        made = self._of(self._specification, self._sheet)
        made._functions = (*self._functions, *functions)
        return made

    def bind(self, data: Any, *, missing: str = "refuse") -> Binding:
        """Check that data fit the model, and return both together.

        Raises
        ------
        DataError, ModelError
            If they do not.
        """
        return bind(self._specification, data, missing=missing, functions=self._functions)

    def simulate(
        self,
        data: Any = None,
        *,
        draws: int = 500,
        seed: int = 0,
        given: Mapping[str, Any] | None = None,
        rows: int | None = None,
    ) -> Simulated:
        """Draw unknowns from the prior, and a data set for each draw.

        Parameters
        ----------
        data
            Predictors; outcome columns may be missing and are not looked at.
        given
            Values at which unknowns are held, as for data with a known truth. A quantity with
            labels takes one number, an array in the order of its labels, or a mapping.
        rows
            Number of rows if there are no predictors.
        draws
            How many data sets.
        seed
            Any whole number from 0.

        Returns
        -------
        Simulated unknowns and data sets, with `.table()` and `.data(draw)`.

        Raises
        ------
        ArgumentError
            For values that do not fit.
        DataError, ModelError
            If data and model do not fit.
        """
        check_whole("draws", draws, 1)
        check_whole("seed", seed, 0)
        given = check_mapping("given", given)
        refuse_terms(self._specification, tuple(given))
        tables = read_tables(data, self._specification.columns, rows)
        binding = bind(
            self._specification,
            with_room(self._specification, tables),
            outcomes="optional",
            functions=self._functions,
        )
        refuse_improper(binding, tuple(given))
        generator = generator_of(seed, Stream.SIMULATION)
        fixed = stated_values(binding, given)
        evaluation, outcomes = draw_data(binding, draws, generator, fixed)
        return Simulated(draws_in(binding, evaluation), outcomes)

    def fit(
        self,
        data: Any = None,
        *,
        chains: int | None = None,
        draws: int | None = None,
        warmup: int | None = None,
        thin: int = 1,
        trial: bool = False,
        seed: int = 0,
        target_acceptance: float = 0.8,
        max_depth: int = 10,
        metric: str = "automatic",
        parameterisation: str | Mapping[str, str] = "informed",
        missing: str = "refuse",
        method: str | Method | None = None,
        workers: int | Executor | None = None,
        progress: bool | Listener = True,
        save: str | Path | None = None,
        replace: bool = False,
        resume: bool = False,
        start: StartValues | None = None,
    ) -> Posterior:
        """Sample the posterior.

        The same model, data, seed and settings give the same draws, bit by bit, on one kind of
        processor with the same versions, whatever the workers, and whether the fit ran through,
        was stopped and resumed, or was extended.

        Parameters
        ----------
        data
            DataFrame, mapping of names to arrays, or mapping of names to tables.
        chains, draws, warmup
            Number of chains (by default 4; for an ensemble its walkers, by default at least
            20); kept and discarded draws of each (by default 1000; in a trial 200 and 300).
            Walkers keep fewer where there are many, about 20,000 together but at least 400
            each, and end their warm-up once they are stationary
            (`mw.Ensemble(until_stationary=False)` goes through all of it).
        thin
            Keep every k-th draw only. It saves memory and disk where draws are wide; it never
            makes answers more precise: the draws left out would have added to them.
        trial
            A short fit, to see whether a model works; the verdict says that it is one.
        seed
            Any whole number from 0.
        target_acceptance
            Higher values make smaller, safer steps.
        max_depth
            A trajectory has at most 2^max_depth steps.
        metric
            `diagonal` learns the scale of each unknown in warm-up, `dense` their correlations
            too; `automatic` takes the second where the curvature at the peak, or the warm-up,
            shows strong correlations. The record says what each chain used.
        parameterisation
            How group effects (priors with `per`, a location and a scale, of which one is unknown)
            are sampled: `informed` by the data, which suits weak and strong data alike, `centred`
            or `non-centred`; or a mapping from names of unknowns. The answer is the same, the
            speed is not. Walks, and autoregressive series that rest on the value before alone, are
            informed too where normal outcomes, counts or yes/no read them; for other series a
            short run chooses centred or non-centred. The record says which it was.
        missing
            What to do with rows whose outcome is missing: `refuse` them, `drop` them, or leave
            them out of the fit and `predict` them (`posterior.predict_missing()`). Every verdict
            counts what was left out.
        method
            A name, or an object that holds the method's own settings:
            `no_u_turn` (`mw.NoUTurn`) follows the gradient and suits almost every model;
            `random_walk` (`mw.RandomWalk`) is random-walk Metropolis, slower by far, for
            functions without a gradient or to check a result by another method;
            `ensemble` (`mw.Ensemble`) moves many walkers, for functions without a gradient;
            `tempering` (`mw.Tempering`) finds separate modes and weighs them;
            `rejection` (`mw.Rejection`) gives independent draws of a few unknowns;
            `laplace_grid` (`mw.LaplaceGrid`) takes group effects or a process with at most four
            other unknown numbers.
            By default the first, or the second where a model calls a black box.
        workers
            Chains that run at a time, by default one for each core; or any
            `concurrent.futures.Executor`, such as that of a cluster. With black boxes a number
            from 2 asks for so many processes.
        progress
            False for silence, or a function that is called with each `Progress`.
        save
            Folder to which draws go while they are made. After a crash or Ctrl-C `mw.resume`
            goes on in it.
        replace, resume
            What to do with a run that is there (by default it is an error): overwrite it, or go
            on with it if it is of the same model, data, seed and settings (more draws may be
            asked for).
        start
            Values of unknowns at which the chains begin: a mapping such as `{"slope": 0.1}` for
            all chains, or a list of mappings, one for each (one for each walker of an ensemble).
            Unknowns left out begin at a draw from their prior. By default chains begin at draws
            from the prior (1.5 times as wide for group effects, and every second chain mirrored
            about the median), or, where a
            search before sampling finds several modes, one chain at each.

        Returns
        -------
        The posterior.

        Raises
        ------
        ArgumentError
            For a setting that makes no sense, or starting values outside the support.
        DataError, ModelError
            If data and model do not fit.
        StartError
            If no starting point has a finite density.
        SamplingError
            If the method finds that it cannot give right draws.
        WorkerError
            If workers cannot be used, or die again and again.
        Interrupted
            On Ctrl-C; it carries the posterior so far.
        """
        plan = FitPlan(
            chains=chains,
            draws=draws,
            warmup=warmup,
            thin=thin,
            trial=trial,
            seed=seed,
            target_acceptance=target_acceptance,
            max_depth=max_depth,
            metric=metric,
            parameterisation=parameterisation,
            missing=missing,
            method=method,
            start=start,
        )
        if workers is not None and not isinstance(workers, Executor):
            check_whole("workers", workers, 1)
        place = None if save is None else RunPlace(check_path("save", save), replace, resume)
        job = plan.job(self.bind(data, missing=missing))
        return fit(job, self, self._sheet, place, workers, chosen_listener(progress))

    def fit_each(
        self,
        data: Any,
        *,
        by: str | None = None,
        chains: int | None = None,
        draws: int | None = None,
        warmup: int | None = None,
        thin: int = 1,
        trial: bool = False,
        seed: int = 0,
        target_acceptance: float = 0.8,
        max_depth: int = 10,
        metric: str = "automatic",
        parameterisation: str | Mapping[str, str] = "informed",
        missing: str = "refuse",
        method: str | Method | None = None,
        workers: int | Executor | None = None,
        progress: bool | Listener = True,
        save: str | Path | None = None,
        replace: bool = False,
        resume: bool = False,
        start: StartValues | None = None,
    ) -> Posteriors:
        """Fit the model to many data sets: compiled once for each shape, and side by side.

        By default data sets of one shape move together through Hamiltonian Monte Carlo with
        trajectories of fixed length (`mw.FixedLength`), rows filled up to a common number. Every
        fit gets the usual verdict; one that is not good is fitted again by the no-U-turn
        sampler, and this is said. Data sets of which fewer than three have one shape, models of
        more than 50 unknown numbers, and other `method`s go one by one as in `fit`. Separate
        modes are searched for in three of the data sets that go the quick way; where several
        are found, all go one by one.

        Parameters
        ----------
        data
            One table, which `by` cuts; or a list of data sets (numbered from 1), or a mapping of
            names to data sets, each as for `fit`.
        by
            A column: each of its values is a data set.
        chains, draws, warmup, thin, trial, target_acceptance, max_depth, metric
            As for `fit`; any of the last three asks for the no-U-turn sampler for all.
        parameterisation, missing, method, start
            As for `fit`.
        seed
            Any whole number from 0; each data set gets a seed of its own from it, which its
            record states.
        workers
            How many batches or fits run at a time, by default one for each core; or any
            `concurrent.futures.Executor`.
        progress
            False for silence, or a function that is called with each `Progress`.
        save
            Folder to which each finished fit goes as a run of its own.
        replace, resume
            What to do with a folder that is there (by default it is an error): overwrite it, or
            keep the finished fits in it and make the others.

        Returns
        -------
        The posteriors by name, with those that failed and why.

        Raises
        ------
        ArgumentError
            For a setting that makes no sense, or where no data set fits the model.
        DataError
            If the table cannot be cut.
        StorageError
            If the folder is in the way, or holds other fits.
        WorkerError
            If workers cannot be used.
        Interrupted
            On Ctrl-C; it carries the posteriors so far.
        """
        plan = FitPlan(
            chains=chains,
            draws=draws,
            warmup=warmup,
            thin=thin,
            trial=trial,
            seed=seed,
            target_acceptance=target_acceptance,
            max_depth=max_depth,
            metric=metric,
            parameterisation=parameterisation,
            missing=missing,
            method=method,
            start=start,
        )
        if workers is not None and not isinstance(workers, Executor):
            check_whole("workers", workers, 1)
        sets = data_sets(data, by)
        place = None if save is None else RunsPlace(check_path("save", save), replace, resume)
        return fit_data_sets(
            sets,
            lambda one: self.bind(one, missing=missing),
            plan,
            place,
            workers,
            chosen_listener(progress),
            self._sheet,
            by,
        )

    def calibration(
        self,
        data: Any = None,
        *,
        replications: int = 200,
        seed: int = 0,
        rows: int | None = None,
        names: Sequence[str] | None = None,
        **settings: Any,
    ) -> Calibration:
        """Check that fits recover what data were simulated from: simulation-based calibration.

        Unknowns are drawn from the prior, a data set is simulated from each draw and fitted, and
        the truth is ranked among the posterior's draws (Talts et al. 2018). Where model, sampler
        and code agree, all ranks are equally likely. What it cannot see: whether the model suits
        the real data.

        Parameters
        ----------
        data
            Predictors, as for `simulate`; outcome columns are not looked at.
        replications
            How many data sets; 200 show gross errors, 1000 finer ones.
        seed
            Any whole number from 0.
        rows
            Number of rows if there are no predictors.
        names
            Single numbers to rank, such as `effect[Upper]`; by default all that vary.
        settings
            Settings of `fit_each`: `draws`, `method`, `workers`, `progress` and others.

        Returns
        -------
        Ranks, p-values and words for each quantity; `mw.plots.calibration(result)` draws them.

        Raises
        ------
        ArgumentError, DataError, ModelError
            As for `simulate` and `fit_each`; also where a prior is improper.
        """
        # Together with what they need they take longer to load than a fit takes.
        from millwright.models.calibration import calibrate

        chosen = None if names is None else list(names)
        return calibrate(self, data, replications, seed, rows, chosen, settings)

    def recovery(
        self,
        data: Any = None,
        *,
        given: Mapping[str, Any] | None = None,
        replications: int = 100,
        rows: Sequence[int] | int | None = None,
        seed: int = 0,
        **settings: Any,
    ) -> Recovery:
        """Fit many simulated data sets with a known truth: how well is it recovered?

        Parameters
        ----------
        data
            Predictors, as for `simulate`.
        given
            The truth, as for `simulate`; unknowns that are not in it are drawn from the prior for
            each data set.
        replications
            How many data sets for each number of rows.
        rows
            Numbers of rows to compare, such as `[20, 50, 100]`: the rows of the data in a random
            order, again and again where there are fewer. By default the data as they are.
        seed
            Any whole number from 0.
        settings
            Settings of `fit_each`.

        Returns
        -------
        For each number of rows and quantity: truth (not a number if it varies), bias with its
        Monte Carlo error, root mean square error, coverage of the 50 % and 95 % central
        intervals, mean width of the latter, and the share of fits with a good verdict.

        Raises
        ------
        ArgumentError, DataError, ModelError
            As for `simulate` and `fit_each`.
        """
        from millwright.models.recovery import recover

        return recover(self, data, given, replications, rows, seed, settings)

    def check_workers(
        self, workers: Executor, data: Any = None, *, method: str | Method | None = None
    ) -> int:
        """Let an executor's workers evaluate the model once; return how many answered.

        Parameters
        ----------
        workers
            The executor that a long fit is to use.
        data, method
            As for `fit`.

        Returns
        -------
        How many workers answered.

        Raises
        ------
        ArgumentError, WorkerError
            If it cannot be used: the model cannot be sent, or its workers lack what it needs.
        """
        plan = FitPlan(parameterisation="non-centred", method=method)
        job = plan.job(self.bind(data))
        return check_workers(workers, job.sampler)

    def normal_approximation(
        self, data: Any = None, *, draws: int = 4000, seed: int = 0
    ) -> Posterior:
        """Approximate the posterior by a normal distribution around its mode.

        The normal is in unconstrained coordinates, where positive quantities are logarithms, so
        that supports are kept. What it gives can be looked at like any posterior, and its
        verdict says that it is an approximation, and how close.

        Parameters
        ----------
        draws
            Independent draws from the approximation.
        data
            As for `fit`.
        seed
            Any whole number from 0.

        Returns
        -------
        A posterior of independent draws from the approximation.

        Raises
        ------
        DataError, ModelError
            If data and model do not fit.
        StartError
            If no starting point has a finite density.
        SamplingError
            If there is no peak to approximate.
        """
        check_whole("draws", draws, 100)
        check_whole("seed", seed, 0)
        binding = self.bind(data)
        refuse_black_boxes(binding)
        binding = prepared(binding, "informed", seed)
        return approximate(binding, draws, seed, self._sheet)

    def mode(self, data: Any = None, *, seed: int = 0) -> Estimate:
        """Find the posterior mode, with standard errors from the curvature there.

        The mode is that of the density of the unknowns as written. An unknown whose mode lies
        at an end of its support has no standard error.

        Black boxes have no gradient: the climb then takes values alone, and the curvature comes
        from differences.

        In a hierarchy the density can grow without bound as a scale goes to zero; the result then
        says that it did not settle.

        Raises
        ------
        DataError, ModelError
            If data and model do not fit.
        StartError
            If no starting point has a finite density.
        """
        binding = self.bind(data)
        peak = peak_of(target_of(binding, jacobian=False), seed)
        return estimate_at(binding, peak, "posterior mode")

    def maximum_likelihood(self, data: Any = None, *, seed: int = 0) -> Estimate:
        """Find the maximum of the likelihood, priors left out but their supports kept.

        Raises
        ------
        ModelError
            If a prior rests on another unknown: what is a parameter and what is data is then
            not settled, and the likelihood of such a model has no useful maximum.
        """
        binding = self.bind(data)
        refuse_hierarchy(self._specification)
        target = target_of(binding, jacobian=False, prior=False)
        return estimate_at(binding, peak_of(target, seed), "maximum likelihood")
