"""Probability distributions: log densities, distribution functions, random draws, supports."""
