"""What floating-point code must give: the same program in more digits, and how far rounding may carry it from that."""

from __future__ import annotations

from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.analysis.linear import LinearProgram
from combe.analysis.network_paths import own_program
from combe.delivery.code_choices import CodeChoices
from combe.realization.network import Network
from combe.realization.stages import Realization, TapSum
from combe.realization.term import INPUT, Term

Array = NDArray[np.float64]
UNIT = {"single": 2.0**-24, "double": 2.0**-53}
SLACK = 2.0
"""Of the bound, for terms of second order."""


class FloatModel(Struct, frozen=True, eq=False):
    """Samples as the code gets them, outputs in more digits, and the largest difference rounding can make."""

    samples: Array
    outputs: Array
    tolerance: float


def float_model(realization: Realization, samples: NDArray[Any], choices: CodeChoices) -> FloatModel:
    """The program without its roundings, in 64-bit mantissas, coefficients as the code has them.

    Every sum of m products errs by at most m+1 units of rounding of Σ|factor·signal| (Higham 2002, chapter 3); each
    such error reaches the output by Σ|h| of its path.
    """
    single = choices.number == "single"
    given: Array = samples.astype(np.float32 if single else np.float64).astype(np.float64)
    if realization.changes_rate:
        outputs, reach = _through_rates(realization, given, single)
        return FloatModel(given, outputs, SLACK * UNIT[choices.number] * reach)
    flow = LinearProgram.of(realization.program)
    outputs = _run(_as_given(flow, single), given)
    largest = float(np.max(np.abs(given), initial=0.0))
    return FloatModel(given, outputs, SLACK * UNIT[choices.number] * _reach(flow, largest) + choices.guard * 1e-25)


def _through_rates(realization: Realization, given: Array, single: bool) -> tuple[Array, float]:
    """Sums of taps and networks one after another: zeros stuffed, filtered, dropped, as it's defined; and how far, in units of rounding,
    errors reach. An output meets the taps of one phase."""
    values, size, reach = given.astype(np.longdouble), float(np.max(np.abs(given), initial=0.0)), 0.0
    for stage in realization.stages:
        if isinstance(stage, Network):
            through = _through_phases if stage.phase is not None else _through_network
            values, size, reach = through(stage, values, size, reach, single)
        if not isinstance(stage, TapSum):
            continue  # roundings and limits fall away
        taps = np.array(stage.coefficients, dtype=np.float64) * stage.coefficient.step
        taps = taps.astype(np.float32).astype(np.float64) if single else taps
        stuffed = np.zeros(len(values) * stage.up, dtype=np.longdouble)
        stuffed[:: stage.up] = values
        values = np.convolve(stuffed, taps.astype(np.longdouble))[: len(stuffed) : stage.down]
        gain = max(float(np.sum(np.abs(taps[phase :: stage.up]))) for phase in range(stage.up))
        reach = gain * reach + (-(-len(taps) // stage.up) + 2) * gain * size
        size *= gain
    return np.asarray(values, dtype=np.float64), reach + size


def _through_network(
    stage: Network, values: NDArray[Any], size: float, reach: float, single: bool
) -> tuple[NDArray[Any], float, float]:  # fmt: skip
    """A network at its higher rate, between stuffing and dropping."""
    flow = LinearProgram.of(own_program(stage))
    stuffed = np.zeros(len(values) * stage.up, dtype=np.longdouble)
    stuffed[:: stage.up] = values
    found = _run(_as_given(flow, single), stuffed)[:: stage.down]
    gain = float(flow.norms().l1[flow.output - 1])
    return found.astype(np.longdouble), gain * size, gain * reach + _reach(flow, size)


def _through_phases(
    stage: Network, values: NDArray[Any], size: float, reach: float, single: bool
) -> tuple[NDArray[Any], float, float]:  # fmt: skip
    """A network once for each output, all side by side; sizes and errors sum by sum, of places within -1 and 1."""
    assert stage.phase is not None
    spots = np.arange(0, len(values) * stage.up, stage.down)
    places = np.array(stage.phases, dtype=np.float32 if single else np.float64)[spots % stage.up]
    phase = places.astype(np.longdouble) * stage.phase.step
    depth = max((term.delay for node in stage.nodes for term in node.terms), default=0)
    every = np.concatenate([np.zeros(depth, dtype=np.longdouble), values])
    newest = spots // stage.up + depth
    known: dict[str, NDArray[Any]] = {}
    sizes: dict[str, tuple[float, float]] = {INPUT: (size, reach)}
    for node in stage.nodes:
        total, own, error = np.zeros(len(spots), dtype=np.longdouble), 0.0, 0.0
        for term in node.terms:
            factor = np.float32(term.value) if single else term.value
            operand = every[newest - term.delay] if term.signal == INPUT else known[term.signal]
            total = total + (phase if term.is_turned else np.longdouble(factor)) * operand
            most = 1.0 if term.is_turned else abs(term.value)
            own, error = own + most * sizes[term.signal][0], error + most * sizes[term.signal][1]
        known[node.name] = total
        sizes[node.name] = own, error + (len(node.terms) + 2) * own
    return known[stage.output], *sizes[stage.output]


def _as_given(flow: LinearProgram, single: bool) -> LinearProgram:
    """With coefficients as the code has them."""
    links = [
        [Term(link.signal, link.delay, float(np.float32(link.coefficient)) if single else link.coefficient, is_rest=link.is_rest) for link in step]
        for step in flow.steps
    ]  # fmt: skip
    return LinearProgram(links, flow.output)


def _run(flow: LinearProgram, samples: NDArray[Any]) -> Array:
    """Every step over all samples: at once where nothing comes back, else sample by sample."""
    count = len(samples)
    signals = [samples.astype(np.longdouble)] + [np.zeros(count, dtype=np.longdouble) for _ in flow.steps]
    if not flow.is_recursive:
        for index in flow.order:
            for link in flow.steps[index]:
                if not link.is_rest and link.delay < count:
                    signals[index + 1][link.delay :] += (
                        np.longdouble(link.coefficient) * signals[link.signal][: count - link.delay]
                    )
        return np.asarray(signals[flow.output], dtype=np.float64)
    rows = [
        (index + 1, [(link.signal, link.delay, np.longdouble(link.coefficient)) for link in links if not link.is_rest])
        for index, links in enumerate(flow.steps)
    ]
    lists = [list(signal) for signal in signals]
    zero = np.longdouble(0)
    for n in range(count):
        for number, links in rows:
            total = zero
            for signal, delay, gain in links:
                if n >= delay:
                    total += gain * lists[signal][n - delay]
            lists[number][n] = total
    return np.array(lists[flow.output], dtype=np.float64)


def _reach(flow: LinearProgram, largest: float) -> float:
    """The output's error, in units of rounding, for inputs up to ``largest``."""
    sizes = np.concatenate([[largest], flow.norms().l1 * largest])
    total = float(sizes[flow.output])
    paths = flow.norms_of(list(range(1, flow.count + 1)))
    for links, norms in zip(flow.steps, paths):
        own = sum(abs(link.coefficient) * sizes[link.signal] for link in links if not link.is_rest)
        path = norms.l1[flow.output - 1]
        total += (len(links) + 2) * float(own) * float(path)
    return total
