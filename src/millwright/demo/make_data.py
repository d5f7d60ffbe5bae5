"""Makes the demo data from their true values: `python -m millwright.demo.make_data`."""

from __future__ import annotations

from pathlib import Path

import numpy as np
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
from millwright.expectations.solution import solved

__all__ = [
    "dressed_stones",
    "dressing_trials",
    "drying_loft",
    "flour_market",
    "flour_yield",
    "grain_store",
    "loft_trials",
    "powder_trials",
    "river_days",
    "sack_weights",
    "stone_wear",
    "yeasts",
]

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


def yeasts() -> pd.DataFrame:
    """Twelve baking days with two yeasts: loaves set in water, and how many of them sank."""
    generator = np.random.default_rng(1907)
    yeast = np.repeat(["brewer", "wild"], [6, 6])
    loaves = generator.integers(20, 33, 12)
    share = np.array([YEASTS_TRUTH[f"share[{name}]"] for name in yeast])
    return pd.DataFrame(
        {
            "day": np.arange(1, 13),
            "yeast": yeast,
            "loaves": loaves,
            "sank": generator.binomial(loaves, share),
        }
    )


def sack_weights() -> pd.DataFrame:
    """Weights of sacks filled at two spouts; one sack at the south spout was filled twice over."""
    generator = np.random.default_rng(1911)
    parts = []
    for spout, rows in (("north", 16), ("south", 13)):
        location, scale = (SACKS_TRUTH[f"{name}[{spout}]"] for name in ("location", "scale"))
        weight = np.round(location + scale * generator.standard_normal(rows), 2)
        parts.append(pd.DataFrame({"spout": spout, "weight": weight}))
    table = pd.concat(parts, ignore_index=True)
    table.loc[len(table) - 3, "weight"] = 58.4
    return table


def dressed_stones() -> pd.DataFrame:
    """Flour an hour of twelve pairs of stones, before and after they were dressed."""
    generator = np.random.default_rng(1913)
    before = np.round(generator.normal(82, 9, 12), 1)
    change = generator.normal(DRESSED_TRUTH["location"], DRESSED_TRUTH["scale"], 12)
    return pd.DataFrame(
        {"stone": np.arange(1, 13), "before": before, "after": np.round(before + change, 1)}
    )


def river_days() -> pd.DataFrame:
    """Rain, level of the river the day after, and power of the wheel, on thirty days."""
    generator = np.random.default_rng(1920)
    rho = RIVER_TRUTH["rho"]
    first, second, third = generator.standard_normal((3, 30))
    rain = np.exp(1.6 + 0.5 * first)
    level = 64 + 7 * (rho * first + np.sqrt(1 - rho**2) * second)
    power = 11 + 0.22 * (level - 64) + 1.1 * third
    return pd.DataFrame(
        {"rain": np.round(rain, 1), "level": np.round(level, 1), "power": np.round(power, 2)}
    )


def dressing_trials() -> pd.DataFrame:
    """Trials at nine mills of a new way of dressing stones: bran left in the flour, new - old."""
    generator = np.random.default_rng(1923)
    mills = ["Hollin Bridge", "Weir End", "Upper Ford", "Stone Row", "Old Barn", "Market"]
    mills += ["Quay", "Two Oaks", "Long Lane"]
    sacks = 2 * generator.integers(12, 70, len(mills))
    error = np.sqrt(4 / sacks)
    own = generator.normal(TRIALS_TRUTH["effect"], TRIALS_TRUTH["spread"], len(mills))
    return pd.DataFrame(
        {
            "mill": mills,
            "year": np.arange(1914, 1914 + len(mills)),
            "sacks": sacks,
            "difference": np.round(own + error * generator.standard_normal(len(mills)), 2),
            "standard_error": np.round(error, 3),
        }
    )


