"""The posterior of a fit, and what can be asked of it."""
