"""Criteria of causal graphs against brute force over every set of variables, and reading."""

import itertools
import random
import unittest

import networkx as nx
import numpy as np

from millwright.causal.adjustment import (
    adjustment_sets,
    causal_nodes,
    fault_of,
    forbidden,
    instruments,
)
from millwright.causal.graph import read_graph
from millwright.causal.independences import independences
from millwright.causal.paths import paths_between
from millwright.causal.separators import minimal_separators
from millwright.errors import ArgumentError


def subsets(names):
    return [set(some) for k in range(len(names) + 1) for some in itertools.combinations(names, k)]


def least(every):
    found = {frozenset(some) for some in every}
    return {some for some in found if not any(other < some for other in found)}


def every_graph(nodes):
    """Every acyclic graph whose arrows run from earlier to later nodes."""
    pairs = list(itertools.combinations(nodes, 2))
    for chosen in itertools.product([False, True], repeat=len(pairs)):
        yield [pair for pair, there in zip(pairs, chosen, strict=True) if there]


def graph_of(nodes, arrows, hidden=()):
    network = nx.DiGraph()
    network.add_nodes_from(nodes)
    network.add_edges_from(arrows)
    return read_graph(network, hidden)


class Criteria(unittest.TestCase):
    def check(self, graph):
        network, observed = graph.network, graph.observed
        for one, other in itertools.permutations(observed, 2):
            between = causal_nodes(graph, one, other)
            never = set().union(*({n} | nx.descendants(network, n) for n in between))
            cut = network.copy()
            cut.remove_edges_from([(one, node) for node in between])
            rest = [node for node in observed if node not in never | {one, other}]
            valid = [z for z in subsets(rest) if nx.is_d_separator(cut, {one}, {other}, z)]
            self.assertEqual(set(adjustment_sets(graph, one, other)), least(valid))
            never &= {*observed} - {one, other}
            self.assertEqual(set(forbidden(graph, one, other)), never)
            apart = network.copy()
            apart.remove_edges_from([(one, other)])
            rest = [n for n in observed if n not in nx.descendants(network, other) | {one, other}]
            direct = [z for z in subsets(rest) if nx.is_d_separator(apart, {one}, {other}, z)]
            self.assertEqual(set(adjustment_sets(graph, one, other, "direct")), least(direct))

    def test_every_graph_of_four_nodes(self):
        for arrows in every_graph("abcd"):
            if arrows:
                self.check(graph_of("abcd", arrows))

    def test_random_graphs_of_six_with_unobserved_nodes(self):
        generator = random.Random(3)
        for _ in range(40):
            names = list("abcdef")
            generator.shuffle(names)
            share = generator.uniform(0.2, 0.7)
            pairs = itertools.combinations(names, 2)
            arrows = [pair for pair in pairs if generator.random() < share]
            hidden = [name for name in names if generator.random() < 0.2]
            if arrows and len(hidden) < 5:
                self.check(graph_of(names, arrows, hidden))

    def test_paths_are_open_where_nodes_are_connected(self):
        generator = random.Random(4)
        for arrows in every_graph("abcd"):
            if not arrows:
                continue
            graph = graph_of("abcd", arrows)
            for one, other in itertools.permutations("abcd", 2):
                rest = [node for node in "abcd" if node not in (one, other)]
                given = {node for node in rest if generator.random() < 0.5}
                found = any(path.open for path in paths_between(graph, one, other, given))
                apart = nx.is_d_separator(graph.network, {one}, {other}, given)
                self.assertNotEqual(found, apart)

    def test_implied_independences(self):
        for arrows in every_graph("abcd"):
            if not arrows:
                continue
            graph = graph_of("abcd", arrows)
            found = {(one.first, one.second): one.given for one in independences(graph)}
            for one, other in itertools.combinations("abcd", 2):
                rest = [node for node in "abcd" if node not in (one, other)]
                network = graph.network
                sets = [z for z in subsets(rest) if nx.is_d_separator(network, {one}, {other}, z)]
                if not sets:
                    self.assertNotIn((one, other), found)
                else:
                    self.assertEqual(len(found[one, other]), min(map(len, sets)))
                    self.assertIn(set(found[one, other]), sets)

    def test_faults_of_a_set(self):
        graph = read_graph("a -> m -> b; z -> a; z -> b; a -> c <- b")
        self.assertEqual(fault_of(graph, "a", "b", ["z"]), "")
        self.assertIn("mediator", fault_of(graph, "a", "b", ["z", "m"]))
        self.assertIn("effect of the outcome", fault_of(graph, "a", "b", ["z", "c"]))
        self.assertIn("stays open", fault_of(graph, "a", "b", []))
        self.assertIn("stays open", fault_of(graph, "a", "b", ["m"], "direct"))
        self.assertEqual(fault_of(graph, "a", "b", ["m", "z"], "direct"), "")

    def test_instruments(self):
        graph = read_graph("z -> x -> y; x <-> y; w -> z; w -> y")
        found = {one.name: set(one.given) for one in instruments(graph, "x", "y")}
        self.assertEqual(found, {"z": {"w"}})
        self.assertEqual(adjustment_sets(graph, "x", "y"), [])
        self.assertEqual(instruments(read_graph("z -> x -> y; z -> y"), "x", "y"), [])

    def test_many_sets_are_listed_up_to_a_number(self):
        arms = "; ".join(f"x <- a{k} -> b{k} -> y" for k in range(10))
        graph = read_graph(f"{arms}; x -> y")
        self.assertEqual(len(adjustment_sets(graph, "x", "y")), 2**10)
        some = minimal_separators(graph.network, "a0", "y", graph.observed, most=5)
        self.assertEqual(len(some), 5)


