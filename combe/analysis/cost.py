"""What a sample costs in a realization, counted on its integers and in its own structure."""

from __future__ import annotations

from combe.analysis.exact import exact_filter
from combe.analysis.rates import rate_stages
from combe.designing.rates.stages import cost_of_stages
from combe.filters import Fir
from combe.ledger import Cost, cost_of
from combe.realization.program import Step, stages_program
from combe.realization.stages import Realization, TapSum


def realized_cost(realization: Realization) -> Cost:
    """Multiplies, adds and words of memory per sample, stage by stage.

    A coefficient that is zero or a power of two, of either sign, is no multiply; a symmetric pair, of taps or in a numerator, is one.
    Where the rate changes they are of an input sample, on average, and zeros alone are none. A word of memory is a value that is
    needed after its own sample.
    """
    if realization.changes_rate:
        return cost_of_stages(rate_stages(realization.stages)[0])
    if isinstance(exact_filter(realization), Fir):
        return cost_of(exact_filter(realization))
    multiplies = adds = delays = 0.0
    program = stages_program(realization.stages, realization.input)
    kept: dict[int, int] = {}
    for step in program.steps:
        stage = realization.stages[step.stage]
        if isinstance(stage, TapSum):
            own = cost_of(Fir(tuple(map(float, stage.coefficients))))
            multiplies, adds, delays = multiplies + own.multiplies, adds + own.adds, delays + own.delays
            continue
        multiplies += _multiplies(step)
        adds += max(sum(1 for term in step.terms if term.coefficient) - 1, 0)
        for term in step.terms:
            if isinstance(term.signal, int):
                kept[term.signal] = max(kept.get(term.signal, 0), term.delay)
    return Cost(multiplies, adds, delays + sum(kept.values()), realization.structure)


def _multiplies(step: Step) -> int:
    sizes = {(term.signal, abs(term.coefficient)) for term in step.terms}
    return sum(1 for _, size in sizes if size & (size - 1))
