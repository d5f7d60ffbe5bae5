"""Convergence: pure functions on arrays of chains and draws, and the verdict in words."""
