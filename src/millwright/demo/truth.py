"""The values that the demo data were made from."""

__all__ = [
    "DRESSED_TRUTH",
    "DRYING_TRUTH",
    "FLOUR_TRUTH",
    "LOFT_TRUTH",
    "MARKET_TRUTH",
    "POWDER_TRUTH",
    "RIVER_TRUTH",
    "SACKS_TRUTH",
    "STORE_TRUTH",
    "TRIALS_TRUTH",
    "WEAR_TRUTH",
    "WHEELS_TRUTH",
    "YEASTS_TRUTH",
]

DRYING_TRUTH = {"start": 18.4, "drying": -0.55, "noise": 0.35}
WEAR_TRUTH = {"hours on wear": 0.9, "dressings on wear": -0.8, "speed on wear": 0.42}
YEASTS_TRUTH = {"share[brewer]": 0.10, "share[wild]": 0.16}
SACKS_TRUTH = {
    "location[north]": 50.2,
    "location[south]": 50.8,
    "scale[north]": 0.5,
    "scale[south]": 0.7,
}
DRESSED_TRUTH = {"location": 5.0, "scale": 4.0}
RIVER_TRUTH = {"rho": 0.6}
FLOUR_TRUTH = {
    "moisture": -1.6,
    "stone_age": -0.9,
    "dressing_gap": -1.2,
    "wheel_speed": 0.8,
    "noise": 1.1,
}
STORE_TRUTH = {"cost": 0.05, "elasticity": 1.5, "keep": 0.8, "mood_sd": 2.0, "rain_sd": 6.0}
LOFT_TRUTH = {"effect": 0.3, "spread": 0.1, "slope of heat": 0.03, "correlation": 0.5}
MARKET_TRUTH = {
    "stock, 1 before, on price at first": -0.7,
    "stock, 1 before, on price at last": 0.0,
    "flow, 1 before, on stock": 0.3,
}
POWDER_TRUTH = {"effect": 0.05, "spread": 0.1, "seen where p is above 0.025": 0.15}
WHEELS_TRUTH = {
    "capacity[lower]": 7.5,
    "capacity[upper]": 11.0,
    "middle": 2.2,
    "steepness": 2.0,
}
TRIALS_TRUTH = {"effect": -0.3, "spread": 0.15}
