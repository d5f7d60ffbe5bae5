"""WAIC against its closed form for a normal mean, and its warning."""

import unittest

import numpy as np
from scipy import stats

import millwright as mw
from millwright.errors import ModelError
from tests.fits import known_scale


class Known(unittest.TestCase):
    def test_closed_form(self):
        posterior, y = known_scale()
        found = posterior.waic()
        variance = 1 / (len(y) + 0.25)
        mean = variance * y.sum()
        density = stats.norm(mean, np.sqrt(1 + variance)).logpdf(y)
        spread = 0.5 * variance**2 + variance * (y - mean) ** 2
        np.testing.assert_allclose(found.variance_by_row, spread, rtol=0.15)
        self.assertAlmostEqual(found.elpd, (density - spread).sum(), delta=0.1)
        self.assertLess(abs(found.elpd - posterior.leave_one_out().elpd), 0.1)
        self.assertEqual(found.unreliable, ())
        self.assertAlmostEqual(found.waic, -2 * found.elpd)

    def test_an_outlier_is_named(self):
        y = np.array([0.0, 0.3, -0.2, 9.0])
        model = mw.Model(priors={"level": "normal(0, 2)"}, likelihood={"y": "normal(level, 1)"})
        found = model.fit({"y": y}, draws=300, warmup=300, progress=False).waic()
        self.assertIn(("y", 4), found.unreliable)
        self.assertIn("Unreliable for row", str(found))

    def test_what_has_no_rows_of_its_own(self):
        terms = mw.Model(
            priors={"m": "normal(0, 2)"},
            likelihood={"y": "normal(m, 1)"},
            log_density_terms={"soft": "-(m - 1) ** 2"},
        )
        fit = terms.fit({"y": [1.0, 2.0]}, draws=100, warmup=100, progress=False)
        with self.assertRaisesRegex(ModelError, "WAIC needs"):
            fit.waic()
