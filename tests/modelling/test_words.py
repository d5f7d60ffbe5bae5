"""A model in words: every prior in full, with the range it allows."""

import unittest

import millwright as mw
from millwright.modelling.words import prior_range


class Describe(unittest.TestCase):
    def test_names_every_argument_and_range(self):
        text = mw.Model.read(mw.demo.sheet_path("drying.toml")).describe()
        self.assertIn("start ~ normal(location=18, scale=3)", text)
        self.assertIn("12.1 to 23.9", text)
        self.assertIn("moisture ~ normal(location=start + drying * hours, scale=noise)", text)

    def test_ranges(self):
        model = mw.Model(
            priors={
                "exact": "uniform(low=0, high=1)",
                "spread": "half_normal(1)",
                "loose": "normal(0, 2 * spread)",
                "by_data": "normal(age, 1) per stone",
                "held": 2,
            },
            likelihood={"y": "normal(exact, 1)"},
        )
        specification = model.specification
        ranges = {
            n: prior_range(specification.part(n), specification)
            for n in ("exact", "loose", "by_data")
        }
        self.assertEqual(ranges["exact"], (True, 0.025, 0.975))
        self.assertFalse(ranges["loose"][0])
        self.assertLess(abs(ranges["loose"][1] + ranges["loose"][2]), 0.6)
        self.assertIsNone(ranges["by_data"])
        self.assertIn("fixed at this value", model.describe())


if __name__ == "__main__":
    unittest.main()
