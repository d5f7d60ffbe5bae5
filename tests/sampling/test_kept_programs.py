"""Compiled programs on disk: used again where all is the same, and only there."""

import os
import pickle
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import jax
import jax.numpy as jnp
import numpy as np

from millwright.sampling import compiling, kept_programs
from millwright.sampling.batched_algebra import in_turn

LINE = "normal({}, noise)"
CURVE = "gaussian_process(level, kernel=squared_exponential(hour, scale=1, length=1), noise=noise)"
FIT = """
import millwright as mw
{before}
model = mw.Model(
    priors={{"level": "normal(0, 3)", "noise": "exponential(rate=1)"}},
    likelihood={{"moisture": "{likelihood}"}},
)
data = {{"moisture": [1.0, 2.0, 4.0] * 4, "hour": [float(hour) for hour in range(12)]}}
posterior = model.fit(data, seed=7, draws=50, warmup=50, progress=False)
print(posterior.draws.get("level").tobytes().hex())
"""
NO_TRACING = """
import millwright.sampling.compiling as compiling
def refuse(*_):
    raise AssertionError("traced")
compiling._lowered = refuse
"""
TABLE = np.random.default_rng(1).normal(size=5000)
DOUBLED = "import jax.numpy as jnp\nmw.register('moved', lambda x: x + {by})\n"


def scaled(static, x, factor):
    return {"scaled": static * x * factor["by"]}


def summed(name, start, columns):
    return start + columns[name].sum()


def tabled(static, x, factor):
    return jnp.asarray(TABLE)[static] * factor["by"] + x


def called_back(static, x, factor):
    shape = jax.ShapeDtypeStruct(x.shape, x.dtype)
    return jax.pure_callback(lambda v: v + static, shape, x) * factor["by"]


def factored(static, x, factor):
    return jnp.linalg.cholesky(x)[..., 0, 0] * factor["by"] + static


def kept(folder: str, kind: str) -> list[Path]:
    return sorted(Path(folder).rglob(f"{kind}/*"))


class Processes(unittest.TestCase):
    def setUp(self):
        self.folder = self.enterContext(tempfile.TemporaryDirectory())

    def fitted(self, before: str = "", likelihood: str = LINE.format("level"), expect=0) -> str:
        done = subprocess.run(
            [sys.executable, "-c", FIT.format(before=before, likelihood=likelihood)],
            env={**os.environ, "XDG_CACHE_HOME": self.folder},
            capture_output=True,
            text=True,
        )
        self.assertEqual(done.returncode, expect, done.stderr)
        return done.stdout if expect == 0 else done.stderr

    def test_a_later_process_traces_nothing_and_draws_the_same(self):
        first = self.fitted()
        programs = kept(self.folder, "programs")
        self.assertEqual(self.fitted(NO_TRACING), first)
        self.assertEqual(kept(self.folder, "programs"), programs)
        self.assertIn("traced", self.fitted(NO_TRACING, LINE.format("2 * level"), expect=1))

    def test_a_program_that_calls_lapack_finds_it_where_nothing_is_lowered(self):
        self.assertEqual(self.fitted("", CURVE), self.fitted(NO_TRACING, CURVE))

    def test_a_function_of_the_users_own_is_never_mistaken_for_an_earlier_one(self):
        one = self.fitted(DOUBLED.format(by=1.0), LINE.format("moved(level)"))
        two = self.fitted(DOUBLED.format(by=2.0), LINE.format("moved(level)"))
        self.assertNotEqual(one, two)
        programs = kept(self.folder, "programs")
        self.assertEqual(self.fitted(DOUBLED.format(by=1.0), LINE.format("moved(level)")), one)
        # It is traced again, and compiled no more.
        self.assertEqual(kept(self.folder, "programs"), programs)
        self.assertEqual(kept(self.folder, "made-from"), [])


