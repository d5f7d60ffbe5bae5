"""How long a fresh process takes from nothing to verdict and table.

    python benchmarks/first_answer.py

Prints, from one run: a fresh process with an empty compile cache, one with a warm cache, and
for comparison a process that only imports what any such program needs (NumPy, SciPy's special
functions, JAX, pandas). Bytecode is written first, as an installed package has it.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time

PROGRAM = """
import millwright as mw
hours = [0.0, 1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 7.0, 8.0, 9.0]
moisture = [18.5, 17.7, 17.4, 16.8, 16.1, 15.7, 15.0, 14.8, 13.9, 13.4]
model = mw.Model(
    priors={"start": "normal(18, 3)", "drying": "normal(0, 1)", "noise": "exponential(rate=1)"},
    likelihood={"moisture": "normal(start + drying * hours, noise)"},
)
posterior = model.fit({"hours": hours, "moisture": moisture}, seed=7, progress=False)
print(posterior)
print("sampling", posterior.record.seconds["sampling"])
"""
IMPORTS = "import numpy, scipy.special, jax, jax.numpy, pandas"


def timed(program: str, environment: dict[str, str]) -> tuple[float, str]:
    began = time.perf_counter()
    done = subprocess.run(
        [sys.executable, "-c", program],
        env=environment,
        capture_output=True,
        text=True,
        check=True,
    )
    return time.perf_counter() - began, done.stdout


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        environment = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"}
        environment["XDG_CACHE_HOME"] = folder
        timed("import millwright.models.model, millwright.draws.table", environment)
        imports = min(timed(IMPORTS, environment)[0] for _ in range(3))
        cold, _ = timed(PROGRAM, environment)
        runs = [timed(PROGRAM, environment) for _ in range(3)]
    warm, output = min(runs)
    sampling = float(output.rsplit(" ", 1)[1])
    print(f"imports that any such program needs    {imports:5.2f} s")
    print(
        f"first answer, empty compile cache      {cold:5.2f} s   {cold / imports:4.1f} x imports"
    )
    print(
        f"first answer, warm compile cache       {warm:5.2f} s   {warm / imports:4.1f} x imports"
    )
    print(f"of which sampling                      {sampling:5.2f} s")


if __name__ == "__main__":
    main()
