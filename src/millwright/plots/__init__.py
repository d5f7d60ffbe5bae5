"""Figures. Every function takes results and returns a Matplotlib Figure.

Figures are made without `pyplot`: nothing opens a window, and the user's own Matplotlib
settings are neither read nor changed.
"""

from millwright.plots.fitted import fitted_line, prior_lines
from millwright.plots.graph import model_graph
from millwright.plots.interval_rows import intervals
from millwright.plots.predictive import predictive_check
from millwright.plots.prior import prior_posterior
from millwright.plots.samplers import samplers
from millwright.plots.trace import densities, trace

__all__ = [
    "densities",
    "fitted_line",
    "intervals",
    "model_graph",
    "predictive_check",
    "prior_lines",
    "prior_posterior",
    "samplers",
    "trace",
]
