"""Draws docs/shapes.png, the sheet of distribution shapes: `python docs/shapes.py`."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from matplotlib.axes import Axes

import millwright as mw
from millwright.distributions import on_numpy
from millwright.distributions.family import Family
from millwright.distributions.registry import DISTRIBUTIONS
from millwright.language.definition import define
from millwright.modelling.arguments import distribution_arguments, family_of
from millwright.plots.style import BLUE, INK, RED, YELLOW, finish, new_figure, styled

PAGE = Path(__file__).parent / "shapes.png"

# Up to three of each, told apart by colour and line.
SHAPES = {
    "bernoulli": ["probability=0.3"],
    "beta": ["alpha=0.5, beta=0.5", "alpha=2, beta=2", "alpha=2, beta=5"],
    "beta_binomial": ["trials=10, alpha=1, beta=1", "trials=10, alpha=4, beta=8"],
    "binomial": ["trials=10, probability=0.2", "trials=10, probability=0.6"],
    "cauchy": ["0, 1", "0, 2"],
    "exponential": ["rate=0.5", "rate=1", "rate=2"],
    "gamma": ["shape=1, rate=1", "shape=2, rate=1", "shape=6, rate=2"],
    "geometric": ["probability=0.3", "probability=0.6"],
    "gumbel": ["0, 1", "1, 2"],
    "half_cauchy": ["1", "2"],
    "half_normal": ["1", "2"],
    "half_student_t": ["1, df=2", "1, df=10"],
    "inverse_gamma": ["shape=2, scale=1", "shape=5, scale=4"],
    "laplace": ["0, 1", "0, 2"],
    "logistic": ["0, 1", "0, 2"],
    "lognormal": ["0, 0.3", "0, 1"],
    "negative_binomial": ["mean=5, shape=1", "mean=5, shape=20"],
    "normal": ["0, 1", "0, 2", "2, 0.7"],
    "pareto": ["shape=1, scale=1", "shape=3, scale=1"],
    "poisson": ["rate=1", "rate=5"],
    "skew_normal": ["0, 1, shape=4", "0, 1, shape=-1.5"],
    "student_t": ["0, 1, df=2", "0, 1, df=30"],
    "uniform": ["low=0, high=1", "low=-1, high=2"],
    "von_mises": ["0, concentration=1", "1, concentration=8"],
    "weibull": ["shape=0.8, scale=1", "shape=2, scale=1"],
}
LOOKS = ((BLUE, "-"), (YELLOW, "--"), (RED, ":"))


def read(name: str, arguments: str) -> tuple[Family, dict[str, np.ndarray]]:
    """Return a family and the numbers of its arguments."""
    key, nodes = distribution_arguments(define(name, f"{name}({arguments})"))
    family = family_of(key, nodes)
    assert isinstance(family, Family)
    return family, {k: np.asarray(node.value) for k, node in nodes}  # type: ignore[union-attr]


def draw(axes: Axes, name: str, written: list[str]) -> None:
    """Draw the densities or probabilities of one distribution over one range."""
    cases = [read(name, arguments) for arguments in written]
    ends = np.array([family.quantile(np.array([0.02, 0.98]), p) for family, p in cases])
    low, high = ends[:, 0].min(), ends[:, 1].max()
    if "cauchy" in name or name == "pareto":
        low, high = max(low, -8.0), 8.0
    for at, ((family, p), (colour, line)) in enumerate(zip(cases, LOOKS, strict=False)):
        arguments = ", ".join(f"{key}={float(value):g}" for key, value in p.items())
        if family.whole:
            x = np.arange(low, high + 1)
            y = np.exp(family.log_density(on_numpy, x, p))
            # Beside each other, since nothing lies between whole numbers.
            beside = x + 0.25 * (at - (len(cases) - 1) / 2)
            axes.vlines(beside, 0, y, color=colour, lw=2)
            axes.plot(beside, y, "osD"[at], color=colour, ms=4, label=arguments)
            continue
        edge = 0.04 * (high - low)
        x = np.linspace(low - edge, high + edge, 600)
        inside = family.support(p).contains(x)
        safe = np.where(inside, x, ends.mean())
        y = np.where(inside, np.exp(family.log_density(on_numpy, safe, p)), 0.0)
        axes.plot(x, np.minimum(y, 3.0), color=colour, ls=line, lw=1.8, label=arguments)
    axes.set_title(name, fontsize=11, color=INK)
    axes.set_ylim(bottom=0)
    axes.set_yticks([])
    axes.tick_params(labelsize=8)
    axes.legend(fontsize=7.5, loc="upper center", bbox_to_anchor=(0.5, -0.16), handlelength=1.6)


def main() -> None:
    known = {name for name, family in DISTRIBUTIONS.items() if isinstance(family, Family)}
    if known != set(SHAPES):
        raise SystemExit(f"Not drawn: {sorted(known ^ set(SHAPES))}")
    with np.errstate(all="ignore"), styled():
        figure = new_figure((12.8, 14.0))
        panels = figure.subplots(5, 5).ravel()
        for axes, (name, written) in zip(panels, sorted(SHAPES.items()), strict=True):
            draw(axes, name, written)
        finish(
            figure,
            "Shapes of the distributions of numbers",
            "Lines are densities, stems are probabilities of counts; the far tail is cut, and "
            "so are densities above 3.",
            True,
        )
        figure.savefig(PAGE, dpi=100)
    print(f"{PAGE} drawn by millwright {mw.__version__}")


if __name__ == "__main__":
    main()