def linear(graph, generator):
    """Return random coefficients of the arrows, and the covariance of all nodes."""
    size = len(graph.nodes)
    at = {node: place for place, node in enumerate(graph.nodes)}
    arrows = np.zeros((size, size))
    for cause, effect in graph.arrows:
        arrows[at[cause], at[effect]] = generator.uniform(0.3, 1.5) * generator.choice([-1, 1])
    total = np.linalg.inv(np.eye(size) - arrows)
    noise = np.diag(generator.uniform(0.5, 2.0, size))
    return at, arrows, total, total.T @ noise @ total


def slope(covariance, outcome, predictors):
    """Return the coefficient of the first predictor in the regression of exact moments."""
    inside = covariance[np.ix_(predictors, predictors)]
    return np.linalg.solve(inside, covariance[predictors, outcome])[0]


class Linear(unittest.TestCase):
    """Exact moments of linear graphs: every set gives the true effect, without sampling."""

    def graphs(self, count):
        generator, numbers = random.Random(6), np.random.default_rng(6)
        for _ in range(count):
            names = list("abcdef")
            generator.shuffle(names)
            pairs = itertools.combinations(names, 2)
            arrows = [pair for pair in pairs if generator.random() < 0.45]
            hidden = [name for name in names if generator.random() < 0.2]
            if arrows and len(hidden) < 4:
                graph = graph_of(names, arrows, hidden)
                yield graph, linear(graph, numbers)

    def test_adjusted_coefficients_are_the_effects(self):
        checked = 0
        for graph, (at, arrows, total, covariance) in self.graphs(60):
            for one, other in itertools.permutations(graph.observed, 2):
                truth = {"total": total[at[one], at[other]], "direct": arrows[at[one], at[other]]}
                for effect, value in truth.items():
                    for given in adjustment_sets(graph, one, other, effect):
                        predictors = [at[one], *(at[node] for node in given)]
                        told = slope(covariance, at[other], predictors)
                        self.assertAlmostEqual(told, value, 7)
                        checked += 1
        self.assertGreater(checked, 1000)

    def test_instruments_give_the_total_effect(self):
        checked = 0
        for graph, (at, _, total, covariance) in self.graphs(200):
            for one, other in itertools.permutations(graph.observed, 2):
                for found in instruments(graph, one, other):
                    predictors = [at[found.name], *(at[node] for node in found.given)]
                    ratio = slope(covariance, at[other], predictors)
                    ratio /= slope(covariance, at[one], predictors)
                    self.assertAlmostEqual(ratio, total[at[one], at[other]], 6)
                    checked += 1
        self.assertGreater(checked, 100)

    def test_implied_independences_have_no_partial_correlation(self):
        for graph, (at, *_, covariance) in self.graphs(60):
            for found in independences(graph):
                predictors = [at[found.second], *(at[node] for node in found.given)]
                self.assertAlmostEqual(slope(covariance, at[found.first], predictors), 0.0, 8)


class Reading(unittest.TestCase):
    def test_texts_mappings_and_networks(self):
        text = read_graph("a, b -> c; c -> d e\nd e <- f; a <-> f")
        self.assertEqual(text.nodes, ("a", "b", "c", "d e", "f", "a <-> f"))
        self.assertEqual(set(text.parents("d e")), {"c", "f"})
        self.assertEqual(text.unobserved, {"a <-> f"})
        same = read_graph({"a": ["c"], "b": "c"})
        self.assertEqual(set(same.arrows), {("a", "c"), ("b", "c")})
        chain = read_graph(nx.DiGraph([("a", "b")]), unobserved="b")
        self.assertEqual(chain.observed, ("a",))

    def test_what_is_no_graph(self):
        for words, given in (
            ("a cycle, a -> b -> a", "a -> b -> a"),
            ("a cycle, a -> a", "a -> a"),
            ("no arrow", ""),
            ("no arrow", "a; b"),
            ("cannot be read", "a ->"),
            ("cannot be read", "a > b"),
            ("a mapping of causes", 5),
        ):
            with self.subTest(given), self.assertRaisesRegex(ArgumentError, words):
                read_graph(given)
        with self.assertRaisesRegex(ArgumentError, "Did you mean `grain`"):
            read_graph("grain -> heat", ["grian"])
        graph = read_graph("a -> b; u -> b", "u")
        for words, pair in (
            ("both `a`", ("a", "a")),
            ("not in the graph", ("a", "c")),
            ("not observed", ("u", "b")),
        ):
            with self.subTest(words), self.assertRaisesRegex(ArgumentError, words):
                graph.check_pair(*pair)


if __name__ == "__main__":
    unittest.main()
