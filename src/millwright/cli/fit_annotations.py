"""Options of `millwright fit`, with what the help says of each."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

__all__ = [
    "By",
    "Chains",
    "Draws",
    "MaxDepth",
    "MethodName",
    "Metric",
    "Missing",
    "Parameterisation",
    "RunFolder",
    "Seed",
    "Setting",
    "Start",
    "TargetAcceptance",
    "Thin",
    "Trial",
    "Warmup",
]

By = Annotated[
    str | None,
    typer.Option(help="A column: each of its values is a data set, fitted by itself."),
]
RunFolder = Annotated[Path | None, typer.Option(help="Folder for the run; by default SHEET-run.")]
Chains = Annotated[
    int | None, typer.Option(help="Number of chains; by default 4, walkers of an ensemble 20.")
]
Draws = Annotated[
    int | None, typer.Option(help="Draws kept, each chain; by default 1000, in a trial 200.")
]
Warmup = Annotated[
    int | None, typer.Option(help="Draws discarded first; by default 1000, in a trial 300.")
]
Thin = Annotated[int | None, typer.Option(help="Keep every k-th draw only.")]
Trial = Annotated[
    bool, typer.Option("--trial", help="A short fit, to see whether the model works.")
]
Seed = Annotated[int | None, typer.Option(help="Any whole number; by default 0.")]
TargetAcceptance = Annotated[
    float | None, typer.Option(help="Higher means smaller, safer steps; by default 0.8.")
]
MethodName = Annotated[
    str | None,
    typer.Option(
        help="no_u_turn, fixed_length, random_walk, ensemble, tempering, rejection or "
        "laplace_grid."
    ),
]
Metric = Annotated[
    str | None, typer.Option(help="automatic, diagonal or dense; by default automatic.")
]
MaxDepth = Annotated[
    int | None,
    typer.Option(help="A trajectory has at most 2^MAX_DEPTH steps; by default 10."),
]
Setting = Annotated[
    list[str] | None,
    typer.Option(help="A setting of the method's own, such as temperatures=12; can be repeated."),
]
Parameterisation = Annotated[
    list[str] | None,
    typer.Option(
        help="How group effects and processes are sampled: informed, centred or non-centred, or "
        "NAME=FORM for some; by default informed."
    ),
]
Start = Annotated[
    list[str] | None,
    typer.Option(
        help="Where all chains begin: NAME=NUMBER or NAME[LABEL]=NUMBER; can be repeated. "
        "By default draws from the prior."
    ),
]
Missing = Annotated[
    str | None,
    typer.Option(help="Rows without an outcome: refuse (by default), drop or predict."),
]
