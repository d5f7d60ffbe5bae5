"""Runs that are killed at random moments go on to the same draws, bit by bit.

    python benchmarks/kill.py [KILLS]

Processes that fit a model into a folder are killed with SIGKILL, again and again, each at a
random moment after its start; the next one resumes. When a run has come to its end its draws are
compared with those of an uninterrupted fit, and the next run begins. One more run meets a full
disk: a file system of a few megabytes, where one can be mounted, else a limit on the size of
files.
"""

from __future__ import annotations

import os
import resource
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

import millwright as mw

MODEL = mw.Model(
    priors={
        "level": "normal(0, 3)",
        "spread": "half_normal(2)",
        "effect": "normal(0, spread) per mill",
    },
    likelihood={"load": "normal(level + effect[mill], 1)"},
)
DATA = {"mill": list("abcabc"), "load": [1.0, 2.0, 0.5, 1.5, 2.5, 0.1]}
SETTINGS = {"seed": 11, "draws": 60_000, "warmup": 3000, "progress": False}


def work(path: Path) -> None:
    """Fit, or go on with the fit in the folder."""
    MODEL.fit(DATA, save=path, resume=True, **SETTINGS)


def killed_run(path: Path, generator: np.random.Generator, budget: int) -> int:
    """Kill a run until it comes to its end; return how often it was."""
    kills = 0
    while True:
        process = subprocess.Popen([sys.executable, __file__, "--work", str(path)])
        if kills == budget:
            if process.wait() != 0:
                raise SystemExit("A run could not be resumed.")
            return kills
        began = time.monotonic()
        patience = 1.5 + generator.uniform(0, 2.5)
        while process.poll() is None and time.monotonic() - began < patience:
            time.sleep(0.005)
        if process.poll() is None:
            os.kill(process.pid, signal.SIGKILL)
            process.wait()
            kills += 1
        elif process.returncode != 0:
            raise SystemExit("A run could not be resumed.")
        else:
            return kills


def limited_run(path: Path) -> bool:
    """Fit where no file may be larger than 60 kB, then without the limit."""
    limit = (60_000, 60_000)

    def limited() -> None:
        signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
        resource.setrlimit(resource.RLIMIT_FSIZE, limit)

    process = subprocess.run(
        [sys.executable, __file__, "--work", str(path)], preexec_fn=limited, capture_output=True
    )
    said = process.stderr.decode()
    print("  it said:", said.strip().splitlines()[-1][:150])
    if process.returncode == 0:
        raise SystemExit("The limit was not met.")
    work(path)
    return same(path)


def same(path: Path) -> bool:
    """Compare a finished run with an uninterrupted fit."""
    found = mw.load(path)
    whole = uninterrupted()
    return found.record.complete and all(
        np.array_equal(found[name], whole[name]) for name in ("level", "spread", "effect")
    )


def uninterrupted(kept: list[mw.Posterior] = []) -> mw.Posterior:  # noqa: B006
    if not kept:
        kept.append(MODEL.fit(DATA, **SETTINGS))
    return kept[0]


def main(wanted: int) -> None:
    generator = np.random.default_rng(1)
    kills = runs = good = 0
    with tempfile.TemporaryDirectory() as folder:
        while kills < wanted:
            path = Path(folder) / f"run-{runs}"
            kills += killed_run(path, generator, wanted - kills)
            good += same(path)
            runs += 1
            print(f"{kills} kills, {runs} runs finished, {good} with the same draws", flush=True)
        print("A full disk:")
        full = limited_run(Path(folder) / "full")
        print(f"  the same draws after it was resumed: {full}")
    if good < runs or not full:
        raise SystemExit("NOT the same draws.")


if __name__ == "__main__":
    if sys.argv[1:2] == ["--work"]:
        work(Path(sys.argv[2]))
    else:
        main(int(sys.argv[1]) if len(sys.argv) > 1 else 100)
