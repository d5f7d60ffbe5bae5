"""How long the estimates of ten trials take to be put together, from process start.

    python benchmarks/meta_analysis.py

Prints, from one run: a fresh process that only imports what any such program needs, one that
imports, weighs four models and prints the answer, and one that works out all tables too.
"""

from __future__ import annotations

import subprocess
import sys
import time

IMPORTS = "import numpy, scipy.special, scipy.interpolate, scipy.integrate, pandas"
ANSWER = """
import numpy as np, millwright as mw
generator = np.random.default_rng(1)
errors = generator.uniform(0.1, 0.4, 10)
estimates = 0.3 + np.hypot(errors, 0.2) * generator.standard_normal(10)
study = mw.studies.meta_analysis({"estimate": estimates, "standard_error": errors})
findings = study.fit(seed=1)
print(findings)
"""
TABLES = (
    ANSWER
    + """
findings.model_table(), findings.inclusion(), findings.trial_effects()
findings.leave_one_out(), findings.path(), findings.effect_factors_by_width()
"""
)


def seconds(program: str) -> float:
    began = time.perf_counter()
    subprocess.run([sys.executable, "-c", program], check=True, capture_output=True)
    return time.perf_counter() - began


def main() -> None:
    seconds(TABLES)
    imports, answer, tables = (
        min(seconds(program) for _ in range(3)) for program in (IMPORTS, ANSWER, TABLES)
    )
    print(f"imports that any such program needs  {imports:5.2f} s")
    print(
        f"answer of four models                {answer:5.2f} s   {answer / imports:4.1f} x imports"
    )
    print(
        f"with all tables                      {tables:5.2f} s   {tables / imports:4.1f} x imports"
    )


if __name__ == "__main__":
    main()
