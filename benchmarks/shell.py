"""What the commands cost from the shell, in seconds and against starting Python with NumPy.

`python benchmarks/shell.py` times whole processes, the least of three (of one for the slowest).
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import pandas as pd

import millwright as mw

INSTALLED = str(Path(sys.executable).with_name("millwright"))
MILLS = 19
SLOW = ("check of 2 million rows of CSV", "demo with page")


def seconds(command: list[str], folder: str, rounds: int = 3) -> float:
    """Return the least time of a process; one that fails stops the benchmark."""
    best = np.inf
    for _ in range(rounds):
        began = time.perf_counter()
        subprocess.run(command, cwd=folder, check=True, capture_output=True)
        best = min(best, time.perf_counter() - began)
    return best


def store_long_run(place: Path) -> None:
    """Store 4 chains of 10,000 draws of 20 quantities."""
    generator = np.random.default_rng(1)
    model = mw.Model(
        priors={"effect": "normal(0, 1) per mill", "spread": "half_normal(1)"},
        likelihood={"load": "normal(effect[mill], spread)"},
    )
    data = {
        "mill": np.repeat([f"Mill {at:02d}" for at in range(MILLS)], 5),
        "load": generator.normal(size=5 * MILLS),
    }
    model.fit(data, draws=10_000, seed=1, save=place, progress=False)


def store_long_table(place: Path) -> None:
    """Store two million rows for the demo's model."""
    generator = np.random.default_rng(2)
    hours = generator.uniform(1, 9, 2_000_000).round(1)
    moisture = (18.5 - 0.55 * hours + generator.normal(0, 0.4, len(hours))).round(2)
    pd.DataFrame({"hours": hours, "moisture": moisture}).to_csv(place, index=False)


def main() -> None:
    """Time the commands and print a line for each."""
    with tempfile.TemporaryDirectory() as folder:
        loft = mw.demo.load("drying_loft")
        loft.frame.to_csv(Path(folder) / "loft.csv", index=False)
        store_long_run(Path(folder) / "long")
        bare = seconds([sys.executable, "-c", "import numpy"], folder)
        print(f"Python with NumPy alone: {bare:.2f} s")
        check = ["check", str(mw.demo.sheet_path("drying.toml")), "loft.csv"]
        store_long_table(Path(folder) / "long.csv")
        calls = {
            "--help": ["--help"],
            "check of the demo": check,
            "summary of 4 x 10,000 x 20": ["summary", "long"],
            "check of 2 million rows of CSV": [*check[:2], "long.csv"],
            "convergence of the same": ["convergence", "long"],
            "demo with page": ["demo", "--folder", "figures", "--quiet"],
        }
        for name, call in calls.items():
            took = seconds([INSTALLED, *call], folder, 1 if name in SLOW else 3)
            print(f"{name}: {took:.2f} s, {took / bare:.1f} times as long")


if __name__ == "__main__":
    main()
