"""Rows cut between devices: the same draws but for rounding."""

import os
import subprocess
import sys
import unittest

import numpy as np

DEVICES = """
import sys
import numpy as np
import millwright as mw
make = np.random.default_rng(1)
hours, mill = make.normal(5, 2, 40_001), make.integers(0, 3, 40_001)
moisture = 2 + 0.5 * hours + make.normal(size=40_001) * np.exp(0.1 * hours)
model = mw.Model(
    priors={"level": "normal(0, 5) per mill", "slope": "normal(0, 5)", "noise": "half_normal(3)"},
    likelihood={"moisture": "normal(level[mill] + slope * hours, noise * exp(0.1 * hours))"},
)
data = {"hours": hours, "mill": mill, "moisture": moisture}
settings = {"seed": 1, "chains": 1, "draws": 4, "warmup": 12, "progress": False}
found = [model.fit(data, **settings)["level"].values.ravel()]
found += [model.mode(data).values["estimate"].to_numpy()]
import jax
print(jax.device_count(), *np.concatenate(found))
"""


class Devices(unittest.TestCase):
    def test_rows_cut_between_devices_give_the_same_draws(self):
        found = []
        for count in (1, 2):
            # Compiled as users have it: the rows are too many for code that is not optimised.
            flags = f"--xla_force_host_platform_device_count={count}"
            done = subprocess.run(
                [sys.executable, "-c", DEVICES],
                env={**os.environ, "XLA_FLAGS": flags},
                capture_output=True,
                text=True,
                timeout=240,
            )
            self.assertEqual(done.returncode, 0, done.stderr)
            devices, *numbers = done.stdout.split()
            self.assertEqual(int(devices), count)
            found.append(np.array(numbers, dtype=float))
        np.testing.assert_allclose(found[0], found[1], rtol=1e-6)
        self.assertFalse(np.array_equal(*found), "rounding must differ where sums are cut")
