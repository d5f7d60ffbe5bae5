"""Fits that go through a few numbers instead of all rows: exact, found, and told."""

import unittest

import jax
import numpy as np
import pandas as pd

import millwright as mw
from millwright.distributions import on_numpy
from millwright.modelling.density import LogDensity, log_density_terms
from millwright.modelling.gathering import gathered

N = 3000
RNG = np.random.default_rng(5)
DATA = pd.DataFrame(
    {
        "hours": RNG.integers(0, 9, N) * 1.0,
        "flow": RNG.normal(3.0, 1.0, N),
        "mill": np.array(["Upper", "Lower", "Old"])[RNG.integers(0, 3, N)],
        "stone": np.array(["burr", "lava"])[RNG.integers(0, 2, N)],
        "flour": RNG.normal(5.0, 1.0, N),
        "torn": RNG.integers(0, 2, N),
        "sacks": RNG.poisson(3.0, N),
        "day": RNG.permutation(np.arange(N) % 40),
        "one": RNG.normal(size=N),
        "two": RNG.normal(size=N),
    }
)
PRIORS = {
    "level": "normal(0, 5)",
    "slope": "normal(0, 5)",
    "noise": "half_normal(3)",
    "effect": "normal(0, noise) per mill",
    "both": "normal(0, 1) per mill, stone",
    "w": "normal(0, 1) per X",
    "by_day": "normal(0, 1) per day",
}
LINEAR = {
    "level": 2,
    "3": 2,
    "level + slope * (hours - mean(hours)) / sd(hours)": 3,
    "level - slope * (hours - middle) * flow / 3": 4,
    "level + effect[mill] * flow + slope * hours": 6,
    "level - by_day[day] * hours": 42,
    "level + slope * both[mill, stone] / 2": 8,
    'level + both[mill, "burr"]': 8,
    'where(stone == "burr", level, slope * hours)': 3,
    'level + slope**2 * (stone == "burr") + exp(hours / 9)': 3,
    "slope * hours / level - hours / flow": 2,
    "line - flow": 3,
    'level + flow * (X @ w) + w["one"] * hours': 5,
}
NOT_LINEAR = (
    ("exp(0.1 * level + 0.01 * slope * hours)", "noise"),
    ("level + slope * hours", "noise * flow**2"),
    ("level + slope * mean(level * hours)", "noise"),
    ("hours / (level + flow)", "noise"),
)
COUNTED = {
    "bernoulli(log_odds=level + effect[mill] + slope * (stone == 'lava'))": "torn",
    "poisson(rate=exp(0.1 * level + 0.01 * hours))": "sacks",
    "student_t(level + slope * hours, noise, df=4)": "sacks",
    "zero_inflated(poisson(rate=exp(0.1 * level)), share=0.3)": "sacks",
    "categorical(log_odds=per_stone)": "stone",
}


def model_of(likelihood, priors=None):
    derived = {"line": "level + slope * standardise(flow)"}
    priors = {**PRIORS, "middle": "normal(3, 1)", **(priors or {})}
    return mw.Model(
        priors=priors, likelihood=likelihood, derived=derived, columns={"X": ["one", "two"]}
    )


