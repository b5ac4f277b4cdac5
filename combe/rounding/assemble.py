"""Drafts to stages: where every value's binary point stands, how wide every sum is."""

from __future__ import annotations

from math import ceil, log2

import numpy as np
from numpy.typing import NDArray

from combe.analysis.bounds import worst_values
from combe.analysis.linear import LinearProgram, RealTerm
from combe.errors import FormatError, PoleError, SumError
from combe.realization.formats import Format
from combe.realization.network import Network, Node, needed_node_accumulator
from combe.realization.program import stages_program
from combe.realization.section import Section, needed_section_accumulator
from combe.realization.stages import Stage
from combe.realization.term import INPUT, Term
from combe.rounding.choices import Choices
from combe.rounding.forms import Draft, Sum
from combe.values import replace

Array = NDArray[np.float64]
SCALINGS = ("l1", "l2", "peak")
WIDEST_CHOSEN = 96
"""Bits of a sum: 32-bit coefficients times 32-bit data and all their carries fit, and two words of a processor."""
MOST_TRIES, COARSEST = 40, 64
"""Formats are widened so often at most, and no value stands more than so many bits above its inputs."""
PEAK_POINTS = 2048


def pruned(draft: Draft) -> Draft:
    """Without terms of zero and without sums of nothing; ``y`` always stays."""
    left = list(draft)
    while True:
        kept = [Sum(each.name, tuple(f for f in each.terms if f.coefficient)) for each in left]
        empty = {each.name for each in kept if not each.terms} - {"y"}
        if not empty:
            return [each if each.terms else Sum("y", (Term(INPUT, 0, 0),)) for each in kept]
        left = [
            Sum(each.name, tuple(f for f in each.terms if f.signal not in empty))
            for each in kept
            if each.name not in empty
        ]


def draft_program(drafts: list[Draft]) -> tuple[LinearProgram, list[int]]:
    """All drafts in a row as a linear program, and the signal each hands on (its node ``y``)."""
    steps: list[list[RealTerm]] = []
    arriving, ends = 0, []
    for draft in drafts:
        numbers = {each.name: len(steps) + 1 + k for k, each in enumerate(draft)} | {INPUT: arriving}
        for each in draft:
            steps.append([Term(numbers[f.signal], f.delay, f.value) for f in each.terms])
        arriving = numbers["y"]
        ends.append(arriving)
    return LinearProgram(steps, arriving), ends


def assembled(drafts: list[Draft], form: str, entry: Format, choices: Choices, bits: int) -> list[Stage]:
    """Stages with every format settled.

    A value's binary point stands where the norm chosen by ``scaling`` puts its largest value; with ℓ1 the errors of all
    roundings before it are counted in, so that no input at all makes a value overflow.
    """
    drafts = [pruned(draft) for draft in drafts]
    flow, _ = draft_program(drafts)
    reach = _reach(flow, entry, choices.scaling)
    if not np.all(np.isfinite(reach)):
        what = (
            f"at {choices.coefficient_bits} bits poles lie so near the circle that nothing bounds what they add up to"
        )
        raise PoleError(what, "coefficient_bits", "take more coefficient bits, or a lower order")
    fractions = [bits - 1 - ceil(log2(max(value, 2.0**-300)) + 1e-9) for value in reach]
    for _ in range(MOST_TRIES):
        stages = _stages(drafts, form, entry, choices, bits, fractions)
        if choices.error_feedback:
            stages = _with_feedback(stages, entry)
        stages = [_widened(stage, choices) for stage in stages]
        if choices.scaling != "l1":
            return stages
        program = stages_program(tuple(stages), entry)
        low, high = worst_values(program)
        tight = [
            index for index, step in enumerate(program.steps) if high[index] > step.result.most or low[index] < step.result.least
        ]  # fmt: skip
        if not tight:
            return stages
        for index in tight:
            result = program.steps[index].result
            beyond = max(high[index] / result.most, low[index] / result.least)
            fractions[index] -= max(1, ceil(log2(beyond))) if np.isfinite(beyond) else 1
        if min(fractions) < bits - COARSEST:
            break
    what = f"{bits} state bits leave the roundings' own errors no room: they grow beyond whatever range the values get"
    raise FormatError(what, "state_bits", "take more state bits, or the scaling l2, which may overflow")


def _reach(flow: LinearProgram, entry: Format, scaling: str) -> Array:
    """The largest value each step is given room for, in real values."""
    largest = max(-entry.least, entry.most) * entry.step
    if scaling == "peak":
        omega = np.linspace(0, np.pi, PEAK_POINTS)
        poles = np.angle(np.linalg.eigvals(flow.state_space[0])) if flow.is_recursive else np.zeros(0)
        forward, _ = flow.transfers(np.concatenate([omega, np.abs(poles)]))
        return np.asarray(np.max(np.abs(forward), axis=0) * largest)
    norms = flow.norms()
    return np.asarray(norms.l1 * largest if scaling == "l1" else np.sqrt(norms.energy) * largest)


def _stages(
    drafts: list[Draft], form: str, entry: Format, choices: Choices, bits: int, fractions: list[int]
) -> list[Stage]:
    stages: list[Stage] = []
    arriving, at = entry, 0
    for draft in drafts:
        results = {each.name: Format(True, bits, fractions[at + k]) for k, each in enumerate(draft)}
        at += len(draft)
        if form == "direct-1" and not choices.error_feedback:
            stages.append(_section(draft[0], results["y"], arriving, choices))
        else:
            stages.append(_network(draft, form, results, arriving, choices))
        arriving = results["y"]
    return stages


