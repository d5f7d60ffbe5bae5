"""The methods of sampling, and the settings that each leaves to the user."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass, fields
from typing import Any, ClassVar, Literal, get_args

import numpy as np

from millwright.checks import check_whole
from millwright.errors import ArgumentError, nearest
from millwright.sampling.warmup import Metric

__all__ = [
    "DEEPEST",
    "METHODS",
    "Ensemble",
    "FixedLength",
    "LaplaceGrid",
    "Method",
    "NoUTurn",
    "RandomWalk",
    "Rejection",
    "Tempering",
    "method_from",
    "method_record",
    "method_with",
]

DEEPEST = 12
"""Most doublings of a trajectory that its table of marks has room for."""

Proposal = Literal["normal", "student_t"]
EnsembleProposal = Literal["stretch", "differential_evolution", "both"]
Candidate = Literal["student_t", "prior"]


@dataclass(frozen=True)
class NoUTurn:
    """The no-U-turn sampler (Hoffman and Gelman 2014); it follows the gradient.

    Attributes
    ----------
    target_acceptance
        Acceptance that the step size is adapted to; raised when warm-up keeps diverging.
    max_depth
        Most doublings of a trajectory: it has at most 2^max_depth leapfrog steps.
    metric
        Scales alone (`diagonal`), correlations too (`dense`), or as the warm-up suggests.
    """

    target_acceptance: float = 0.8
    max_depth: int = 10
    metric: Metric = "automatic"

    name: ClassVar[str] = "no_u_turn"
    words: ClassVar[str] = "no-U-turn"

    def __post_init__(self) -> None:
        _check_number("target_acceptance", self.target_acceptance, 0.1, 0.999)
        check_whole("max_depth", self.max_depth, 1, DEEPEST)
        _check_choice("metric", self.metric, get_args(Metric))


@dataclass(frozen=True)
class FixedLength:
    """Hamiltonian Monte Carlo with trajectories of a fixed length (Neal 2011), jittered.

    The chains of a fit move in lock step and share a step size and a dense metric, which makes
    it quick for many small data sets; `Model.fit_each` uses it by itself. Posteriors that are
    strongly curved or far from normal need the no-U-turn sampler.

    Attributes
    ----------
    target_acceptance
        Acceptance that the step size is adapted to.
    length
        Mean length of a trajectory in units of the posterior's standard deviations; each
        transition takes 0.1 to 1.9 times it.
    most_steps
        Most leapfrog steps of a trajectory.
    """

    target_acceptance: float = 0.9
    length: float = 1.5
    most_steps: int = 6

    name: ClassVar[str] = "fixed_length"
    words: ClassVar[str] = "Hamiltonian Monte Carlo with fixed lengths"

    def __post_init__(self) -> None:
        _check_number("target_acceptance", self.target_acceptance, 0.1, 0.999)
        _check_number("length", self.length, 1e-3, 1e3)
        check_whole("most_steps", self.most_steps, 1, 10_000)


@dataclass(frozen=True, eq=False, kw_only=True)
class RandomWalk:
    """Random-walk Metropolis: steps around the present point, taken or refused.

    Attributes
    ----------
    proposal
        Distribution of the steps: `normal`, or `student_t` with `df` degrees of freedom, whose
        rare long steps help with heavy tails.
    start
        Where chains begin: at the likeliest of some draws from the prior, or all at the posterior
        mode, which is climbed to first; the curvature there then shapes the first steps.
    df
        Degrees of freedom of `student_t` steps.
    covariance
        Where the shape of the steps comes from: `warm-up` learns it from the chain's own draws,
        `mode` takes the curvature at the posterior mode, or an array of shape (n, n) for the n
        unconstrained coordinates. The scale is tuned in warm-up in every case.
    acceptance
        Share of steps to be taken; by default what suits the dimension (0.44 for one unknown,
        towards 0.234 for many).
    steps
        Steps for each kept draw; by default more for more unknowns.
    """

    proposal: Proposal = "normal"
    df: float = 4.0
    start: Literal["prior", "mode"] = "prior"
    covariance: Literal["warm-up", "mode"] | np.ndarray = "warm-up"
    acceptance: float | None = None
    steps: int | None = None

    name: ClassVar[str] = "random_walk"
    words: ClassVar[str] = "random-walk Metropolis"

    @property
    def learns(self) -> bool:
        """Whether the warm-up gives the shape of the steps."""
        return isinstance(self.covariance, str) and self.covariance == "warm-up"

    def __post_init__(self) -> None:
        _check_choice("proposal", self.proposal, get_args(Proposal))
        _check_choice("start", self.start, ("prior", "mode"))
        _check_number("df", self.df, 1e-3, np.inf)
        if self.acceptance is not None:
            _check_number("acceptance", self.acceptance, 0.01, 0.99)
        if self.steps is not None:
            check_whole("steps", self.steps, 1, 1_000_000)
        if isinstance(self.covariance, str):
            _check_choice("covariance", self.covariance, ("warm-up", "mode"))
            return
        matrix = np.atleast_2d(np.asarray(self.covariance, dtype=float))
        object.__setattr__(self, "covariance", matrix)
        square = matrix.ndim == 2 and matrix.shape[0] == matrix.shape[1]
        if not square or not np.allclose(matrix, matrix.T) or np.linalg.eigvalsh(matrix)[0] <= 0:
            raise ArgumentError(
                "`covariance` must be 'warm-up', 'mode' or a symmetric matrix with positive "
                "eigenvalues."
            )


@dataclass(frozen=True)
class Ensemble:
    """Walkers that take the directions of their steps from each other.

    Each chain of the fit is one walker. It needs no gradient and no tuning, does not mind
    stretched and tilted posteriors, and suits up to some dozens of unknowns.

    Attributes
    ----------
    proposal
        `stretch` (Goodman and Weare 2010), `differential_evolution` (ter Braak 2006), or `both`
        in turn by chance.
    steps
        Moves of each walker for each kept draw; by default more for more unknowns.
    until_stationary
        End the warm-up once the walkers are stationary, at the latest after all its draws. The
        record says when it ended.
    """

    proposal: EnsembleProposal = "both"
    steps: int | None = None
    until_stationary: bool = True

    name: ClassVar[str] = "ensemble"
    words: ClassVar[str] = "ensemble"

    def __post_init__(self) -> None:
        _check_choice("proposal", self.proposal, get_args(EnsembleProposal))
        if self.steps is not None:
            check_whole("steps", self.steps, 1, 1_000_000)
        if not isinstance(self.until_stationary, bool):
            raise ArgumentError(
                f"`until_stationary` must be True or False, not {self.until_stationary!r}."
            )


@dataclass(frozen=True)
class Tempering:
    """Parallel tempering: copies of each chain at flatter versions of the posterior.

    The chain at temperature k samples prior times likelihood to the power b_k, from b = 1 down
    to `smallest_power`; neighbouring temperatures exchange their points, even and odd pairs in
    turn (Syed et al. 2022), and the powers are spaced in warm-up so that all pairs exchange about
    equally often. It finds separate modes and weighs them rightly.

    Attributes
    ----------
    temperatures
        Number of copies, the posterior itself included.
    smallest_power
        The smallest power; 0 is the prior alone, which must then be proper.
    steps
        Random-walk steps of each copy between exchanges; by default more for more unknowns.
    """

    temperatures: int = 10
    smallest_power: float = 0.01
    steps: int | None = None

    name: ClassVar[str] = "tempering"
    words: ClassVar[str] = "parallel tempering"

    def __post_init__(self) -> None:
        check_whole("temperatures", self.temperatures, 2, 1000)
        _check_number("smallest_power", self.smallest_power, 0.0, 0.999)
        if self.steps is not None:
            check_whole("steps", self.steps, 1, 1_000_000)


@dataclass(frozen=True, kw_only=True)
class Rejection:
    """Rejection sampling: independent draws, for a few unknowns.

    Points from a candidate distribution are kept with the probability that makes the kept ones
    draws from the posterior (von Neumann 1951). The envelope must lie above the posterior
    everywhere; where a point shows that it does not, the fit fails rather than be biased.

    Attributes
    ----------
    candidate
        `student_t`: a Student-t with `df` degrees of freedom around the posterior mode, in
        unconstrained coordinates, its scales those of the curvature there times `stretch`;
        `prior`: the prior itself, which the likelihood then thins.
    envelope
        Logarithm of the largest ratio of posterior to candidate density; by default found by
        optimisation from several starts.
    """

    candidate: Candidate = "student_t"
    df: float = 4.0
    stretch: float = 1.5
    envelope: float | None = None

    name: ClassVar[str] = "rejection"
    words: ClassVar[str] = "rejection sampling"

    def __post_init__(self) -> None:
        _check_choice("candidate", self.candidate, get_args(Candidate))
        _check_number("df", self.df, 1e-3, np.inf)
        _check_number("stretch", self.stretch, 1e-6, 1e6)
        if self.envelope is not None:
            _check_number("envelope", self.envelope, -np.inf, np.inf)


@dataclass(frozen=True, kw_only=True)
class LaplaceGrid:
    """A grid over a few unknowns, with Laplace's approximation of many latent values given these.

    For models with group effects or a process, at most four other unknown numbers, and a
    likelihood that is log-concave in the latent values (Rue, Martino and Chopin 2009,
    "Approximate Bayesian inference for latent Gaussian models"). What the approximation proposes
    is taken or refused (Metropolis-Hastings), so that the draws are of the posterior itself. It
    checks another method, and is quicker than others for processes with a value at each place.

    Attributes
    ----------
    steps
        Candidates for each kept draw; by default as many as make draws nearly independent, at
        most 20.
    """

    steps: int | None = None

    name: ClassVar[str] = "laplace_grid"
    words: ClassVar[str] = "a grid with Laplace's approximation"

    def __post_init__(self) -> None:
        if self.steps is not None:
            check_whole("steps", self.steps, 1, 1_000_000)


Method = NoUTurn | FixedLength | RandomWalk | Ensemble | Tempering | Rejection | LaplaceGrid

METHODS: dict[str, type[Method]] = {
    kind.name: kind
    for kind in (NoUTurn, FixedLength, RandomWalk, Ensemble, Tempering, Rejection, LaplaceGrid)
}


def method_with(name: str, settings: Mapping[str, Any]) -> Method:
    """Return the method of a name with some of its settings stated.

    Raises
    ------
    ArgumentError
        For an unknown method or choice, or a value that a choice cannot have.
    """
    if name not in METHODS:
        raise ArgumentError(f"`method` must be one of {', '.join(METHODS)}, not {name!r}.")
    known = [f.name for f in fields(METHODS[name])]
    for setting in settings:
        if setting not in known:
            raise ArgumentError(
                f"The method {name} has no setting `{setting}`.{nearest(setting, known)} "
                f"Its settings: {', '.join(known)}."
            )
    return METHODS[name](**settings)


def method_record(method: Method) -> dict[str, Any]:
    """Return a method with its settings as plain values."""
    settings = {
        name: value.tolist() if isinstance(value, np.ndarray) else value
        for name, value in asdict(method).items()
    }
    return {"method": method.name, **settings}


def method_from(record: Mapping[str, Any]) -> Method:
    """Return the method that `method_record` wrote; other entries are left alone."""
    kind = METHODS[record["method"]]
    return kind(**{name: record[name] for name in (f.name for f in fields(kind))})


def _check_choice(name: str, value: Any, options: tuple[str, ...]) -> None:
    if not isinstance(value, str) or value not in options:
        raise ArgumentError(f"`{name}` must be one of {', '.join(options)}, not {value!r}.")


def _check_number(name: str, value: Any, least: float, most: float) -> None:
    number = isinstance(value, (int, float, np.number)) and not isinstance(value, bool)
    if not number or not least <= value <= most:
        between = f"from {least:g} to {most:g}" if np.isfinite(most) else f"from {least:g}"
        raise ArgumentError(f"`{name}` must be a number {between}, not {value!r}.")
