"""Fits beside each other: models, estimates, predictions, samplers."""
