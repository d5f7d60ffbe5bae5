"""Text of definitions: what is read, what is refused, and where the message points."""

import unittest

from millwright.errors import LanguageError
from millwright.language.parse import LONGEST, is_writable, read_text
from millwright.language.printing import text_of
from millwright.language.tree import Call, Label, Lookup, Name, Number, Operation


class ReadText(unittest.TestCase):
    def test_reads_arithmetic_with_the_usual_precedence(self):
        tree, per = read_text("start + drying * hours ** 2", "a")
        square = Operation("**", (Name("hours"), Number(2)))
        product = Operation("*", (Name("drying"), square))
        self.assertEqual(tree, Operation("+", (Name("start"), product)))
        self.assertEqual(per, ())

    def test_splits_off_label_sets(self):
        tree, per = read_text("normal(0, spread) per stone, week", "a")
        self.assertEqual(tree, Call("normal", (Number(0), Name("spread"))))
        self.assertEqual(per, ("stone", "week"))

    def test_reads_literal_labels(self):
        tree, _ = read_text("effect['Upper']", "a")
        self.assertEqual(tree, Lookup(Name("effect"), (Label("Upper"),)))

    def test_chained_comparison_is_a_conjunction(self):
        tree, _ = read_text("0 < x < 1", "a")
        self.assertEqual(tree.operator, "and")

    def test_names_compare_after_unicode_normalisation(self):
        self.assertEqual(read_text("ﬁt", "a")[0], Name("fit"))

    def test_refuses_what_is_not_in_the_language(self):
        cases = {
            "a.b": "dot",
            "lambda x: x": "Python function",
            "[]": "empty",
            "'text'": "only as a label",
            "a if b else c": "where(",
            "x[1:2]": "slices",
            "x ^ 2": "**",
            "f(*a)": "no meaning",
            "f(**a)": "no meaning",
            "(yield)": "",
            "True": "not a number",
            "1j": "not a number",
            "x in y": "no meaning",
            "~x": "not",
            "__import__('os').system('true')": "",
            "a per": "missing",
            "a per b b": "commas",
            "a per b, b": "twice",
            "normal(0, 1": "not closed",
            "": "empty",
            "1e999": "too large",
        }
        for text, words in cases.items():
            with self.subTest(text=text), self.assertRaises(LanguageError) as caught:
                read_text(text, "x")
            self.assertIn(words, str(caught.exception))
            self.assertIn("`x`", str(caught.exception))

    def test_message_points_under_the_place(self):
        with self.assertRaises(LanguageError) as caught:
            read_text("start + drying.hours", "moisture")
        lines = str(caught.exception).split("\n")
        self.assertEqual(lines[1].index("drying.hours"), lines[2].index("^"))

    def test_signs_of_other_languages_are_told_as_they_are_written_here(self):
        for text, words in (
            ("rate = 0", "`=` is written `==`"),
            ("rate => 0", "`=>` is written `>=`"),
            ("rate =< 0", "`=<` is written `<=`"),
            ("rate <> 0", "`<>` is written `!=`"),
            ("! rate > 0", "`!` is written `not`"),
        ):
            with self.subTest(text), self.assertRaisesRegex(LanguageError, words):
                read_text(text, "statement")

    def test_place_counts_characters_not_bytes(self):
        with self.assertRaises(LanguageError) as caught:
            read_text("größe + größe.x", "a")
        lines = str(caught.exception).split("\n")
        self.assertEqual(lines[1].index("größe.x"), lines[2].index("^"))

    def test_length_and_depth_are_capped(self):
        deep = "(" * 300 + "x" + ")" * 300
        for text in ("1+" * LONGEST + "1", deep, "-" * 5000 + "x", "+".join("a" * 3000)):
            with self.subTest(text=text[:20]), self.assertRaises(LanguageError):
                read_text(text, "x")

    def test_huge_powers_are_not_worked_out(self):
        tree, _ = read_text("9**9**9**9", "x")
        self.assertIsInstance(tree, Operation)


class Printing(unittest.TestCase):
    def test_text_reads_back_as_the_same_tree(self):
        texts = [
            "a - (b - c)",
            "a - b - c",
            "(a + b) * c",
            "-a ** 2",
            "(-3) ** 2",
            "2 ** -x",
            "a / (b / c)",
            "not (a < b) and c >= 1 or d == 2",
            "(a < b) == (c < d)",
            "where(a > 0, x[stone], e['Up \\'r\\''] - 1e-5)",
            "normal(-3, 1e30, low=-0.1)",
            "X @ weights",
            "-(-x)",
        ]
        for text in texts:
            with self.subTest(text=text):
                tree, _ = read_text(text, "a")
                self.assertEqual(read_text(text_of(tree), "a")[0], tree)


class Writable(unittest.TestCase):
    def test_keywords_and_signs_cannot_be_names(self):
        for name in ("Moisture (%)", "lambda", "per", "1a", ""):
            self.assertFalse(is_writable(name), name)
        self.assertTrue(is_writable("größe"))


if __name__ == "__main__":
    unittest.main()