class Kept(unittest.TestCase):
    """One function, as processes that follow each other would compile it."""

    def setUp(self):
        self.folder = self.enterContext(tempfile.TemporaryDirectory())
        place = Path(self.folder)
        self.enterContext(mock.patch.object(kept_programs, "_folder", return_value=place))

    def anew(self, function=scaled, static=5, x=None):
        """Compile as a process does that has compiled nothing yet; return the result."""
        x = np.arange(3.0) if x is None else x
        arguments = (x, {"by": np.float64(2.0)})
        with mock.patch.dict(compiling._executables, clear=True):
            self.program = compiling.compiled(function, static, arguments)
            return self.program(*arguments)

    def known(self, function):
        """Let functions of this file count as the library's own, whose sources are known."""
        self.enterContext(mock.patch.object(function, "__module__", "millwright.tests"))

    def test_programs_are_found_again(self):
        self.known(scaled)
        for compiles in (1, 0):
            with mock.patch.object(compiling, "_finished", wraps=compiling._finished) as finished:
                found = self.anew()
            self.assertEqual(finished.call_count, compiles)
            np.testing.assert_array_equal(found["scaled"], [0.0, 10.0, 20.0])

    def test_what_is_broken_or_cut_off_is_made_again(self):
        self.known(scaled)
        self.anew()
        for kind in ("made-from", "programs"):
            (file,) = kept(self.folder, kind)
            whole = file.read_bytes()
            for wrong in (b"", whole[:-7], b"x" + whole[1:], whole[:40]):
                file.write_bytes(wrong)
                np.testing.assert_array_equal(self.anew()["scaled"], [0.0, 10.0, 20.0])
                self.assertIsNotNone(kept_programs._read(file))

    def test_a_program_of_another_compiler_is_made_again(self):
        self.known(scaled)
        self.anew()
        (origin,), (program,) = kept(self.folder, "made-from"), kept(self.folder, "programs")
        for file, other in ((origin, b"no pickle"), (program, b"no archive")):
            kept_programs._write(file, other)
            np.testing.assert_array_equal(self.anew()["scaled"], [0.0, 10.0, 20.0])
        kept_programs._write(program, kept_programs.zlib.compress(pickle.dumps("no program")))
        np.testing.assert_array_equal(self.anew()["scaled"], [0.0, 10.0, 20.0])

    def test_programs_that_use_other_arguments_are_told_apart(self):
        # The same operations, on the first and on the second of two columns.
        columns = {"a": np.array([1.0, 2.0]), "b": np.array([3.0, 4.0])}
        for name in ("a", "b", "a"):
            with mock.patch.dict(compiling._executables, clear=True):
                program = compiling.compiled(summed, name, (np.float64(1.0), columns))
                self.assertEqual(program(np.float64(1.0), columns), 1.0 + columns[name].sum())
        self.assertEqual(len(kept(self.folder, "programs")), 2)

    def test_programs_of_one_text_are_one_whatever_their_arguments_are_called(self):
        for name in ("by", "with", "by"):
            with mock.patch.dict(compiling._executables, clear=True):
                arguments = (np.float64(1.0), {name: np.array([3.0, 4.0])})
                program = compiling.compiled(summed, name, arguments)
                self.assertEqual(program(*arguments), 8.0)
        self.assertEqual(len(kept(self.folder, "programs")), 1)

    def test_a_call_back_into_python_holds_for_one_process(self):
        np.testing.assert_array_equal(self.anew(called_back), [10.0, 12.0, 14.0])
        self.assertEqual(kept(self.folder, "programs"), [])
        np.testing.assert_array_equal(self.anew(called_back, 6), [12.0, 14.0, 16.0])

    def test_constants_that_jax_keeps_out_of_a_program_are_not_lost(self):
        constants = "jax_use_simplified_jaxpr_constants"
        self.addCleanup(jax.config.update, constants, getattr(jax.config, constants))
        jax.config.update(constants, True)
        for _ in range(2):
            self.assertEqual(self.anew(tabled, 7, np.float64(1.0)), 2.0 * TABLE[7] + 1.0)
        self.assertEqual(kept(self.folder, "programs"), [])

    def test_batches_of_matrices_wait_for_their_turn_when_found_again_too(self):
        self.known(factored)
        turned = in_turn(len).__code__
        for _ in range(2):
            np.testing.assert_array_equal(self.anew(factored, 1, np.tile(np.eye(2), (4, 1, 1))), 3)
            self.assertIs(self.program.__code__, turned)
        self.anew(factored, 1, np.eye(2))
        self.assertNotIn("__code__", dir(self.program))

    def test_what_was_not_used_for_longest_makes_room(self):
        folder = Path(self.folder) / "programs"
        for number in range(1, 5):
            kept_programs._write(folder / str(number), bytes(1000))
            os.utime(folder / str(number), (number, number))
        kept_programs._read(folder / "2")
        with mock.patch.object(kept_programs, "_MOST_BYTES", 2500):
            kept_programs._write(folder / "0f", bytes(1000))
        self.assertEqual([file.name for file in kept(self.folder, "programs")], ["0f", "2", "4"])

    def test_a_place_that_cannot_be_written_to_keeps_nothing(self):
        Path(self.folder, "programs").write_text("in the way")
        Path(self.folder, "made-from").write_text("in the way")
        self.known(scaled)
        np.testing.assert_array_equal(self.anew()["scaled"], [0.0, 10.0, 20.0])


if __name__ == "__main__":
    unittest.main()
