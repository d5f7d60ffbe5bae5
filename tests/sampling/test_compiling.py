"""Compilation: once for each function and shape, without touching the user's settings."""

import tempfile
import unittest

import jax
import numpy as np

from millwright.sampling.compiling import compilations, compiled


def scaled(static, x, factor):
    return static * x * factor["by"]


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

    def test_settings_of_jax_are_left_as_they_were(self):
        names = ("jax_compilation_cache_dir", "jax_persistent_cache_min_compile_time_secs")
        before = [getattr(jax.config, name) for name in names]
        compiled(scaled, 7, (np.ones(2), {"by": np.float64(1.0)}))
        self.assertEqual([getattr(jax.config, name) for name in names], before)

    def test_a_cache_that_the_user_chose_is_kept(self):
        with tempfile.TemporaryDirectory() as folder:
            jax.config.update("jax_compilation_cache_dir", folder)
            try:
                compiled(scaled, 8, (np.ones(2), {"by": np.float64(1.0)}))
                self.assertEqual(jax.config.jax_compilation_cache_dir, folder)
            finally:
                jax.config.update("jax_compilation_cache_dir", None)


if __name__ == "__main__":
    unittest.main()