def powder_trials() -> pd.DataFrame:
    """Reports of trials of a whetting powder, of which most without a clear gain were not told."""
    generator = np.random.default_rng(1931)
    seen = POWDER_TRUTH["seen where p is above 0.025"]
    rows: list[tuple[int, float, float]] = []
    while len(rows) < 26:
        sacks = 2 * int(generator.integers(8, 90))
        error = np.sqrt(4 / sacks)
        own = generator.normal(POWDER_TRUTH["effect"], POWDER_TRUTH["spread"])
        gain = own + error * generator.standard_normal()
        if gain / error > 1.96 or generator.random() < seen:
            rows.append((sacks, round(gain, 2), round(float(error), 3)))
    frame = pd.DataFrame(rows, columns=["sacks", "gain", "standard_error"])
    frame.insert(0, "report", [f"report {n}" for n in range(1, len(frame) + 1)])
    return frame


def loft_trials() -> pd.DataFrame:
    """Trials of heated lofts at ten mills, two estimates each, whose errors correlate."""
    generator = np.random.default_rng(1937)
    mills = ["Hollin Bridge", "Weir End", "Upper Ford", "Stone Row", "Old Barn", "Market"]
    mills += ["Quay", "Two Oaks", "Long Lane", "Hay Cross"]
    heat = generator.permutation(np.arange(26, 46, 2))
    grain = generator.permutation(["wheat"] * 5 + ["rye"] * 5)
    own = generator.normal(0, LOFT_TRUTH["spread"], len(mills))
    rows = []
    for at, mill in enumerate(mills):
        middle = LOFT_TRUTH["effect"] + LOFT_TRUTH["slope of heat"] * (heat[at] - 35) + own[at]
        error = generator.uniform(0.14, 0.3, 2)
        shared = generator.standard_normal()
        for batches, one in zip(("early", "late"), error, strict=True):
            part = np.sqrt(0.5) * (shared + generator.standard_normal())
            estimate = round(middle + one * part, 2)
            rows.append((mill, batches, heat[at], grain[at], estimate, round(one, 3)))
    columns = ["mill", "batches", "heat", "grain", "difference", "standard_error"]
    return pd.DataFrame(rows, columns=columns)


def flour_yield() -> pd.DataFrame:
    """Flour at sixty mills, with forty candidate reasons of which four matter."""
    generator = np.random.default_rng(1948)
    names = ["moisture", "stone_age", "dressing_gap", "wheel_speed", "grain_size", "sieve_age"]
    names += ["stone_weight", "feed_rate", "loft_heat", "loft_hours", "river_level", "rain"]
    names += ["grain_age", "weevils", "husk_share", "stone_width", "furrows", "gear_ratio"]
    names += ["belt_slip", "hopper_height", "sack_size", "miller_age", "miller_years", "helpers"]
    names += ["floor_height", "window_area", "cats", "distance_to_town", "wagons", "bakers"]
    names += ["altitude", "frost_days", "dam_height", "wheel_width", "paddles", "shaft_age"]
    names += ["oil_used", "hours_a_day", "days_a_week", "rent"]
    common = generator.standard_normal((60, 8))
    loads = generator.normal(0, 0.45, (8, 40))
    values = common @ loads + generator.standard_normal((60, 40))
    values = (values - values.mean(axis=0)) / values.std(axis=0)
    frame = pd.DataFrame(np.round(values, 2), columns=names)
    level = 72 + sum(FLOUR_TRUTH[name] * frame[name] for name in FLOUR_TRUTH if name != "noise")
    noise = FLOUR_TRUTH["noise"] * generator.standard_normal(60)
    frame.insert(0, "flour", np.round(level + noise, 1))
    frame.insert(0, "mill", [f"mill {n}" for n in range(1, 61)])
    return frame


def flour_market() -> pd.DataFrame:
    """Flow, stock and price by the month; what the stock does to the price fades."""
    generator = np.random.default_rng(1961)
    months = 252
    first, last, on_stock = MARKET_TRUTH.values()
    tie = np.array([[1.0, 0.3, 0.0], [0.3, 1.0, -0.3], [0.0, -0.3, 1.0]])
    errors = generator.multivariate_normal(np.zeros(3), tie, months)
    fading = 1 / (1 + np.exp((np.arange(months) - 120) / 12))
    found = np.zeros((months, 3))
    for at in range(1, months):
        slopes = np.array([[0.6, 0.0, 0.0], [on_stock, 0.5, 0.0], [0.0, 0.0, 0.4]])
        slopes[2, 1] = last + (first - last) * fading[at]
        found[at] = slopes @ found[at - 1] + errors[at]
    values = found * [2.0, 12.0, 1.5] + [18.0, 140.0, 24.0]
    dates = pd.period_range("1921-01", periods=months, freq="M").astype(str)
    table = {"month": dates, "flow": values[:, 0], "stock": values[:, 1], "price": values[:, 2]}
    frame = pd.DataFrame(table).round(1)
    frame["held_back"] = np.where(np.arange(months) >= months - 12, "yes", "no")
    return frame


