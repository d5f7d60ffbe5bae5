"""Chances written as inverse links: exact however near 0 or 1 they are."""

import unittest

import numpy as np
import pandas as pd
from scipy import special

import millwright as mw
from millwright.accuracy.pointwise import row_blocks
from millwright.draws.labelled_draws import Draws

FLOW = np.concatenate([np.linspace(-45, 45, 38), [0.0, 1e-3]])
RISEN = np.arange(len(FLOW)) % 3 == 0


def hazard(eta):
    """Log chances of yes and no where the hazard is exp(eta)."""
    lost = np.exp(eta)
    small = np.where(lost < 1e-8, eta - lost / 2, np.log(-np.expm1(-np.maximum(lost, 1e-9))))
    return small, -lost


def normal(eta):
    """Log chances of yes and no of a normal variate below eta."""
    return special.log_ndtr(eta), special.log_ndtr(-eta)


class Links(unittest.TestCase):
    def check(self, written, exact, step):
        data = pd.DataFrame({"flow": FLOW * step, "risen": RISEN.astype(int)})
        yes, no = exact(0.1 + data.flow.to_numpy())
        with np.errstate(over="raise", invalid="raise"):
            for family in ("bernoulli", "binomial"):
                trials = "trials=1, " if family == "binomial" else ""
                likelihood = {"risen": f"{family}({trials}probability={written})"}
                model = mw.Model(priors={"a": "normal(0, 1)"}, likelihood=likelihood)
                draws = Draws(model.bind(data), {"a": np.full((1, 1), 0.1)})
                found = np.concatenate([block[0] for _, block in row_blocks(draws)])
                # Chances next to 1 have logarithms next to 0, of which the last digits are lost.
                np.testing.assert_allclose(
                    found, np.where(RISEN, yes, no), rtol=1e-12, atol=1e-15, err_msg=written
                )

    def test_normal_distribution_function(self):
        self.check("normal_cdf(a + flow)", normal, 1.0)

    def test_complementary_log_log(self):
        for written in ("1 - exp(-exp(a + flow))", "-expm1(-exp(a + flow))"):
            self.check(written, hazard, 0.2)

    def test_chains_start_under_wide_priors_and_find_the_steep_slope(self):
        # Where the chance is 1 to the last digit, a failure would have no density at all.
        draw = np.random.default_rng(3)
        flow = draw.normal(size=200)
        data = pd.DataFrame({"flow": flow, "risen": draw.normal(size=200) < 0.3 + 0.8 * flow})
        model = mw.Model(
            priors={"a": "normal(0, 100)", "b": "normal(0, 100)"},
            likelihood={"risen": "bernoulli(probability=normal_cdf(a + b * flow))"},
        )
        fitted = model.fit(data, seed=1, draws=300, progress=False)
        self.assertTrue(fitted.verdict.good, fitted.verdict)
        slope = fitted.draws.get("b")
        self.assertLess(abs(slope.mean() - self.likeliest_slope(data)), 0.35 * slope.std())

    def likeliest_slope(self, data):
        """Slope of the highest likelihood over a grid."""
        a, b = np.meshgrid(np.linspace(-1, 1, 81), np.linspace(0.2, 1.8, 161), indexing="ij")
        total = np.zeros(a.shape)
        for flow, risen in zip(data.flow, data.risen, strict=True):
            total += normal(a + b * flow)[0 if risen else 1]
        return b.flat[total.argmax()]

    def test_links_of_derived_quantities_and_what_is_taken_from_one(self):
        data = pd.DataFrame({"flow": FLOW, "risen": RISEN.astype(int)})
        data["share"] = np.linspace(0.01, 0.99, len(FLOW))
        eta = 0.1 + FLOW
        chances = {"expit": special.expit, "normal_cdf": special.ndtr}
        for link, chance in chances.items():
            model = mw.Model(
                priors={"a": "normal(0, 1)"},
                derived={"chance": f"{link}(a + flow)", "rest": "1 - chance"},
                likelihood={
                    "risen": "bernoulli(probability=chance)",
                    "share": "beta(alpha=8 * chance, beta=8 * (1 - chance))",
                },
            )
            draws = Draws(model.bind(data), {"a": np.full((1, 1), 0.1)})
            found = np.concatenate([block[0] for _, block in row_blocks(draws)])
            some, rest = chance(eta), chance(-eta)
            log = {"expit": special.log_expit, "normal_cdf": special.log_ndtr}[link]
            with self.subTest(link):
                np.testing.assert_allclose(draws.get("rest")[0, 0], rest, rtol=1e-12)
                risen = np.where(RISEN, log(eta), log(-eta))
                np.testing.assert_allclose(found[: len(FLOW)], risen, rtol=1e-12, atol=1e-15)
                y = data.share.to_numpy()
                exact = (8 * some - 1) * np.log(y) + (8 * rest - 1) * np.log1p(-y)
                exact -= special.gammaln(8 * some) + special.gammaln(8 * rest) - special.gammaln(8)
                kept = np.isfinite(exact)
                self.assertGreater(kept.sum(), len(FLOW) - 10)
                np.testing.assert_allclose(found[len(FLOW) :][kept], exact[kept], rtol=1e-9)

    def test_a_share_near_one_keeps_the_digits_of_its_rest(self):
        draw = np.random.default_rng(4)
        data = pd.DataFrame({"flow": draw.normal(size=150)})
        middle = special.expit(0.3 + 0.5 * data.flow)
        data["share"] = draw.beta(8 * middle, 8 * (1 - middle))
        study = mw.studies.regression(
            "share ~ flow",
            data,
            family="beta",
            priors={"intercept": "normal(0, 50)", "slope": "normal(0, 50)"},
        )
        self.assertIn("beta=expit(-", str(study.model))
        found = study.fit(seed=2, draws=300, progress=False)
        self.assertTrue(found.verdict.good, found.verdict)
        self.assertLess(abs(found.coefficients()["mean"]["flow"] - 0.5), 0.15)


if __name__ == "__main__":
    unittest.main()
