"""Figures. Every function takes results and returns a Matplotlib Figure.

Figures are made without `pyplot`: nothing opens a window, and the user's own Matplotlib
settings are neither read nor changed. Those of one panel draw into `axes=` where it is given.
"""

from millwright.plots.dependence import autocorrelation, running_mean
from millwright.plots.energy import energy
from millwright.plots.fitted import fitted_line, prior_lines
from millwright.plots.graph import model_graph
from millwright.plots.interval_rows import across_fits, intervals, shrinkage
from millwright.plots.left_out import left_out_positions
from millwright.plots.overview import overview
from millwright.plots.pairs import pairs
from millwright.plots.posterior_density import decision, posterior_densities
from millwright.plots.predictive import predictive_check
from millwright.plots.prior import prior_data, prior_densities, prior_posterior
from millwright.plots.ranks import ranks
from millwright.plots.samplers import samplers
from millwright.plots.series import series
from millwright.plots.trace import densities, trace

__all__ = [
    "across_fits",
    "autocorrelation",
    "decision",
    "densities",
    "energy",
    "fitted_line",
    "intervals",
    "left_out_positions",
    "model_graph",
    "overview",
    "pairs",
    "posterior_densities",
    "predictive_check",
    "prior_data",
    "prior_densities",
    "prior_lines",
    "prior_posterior",
    "ranks",
    "running_mean",
    "samplers",
    "series",
    "shrinkage",
    "trace",
]
