"""Makes the demo data from their true values: `python -m millwright.demo.make_data`."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd

from millwright.demo.truth import CARRIERS_TRUTH, DRYING_TRUTH

__all__ = ["carriers", "drying_loft"]

FOLDER = Path(__file__).parent / "data"


def drying_loft() -> pd.DataFrame:
    """Thirty batches of grain: hours in the drying loft and moisture in per cent."""
    generator = np.random.default_rng(1872)
    hours = np.round(generator.uniform(0.5, 9.5, 30), 1)
    expected = DRYING_TRUTH["start"] + DRYING_TRUTH["drying"] * hours
    moisture = np.round(expected + DRYING_TRUTH["noise"] * generator.standard_normal(30), 2)
    held_back = np.isin(np.arange(30), generator.choice(30, 10, replace=False))
    return pd.DataFrame(
        {
            "batch": np.arange(1, 31),
            "hours": hours,
            "moisture": moisture,
            "held_back": np.where(held_back, "yes", "no"),
        }
    )


def carriers() -> pd.DataFrame:
    """Boxes of flour sacks from two carriers: sacks in each box, and how many were torn."""
    generator = np.random.default_rng(1904)
    carrier = np.repeat(["Reed", "Marsh"], [5, 7])
    sacks = generator.integers(18, 31, 12)
    share = np.where(
        carrier == "Reed", CARRIERS_TRUTH["share[Reed]"], CARRIERS_TRUTH["share[Marsh]"]
    )
    return pd.DataFrame(
        {
            "box": np.arange(1, 13),
            "carrier": carrier,
            "sacks": sacks,
            "torn": generator.binomial(sacks, share),
        }
    )


def main() -> None:
    """Write all data sets into the package."""
    for make in (drying_loft, carriers):
        make().to_csv(FOLDER / f"{make.__name__}.csv", index=False)


if __name__ == "__main__":
    main()
