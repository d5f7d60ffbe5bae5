"""Small fits that several tests look at; each is made once for the whole test run."""

import functools
import unittest

import numpy as np

import millwright as mw
from millwright.diagnostics.convergence import mean_error
from millwright.posterior.posterior import Posterior

SHEET = mw.demo.sheet_path("drying.toml")


@functools.cache
def straight() -> Posterior:
    """The straight line through the demo's drying data."""
    return mw.Model.read(SHEET).fit(mw.demo.load("drying_loft").frame, seed=7, progress=False)


@functools.cache
def flat() -> Posterior:
    """The same data without the predictor."""
    sheet = mw.demo.sheet_path("flat.toml")
    return mw.Model.read(sheet).fit(mw.demo.load("drying_loft").frame, seed=7, progress=False)


@functools.cache
def yeasts() -> Posterior:
    """Two proportions with uniform priors."""
    sheet = mw.demo.sheet_path("yeasts.toml")
    return mw.Model.read(sheet).fit(mw.demo.load("yeasts").frame, seed=3, progress=False)


@functools.cache
def known_scale() -> tuple[Posterior, np.ndarray]:
    """A normal mean with known scale: the posterior and leave-one-out are known exactly."""
    y = np.random.default_rng(5).normal(2.0, 1.0, 40)
    model = mw.Model(priors={"level": "normal(0, 2)"}, likelihood={"y": "normal(level, 1)"})
    return model.fit({"y": y}, seed=1, draws=2000, progress=False), y


def assert_mean_near(case: unittest.TestCase, draws: np.ndarray, mean: float) -> None:
    """Compare the mean of draws (chains, draws) with the exact one, within 4.5 standard errors."""
    case.assertLess(abs(draws.mean() - mean), 4.5 * mean_error(draws[..., None])[0])
