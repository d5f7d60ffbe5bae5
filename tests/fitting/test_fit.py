"""What a fit keeps besides its draws: the warm-up, and where trajectories failed."""

import unittest
import warnings
from dataclasses import replace

import numpy as np

from millwright.fitting.fit import WarmupRecord
from tests.fits import straight


class Kept(unittest.TestCase):
    def setUp(self):
        self.fit = straight().fit
        self.names = ("start", "drying", "noise")

    def record(self, **changed) -> WarmupRecord:
        """The warm-up's record of the fit, with other numbers of the first chain."""
        first, *rest = self.fit.warmup_record.chains
        return replace(self.fit.warmup_record, chains=(replace(first, **changed), *rest))

    def test_no_divergences_have_no_values(self):
        found = self.fit.warmup_record.divergent_values(self.fit.draws)
        self.assertEqual({name: len(values) for name, values in found.items()},
                         dict.fromkeys(self.names, 0))  # fmt: skip

    def test_divergences_are_told_in_the_units_of_the_unknowns(self):
        places = np.array([[18.0, -0.5, np.log(0.3)], [17.0, -0.6, np.log(0.4)]])
        found = self.record(failures=places).divergent_values(self.fit.draws)
        np.testing.assert_allclose(found["start"], [18.0, 17.0])
        np.testing.assert_allclose(found["drying"], [-0.5, -0.6])
        np.testing.assert_allclose(found["noise"], [0.3, 0.4])

    def test_a_trajectory_that_ran_off_is_at_infinity_without_a_warning(self):
        with warnings.catch_warnings():
            warnings.simplefilter("error")
            far = self.record(failures=np.array([[1e300, -1e300, 1e4]]))
            self.assertEqual(far.divergent_values(self.fit.draws)["noise"], np.inf)
            verdict = replace(straight(), fit=replace(self.fit, warmup_record=far)).verdict
        self.assertTrue(verdict.good)

    def test_the_warm_ups_draws_are_those_of_the_shortest_chain(self):
        whole = self.fit.warmup_record.warmup_values(self.fit.draws)
        length = whole.get("start").shape[1]
        first = self.fit.warmup_record.chains[0]
        short = self.record(path=first.path[:5], warmup=first.warmup[:5])
        cut = short.warmup_values(self.fit.draws)
        self.assertGreater(length, 5)
        for name in self.names:
            np.testing.assert_array_equal(cut.get(name), whole.get(name)[:, :5])
        self.assertIsNone(self.record(path=first.path[:5]).warmup_values(self.fit.draws))


if __name__ == "__main__":
    unittest.main()
