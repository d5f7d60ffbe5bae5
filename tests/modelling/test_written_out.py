"""Densities of models of many forms, row by row, against the same written out with SciPy."""

import unittest

import numpy as np
import pandas as pd
from scipy import special, stats

import millwright as mw
from millwright.accuracy.pointwise import row_blocks
from millwright.draws.labelled_draws import Draws

DRAWS = 5
GRADES = ["coarse", "middling", "fine"]


def readings(seed):
    """Rows with labels that are no positions: accents, blanks, years, an order of its own."""
    draw = np.random.default_rng(seed)
    n = int(draw.choice([1, 2, 5, 23]))
    stone = draw.choice(["Upper", "lower 2", "Nether", "Zürn"], n)
    weight, limit = draw.normal(size=n).round(2), draw.normal(1, 0.5, n).round(1)
    order = pd.CategoricalDtype(["wet", "dry", "frost"], ordered=True)
    return pd.DataFrame(
        {
            "stone": stone,
            "year": draw.choice([1999, 2005, 2001], n),
            "season": pd.Series(draw.choice(["dry", "wet"], n), dtype=order),
            "flow": draw.normal(size=n).round(2),
            "head": draw.normal(size=n).round(2),
            "weight": weight,
            "limit": limit,
            "seen": np.minimum(weight, limit),
            "halves": draw.integers(-4, 5, n) / 2,
            "sacks": draw.integers(0, 6, n),
            "carts": draw.integers(5, 9, n),
            "grade": draw.choice(GRADES, n),
            "home": draw.choice(["a", "b", "c"], n),
            "away": draw.choice(["b", "d"], n),
        }
    )


def places(column, order=None):
    """Where each label stands in the order of labels."""
    order = sorted(set(column)) if order is None else order
    return np.array([order.index(label) for label in column])


