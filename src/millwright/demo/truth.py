"""The values that the demo data were made from."""

__all__ = ["CARRIERS_TRUTH", "DRYING_TRUTH"]

DRYING_TRUTH = {"start": 18.4, "drying": -0.55, "noise": 0.35}
CARRIERS_TRUTH = {"share[Reed]": 0.16, "share[Marsh]": 0.08}
