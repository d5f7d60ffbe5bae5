"""Tests of ready-made studies."""