def grain_store() -> pd.DataFrame:
    """Price and stock of grain where it is kept in the hope of a better price."""
    generator = np.random.default_rng(1974)
    months, discount = 180, 0.98
    cost, elasticity, keep, mood, rain = STORE_TRUTH.values()
    # Price, stock and appetite; sales and harvest put into the stock's equation.
    ahead, before = np.diag([discount, 0.0, 0.0]), np.diag([0.0, 1.0, keep])
    now = np.array([[-1.0, -cost, 0.0], [elasticity, -1.0, -1.0], [0.0, 0.0, -1.0]])
    shocks = np.array([[0.0, 0.0], [0.0, 1.0], [1.0, 0.0]])
    path = solved({"ahead": ahead, "now": now, "before": before, "shocks": shocks})
    state, found = np.zeros(3), np.zeros((months + 60, 3))
    for at in range(len(found)):
        state = path.transition @ state
        state += path.impact @ (generator.standard_normal(2) * [mood, rain])
        found[at] = state
    values = found[60:, :2] + [24.0, 140.0]
    dates = pd.period_range("1931-01", periods=months, freq="M").astype(str)
    table = {"month": dates, "price": values[:, 0].round(2), "stock": values[:, 1].round(1)}
    table["held_back"] = np.where(np.arange(months) >= months - 12, "yes", "no")
    return pd.DataFrame(table)


def stone_wear() -> pd.DataFrame:
    """Stones of busy mills run longer and are dressed more often, which hides what both do."""
    generator = np.random.default_rng(1955)
    noise = generator.standard_normal((120, 7))
    demand = noise[:, 0]
    hours = 0.9 * demand + 0.4 * noise[:, 1]
    dressings = 0.9 * demand + 0.4 * noise[:, 2]
    flow = noise[:, 3]
    speed = 0.8 * flow + 0.6 * noise[:, 4]
    heat = 0.7 * speed + 0.7 * noise[:, 5]
    wear = WEAR_TRUTH["hours on wear"] * hours + WEAR_TRUTH["dressings on wear"] * dressings
    wear = wear + WEAR_TRUTH["speed on wear"] / 0.7 * heat + 0.5 * noise[:, 6]
    columns = {"demand": demand, "hours": hours, "dressings": dressings, "flow": flow}
    columns |= {"speed": speed, "heat": heat, "wear": wear}
    return pd.DataFrame(columns).round(2)


def two_wheels() -> pd.DataFrame:
    """Power of two wheels, which rise with the flow to capacities of their own."""
    generator = np.random.default_rng(1947)
    lower, upper, middle, steepness = WHEELS_TRUTH.values()
    tables = []
    for wheel, capacity, rows in (("upper", upper, 26), ("lower", lower, 20)):
        flow = np.sort(generator.uniform(0.3, 6.0, rows)).round(2)
        error = (0.15 + 0.05 * flow).round(2)
        power = capacity * (1 - np.exp(-np.log(2) * (flow / middle) ** steepness))
        power = (power + error * generator.standard_normal(rows)).round(2)
        columns = {"wheel": wheel, "flow": flow, "power": power, "error": error}
        tables.append(pd.DataFrame(columns))
    return pd.concat(tables, ignore_index=True)


_ALL = (
    drying_loft,
    yeasts,
    sack_weights,
    dressed_stones,
    river_days,
    dressing_trials,
    powder_trials,
    loft_trials,
    flour_yield,
    flour_market,
    grain_store,
    stone_wear,
    two_wheels,
)


def main() -> None:
    """Write all data sets into the package."""
    for make in _ALL:
        make().to_csv(FOLDER / f"{make.__name__}.csv", index=False)


if __name__ == "__main__":
    main()
