"""A fit whose chains run on a cluster, here one of two workers on this machine.

Any `concurrent.futures.Executor` will do; this one is dask's (`pip install millwright[cluster]`).
A worker is killed in the middle: its work is sent again, and the draws are the same.
"""

import os
import signal

import numpy as np
from distributed import Client, LocalCluster

import millwright as mw

model = mw.Model.read(mw.demo.sheet_path("drying.toml"))
data = mw.demo.load("drying_loft").frame
settings = {"seed": 7, "draws": 40_000, "progress": False}


def kill_a_worker(client: Client) -> mw.Posterior:
    """Fit with the cluster's workers, and kill one of them while they sample."""
    killed: list[int] = []

    def watch(progress: object) -> None:
        if not killed and getattr(progress, "share", 0.0) > 0.1:
            killed.append(next(iter(client.run(os.getpid).values())))
            os.kill(killed[0], signal.SIGKILL)

    return model.fit(
        data, **{**settings, "progress": watch}, workers=client.get_executor(pure=False)
    )


def main() -> None:
    workers = {"n_workers": 2, "threads_per_worker": 1, "dashboard_address": None}
    with LocalCluster(**workers) as cluster, Client(cluster) as client:
        answered = model.check_workers(client.get_executor(pure=False), data)
        print(f"Workers that can evaluate the model: {answered}")
        there = kill_a_worker(client)
    here = model.fit(data, **settings)
    same = np.array_equal(there["drying"], here["drying"])
    print(f"Same draws as without a cluster, one worker killed: {same}")
    print(there.verdict)
    if not same:
        raise SystemExit("The draws differ.")


if __name__ == "__main__":
    main()