class Gathering(unittest.TestCase):
    def assert_exact(self, binding, gradients=False):
        """Compare the log density by all rows with that by what is gathered, at some places."""
        places = np.random.default_rng(1).normal(0.0, 0.3, (4, binding.dimension))
        found = []
        for one in (binding, gathered(binding).binding):
            parts = log_density_terms(on_numpy, one.program, one.arguments, places)
            found.append(np.sum([np.broadcast_to(part, 4) for part in parts.values()], axis=0))
            if gradients:
                each = jax.jit(jax.vmap(jax.grad(LogDensity(one.program)), in_axes=(0, None)))
                found.append(np.asarray(each(places, dict(one.arguments))))
        half = len(found) // 2
        for by_rows, by_few in zip(found[:half], found[half:], strict=True):
            np.testing.assert_allclose(by_few, by_rows, rtol=1e-11, atol=1e-11)

    def test_linear_locations_are_exact_in_one_small_matrix(self):
        for location, width in LINEAR.items():
            with self.subTest(location=location):
                binding = model_of({"flour": f"normal({location}, noise)"}).bind(DATA)
                (note,) = gathered(binding).notes
                self.assertIn(f"flour: 3,000 rows, in one matrix of {width} x {width}", note)
                self.assert_exact(binding, gradients=width == 6)

    def test_others_go_through_their_rows(self):
        for location, scale in NOT_LINEAR:
            with self.subTest(location=location, scale=scale):
                binding = model_of({"flour": f"normal({location}, {scale})"}).bind(DATA)
                self.assertEqual(gathered(binding).notes, ())
        short = model_of({"flour": "normal(level, noise)"}).bind(DATA[:900])
        self.assertEqual(gathered(short).notes, ())

    def test_rows_that_repeat_are_counted(self):
        for text, outcome in COUNTED.items():
            with self.subTest(text=text):
                binding = model_of({outcome: text}, {"per_stone": "normal(0, 1) per stone"})
                binding = binding.bind(DATA)
                (note,) = gathered(binding).notes
                self.assertRegex(note, rf"{outcome}: 3,000 rows of \d+ different kinds")
                self.assert_exact(binding, gradients=outcome == "torn")

    def test_rows_that_hang_together_are_not_counted(self):
        for text in (
            "poisson(rate=exp(0.1 * level + 0.01 * hours * flow))",
            "poisson(rate=exp(0.1 * level + mean(slope * hours)))",
        ):
            with self.subTest(text=text):
                binding = model_of({"sacks": text}).bind(DATA)
                self.assertEqual(gathered(binding).notes, ())
        gaps = DATA.assign(hours=DATA["hours"].where(DATA["hours"] > 0))
        outcomes = {"hours": "normal(4, 3)", "sacks": "poisson(rate=exp(0.1 * hours))"}
        binding = model_of(outcomes).bind(gaps)
        self.assertEqual(gathered(binding).notes, ())

    def test_single_numbers_made_of_all_rows_keep_them(self):
        """The mean of something unknown has no rows, but what counts rows would change it."""
        counted = {"sacks": "poisson(rate=exp(0.1 * level + 0.01 * hours))"}
        derived = {"level_of_all": "mean(slope * hours)"}
        priors = {"level": "normal(0, 5)", "slope": "normal(0, 5)", "noise": "half_normal(3)"}
        cases = {
            "another outcome": {"likelihood": {**counted, "flour": "normal(level_of_all, noise)"}},
            "its scale": {
                "likelihood": {**counted, "flour": "normal(level, exp(level_of_all / 100))"}
            },
            "a prior": {"priors": {**priors, "shift": "normal(level_of_all, 1)"}},
            "a term": {"log_density_terms": {"pull": "-level_of_all**2"}},
        }
        for name, changed in cases.items():
            with self.subTest(name=name):
                whole = {"priors": priors, "likelihood": counted, "derived": derived}
                binding = mw.Model(**(whole | changed)).bind(DATA)
                self.assertNotIn("kinds", " ".join(gathered(binding).notes))
                self.assert_exact(binding)

    def test_two_outcomes_two_tables_and_a_term(self):
        lines = {"flour": "normal(level, noise)", "sacks": "poisson(rate=exp(0.1 * level))"}
        binding = model_of(lines).bind(DATA)
        self.assertEqual(len(gathered(binding).notes), 2)
        self.assert_exact(binding)
        tables = {"upper": DATA, "lower": {"weight": RNG.normal(size=2000)}}
        binding = model_of({**lines, "weight": "normal(slope, noise)"}).bind(tables)
        self.assertEqual(len(gathered(binding).notes), 3)
        self.assert_exact(binding)
        with_term = mw.Model(
            priors={"level": "normal(0, 5)"},
            likelihood={"sacks": "poisson(rate=exp(0.1 * level))"},
            log_density_terms={"pull": "-sum((flour - level)**2) / 100"},
        ).bind(DATA)
        self.assertEqual(gathered(with_term).notes, ())

    def test_digits_of_small_residuals_are_kept(self):
        hours = 1e6 + np.linspace(0.0, 1.0, N)
        data = {"hours": hours, "flour": 3.0 + 2.0 * (hours - 1e6) + 1e-6 * np.sin(hours * 7e3)}
        model = mw.Model(
            priors={"level": "normal(0, 5)", "slope": "normal(0, 5)"},
            likelihood={"flour": "normal(level + slope * (hours - 1000000), 1e-6)"},
        )
        binding = model.bind(data)
        part = binding.program.outcomes[0].name
        place = np.array([[3.0, 2.0]])
        one, other = (
            log_density_terms(on_numpy, b.program, b.arguments, place)[part]
            for b in (binding, gathered(binding).binding)
        )
        np.testing.assert_allclose(other, one, rtol=1e-9)

    def test_a_fit_says_so_and_everything_else_has_its_rows(self):
        priors = {"level": "normal(0, 5)", "slope": "normal(0, 5)", "noise": "half_normal(3)"}
        model = mw.Model(
            priors=priors, likelihood={"flour": "normal(level + slope * hours, noise)"}
        )
        posterior = model.fit(DATA, seed=1, draws=300, warmup=300, progress=False)
        self.assertIn("in one matrix of 3 x 3", posterior.describe())
        x = np.column_stack([np.ones(N), DATA["hours"]])
        exact = np.linalg.lstsq(x, DATA["flour"].to_numpy(), rcond=None)[0]
        table = posterior.table()
        for name, value in zip(("level", "slope"), exact, strict=True):
            sd = table.loc[name, "sd"]
            self.assertLess(abs(table.loc[name, "mean"] - value), 0.3 * sd)
        self.assertEqual(len(posterior.leave_one_out().rows), N)
        new = posterior.predict({"hours": [2.0, 8.0]})
        self.assertEqual(len(new.table()), 2)


if __name__ == "__main__":
    unittest.main()
