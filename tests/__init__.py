"""Tests of the library, through what users call."""

import gc
import multiprocessing
import os
import tempfile

# The tests compile a thousand small functions that run for a moment: optimising their machine code
# takes longer than it saves. So do cutting each up for several cores, and looking for what can be
# moved out of loops, nearly half of the compilation of a sampler. The emitters of fused loops are
# off as the library has them for few rows. Commands that the tests start inherit all of this; the
# examples are compiled as users have them.
os.environ.setdefault(
    "XLA_FLAGS",
    "--xla_cpu_use_fusion_emitters=false --xla_backend_optimization_level=0 "
    "--xla_cpu_parallel_codegen_split_count=1 "
    "--xla_disable_hlo_passes=while-loop-invariant-code-motion,simplify-while-loops",
)

# Two processes of tests share the machine: threads of linear algebra would wait for each other, at
# times a hundred times longer than the work takes.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

# Runs are written and read in thousands: a disk that keeps everybody waiting is none of what they
# test. Commands that the tests start inherit the place.
if "TMPDIR" not in os.environ and os.access("/dev/shm", os.W_OK):
    os.environ["TMPDIR"] = tempfile.tempdir = "/dev/shm"

# Compiled programs stay for the whole run: looking for what can go among millions of their objects
# takes a fortieth of it.
gc.set_threshold(50_000, 20, 20)

# Each of those processes keeps to a core: chains of two that wander between both hinder each other
# (a sixth more time).
_number = multiprocessing.current_process().name.rpartition("PoolWorker-")[2]
if _number.isdigit() and hasattr(os, "sched_setaffinity"):
    _cores = sorted(os.sched_getaffinity(0))
    os.sched_setaffinity(0, {_cores[int(_number) % len(_cores)]})
