"""What a sample costs in a realization, counted on its integers and in its own structure."""

from __future__ import annotations

from collections.abc import Sequence

from combe.analysis.exact import exact_filter
from combe.analysis.rates import rate_stages
from combe.designing.rates.stages import RateStage, cost_of_stages
from combe.filters import Fir
from combe.ledger import Cost, cost_of
from combe.realization.network import Network, at_lower_rate
from combe.realization.program import Step, stages_program
from combe.realization.stages import Realization, Requantize, Stage, TapSum


def realized_cost(realization: Realization) -> Cost:
    """Multiplies, adds and words of memory per sample, stage by stage.

    A coefficient that is zero or a power of two, of either sign, is no multiply; a symmetric pair, of taps or in a numerator, is one.
    Where the rate changes they are of an input sample, on average, and zeros alone are none. A word of memory is a value that is
    needed after its own sample.
    """
    if realization.changes_rate:
        found = [stage for stage in realization.stages if not isinstance(stage, Requantize)]
        ways = rate_stages(found)[0]
        if not any(isinstance(stage, Network) and way.kind == "taps" for stage, way in zip(found, ways)):
            return cost_of_stages(ways)
        return _with_networks(found, ways)
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


def _with_networks(stages: Sequence[Stage], ways: Sequence[RateStage]) -> Cost:
    """Of stages in a row with networks of any kind among them: what these do once for each sample at the lower rate."""
    multiplies = adds = delays = 0.0
    rate = 1.0
    for stage, way in zip(stages, ways):
        own = way.cost()
        if isinstance(stage, Network):
            lower, _ = at_lower_rate(stage)
            kept: dict[str, int] = {}
            for node in lower.nodes:
                for term in node.terms:
                    kept[term.key] = max(kept.get(term.key, 0), term.delay)
            sums = [[term for term in node.terms if term.coefficient] for node in lower.nodes]
            sizes = [
                {
                    (term.key, abs(term.coefficient))
                    for term in terms
                    if abs(term.coefficient) & (abs(term.coefficient) - 1)
                }
                for terms in sums
            ]
            own = (
                sum(map(len, sizes)) / stage.down,
                sum(max(len(terms) - 1, 0) for terms in sums) / stage.down,
                sum(kept.values()),
            )
        multiplies, adds, delays = multiplies + rate * own[0], adds + rate * own[1], delays + own[2]
        rate *= way.up / way.down
    return Cost(multiplies, adds, delays)


def _multiplies(step: Step) -> int:
    sizes = {(term.signal, abs(term.coefficient)) for term in step.terms}
    return sum(1 for _, size in sizes if size & (size - 1))
