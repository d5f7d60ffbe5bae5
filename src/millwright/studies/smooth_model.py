"""The model of a shape: priors by rule, the kernel, and how readings rest on it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
import pandas as pd

from millwright.distributions.matern import MATERN
from millwright.draws.matern_moments import MANY_ROWS
from millwright.language.printing import number_text
from millwright.modelling.parameterisations import LARGEST_FUNCTION
from millwright.models.model import Model
from millwright.studies.priors import with_priors
from millwright.studies.reading import Names, named
from millwright.studies.scales import middle_and_spread, spread_text
from millwright.studies.smooth_family import COUNTS, EXCESS, SmoothFamily, exposures
from millwright.studies.smooth_gathering import Gathered

__all__ = [
    "SHAPE",
    "at_nodes",
    "choices_told",
    "method_words",
    "place_name",
    "smooth_model",
    "usual_priors",
    "with_places",
    "with_shares",
]

SHAPE = "shape"
NODE = "node"
SHARES = "shares"
_MANY = 400


def usual_priors(
    frame: pd.DataFrame, y: str, family: SmoothFamily, exposure: str | None
) -> dict[str, str]:
    """Return the usual priors of level and height."""
    values = frame[y].to_numpy(float)
    if family.latent:
        return family.priors(values, exposures(frame, exposure))
    middle, spread = middle_and_spread(values, y)
    return {
        "level": f"normal({number_text(middle)}, {spread_text(spread)})",
        "height": f"half_normal({spread_text(spread)})",
    }


def smooth_model(
    frame: pd.DataFrame,
    settings: Mapping[str, Any],
    x: tuple[str, ...],
    lengths: tuple[str, ...],
    family: SmoothFamily,
    usual: dict[str, str],
    gathered: Gathered | None,
) -> Model:
    """Return the model in the model language, of the rows or of readings gathered at nodes."""
    y, error, exposure = settings["y"], settings["error"], settings.get("exposure")
    if gathered is not None and not family.latent:
        error = error_name(frame.columns)
    columns = {name: "x" if len(x) == 1 else f"x_{at}" for at, name in enumerate(x, 1)}
    columns[y] = "y"
    more = {error: "error_of_y", exposure: "over"}
    columns |= {column: name for column, name in more.items() if column is not None}
    names = named(columns, [*usual, "noise", SHAPE, NODE, SHARES, place_name(frame.columns)])
    scales = ["height", *["1"] * (len(x) - 1)]
    kernel = " * ".join(
        f"{settings['kernel']}({names.of[name]}, scale={scale}, length={length})"
        for name, scale, length in zip(x, scales, lengths, strict=True)
    )
    priors = with_priors(usual, settings["priors"])
    terms = {}
    if family.latent and gathered is not None:
        return _of_nodes(frame, settings, names, family, priors, gathered)
    if family.latent:
        place = names.of[x[0]] if len(x) == 1 else place_name(frame.columns)
        priors[SHAPE] = f"gaussian_process(level, kernel={kernel}) per {place}"
        over = None if exposure is None else names.of[exposure]
        likelihood = family.likelihood(f"{SHAPE}[{place}]", over)
    else:
        own = None if error is None else names.of[error]
        noise = own or "noise"
        if gathered is not None:
            unknown = None if settings["error"] else "noise"
            noise = f"{unknown} * {own}" if unknown else noise
            terms[left_over(frame.columns)] = gathered.term(unknown)
        likelihood = f"gaussian_process(level, noise={noise}, kernel={kernel})"
    return Model(
        title=f"{y} as a smooth function of {', '.join(x)}",
        priors=priors,
        likelihood={names.of[y]: likelihood},
        log_density_terms=terms,
        columns=dict(names.aliases),
    )


def _of_nodes(
    frame: pd.DataFrame,
    settings: Mapping[str, Any],
    names: Names,
    family: SmoothFamily,
    priors: Mapping[str, Any],
    gathered: Gathered,
) -> Model:
    """Return the model of a function with values at nodes, and polynomials between them.

    Where a node is follows from its polynomial: the rows' mean place with that as weight.
    """
    x, y, exposure = names.of[settings["x"]], settings["y"], settings.get("exposure")
    shares = _free(SHARES, [*frame.columns, *names.of.values()])
    kernel = f"{settings['kernel']}({NODE}, scale=height, length=length)"
    over = None if exposure is None else names.of[exposure]
    return Model(
        title=f"{y} as a smooth function of {settings['x']}",
        priors={**priors, SHAPE: f"gaussian_process(level, kernel={kernel}) per {shares}"},
        derived={NODE: f"({x} @ {shares}) / ((0 * {x} + 1) @ {shares})"},
        likelihood={names.of[y]: family.likelihood(f"({shares} @ {SHAPE})", over)},
        columns={**names.aliases, shares: share_names(frame.columns, len(gathered.nodes))},
    )


def share_names(columns: Any, count: int) -> list[str]:
    """Return the columns of the share that each node has in the function at a row."""
    return [_free(f"share_of_node_{at}", columns) for at in range(1, count + 1)]


def with_shares(frame: pd.DataFrame, gathered: Gathered) -> pd.DataFrame:
    """Return the rows with the share that each node has in the function there."""
    columns = share_names(frame.columns, len(gathered.nodes))
    return pd.concat([frame, pd.DataFrame(gathered.shares, columns=columns)], axis=1)


def place_name(columns: Any) -> str:
    return _free("place", columns)


def error_name(columns: Any) -> str:
    """Return what the errors of gathered readings are called."""
    return _free("error_at_node", columns)


def left_over(columns: Any) -> str:
    """Return what the part of the log density is called that the nodes leave."""
    return _free("rows_beside_nodes", columns)


def _free(name: str, columns: Any) -> str:
    while name in columns:
        name += "_"
    return name


def at_nodes(frame: pd.DataFrame, x: str, y: str, gathered: Gathered) -> pd.DataFrame:
    """Return gathered readings as a table."""
    return pd.DataFrame(
        {x: gathered.nodes, y: gathered.values, error_name(frame.columns): gathered.errors}
    )


def with_places(
    frame: pd.DataFrame, x: tuple[str, ...], family: SmoothFamily, place: str
) -> pd.DataFrame:
    if not family.latent or len(x) == 1:
        return frame
    _, places = np.unique(frame[list(x)].to_numpy(float), axis=0, return_inverse=True)
    return frame.assign(**{place: places.reshape(-1) + 1})


def method_words() -> str:
    """Say how a function is drawn where a grid can be laid."""
    return (
        "Draws: a grid over the other unknowns and Laplace's approximation of the function given "
        "these propose them, and Metropolis steps correct what the approximation misses (method "
        "`laplace_grid`). The no-U-turn sampler draws where few proposals are taken."
    )


def choices_told(
    settings: Mapping[str, Any],
    family: SmoothFamily,
    ranges: Mapping[str, tuple[float, float]],
    places: int,
    gathered: Gathered | None,
) -> tuple[str, ...]:
    given = settings["priors"]
    kernel = settings["kernel"]
    product = ", the product of one for each column" * (len(ranges) > 1)
    lines = [f"Kernel: {kernel}{product}."]
    for name, (span, spacing) in ranges.items():
        if name not in given:
            lines.append(
                f"{name.capitalize().replace('_', ' ')}: inverse gamma with 1 % below "
                f"{spacing:.3g}, the median distance of neighbouring places, and 1 % above "
                f"{span:.3g}, their span: the data cannot tell lengths outside."
            )
    if not {"level", "height", "noise"} & set(given):
        lines.append(_scale_words(settings, family))
    if family.latent:
        lines.append(
            f"The function is the {family.scale_of(settings['y'])}; its values at the places "
            "are unknowns."
        )
    if gathered is not None:
        lines.append(_gathered_words(gathered, family))
    most = LARGEST_FUNCTION if family.latent else _MANY
    in_order = kernel in MATERN and len(ranges) == 1 and not family.latent and gathered is None
    if in_order and places > MANY_ROWS:
        lines.append(
            f"The {places} rows are gone through one after the other, from place to place "
            "(Hartikainen and Saerkkae 2010), which is exact and takes time in proportion to them."
        )
    elif places > most:
        lines.append(
            f"{places} {'places' if family.latent else 'rows'}: each step factors a matrix of so "
            "many rows and columns, which takes long; means of neighbouring rows would be quicker."
            + " So would the method `laplace_grid`."
            * family.latent
        )
    return tuple(lines)


def _gathered_words(gathered: Gathered, family: SmoothFamily) -> str:
    count, rows = len(gathered.nodes), len(gathered.x)
    exact = "which is exact"
    if count < len(np.unique(gathered.x)):
        exact += (
            f" for curves that are polynomials of degree {count - 1}; what other curves have "
            "beside that is measured after sampling"
        )
    if family.latent:
        return (
            f"The function has {count} values at the nodes of a Gauss rule for the places of the "
            f"{rows} rows (Golub and Welsch 1969) and is the polynomial through them elsewhere, "
            f"{exact}. With 0 `nodes` it has a value at each place."
        )
    return (
        f"The {rows} rows are gathered into {count} readings at the nodes of a Gauss rule for "
        f"their places (Golub and Welsch 1969), {exact}. With 0 `nodes` the model goes through "
        "every row."
    )


def _scale_words(settings: Mapping[str, Any], family: SmoothFamily) -> str:
    if family.name in COUNTS:
        more = (
            f" {EXCESS.capitalize()}: sd of the rows' own rates around the curve, as a share; "
            "lognormal(-0.9, 0.5), which keeps it from 0, where the curve would take its place."
        )
        return (
            "Level: log of the rate of all rows, with sd 1; height half-normal(1): the rate may "
            "well change by a factor of three to ten."
        ) + more * (family.name != "poisson" and EXCESS not in settings["priors"])
    if family.name == "bernoulli":
        return (
            "Level: log odds normal(0, 1.5); height half-normal(1.5): any shares but extreme ones."
        )
    scales = "height and noise" if settings["error"] is None else "height"
    return f"Level around the mean of y; {scales} half-normal: all with its sd."
