"""Digests of what programs are made from: the same for the same, and only for the same."""

import enum
import subprocess
import sys
import unittest
from dataclasses import dataclass
from unittest import mock

import numpy as np

import millwright as mw
from millwright.modelling.density import LogDensity
from millwright.modelling.labelled import row_axis
from millwright.sampling import content
from millwright.sampling.block import TransitionBlock
from millwright.sampling.content import UnknownContentError, content_digest, text_digest


class Users(enum.Enum):
    ONE = 1


@dataclass(frozen=True)
class UsersOwn:
    factor: float


def program_of(location: str):
    """Return the static side of a line bound to three rows."""
    priors = {"a": "normal(0, 1)", "b": "normal(0, 1)", "s": "exponential(rate=1)"}
    model = mw.Model(priors=priors, likelihood={"y": f"normal({location}, s)"})
    return model.bind({"x": [0.0, 1.0, 2.0], "y": [1.0, 2.0, 4.0]}).program


class Content(unittest.TestCase):
    def test_equal_contents_have_equal_digests_in_every_process(self):
        values = ({"b": 1, "a": (2.5, None)}, frozenset("xyz"), np.arange(3.0), TransitionBlock)
        code = (
            "import numpy as np\n"
            "from millwright.sampling.content import content_digest\n"
            "from millwright.sampling.block import TransitionBlock\n"
            "nested = {'b': 1, 'a': (2.5, None)}\n"
            "print(content_digest(nested, frozenset('xyz'), np.arange(3.0), TransitionBlock))"
        )
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
        self.assertEqual(done.stdout.strip(), content_digest(*values), done.stderr)

    def test_other_contents_have_other_digests(self):
        values = (
            1, 1.0, True, "1", b"1", None, (1,), [1], (1, ()), ((1,),), ("ab", "c"), ("a", "bc"),
            {"a": 1}, {"b": 1}, {"a": 1.0}, frozenset({1}), frozenset({1.0}), "row", row_axis(),
            np.ones(1), np.ones((1, 1)), np.ones(1, int), np.zeros(1), np.float64(1),
            TransitionBlock, content_digest, -0.0, 0.0, float("nan"), float("inf"),
        )  # fmt: skip
        digests = [content_digest(value) for value in values]
        self.assertEqual(len(set(digests)), len(values))

    def test_programs_are_told_apart(self):
        line, other = program_of("a + b * x"), program_of("a - b * x")
        same = content_digest(LogDensity(program_of("a + b * x")))
        self.assertEqual(content_digest(LogDensity(line)), same)
        for different in (LogDensity(other), LogDensity(line, jacobian=False), line):
            self.assertNotEqual(content_digest(different), same)

    def test_what_is_not_this_librarys_has_none(self):
        def inside(x):
            return x

        own, nowhere = UsersOwn(2.0), {}
        exec("def function(x): return x", nowhere)
        self.assertIsNone(nowhere["function"].__module__)
        users = (inside, lambda x: x, own, UsersOwn, Users.ONE, object(), nowhere["function"])
        for value in (*users, np.sin, self.setUp):
            for nested in (value, (1, {"a": value}), [frozenset([value])]):
                with self.assertRaises(UnknownContentError):
                    content_digest(nested)
        with self.assertRaises(UnknownContentError):
            content_digest(np.array([object()], dtype=object))

    def test_sources_that_changed_while_the_process_ran_have_none(self):
        content_digest(1)
        with mock.patch.object(content, "_LOADED", 0.0), self.assertRaises(UnknownContentError):
            content_digest(1)

    def test_options_of_the_compiler_count(self):
        digests = {text_digest(text, {"fast": on}) for text in ("a", "b") for on in (True, False)}
        self.assertEqual(len(digests), 4)


if __name__ == "__main__":
    unittest.main()
