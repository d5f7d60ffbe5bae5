"""Tests of the library, through what users call."""

import os

# As the library compiles what is done with few rows: the emitters of fused loops take as long as
# all else, and the tests compile a thousand small functions. Commands they start inherit it.
os.environ.setdefault("XLA_FLAGS", "--xla_cpu_use_fusion_emitters=false")
