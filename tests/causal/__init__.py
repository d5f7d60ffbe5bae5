"""Tests of causal graphs."""
