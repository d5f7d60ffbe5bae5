"""In which coordinates series are sampled whose values rest on those before.

Those that normal readings inform plainly (`chain_smoothing`) need no choice. For others: readings
that say more of a value than the step before it does leave the values about as they are
(centred); where they say less, values hang on their steps, whose size funnels then, and standard
steps move better. The share of both is measured in a short run, since the highest point of the
density takes noise for nothing wherever each value is read once.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from millwright.distributions.processes import Process
from millwright.draws.labelled_draws import from_positions
from millwright.errors import StartError
from millwright.fitting.target import target_in_shape
from millwright.modelling.arguments import family_of
from millwright.modelling.binding import Binding
from millwright.modelling.density import outcome_total
from millwright.modelling.gathering import gathered
from millwright.modelling.labelled import DRAW, Labelled, spread_over
from millwright.modelling.parameterisations import informed_by_readings
from millwright.modelling.plain_readings import is_chain, outcomes_of
from millwright.modelling.program import Program
from millwright.sampling.chains import sample
from millwright.sampling.methods import NoUTurn
from millwright.sampling.sampler import FitSettings

__all__ = ["settled_walks"]

_PILOT = FitSettings(draws=50, warmup=150)
_CHAINS, _DEPTH = 2, 6
_MUCH = 2.0
"""Information about a value, times the squared size of a step, from which series are centred."""


def settled_walks(
    blank: Binding, wanted: str | Mapping[str, str], seed: int, places: Mapping[str, int]
) -> Binding:
    """Choose centred or non-centred for walks and series whose form is not asked for."""
    program = blank.program
    by_name = dict.fromkeys(dict(program.forms), wanted) if isinstance(wanted, str) else wanted
    free = [name for name, _ in program.forms if by_name.get(name, "informed") == "informed"]
    blank = _with_forms(blank, dict.fromkeys(_with_many_rows(blank, free), "centred"))
    program = blank.program
    read = [name for name in free if _is_centred_process(program, name)]
    if not read or program.black_boxes:
        return blank
    told = _told_by_data(blank, read, seed, places)
    return _with_forms(blank, {name: "non-centred" for name in read if told[name] < _MUCH})


def _with_forms(binding: Binding, other: Mapping[str, str]) -> Binding:
    """Return the binding with other forms of some processes, which take no constants."""
    if not other:
        return binding
    program = binding.program
    forms = tuple((name, other.get(name, form)) for name, form in program.forms)
    return replace(binding, program=replace(program, forms=forms))


def _with_many_rows(binding: Binding, names: list[str]) -> list[str]:
    """Return series of which so many rows tell that gathering them is worth more."""
    program = binding.program
    series = [
        name
        for name in names
        if is_chain(program, program.by_name[name])
        and informed_by_readings(program, program.by_name[name])
    ]
    if not series:
        return []
    plain = _with_forms(binding, dict.fromkeys(series, "centred"))
    linear = dict(gathered(plain).binding.program.linear)
    return [
        name for name in series if any(part.name in linear for part in outcomes_of(program, name))
    ]


def _is_centred_process(program: Program, name: str) -> bool:
    part = program.by_name[name]
    process = isinstance(family_of(part.family, part.arguments), Process)
    return process and dict(program.forms)[name] == "centred"


def _told_by_data(
    binding: Binding, names: list[str], seed: int, places: Mapping[str, int]
) -> dict[str, float]:
    """Return what the data say of a value of each process, by what the step before it says.

    Where no chain can start the fit itself says so: nothing is told then.
    """
    target = target_in_shape(binding, places)
    method = NoUTurn(max_depth=_DEPTH)
    try:
        found = sample(target, _PILOT, _CHAINS, seed, method=method)
    except StartError:
        return dict.fromkeys(names, 0.0)
    known = from_positions(binding, found.positions).known()
    return {name: _share(binding, known, name) for name in names}


def _share(binding: Binding, known: Mapping[str, Labelled], name: str) -> float:
    """Return the median over draws of information times squared step, averaged over values.

    The whole series is moved up and down by a step, which for normal readings gives the second
    derivative of the log likelihood exactly.
    """
    program = binding.program
    part, values = program.by_name[name], known[name]
    scale = binding.evaluation(known).parameters(part)["scale"]
    step = np.asarray(spread_over(scale, (DRAW, *part.axes)), dtype=float)

    def total(steps: float) -> np.ndarray:
        moved = Labelled(values.values + steps * step, values.axes)
        evaluation = binding.evaluation({**known, name: moved})
        return np.asarray(sum(outcome_total(evaluation, one) for one in program.outcomes))

    with np.errstate(all="ignore"):
        bent = 2.0 * total(0.0) - total(1.0) - total(-1.0)
    count = np.prod(program.shape(part.axes))
    return float(np.nan_to_num(np.median(bent / count)))
