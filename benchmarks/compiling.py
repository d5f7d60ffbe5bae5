"""How long a large hierarchical sheet takes to compile, with nothing kept from before.

    python benchmarks/compiling.py

Fifty definitions: three group levels (stones, weeks, carriers) with eight definitions each, and
the lines that use them. Prints seconds for reading and binding, for compiling the sampler, and
for binding and fitting again with other numbers, which compiles nothing.
"""

from __future__ import annotations

import tempfile
import time

import jax
import numpy as np

import millwright as mw
from millwright.fitting.coordinates import prepared
from millwright.fitting.target import target_of
from millwright.sampling.block import block_for

LEVELS = ("stone", "week", "carrier")


def sheet_parts() -> tuple[dict[str, str], dict[str, str], dict[str, str]]:
    """Return priors, derived quantities and likelihood, fifty definitions in all."""
    priors = {"base": "normal(0, 2)", "slope": "normal(0, 1)", "noise": "half_normal(1)"}
    derived = {}
    for level in LEVELS:
        priors |= {
            f"{level}_spread": "half_normal(1)",
            f"{level}_slope_spread": "half_normal(0.5)",
            f"{level}_effect": f"normal(0, {level}_spread) per {level}",
            f"{level}_slope": f"normal(0, {level}_slope_spread) per {level}",
            f"{level}_tilt": "normal(0, 0.5)",
        }
        derived |= {
            f"{level}_line": f"{level}_effect[{level}] + {level}_slope[{level}] * hours",
            f"{level}_bend": f"{level}_tilt * hours ** 2",
            f"{level}_share": f"{level}_spread ** 2 / ({level}_spread ** 2 + noise ** 2)",
        }
    for at in range(17):
        derived[f"at_{at}"] = f"base + slope * {at} + stone_tilt * {at} ** 2"
    total = " + ".join(f"{level}_line + {level}_bend" for level in LEVELS)
    derived["expected"] = f"base + slope * hours + {total}"
    likelihood = {
        "moisture": "normal(expected, noise)",
        "dust": "student_t(expected / 2, noise, df=4)",
        "torn": "poisson(rate=exp(0.1 * expected))",
        "wet": "bernoulli(probability=expit(expected))",
        "loss": "lognormal(0.1 * expected, noise)",
    }
    return priors, derived, likelihood


def main() -> None:
    priors, derived, likelihood = sheet_parts()
    generator = np.random.default_rng(1)
    rows = 400
    data = {
        "hours": generator.uniform(0, 2, rows),
        "stone": generator.integers(1, 21, rows),
        "week": generator.integers(1, 11, rows),
        "carrier": generator.integers(1, 6, rows),
    }
    began = time.perf_counter()
    model = mw.Model(priors=priors, derived=derived, likelihood=likelihood)
    read = time.perf_counter()
    fake = model.simulate(data, draws=1, seed=2, given={"slope": 0.1}).outcomes
    data |= {name: copies[0] for name, copies in fake.items()}
    binding = model.bind(data)
    bound = time.perf_counter()
    with tempfile.TemporaryDirectory() as folder:
        jax.config.update("jax_compilation_cache_dir", folder)
        target = target_of(prepared(binding, "non-centred", 1))
        begin = time.perf_counter()
        block_for(target)
        compiled = time.perf_counter()
        other = {**data, "moisture": data["moisture"] + 1.0}
        again = time.perf_counter()
        block_for(target_of(prepared(model.bind(other), "non-centred", 1)))
        done = time.perf_counter()
    count = len(priors) + len(derived) + len(likelihood)
    print(
        f"{count} definitions, {binding.dimension} unknown numbers, {rows} rows: read in "
        f"{read - began:.2f} s, bound in {bound - read:.2f} s, sampler compiled in "
        f"{compiled - begin:.1f} s; with other numbers ready in {done - again:.2f} s"
    )


if __name__ == "__main__":
    main()
