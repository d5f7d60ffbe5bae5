"""Tests of the library, through what users call."""

import os

# The tests compile a thousand small functions that run for a moment: optimising their machine code
# takes longer than it saves. The emitters of fused loops are off as the library has them for few
# rows. Commands that the tests start inherit both; the examples are compiled as users have them.
os.environ.setdefault(
    "XLA_FLAGS", "--xla_cpu_use_fusion_emitters=false --xla_backend_optimization_level=0"
)

# Two processes of tests share the machine: threads of linear algebra would wait for each other, at
# times a hundred times longer than the work takes.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
