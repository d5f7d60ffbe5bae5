"""Figures. Every function takes results and returns a Matplotlib Figure.

Figures are made without `pyplot`: nothing opens a window, and the user's own Matplotlib
settings are neither read nor changed. Those of one panel draw into `axes=` where it is given.
"""

from millwright.plots.autoregression import forecast, responses
from millwright.plots.averaging import average, model_probabilities
from millwright.plots.calibration import calibration
from millwright.plots.causal_effects import causal_effects
from millwright.plots.causal_graph import causal_graph
from millwright.plots.dependence import autocorrelation, running_mean
from millwright.plots.energy_changes import energy_changes
from millwright.plots.evidence_path import evidence_path
from millwright.plots.expected_evidence import expected_evidence
from millwright.plots.fitted import fitted_line, prior_lines
from millwright.plots.funnel import funnel
from millwright.plots.further_trials import further_trials
from millwright.plots.graph import model_graph
from millwright.plots.interval_rows import compare_estimates, intervals, shrinkage
from millwright.plots.overview import overview
from millwright.plots.pit import leave_one_out_pit
from millwright.plots.posterior_density import decision, posterior_densities
from millwright.plots.predictive import predictive_check
from millwright.plots.prior import prior_data, prior_densities, prior_posterior
from millwright.plots.rank_counts import rank_counts
from millwright.plots.samplers import samplers
from millwright.plots.scatter_matrix import scatter_matrix
from millwright.plots.sensitivity import prior_sensitivity, under_priors
from millwright.plots.series import series
from millwright.plots.study import study
from millwright.plots.trace import densities, trace

__all__ = [
    "compare_estimates",
    "autocorrelation",
    "average",
    "calibration",
    "causal_effects",
    "causal_graph",
    "decision",
    "densities",
    "energy_changes",
    "evidence_path",
    "expected_evidence",
    "fitted_line",
    "forecast",
    "funnel",
    "further_trials",
    "intervals",
    "leave_one_out_pit",
    "model_graph",
    "model_probabilities",
    "overview",
    "scatter_matrix",
    "posterior_densities",
    "predictive_check",
    "prior_data",
    "prior_densities",
    "prior_lines",
    "prior_posterior",
    "prior_sensitivity",
    "rank_counts",
    "responses",
    "running_mean",
    "samplers",
    "series",
    "shrinkage",
    "study",
    "trace",
    "under_priors",
]