def _network(draft: Draft, form: str, results: dict[str, Format], arriving: Format, choices: Choices) -> Network:
    nodes = {}
    for each in draft:
        points = [
            (arriving if t.signal == INPUT else results[t.signal]).fraction + t.format.fraction for t in each.terms
        ]
        accumulator = Format(True, 2, max(points))
        nodes[each.name] = Node(
            each.name, each.terms, accumulator, results[each.name], choices.rounding, choices.overflow
        )  # fmt: skip
    made = Network(tuple(nodes.values()), "y", form)
    return _with_accumulators(made, arriving)


def _with_accumulators(stage: Network, arriving: Format) -> Network:
    nodes = {node.name: node for node in stage.nodes}
    found = tuple(
        replace(node, accumulator=needed_node_accumulator(node, nodes, arriving)) for node in stage.nodes
    )  # fmt: skip
    return replace(stage, nodes=found)


def _section(each: Sum, result: Format, arriving: Format, choices: Choices) -> Section:
    """A direct form I section as the stage of that name."""
    b, a = [0, 0, 0], [0, 0]
    numerator = denominator = Format(True, choices.coefficient_bits, choices.coefficient_bits - 1)
    for term in each.terms:
        if term.signal == INPUT:
            b[term.delay], numerator = term.coefficient, term.format
        else:
            a[term.delay - 1], denominator = -term.coefficient, term.format
    plain = Format(True, choices.coefficient_bits, denominator.fraction)
    denominator = plain if all(plain.holds(value) for value in a) else denominator
    fraction = max(arriving.fraction + numerator.fraction, result.fraction + denominator.fraction)
    stage = Section(
        (b[0], b[1], b[2]), (a[0], a[1]), numerator, denominator, Format(True, 2, fraction), result,
        choices.rounding, choices.overflow,
    )  # fmt: skip
    return replace(stage, accumulator=needed_section_accumulator(stage, arriving))


def _with_feedback(stages: list[Stage], entry: Format) -> list[Stage]:
    """First-order error feedback on every rounding inside a loop: the rest of the last sample is added or taken away,
    whichever leaves less noise at the output (Higgins & Munson 1982)."""
    choices = {}
    for sign in (0, 1, -1):
        tried = [_fed_back(stage, sign) for stage in stages]
        program = stages_program(tuple(_with_all_accumulators(tried, entry)), entry)
        choices[sign] = LinearProgram.of(program).energies()
    found: list[Stage] = []
    at = 0
    for stage in stages:
        count = len(stage.nodes) if isinstance(stage, Network) else 1
        signs = [min((0, 1, -1), key=lambda sign: choices[sign][at + k]) for k in range(count)]
        found.append(_fed_back(stage, *signs))
        at += count
    return _with_all_accumulators(found, entry)


def _fed_back(stage: Stage, *signs: int) -> Stage:
    if not isinstance(stage, Network):
        return stage
    each = signs if len(signs) == len(stage.nodes) else signs * len(stage.nodes)
    nodes = tuple(
        replace(node, terms=(*node.terms, Term(node.name, 1, sign, is_rest=True))) if sign and node.shift > 0 else node
        for node, sign in zip(stage.nodes, each)
    )
    return replace(stage, nodes=nodes)


def _with_all_accumulators(stages: list[Stage], entry: Format) -> list[Stage]:
    found: list[Stage] = []
    arriving = entry
    for stage in stages:
        if isinstance(stage, Network):
            stage = _with_accumulators(stage, arriving)
            arriving = stage.result
        elif isinstance(stage, Section):
            arriving = stage.result
        found.append(stage)
    return found


def _widened(stage: Stage, choices: Choices) -> Stage:
    """Accumulators as wide as chosen, guard bits included; refused where they are too narrow or wider than 64 bits."""
    if isinstance(stage, Section):
        return replace(stage, accumulator=_chosen(stage.accumulator, choices))
    if isinstance(stage, Network):
        nodes = tuple(replace(node, accumulator=_chosen(node.accumulator, choices)) for node in stage.nodes)
        return replace(stage, nodes=nodes)
    return stage


def _chosen(needed: Format, choices: Choices) -> Format:
    return chosen_accumulator(needed, choices, "a section would need", "take fewer coefficient or state bits")


def chosen_accumulator(needed: Format, choices: Choices, subject: str, instead: str) -> Format:
    """The accumulator a sum gets: what it needs, or what was chosen if that is more, guard bits on top."""
    bits = needed.bits + choices.guard_bits
    if choices.accumulator_bits is not None:
        if choices.accumulator_bits < bits:
            what = f"{choices.accumulator_bits} bits can overflow"
            with_guard = f" with {choices.guard_bits} guard bits" if choices.guard_bits else ""
            raise SumError(what, "accumulator_bits", f"{bits} bits{with_guard} hold every sum this filter can make")
        bits = choices.accumulator_bits
    if bits > WIDEST_CHOSEN:
        what = f"the accumulator of {subject} {bits} bits, and {WIDEST_CHOSEN} is the most"
        raise SumError(what, "accumulator_bits", instead)
    return Format(True, bits, needed.fraction)
