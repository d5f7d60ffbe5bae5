"""Linear regressions on every subset of candidates: weights, enumeration, a walk."""
