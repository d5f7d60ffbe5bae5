"""Half distributions: |X| for X symmetric around zero; the usual priors of scales."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from scipy.special import betaincinv, betaln

from millwright.distributions.family import Family, Parameters, Support
from millwright.distributions.location_scale import DF, SCALE, Cauchy, Normal, StudentT
from millwright.distributions.mathematics import Array, Mathematics, log_diff_exp

__all__ = ["HalfCauchy", "HalfNormal", "HalfStudentT"]

_LOG_2 = math.log(2)


class _Half(Family):
    """The absolute value of a draw from `whole_line` centred at zero."""

    whole_line: Family

    def _centred(self, p: Parameters) -> dict[str, Any]:
        return {**p, "location": 0.0}

    def support(self, p: Parameters) -> Support:
        return Support(lower=0.0)

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return self.whole_line.log_density(m, x, self._centred(p)) + _LOG_2

    def log_tails(self, m: Mathematics, x: Array, p: Parameters) -> tuple[Array, Array]:
        # P(|X| <= x) = 1 - 2 P(X > x)
        above = self.log_survival(m, x, p)
        return log_diff_exp(m, 0.0 * m.asarray(x), above), above

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return self.log_tails(m, x, p)[0]

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return _LOG_2 + self.whole_line.log_survival(m, m.maximum(x, 0.0), self._centred(p))

    def quantile(self, q: Array, p: Parameters) -> Array:
        return np.maximum(self.whole_line.quantile(0.5 + np.asarray(q) / 2, self._centred(p)), 0.0)

    def survival_quantile(self, q: Array, p: Parameters) -> Array:
        return self.whole_line.survival_quantile(np.asarray(q) / 2, self._centred(p))

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        return np.abs(self.whole_line.draw(generator, size, self._centred(p)))


class HalfNormal(_Half):
    """Absolute value of a normal draw with mean zero and standard deviation `scale`."""

    name = "half_normal"
    summary = "positive half of a bell curve around zero"
    parameters = (SCALE,)
    whole_line = Normal()

    def mean(self, p: Parameters) -> Array:
        return p["scale"] * math.sqrt(2 / math.pi)


class HalfStudentT(_Half):
    """Absolute value of a Student-t draw around zero."""

    name = "half_student_t"
    summary = "positive half of a heavy-tailed bell curve around zero"
    parameters = (SCALE, DF)
    whole_line = StudentT()

    def quantile(self, q: Array, p: Parameters) -> Array:
        # T^2 = df B / (1 - B) for B beta(1/2, df/2): exact for small q.
        df = np.asarray(p["df"], dtype=float)
        share = betaincinv(0.5, df / 2, q)
        return p["scale"] * np.sqrt(df * share / betaincinv(df / 2, 0.5, 1 - np.asarray(q)))

    def mean(self, p: Parameters) -> Array:
        # Johnson, Kotz and Balakrishnan (1995), ch. 28: E|T| for df > 1.
        df = np.asarray(p["df"], dtype=float)
        safe = np.where(df > 1, df, 2.0)
        log_mean = 0.5 * np.log(safe) - np.log(safe - 1) + _LOG_2 - betaln(safe / 2, 0.5)
        return np.where(df > 1, p["scale"] * np.exp(log_mean), np.inf)


class HalfCauchy(_Half):
    """Absolute value of a Cauchy draw around zero; its mean is infinite."""

    name = "half_cauchy"
    summary = "positive half of a very heavy-tailed curve around zero"
    parameters = (SCALE,)
    whole_line = Cauchy()

    def mean(self, p: Parameters) -> Array:
        return np.inf * np.asarray(p["scale"])
