"""The study of a curve: a physical formula with bounded unknowns, fitted to points."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, ClassVar

import numpy as np
import pandas as pd

from millwright.checks import check_list, check_mapping
from millwright.errors import ArgumentError, DataError
from millwright.language.parse import normal_name
from millwright.posterior.posterior import Posterior
from millwright.sampling.ensemble import walkers_for
from millwright.sampling.methods import Ensemble, Tempering
from millwright.studies.curve_findings import CurveFindings
from millwright.studies.curve_formula import Formula, FunctionFormula, known_function
from millwright.studies.curve_parts import ERROR_FACTOR, NOISE, CurveData, CurveParts
from millwright.studies.curve_points import PointFit
from millwright.studies.curve_reading import (
    check_axes,
    check_each,
    column_or_number,
    columns_of_x,
    ranges,
    rows_of,
    stacked,
)
from millwright.studies.curve_smearing import (
    KERNELS,
    USUAL_NODES,
    SmearedFormula,
    check_kernel,
    fine_enough,
)
from millwright.studies.curve_starts import starts_around
from millwright.studies.curve_trying import read_formula
from millwright.studies.findings import Findings
from millwright.studies.priors import with_priors
from millwright.studies.reading import find_column, label_order, named
from millwright.studies.scales import spread_text
from millwright.studies.study import Fitting, Study
from millwright.wording import setting

__all__ = ["CurveStudy", "curve"]

Function = Callable[..., Any] | str
Range = tuple[float, float]

_TRIED = 8


@dataclass(frozen=True, eq=False, kw_only=True)
class CurveStudy(Study):
    """A curve through points, by one formula or several.

    Attributes
    ----------
    parts
        Of each formula the data, the model and the space of its unknowns.
    points
        Of each formula the point fit.
    """

    name: ClassVar[str] = "curve"

    parts: Mapping[str, CurveParts] = field(repr=False)
    points: Mapping[str, PointFit] = field(repr=False)

    @property
    def table(self) -> CurveData:
        """The rows, and which column is what."""
        return next(iter(self.parts.values())).data

    def data_lines(self) -> tuple[str, ...]:
        """Return rows and columns."""
        made = self.table
        frame = made.frame
        ends = ", ".join(
            f"{column} from {frame[column].min():g} to {frame[column].max():g}"
            for column in made.x.values()
        )
        y = frame[made.y]
        lines = [f"{len(frame)} rows; {ends}; {made.y} from {y.min():g} to {y.max():g}."]
        if made.sets is not None:
            counts = ", ".join(
                f"{label} ({int((frame[made.sets] == label).sum())} rows)" for label in made.labels
            )
            lines.append(f"Data sets: {counts}.")
        return tuple(lines)

    @property
    def told_first(self) -> str:
        """The point fit of each formula."""
        told = []
        for name, points in self.points.items():
            which = f" of `{name}`" if len(self.points) > 1 else ""
            told.append(f"Point fit{which}, before anything is sampled\n{points}")
        return "\n\n".join(told)

    def __str__(self) -> str:
        return f"{super().__str__()}\n\n{self.told_first}"

    def method_of(self, name: str) -> Any:
        """Return how a formula is sampled unless another method is asked for."""
        if self.points[name].places:
            return Tempering()
        return None if self.parts[name].formula.traceable else "ensemble"

    def _fit_one(self, name: str, how: Fitting) -> Posterior:
        settings = dict(how.settings)
        if settings.get("method") is None:
            settings["method"] = self.method_of(name)
        ensemble = settings["method"] == "ensemble" or isinstance(settings["method"], Ensemble)
        if ensemble and settings.get("start") is None and not self.points[name].places:
            dimension = self.models[name].bind(self.data_of(name)).dimension
            count = settings.get("chains") or walkers_for(dimension)
            begin = starts_around(self.parts[name], self.points[name], count, settings["seed"])
            settings["start"] = begin if len(begin) == count else None
        return super()._fit_one(name, replace(how, settings=settings))

    def _found(self, posteriors: Mapping[str, Posterior], settings: Mapping[str, Any]) -> Findings:
        return CurveFindings(study=self, posteriors=posteriors, fit_settings=settings)


def curve(
    function: Function | Mapping[str, Function],
    data: Any,
    x: str | Sequence[str] | Mapping[str, str] | None = None,
    y: str | None = None,
    error: str | float | None = None,
    unknowns: Mapping[str, str | float | Range] | None = None,
    *,
    error_factor: bool = False,
    sets: str | None = None,
    each: Sequence[str] = (),
    smear: str | float | None = None,
    kernel: str = "normal",
    axes: str = "linear",
    derived: Mapping[str, str] | None = None,
    priors: Mapping[str, str | float] | None = None,
    missing: str = "refuse",
) -> CurveStudy:
    """Ask which unknowns of a formula the points allow, and how far its curves spread.

    First a point fit, by bounded least squares from several starts, which is there before
    anything is sampled; then the posterior of the unknowns.

    Parameters
    ----------
    function
        A text of the model language such as `"capacity * flow / (middle + flow)"`, or a function
        of arrays that takes x first and then each unknown by its name. A function written with
        `jax.numpy` is sampled by its gradient; any other as it is, by an ensemble of walkers.
        Which of both is found out by trying. Or several by name, to be compared.
    data
        DataFrame, or mapping of columns; or a mapping of names to tables: several data sets.
    x
        The column that the curve is a function of, several of them, or columns by the names that a
        text has for them, `{"flow": "Flow (l/s)"}`.
    y
        The column that is read.
    error
        Column of the standard errors of y, or one number for all rows; None for a noise of unknown
        size. Errors are normal and independent.
    unknowns
        Of each its range, `(0, 25)`, which is a uniform prior; or its prior as text; or a number
        that holds it.
    error_factor
        Whether the errors given are right only up to a factor, which is then unknown.
    sets
        Column of labels that tells data sets apart.
    each
        Unknowns that every data set has of its own, the others being shared; also `noise` or
        `error_factor`. A function gets them as arrays, one value a row.
    smear
        Column of the resolution of x, or one number: the curve is averaged over it.
    kernel
        `normal`, the resolution being an sd, or `uniform`, it being half of the length.
    axes
        Of the figure: `linear`, `log x`, `log y`, or `log` for both.
    derived
        Further quantities by name, as texts of the model language.
    priors
        Priors in place of those that the study chooses, of `noise` or `error_factor`.
    missing
        What to do with rows that lack a value: `refuse` or `drop` them.

    Returns
    -------
    The study with its point fit (`study.points`); nothing is sampled yet.

    Raises
    ------
    ArgumentError
        For columns, unknowns or settings that do not fit, or ends the wrong way round.
    DataError
        For errors or resolutions that are not above 0, missing values, too few rows.
    ModelError, LanguageError
        For a formula that cannot be read, fails, or gives another shape.
    """
    frame, sets = stacked(data, sets)
    settings = {
        "x": columns_of_x(frame, x),
        "y": find_column(frame, y, "y"),
        "error": column_or_number(frame, error, "error"),
        "unknowns": ranges(unknowns),
        "error_factor": bool(error_factor),
        "sets": None if sets is None else find_column(frame, sets, "sets"),
        "each": [normal_name(str(one)) for one in check_list("each", each)],
        "smear": column_or_number(frame, smear, "smear"),
        "kernel": kernel,
        "axes": axes,
        "derived": check_mapping("derived", derived),
        "priors": check_mapping("priors", priors),
    }
    made, remarks = rows_of(frame, settings, missing)
    given = function if isinstance(function, Mapping) else {"curve": function}
    if not given:
        raise ArgumentError("Give at least one formula.")
    return build(made, settings, dict(given), remarks)


def build(
    frame: pd.DataFrame,
    settings: Mapping[str, Any],
    functions: Mapping[str, Any],
    remarks: tuple[str, ...],
) -> CurveStudy:
    """Return the study of complete rows under plain settings.

    `functions` are texts, functions, or formulas of a stored study.
    """
    check_kernel(settings["kernel"])
    check_axes(frame, settings)
    data = _data(frame, settings)
    check_each(settings)
    usual = _noise_prior(frame, settings)
    priors = {**settings["unknowns"], **with_priors(usual, settings["priors"])}
    formulas = _formulas(functions, data, settings)
    parts = {
        str(name): CurveParts(
            title=f"{settings['y']} along {', '.join(settings['x'].values())}",
            data=data,
            formula=formula,
            priors={n: p for n, p in priors.items() if n in formula.unknowns or n in usual},
            each=tuple(n for n in settings["each"] if n in formula.unknowns or n in usual),
            derived=settings["derived"],
        )
        for name, formula in formulas.items()
    }
    for one in parts.values():
        one.model.bind(frame)
    known = settings.get("points", {})
    points: dict[str, PointFit] = {}
    for name, one in parts.items():
        if name in known:
            points[name] = PointFit.known_as(known[name])
        else:
            parts[name], points[name] = _fitted(one)
    stored = {
        **settings,
        "functions": {name: one.formula.plain for name, one in parts.items()},
        "points": {name: one.plain for name, one in points.items()},
        "nodes": {
            name: one.formula.nodes
            for name, one in parts.items()
            if isinstance(one.formula, SmearedFormula)
        },
    }
    x = ", ".join(settings["x"].values())
    study = CurveStudy(
        question=f"How does `{settings['y']}` follow `{x}`, and which unknowns of the formula do "
        "the points allow?",
        data=frame,
        models={name: one.model for name, one in parts.items()},
        choices=(),
        remarks=remarks,
        settings=stored,
        parts=parts,
        points=points,
    )
    return replace(study, choices=_choices(study, settings))


def _fitted(parts: CurveParts) -> tuple[CurveParts, PointFit]:
    """Return the point fit, a smeared curve averaged as finely as it takes there."""
    points = parts.point_fit()
    formula = parts.formula
    if isinstance(formula, SmearedFormula):
        unknowns = parts.unknowns_at(np.array(points.estimates)[None], parts.data.codes())
        errors = parts.data.errors * (1.0 if points.given_errors else np.sqrt(points.reduced))
        finer = fine_enough(formula, parts.data.columns(), unknowns, errors)
        if finer.nodes > formula.nodes:
            parts = replace(parts, formula=finer)
            points = parts.point_fit()
    return parts, points


def _data(frame: pd.DataFrame, settings: Mapping[str, Any]) -> CurveData:
    x, sets = settings["x"], settings["sets"]
    wanted = {settings["y"]: "y"}
    wanted |= {
        c: n
        for n, c in (("error_of_y", settings["error"]), ("width_of_x", settings["smear"]))
        if isinstance(c, str)
    }
    if sets is not None:
        wanted[sets] = "data_set"
    taken = {*settings["unknowns"], NOISE, ERROR_FACTOR, *settings["derived"], *x}
    for name in settings["unknowns"]:
        if name in x or name in (NOISE, ERROR_FACTOR):
            what = "a column of x" if name in x else "what the study itself calls an unknown"
            raise ArgumentError(f"`{name}` is {what}: call the unknown something else.")
    of = named(wanted, taken).of
    keys = {
        settings["y"]: "y",
        settings["error"]: "error",
        settings["smear"]: "width",
        sets: "set",
    }
    names = {keys[column]: name for column, name in of.items()}
    labels: tuple[str, ...] = ()
    if sets is not None:
        labels = tuple(label_order(frame, sets, frame[sets], None))
    return CurveData(
        frame=frame,
        x=x,
        y=settings["y"],
        names={"set": "data_set", **names},
        error=settings["error"],
        width=settings["smear"],
        sets=sets,
        labels=labels,
    )


def _noise_prior(frame: pd.DataFrame, settings: Mapping[str, Any]) -> dict[str, str]:
    if settings["error"] is None:
        spread = float(np.std(frame[settings["y"]], ddof=1))
        if not spread > 0:
            raise DataError(
                f"`{settings['y']}` is the same in all rows: the size of its noise cannot be told."
            )
        return {NOISE: f"half_normal({spread_text(spread)})"}
    return {ERROR_FACTOR: "lognormal(0, 1)"} if settings["error_factor"] else {}


def _formulas(
    functions: Mapping[str, Any], data: CurveData, settings: Mapping[str, Any]
) -> dict[str, Formula]:
    """Read every formula, trying it on draws of the priors; smear them where x is."""
    names = list(settings["unknowns"])
    blank = CurveParts(
        title="",
        data=data,
        formula=FunctionFormula(
            columns=tuple(data.x),
            unknowns=tuple(names),
            name="",
            function=None,
            differentiable=False,
        ),
        priors=settings["unknowns"],
        each=tuple(name for name in settings["each"] if name in names),
    )
    draws = blank.unknowns_at(blank.space.draws[:_TRIED], data.codes())
    columns = [data.frame[column].to_numpy(float) for column in data.x.values()]
    found: dict[str, Formula] = {}
    for name, given in functions.items():
        formula = given
        if not isinstance(given, Formula):
            formula = read_formula(given, list(data.x), names, (columns, draws))
        if data.width is not None:
            formula = SmearedFormula(
                columns=(*formula.columns, data.names.get("width", "width_of_x")),
                unknowns=formula.unknowns,
                inner=formula,
                kernel=settings["kernel"],
                nodes=settings.get("nodes", {}).get(str(name), USUAL_NODES),
            )
        found[str(name)] = formula
    idle = [n for n in names if not any(n in one.unknowns for one in found.values())]
    if idle:
        raise ArgumentError(
            f"`{idle[0]}` stands in no formula: leave it out of {setting('unknowns')}, or write "
            "it into the formula."
        )
    return found


def _choices(study: CurveStudy, settings: Mapping[str, Any]) -> tuple[str, ...]:
    lines = []
    for name, part in study.parts.items():
        inner = getattr(part.formula, "inner", part.formula)
        which = f"`{name}`, {inner.words}" if len(study.parts) > 1 else inner.words
        how = study.method_of(name)
        if isinstance(how, Tempering):
            told = "sampled by parallel tempering, since the point fits ended in several places"
        elif how is None:
            told = "it has a gradient, which the sampler follows"
        else:
            told = f"a black box{_why(inner)}; sampled by an ensemble of walkers"
        lines.append(f"Curve: {which} ({told}).")
    held = {n: v for n, v in settings["unknowns"].items() if isinstance(v, float)}
    if held:
        lines.append("Held: " + ", ".join(f"{n} = {v:g}" for n, v in held.items()) + ".")
    if settings["error"] is None and NOISE not in settings["priors"]:
        lines.append("The sd of the noise is unknown, a priori half-normal with the sd of y.")
    if settings["error_factor"] and ERROR_FACTOR not in settings["priors"]:
        lines.append(
            "Errors are right up to a factor, a priori lognormal around 1 (95 % between 0.14 and "
            "7.1)."
        )
    if settings["each"]:
        lines.append(f"Of its own for each data set: {', '.join(settings['each'])}.")
    if settings["smear"] is not None:
        lines.append(
            f"The curve is averaged over the resolution of x ({KERNELS[settings['kernel']]})."
        )
    return tuple(lines)


def _why(formula: Formula) -> str:
    """Say why a formula has no gradient, and why it is called draw by draw."""
    if not isinstance(formula, FunctionFormula):
        return ""
    single = f"; called draw by draw, since {formula.why_single}" if formula.why_single else ""
    return f": {formula.why}{single}"


def rebuild(
    data: pd.DataFrame, settings: Mapping[str, Any], remarks: tuple[str, ...]
) -> CurveStudy:
    """Return a stored study; functions are those registered under their names."""
    functions: dict[str, Any] = {}
    for name, plain in settings["functions"].items():
        if "text" in plain:
            functions[name] = plain["text"]
            continue
        functions[name] = FunctionFormula(
            columns=tuple(settings["x"]),
            unknowns=tuple(plain["unknowns"]),
            name=plain["function"],
            function=known_function(plain["function"]),
            differentiable=plain["differentiable"],
            why=plain["why"],
            together=plain["together"],
            why_single=plain["why_single"],
        )
    return build(data, settings, functions, remarks)
