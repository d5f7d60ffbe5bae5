"""When an ensemble's warm-up may end, and what is said of it."""

import unittest

import numpy as np

import millwright as mw
from millwright.errors import ArgumentError
from millwright.sampling.settled import settled, summary

SPREAD = np.array([1.0, 10.0, 0.1])


def log_density(x):
    return -0.5 * np.sum((x / SPREAD) ** 2, axis=-1)


def target():
    return mw.Target(
        lambda a, b, c: log_density(np.stack([a, b, c], axis=-1)),
        {"a": "flat()", "b": "flat()", "c": "flat()"},
        black_box=True,
        vectorised=True,
    )


def remembering(draws, memory, start=0.0, seed=1):
    """Return three series that forget by the factor `memory` a draw, begun at `start`."""
    generator = np.random.default_rng(seed)
    values = np.full((draws, 3), float(start))
    for at in range(1, draws):
        noise = np.sqrt(1 - memory**2) * generator.standard_normal(3)
        values[at] = memory * values[at - 1] + noise
    return values


class Rule(unittest.TestCase):
    def test_series_at_rest_and_series_on_their_way(self):
        rest = [settled(remembering(400, 0.5, seed=seed)) for seed in range(20)]
        self.assertGreaterEqual(sum(rest), 18)
        for drift in (remembering(400, 0.995, start=30.0), np.linspace(0, 3, 400)[:, None]):
            with self.subTest(shape=drift.shape):
                self.assertFalse(settled(drift))

    def test_what_is_short_or_stuck_has_not_settled(self):
        self.assertFalse(settled(remembering(40, 0.0)))
        stuck = remembering(400, 0.0)
        stuck[:, 1] = -5.0
        self.assertFalse(settled(stuck))

    def test_summary_follows_places_spreads_and_densities(self):
        found = summary(np.array([[0.0, 1.0], [2.0, 5.0]]), np.array([-3.0, -1.0]))
        np.testing.assert_allclose(found, [-3.0, -2.0, -2.0, 1.0, 3.0, 0.0, np.log(2.0)])


class WarmUp(unittest.TestCase):
    def test_it_ends_when_walkers_have_settled_and_the_record_says_so(self):
        posterior = target().fit(method="ensemble", seed=1, progress=False)
        made = posterior.record.chains[0]
        self.assertTrue(made["stationary"])
        self.assertLess(made["warmup_draws"], 400)
        self.assertEqual(made["warmup_steps"], made["warmup_draws"] * made["moves_per_draw"])
        words = str(posterior.convergence())
        self.assertIn(f"ended after {made['warmup_draws']} of at most 1000 draws", words)
        self.assertIn(f"{made['moves_per_draw']} moves of each walker", words)
        table = posterior.table()
        errors = posterior.convergence_table()["Monte Carlo error of mean"]
        for name, spread in zip("abc", SPREAD, strict=True):
            error = errors[name]
            self.assertLess(abs(table.loc[name, "mean"]), 4 * error)
            self.assertLess(abs(table.loc[name, "sd"] / spread - 1), 0.1)

    def test_all_of_it_on_request_and_where_it_is_too_short(self):
        settings = {"seed": 1, "draws": 60, "progress": False}
        whole = target().fit(
            method=mw.Ensemble(until_stationary=False), warmup=200, chains=20, **settings
        )
        self.assertIsNone(whole.record.chains[0]["stationary"])
        self.assertEqual(whole.record.chains[0]["warmup_draws"], 200)
        short = target().fit(method="ensemble", warmup=20, **settings)
        self.assertIn("were not stationary by then", str(short.convergence()))
        with self.assertRaisesRegex(ArgumentError, "until_stationary"):
            mw.Ensemble(until_stationary="yes")

    def test_many_walkers_keep_fewer_draws_each(self):
        few = target().fit(method="ensemble", seed=1, progress=False)
        many = target().fit(method="ensemble", chains=60, seed=1, progress=False)
        self.assertEqual(few.draws.shape, (20, 1000))
        self.assertEqual(many.draws.shape, (60, 400))


if __name__ == "__main__":
    unittest.main()