class Forms(unittest.TestCase):
    def check(self, written_out, likelihood, priors, **more):
        """Compare rows at draws of the prior; `written_out(unknowns, data)` is for one draw."""
        for seed in range(4):
            data = readings(seed)
            model = mw.Model(priors=priors, likelihood=likelihood, **more)
            drawn = model.simulate(data, draws=DRAWS, seed=seed).draws.values
            found = [block for _, block in row_blocks(Draws(model.bind(data), drawn))]
            flat = {name: np.asarray(v).reshape(DRAWS, *v.shape[2:]) for name, v in drawn.items()}
            for at, rows in enumerate(np.concatenate(found, axis=1)):
                one = {name: values[at] for name, values in flat.items()}
                with self.subTest(seed=seed, rows=len(data)):
                    exact = np.asarray(written_out(one, data), dtype=float)
                    np.testing.assert_allclose(rows, exact, rtol=1e-8, atol=1e-9)

    def test_two_label_sets_crossed_in_either_order(self):
        def written_out(u, d):
            stone, year = places(d.stone), places(d.year)
            middle = u["a"][stone] + u["b"][stone, year] * d.flow - u["c"][year, stone]
            return stats.norm.logpdf(d.weight, middle, u["noise"])

        self.check(
            written_out,
            {"weight": "normal(a[stone] + b[stone, year] * flow - c[year, stone], noise)"},
            {
                "a": "normal(0, 1) per stone",
                "b": "normal(1, 2) per stone, year",
                "c": "normal(0, 1) per year, stone",
                "noise": "half_normal(1)",
            },
        )

    def test_categories_in_their_order_and_choices_between_rows(self):
        def written_out(u, d):
            season = places(d.season, [s for s in ("wet", "dry") if (d.season == s).any()])
            wet = (d.flow > 0) & ~(d["head"] > 0) | (d.year == 2001)
            middle = np.where(wet, u["a"][season], d.flow**2)
            middle = (
                middle + np.abs(d.flow) * np.tanh(d["head"]) - np.maximum(d.flow, d["head"]) / 3
            )
            return stats.t.logpdf(d.weight, 4, middle, u["noise"][places(d.stone)])

        choice = "where((flow > 0 and not (head > 0)) or year == 2001, a[season], flow ** 2)"
        middle = f"{choice} + abs(flow) * tanh(head) - maximum(flow, head) / 3"
        self.check(
            written_out,
            {"weight": f"student_t({middle}, noise[stone], df=4)"},
            {"a": "normal(0, 1) per season", "noise": "lognormal(0, 0.3) per stone"},
        )

    def test_a_matrix_of_columns_with_slopes_of_each_stone(self):
        def written_out(u, d):
            columns = d[["flow", "head"]].to_numpy()
            middle = columns @ u["slope"] + (columns * u["own"][places(d.stone)]).sum(axis=1)
            return stats.laplace.logpdf(d.weight, middle, 0.7)

        self.check(
            written_out,
            {"weight": "laplace(X @ slope + dot(X, own[stone]), 0.7)"},
            {"slope": "normal(0, 1) per X", "own": "normal(0, 1) per stone, X"},
            columns={"X": ["flow", "head"]},
        )

    def test_derived_quantities_over_all_labels(self):
        def written_out(u, d):
            stone = places(d.stone)
            apart = u["a"] - u["a"].mean()
            return stats.norm.logpdf(d.weight, u["a"][stone] + apart[stone] * d.flow, 0.5)

        self.check(
            written_out,
            {"weight": "normal(a[stone] + apart[stone] * flow, 0.5)"},
            {"a": "normal(0, 1) per stone"},
            derived={"apart": "a - mean(a)"},
        )

    def test_two_columns_that_share_their_labels(self):
        def written_out(u, d):
            order = sorted({*d.home, *d.away})
            home, away = places(d.home, order), places(d.away, order)
            return stats.poisson.logpmf(d.sacks, np.exp(0.3 + u["give"][home] - u["take"][away]))

        self.check(
            written_out,
            {"sacks": "poisson(log_rate=0.3 + give[home] - take[away])"},
            {"give": "normal(0, 0.5) per mill", "take": "normal(0, 0.5) per mill"},
            labels={"mill": "home, away"},
        )

    def test_labels_in_order(self):
        for family, below in (
            ("cumulative_logit", special.expit),
            ("cumulative_probit", special.ndtr),
        ):

            def written_out(u, d, below=below):
                grade, middle = places(d.grade, GRADES), u["a"][places(d.stone)]
                cuts = np.concatenate([[-np.inf], u["cut"], [np.inf]])
                return np.log(below(cuts[grade + 1] - middle) - below(cuts[grade] - middle))

            self.check(
                written_out,
                {"grade": f"{family}(a[stone], cuts=cut)"},
                {"a": "normal(0, 0.5) per stone", "cut": "ordered(normal(0, 1)) per step"},
                labels={"step": "between grade", "grade": GRADES},
            )

    def test_labels_without_an_order(self):
        def by_scores(u, d):
            scores = u["base"] + u["own"][places(d.stone)] * d.flow.to_numpy()[:, None]
            return special.log_softmax(scores, axis=1)[np.arange(len(d)), places(d.grade, GRADES)]

        def by_shares(u, d):
            shares = 0.3 * u["all"] + 0.7 * u["own"][places(d.stone)]
            return np.log(shares[np.arange(len(d)), places(d.grade, GRADES)])

        self.check(
            by_scores,
            {"grade": "categorical(log_odds=base + own[stone] * flow)"},
            {"base": "normal(0, 1) per grade", "own": "normal(0, 1) per stone, grade"},
            labels={"grade": GRADES},
        )
        self.check(
            by_shares,
            {"grade": "categorical(probabilities=0.3 * all + 0.7 * own[stone])"},
            {
                "all": "dirichlet(concentration=1) per grade",
                "own": "dirichlet(concentration=[1, 2, 3]) per stone, grade",
            },
            labels={"grade": GRADES},
        )

    def test_mixtures_with_a_part_for_each_label(self):
        def written_out(u, d):
            logs = stats.norm.logpdf(d.weight.to_numpy()[:, None], u["centre"], u["width"])
            return special.logsumexp(logs, b=u["share"], axis=1)

        self.check(
            written_out,
            {"weight": "mixture(normal(centre, width), weights=share)"},
            {
                "centre": "ordered(normal(0, 2)) per source",
                "width": "half_normal(1) per source",
                "share": "dirichlet(concentration=2) per source",
            },
            labels={"source": ["spring", "brook", "rain"]},
        )

    def test_mixtures_of_lines_with_chances_that_follow_a_column(self):
        def written_out(u, d):
            flow, head = (d[name].to_numpy()[:, None] for name in ("flow", "head"))
            lines = u["centre"] + u["slope"] * flow + u["own"][places(d.stone)]
            share = special.softmax(u["lean"] * head, axis=1)
            logs = stats.t.logpdf(d.weight.to_numpy()[:, None], 4, lines, u["width"])
            return special.logsumexp(logs, b=share, axis=1)

        self.check(
            written_out,
            {
                "weight": "mixture(student_t(centre + slope * flow + own[stone], width, df=4), "
                "weights=exp(lean * head))"
            },
            {
                "centre": "ordered(normal(0, 2)) per source",
                "slope": "normal(0, 1) per source",
                "own": "normal(0, 1) per stone, source",
                "width": "half_normal(1) per source",
                "lean": "normal(0, 1) per source",
            },
            labels={"source": ["spring", "brook", "rain"]},
        )

    def test_vectors_with_a_correlation_matrix(self):
        for name, vector in (
            ("multivariate_normal", stats.multivariate_normal.logpdf),
            ("multivariate_student_t", lambda *a: stats.multivariate_t.logpdf(*a, df=5)),
        ):

            def written_out(u, d, vector=vector):
                covariance = u["tie"] * np.outer(u["width"], u["width"])
                middles = u["middle"] + u["own"][places(d.stone)]
                rows = d[["flow", "head"]].to_numpy()
                return [vector(*pair, covariance) for pair in zip(rows, middles, strict=True)]

            tail = ", df=5" if name.endswith("t") else ""
            self.check(
                written_out,
                {"Y": f"{name}(middle + own[stone], scales=width, correlation=tie{tail})"},
                {
                    "middle": "normal(0, 1) per Y",
                    "own": "normal(0, 1) per stone, Y",
                    "width": "half_normal(1) per Y",
                    "tie": "lkj(shape=2) per Y",
                },
                columns={"Y": ["flow", "head"]},
            )

    def test_counts_with_more_zeros_or_with_none(self):
        def inflated(u, d):
            zero = u["share"][places(d.year)]
            alpha = np.exp(u["a"][places(d.stone)])
            rest = stats.betabinom.pmf(d.sacks, d.carts, alpha, 2)
            return np.log(zero * (d.sacks == 0) + (1 - zero) * rest)

        def hurdle(u, d):
            zero, rate = u["share"][places(d.year)], np.exp(u["a"][places(d.stone)])
            above = (
                np.log1p(-zero) + stats.poisson.logpmf(d.sacks, rate) - np.log(-np.expm1(-rate))
            )
            return np.where(d.sacks == 0, np.log(zero), above)

        priors = {"a": "normal(0, 1) per stone", "share": "beta(alpha=2, beta=2) per year"}
        count = "beta_binomial(trials=carts, alpha=exp(a[stone]), beta=2)"
        self.check(inflated, {"sacks": f"zero_inflated({count}, share=share[year])"}, priors)
        count = "poisson(rate=exp(a[stone]))"
        self.check(hurdle, {"sacks": f"hurdle({count}, share=share[year])"}, priors)

    def test_values_that_are_recorded_or_seen_less_often(self):
        def rounded(u, d):
            middle = u["a"][places(d.stone)]
            ends = (stats.logistic.cdf(d.halves + end, middle, 0.8) for end in (0.25, -0.25))
            return np.log(np.subtract(*ends))

        def censored(u, d):
            given = (u["a"][places(d.stone)], 0.8)
            inside = stats.logistic.logpdf(d.seen, *given)
            return np.where(d.seen >= d.limit, stats.logistic.logsf(d.limit, *given), inside)

        def selected(u, d):
            middle, rare = u["a"][places(d.stone)], u["rare"]
            seen = stats.norm.sf(d.limit, middle) + rare * stats.norm.cdf(d.limit, middle)
            often = np.where(d.weight >= d.limit, 0.0, np.log(rare))
            return stats.norm.logpdf(d.weight, middle) + often - np.log(seen)

        priors = {"a": "normal(0, 1) per stone"}
        self.check(rounded, {"halves": "rounded(logistic(a[stone], 0.8), to=0.5)"}, priors)
        self.check(censored, {"seen": "censored(logistic(a[stone], 0.8), high=limit)"}, priors)
        self.check(
            selected,
            {"weight": "selected(normal(a[stone], 1), above=limit, weight=rare)"},
            priors | {"rare": "beta(alpha=2, beta=2)"},
        )

    def test_what_is_taken_from_the_data(self):
        def written_out(u, d):
            flow, head = d.flow, d["head"]
            scaled = (flow - flow.mean()) / flow.std(ddof=1)
            return stats.norm.logpdf(d.weight, u["a"] * scaled + head.mean() + head.std(), 0.5)

        data = readings(3)
        self.assertGreater(len(data), 2)
        model = mw.Model(
            priors={"a": "normal(0, 1)"},
            likelihood={"weight": "normal(a * standardise(flow) + mean(head) + sd(head), 0.5)"},
        )
        drawn = model.simulate(data, draws=1, seed=1).draws.values
        (_, rows), *_ = row_blocks(Draws(model.bind(data), drawn))
        one = {"a": np.ravel(drawn["a"])[0]}
        np.testing.assert_allclose(rows[0], written_out(one, data), rtol=1e-9)


if __name__ == "__main__":
    unittest.main()
