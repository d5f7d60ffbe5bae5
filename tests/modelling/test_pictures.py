"""A model as mathematics and as a graph."""

import io
import unittest

from matplotlib.mathtext import MathTextParser

import millwright as mw
from millwright.errors import ArgumentError
from millwright.language.mathematics import latex_of
from millwright.language.parse import read_text

MODEL = mw.Model(
    title="Groups",
    priors={
        "mu": "normal(0, 1e-5)",
        "spread_1": "half_normal(1)",
        "held": 2,
        "effect": "normal(mu, spread_1) per stone",
    },
    likelihood={"y": "normal(effect[stone] + held * age ** 2 / sqrt(3), abs(mu))"},
    derived={"gap": "effect['Up & down'] - effect['x_%']"},
)


class OutcomeLabels(unittest.TestCase):
    def test_labels_of_an_outcome_make_no_circle(self):
        model = mw.Model(
            priors={
                "centre": "normal(0, 1) per Y",
                "tie": "lkj(shape=2) per Y",
                "level": "gaussian_process(0, kernel=matern32(x, scale=1, length=1)) per x",
            },
            likelihood={
                "Y": "multivariate_normal(centre, scales=[1, 2], correlation=tie)",
                "z": "normal(level[x], 1)",
            },
            columns={"Y": ["flour", "bran"]},
        )
        self.assertEqual(set(model.graph().predecessors("Y")), {"centre", "tie"})
        self.assertIn(r"\left(1, 2\right)", model.latex())
        mw.plots.model_graph(model)
        self.assertIn("1e-08 of its variance", model.describe())


class Latex(unittest.TestCase):
    def test_every_line_is_mathematics(self):
        text = MODEL.latex()
        lines = text.split("\n")
        self.assertEqual(lines[0], "\\begin{aligned}")
        self.assertEqual(lines[-1], "\\end{aligned}")
        self.assertEqual(len(lines), 2 + 6)
        for line in lines[1:-1]:
            plain = line.removesuffix("\\\\").replace("&", "", 1).strip()
            plain = plain.replace("\\&", "and")
            MathTextParser("path").parse(f"${plain}$")

    def test_expressions(self):
        cases = {
            "a / (b + 1)": r"\frac{a}{b + 1}",
            "a * (b - c)": r"a \cdot \left(b - c\right)",
            "a - (b - c)": r"a - \left(b - c\right)",
            "-(a + b)": r"-\left(a + b\right)",
            "(a + b) ** 2": r"{\left(a + b\right)}^{2}",
            "sigma ** -x": r"{\sigma}^{-x}",
            "exp(log_x)": r"\exp\left(\mathrm{log\_x}\right)",
            "abs(a) <= 1": r"\left|a\right| \leq 1",
        }
        for text, want in cases.items():
            with self.subTest(text=text):
                self.assertEqual(latex_of(read_text(text, "x")[0]), want)


class Graph(unittest.TestCase):
    def test_edges_lead_from_what_is_used(self):
        graph = MODEL.graph()
        self.assertIn(("mu", "effect"), graph.edges)
        self.assertIn(("effect", "gap"), graph.edges)
        self.assertEqual(graph.nodes["age"]["kind"], "data")
        self.assertEqual(graph.nodes["held"]["kind"], "fixed")

    def test_picture_is_drawn_and_refuses_what_does_not_fit(self):
        figure = mw.plots.model_graph(MODEL)
        figure.savefig(io.BytesIO())
        self.assertIn("Groups", figure.get_suptitle())
        many = {f"a{i}": "normal(0, 1)" for i in range(50)}
        big = mw.Model(priors=many, likelihood={"y": "normal(a1, 1)"})
        for bad in (big, 3):
            with self.subTest(bad=bad), self.assertRaises(ArgumentError):
                mw.plots.model_graph(bad)


if __name__ == "__main__":
    unittest.main()
