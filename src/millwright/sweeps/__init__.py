"""Gibbs sampling of regressions of several series whose coefficients may drift.

Every sweep draws all paths of coefficients at once, then what they rest on. Functions of single
sweeps are compiled by numba.
"""
