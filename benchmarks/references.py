"""Right answers, and honest verdicts, on targets whose answers are known.

    python benchmarks/references.py [SEEDS] [NAME...]

For each target and seed: every mean, sd and 5, 50 and 95 % quantile against the exact one, in
Monte Carlo standard errors; how often the verdict was clean, and how often clean with an error
beyond 4.5 (misled); effective draws for 1000 gradients (evaluations, without gradients) and a
second. A good target must be right, and clean in 99 of
100 fits; a known-bad one must be flagged.
"""

from __future__ import annotations

import sys

import numpy as np
from reference_targets import ALL, QUANTILES, Answer, Reference

from millwright.diagnostics.convergence import mean_error, quantile_error, sd_error
from millwright.posterior.posterior import Posterior

_TOO_FAR = 4.5


def errors(value: np.ndarray, answer: Answer) -> list[float]:
    """Return the errors of one quantity in Monte Carlo standard errors."""
    x = value[..., None]
    flat = value.reshape(-1)
    found = [
        ((flat.mean() - answer.mean) / mean_error(x)[0]),
        ((flat.std() - answer.sd) / sd_error(x)[0]),
    ]
    for at, exact in zip(QUANTILES, answer.quantiles, strict=True):
        found.append((np.quantile(flat, at) - exact) / quantile_error(x, at)[0])
    return [float(error) for error in found if np.isfinite(error)]


def one_fit(reference: Reference, seed: int) -> tuple[list[float], Posterior]:
    posterior = reference.model.fit(
        reference.data, seed=seed, progress=False, **reference.settings
    )
    found: list[float] = []
    for name, answer in reference.answers.items():
        single = posterior.draws.single([name.split("[")[0]])
        found += errors(single[name], answer)
    return found, posterior


def main() -> None:
    seeds = int(sys.argv[1]) if len(sys.argv) > 1 else 5
    wanted = sys.argv[2:]
    print(f"{seeds} seeds each; errors in Monte Carlo errors; the fewer effective draws")
    columns = "fits  clean  misled  rms error  largest  per 1000 gradients  per second"
    print(f"{'target':40s} {columns}")
    bad = 0
    for make in ALL:
        reference = make()
        if wanted and not any(word in reference.name for word in wanted):
            continue
        found: list[float] = []
        clean, misled, gradients, seconds = 0, 0, [], []
        for seed in range(seeds):
            some, posterior = one_fit(reference, seed)
            found += some
            clean += posterior.verdict.good
            wrong = bool(some) and max(map(abs, some)) > _TOO_FAR
            misled += posterior.verdict.good and wrong
            ess = min(posterior.measures.bulk_size.min(), posterior.measures.tail_size.min())
            gradients.append(1000 * ess / sum(c["steps"] for c in posterior.record.chains))
            seconds.append(ess / posterior.record.seconds["sampling"])
        rms = np.sqrt(np.mean(np.square(found))) if found else np.nan
        most = np.max(np.abs(found)) if found else np.nan
        print(
            f"{reference.name:40s} {seeds:4d}  {clean:5d}  {misled:6d}  {rms:9.2f}  {most:7.1f}  "
            f"{np.median(gradients):18.1f}  {np.median(seconds):10.0f}",
            flush=True,
        )
        bad += reference.good and clean < seeds - max(1, seeds // 100)
        bad += misled > max(1, seeds // 50) or (misled > 0 and not reference.good)
    print("as it should be" if not bad else f"NOT as it should be: {bad} targets")


if __name__ == "__main__":
    main()
