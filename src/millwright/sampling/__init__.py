"""Samplers that see only a target: a dimension, a log density, and where to start."""
