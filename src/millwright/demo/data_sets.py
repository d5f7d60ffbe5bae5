"""The demo data sets, with what they are about and the values they were made from."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

import pandas as pd

from millwright.demo.truth import (
    DRESSED_TRUTH,
    DRYING_TRUTH,
    FLOUR_TRUTH,
    LOFT_TRUTH,
    MARKET_TRUTH,
    POWDER_TRUTH,
    RIVER_TRUTH,
    SACKS_TRUTH,
    STORE_TRUTH,
    TRIALS_TRUTH,
    WEAR_TRUTH,
    WHEELS_TRUTH,
    YEASTS_TRUTH,
)
from millwright.errors import ArgumentError, nearest

__all__ = ["DATA_SETS", "DataSet", "load", "sheet_path"]

_FOLDER = Path(__file__).parent


@dataclass(frozen=True, kw_only=True)
class DataSet:
    """A made-up data set.

    Attributes
    ----------
    frame
        The rows to fit.
    held_back
        Rows kept for prediction; None if there are none.
    truth
        Values that the data were made from.
    """

    name: str
    about: str
    frame: pd.DataFrame = field(repr=False)
    held_back: pd.DataFrame | None = field(repr=False)
    truth: Mapping[str, float]


_ABOUT: dict[str, tuple[str, Mapping[str, float]]] = {
    "drying_loft": (
        "Moisture of grain (per cent) after some hours in the drying loft at Hollin Bridge: 20 "
        "batches, and 10 more held back for prediction",
        DRYING_TRUTH,
    ),
    "yeasts": (
        "Loaves of twelve baking days with two yeasts, and how many of them sank in water",
        YEASTS_TRUTH,
    ),
    "sack_weights": (
        "Weights (kg) of sacks filled at the north and the south spout; one was filled twice over",
        SACKS_TRUTH,
    ),
    "dressed_stones": (
        "Flour an hour (kg) of twelve pairs of stones, before and after they were dressed",
        DRESSED_TRUTH,
    ),
    "river_days": (
        "Rain (mm), level of the river the day after (cm) and power of the wheel (kW) on 30 days; "
        "the truth is the correlation of log rain and level",
        RIVER_TRUTH,
    ),
    "dressing_trials": (
        "Trials of a new way of dressing stones at nine mills: bran left in the flour, as a "
        "standardised difference (new minus old), with its standard error",
        TRIALS_TRUTH,
    ),
    "powder_trials": (
        "Reports of 26 trials of a whetting powder: gain of flour as a standardised difference, "
        "with its standard error; most trials without a clear gain were never reported",
        POWDER_TRUTH,
    ),
    "loft_trials": (
        "Trials of heated drying lofts at ten mills, each with early and late batches: moisture "
        "lost more than in open lofts, as a standardised difference, with its standard error; "
        "heat (degrees Celsius) and the grain",
        LOFT_TRUTH,
    ),
    "flour_yield": (
        "Flour (per cent of the grain) at sixty mills, with forty candidate reasons; the truth "
        "is the change for one sd more of each reason, others have none",
        FLOUR_TRUTH,
    ),
    "flour_market": (
        "Twenty years by the month: flow of the river (m3/s), stock of grain (t) and price of "
        "flour (pence a stone), with the last year held back; a low stock raised the price until "
        "grain came by barge; the truth is in units of errors",
        MARKET_TRUTH,
    ),
    "grain_store": (
        "Fifteen years by the month: price of grain (pence a bushel) and stock (t) at Hollin "
        "Bridge, with the last year held back; who stores grain looks ahead to the price of the "
        "next month",
        STORE_TRUTH,
    ),
    "stone_wear": (
        "Wear of 120 pairs of stones, and what may bring it about, all standardised: demand for "
        "flour, hours a day, dressings a year, flow of the race, speed and heat of the stones; "
        "the truth is the total effect of three of them",
        WEAR_TRUTH,
    ),
    "two_wheels": (
        "Power (kW) of the upper and the lower wheel at Hollin Bridge against the flow (m3/s), "
        "with the standard error of each reading; both rise alike, to capacities of their own",
        WHEELS_TRUTH,
    ),
}

DATA_SETS = tuple(_ABOUT)


def load(name: str) -> DataSet:
    """Load a demo data set: one of `DATA_SETS`.

    Raises
    ------
    ArgumentError
        If there is none of that name.
    """
    if name not in _ABOUT:
        raise ArgumentError(
            f"There is no demo data set {name!r}.{nearest(str(name), DATA_SETS)} "
            f"There are: {', '.join(DATA_SETS)}."
        )
    about, truth = _ABOUT[name]
    frame = pd.read_csv(_FOLDER / "data" / f"{name}.csv")
    held_back = None
    if "held_back" in frame:
        chosen = frame["held_back"] == "yes"
        rest = frame.drop(columns="held_back")
        frame, held_back = (rest[rows].reset_index(drop=True) for rows in (~chosen, chosen))
    return DataSet(name=name, about=about, frame=frame, held_back=held_back, truth=truth)


def sheet_path(name: str) -> Path:
    """Return the path of a demo model sheet, such as `drying.toml`."""
    path = _FOLDER / "sheets" / name
    if not path.is_file():
        known = sorted(sheet.name for sheet in path.parent.glob("*.toml"))
        raise ArgumentError(f"There is no demo sheet {name!r}. There are: {', '.join(known)}.")
    return path
