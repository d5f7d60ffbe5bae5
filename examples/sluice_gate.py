"""A log density that you write yourself, and one result checked by several methods.

The miller knows how fast the wheel turned, not how far the sluice gate stood open. Two openings
give that speed: a narrow one, and a wide one at which the wheel already drags in the tail water.
The posterior of the opening has two separate modes, with weights 0.4 and 0.6.
"""

import sys
from pathlib import Path

import jax.numpy as jnp

import millwright as mw


def log_density(opening, drag):
    """Log density of the gate's opening in cm and the wheel's drag, up to a constant."""
    narrow = jnp.log(0.4) - 0.5 * ((opening - 12) / 1.0) ** 2
    wide = jnp.log(0.6) - 0.5 * ((opening - 31) / 1.0) ** 2
    return jnp.logaddexp(narrow, wide) - 0.5 * ((drag - 1) / 0.2) ** 2


gate = mw.Target(
    log_density, {"opening": (0, 60), "drag": "positive"}, title="Opening of the sluice gate"
)
print(gate.describe())

compared = mw.compare_samplers(
    gate,
    ["no_u_turn", "random_walk", "tempering", mw.Rejection(stretch=15)],
    truth={"opening": 0.4 * 12 + 0.6 * 31, "drag": 1.0},
    draws=1000,
    seed=3,
)
print(compared)

tempered = compared.posteriors["tempering"]
print("Probability of the wide opening:", tempered.probability("opening > 20"))
print(tempered.verdict)
stuck = compared.posteriors["no_u_turn"]
print("What the gradient sampler says of itself:")
print(stuck.verdict.findings[0].problem)

if len(sys.argv) > 1:
    folder = Path(sys.argv[1])
    mw.plots.samplers(compared).savefig(folder / "samplers.png")
