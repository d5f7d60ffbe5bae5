"""Definitions written as Python functions."""

import unittest

import numpy as np

import millwright as mw
from millwright.errors import LanguageError
from millwright.language.definition import define


class Functions(unittest.TestCase):
    def test_function_and_text_give_the_same_tree(self):
        cases = [
            (lambda a, b: a + 2 * b, "a + 2 * b"),
            (lambda a: -(a**2) / 3, "-a ** 2 / 3"),
            (lambda a: 1 - mw.exp(-a), "1 - exp(-a)"),
            (lambda s: mw.normal(0, s).per("stone"), "normal(0, s) per stone"),
            (lambda e: e["Upper"] - e["Lower"], "e['Upper'] - e['Lower']"),
            (lambda e, stone: e[stone], "e[stone]"),
            (lambda a: mw.where((a > 1) & (a <= 2), a, -3), "where(a > 1 and a <= 2, a, -3)"),
            (lambda a, b: abs(a) @ b, "abs(a) @ b"),
            (lambda a: a == np.float64(2), "a == 2"),
        ]
        for function, text in cases:
            with self.subTest(text=text):
                self.assertEqual(define("x", function), define("x", text))

    def test_failures_say_what_to_do(self):
        def loops(a):
            return sum(x for x in a)

        def branches(a):
            return 1 if a > 0 else 2

        cases = {
            "millwright": lambda a: np.exp(a),
            "label set": loops,
            "mw.where": branches,
            "returns nothing": lambda a: None,
            "Data belong": lambda a: a * np.array([1.0, 2.0]),
            "`*` cannot": lambda *a: a,
        }
        for words, function in cases.items():
            with self.subTest(words=words), self.assertRaises(LanguageError) as caught:
                define("x", function)
            self.assertIn(words, str(caught.exception))
            self.assertIn("test_symbols.py", str(caught.exception))

    def test_refuses_other_values(self):
        for value in (None, [1], True, float("nan"), b"x"):
            with self.subTest(value=value), self.assertRaises(LanguageError):
                define("x", value)


if __name__ == "__main__":
    unittest.main()
