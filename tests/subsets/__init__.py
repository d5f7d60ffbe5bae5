"""Tests of regressions on subsets."""
