"""Compilation: once for each function and shape, without touching the user's settings."""

import tempfile
import unittest
from pathlib import Path
from unittest import mock

import jax
import jax.numpy as jnp
import numpy as np
from jax.experimental.compilation_cache import compilation_cache

from millwright.sampling import compiling
from millwright.sampling.batched_algebra import shares_batches
from millwright.sampling.compiling import compilations, compiled


def scaled(static, x, factor):
    return static * x * factor["by"]


class Batched(unittest.TestCase):
    def test_batches_of_matrices_are_found_wherever_they_stand(self):
        def loop(x):
            return jax.lax.fori_loop(0, 3, lambda _, y: y + jnp.linalg.cholesky(x), x)

        several, one = np.tile(np.eye(3), (4, 1, 1)), np.eye(3)
        slope = jax.grad(lambda x: loop(x).sum())
        for function, argument, shared in (
            (loop, several, True),
            (loop, one, False),
            (jax.vmap(loop), several, True),
            (jax.jit(jax.vmap(jax.jit(loop))), several, True),
            (slope, one, False),
            (jax.vmap(slope), several, True),
            (lambda x: jnp.linalg.solve(x, one), one, False),
            (jax.vmap(lambda x: jnp.linalg.solve(x, one)), several, True),
            (lambda x: jax.lax.cond(x.sum() > 0, jnp.linalg.inv, lambda y: y, x), several, True),
            (lambda x: x @ x, several, False),
        ):
            traced = jax.jit(function).trace(argument)
            self.assertEqual(shares_batches(traced.jaxpr), shared)


class Compiled(unittest.TestCase):
    def test_compiles_once_for_static_part_and_shapes(self):
        before = compilations()
        for by in (2.0, 3.0):
            arguments = (np.ones(3), {"by": np.float64(by)})
            run = compiled(scaled, 5, arguments)
            np.testing.assert_array_equal(np.asarray(run(*arguments)), 5 * by * np.ones(3))
        self.assertEqual(compilations(), before + 1)
        compiled(scaled, 6, arguments)
        compiled(scaled, 5, (np.ones(4), {"by": np.float64(1.0)}))
        self.assertEqual(compilations(), before + 3)

    def test_a_compiler_that_has_dropped_an_option_does_without_it(self):
        arguments = (np.ones(3), {"by": np.float64(2.0)})
        with mock.patch.object(compiling, "_EMITTERS", "xla_dropped"):
            run = compiled(scaled, 9, arguments)
        np.testing.assert_array_equal(np.asarray(run(*arguments)), 18 * np.ones(3))
        wrong = {**compiling._OPTIONS, "xla_misspelt": True}
        with (
            mock.patch.object(compiling, "_OPTIONS", wrong),
            self.assertRaisesRegex(jax.errors.JaxRuntimeError, "xla_misspelt"),
        ):
            compiled(scaled, 10, arguments)

    def test_settings_of_jax_are_left_as_they_were(self):
        names = ("jax_compilation_cache_dir", "jax_persistent_cache_min_compile_time_secs")
        before = [getattr(jax.config, name) for name in names]
        compiled(scaled, 7, (np.ones(2), {"by": np.float64(1.0)}))
        self.assertEqual([getattr(jax.config, name) for name in names], before)

    def test_a_cache_that_the_user_chose_is_kept(self):
        compilation_cache.reset_cache()
        seconds = "jax_persistent_cache_min_compile_time_secs"
        self.addCleanup(jax.config.update, seconds, getattr(jax.config, seconds))
        with tempfile.TemporaryDirectory() as folder:
            jax.config.update("jax_compilation_cache_dir", folder)
            jax.config.update(seconds, 0.0)
            try:
                compiled(scaled, 8, (np.ones(2), {"by": np.float64(1.0)}))
                self.assertEqual(jax.config.jax_compilation_cache_dir, folder)
                self.assertTrue(any(Path(folder).iterdir()))
            finally:
                jax.config.update("jax_compilation_cache_dir", None)
                # JAX goes on with the folder that it began with, gone by the next test.
                compilation_cache.reset_cache()


if __name__ == "__main__":
    unittest.main()
