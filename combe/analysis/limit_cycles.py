"""Zero-input limit cycles and overflow oscillations of a stage: proved away, or found and shown.

With no input a stage's state is a few integers, and rounding moves it over a finite set. Any limit cycle lies within a
bound, so that following every state within it until it repeats decides the question (Claasen, Mecklenbräuker & Peek
1976, "Effects of quantization and overflow in recursive digital filters"). Where there are too many states for that,
cycles are searched for from random ones: a cycle found is a fact, none found is not a proof.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from functools import lru_cache
from itertools import product

import numpy as np
from msgspec import Struct

from combe.analysis.bounds import error_limits
from combe.analysis.linear import LinearProgram
from combe.errors import FormatError
from combe.realization.feedback import feedback_groups
from combe.realization.formats import Format
from combe.realization.network import Network, at_lower_rate
from combe.realization.program import Program, stages_program
from combe.realization.stages import Stage
from combe.running.run import rounded_step
from combe.values import replace

MOST_STATES = 20_000
RANDOM_STARTS = 200
LONGEST_FOLLOWED = 4000

State = tuple[int, ...]
Values = dict[tuple[int, bool], int]
"""Of steps, by number, and of what their roundings cut off."""
Told = Callable[[Sequence[Values]], tuple[int, ...]]


class LimitCycles(Struct, frozen=True):
    """``is_proved`` says that the answer is certain. ``cycle`` holds one period of the loudest cycle found, in raw
    outputs; empty where the output always dies away to zero. ``step`` is the value of one raw unit."""

    is_proved: bool
    cycle: tuple[int, ...]
    reason: str = ""
    step: float = 1.0

    @property
    def amplitude(self) -> int:
        """The largest raw output of the cycle."""
        return max((abs(value) for value in self.cycle), default=0)

    def sentence(self) -> str:
        """What was found, in words."""
        if self.cycle:
            # What is remembered may take longer to come round than what is heard.
            whole = len(self.cycle)
            period = next(
                p for p in range(1, whole + 1) if whole % p == 0 and self.cycle[:p] * (whole // p) == self.cycle
            )
            shown = ", ".join(str(value) for value in self.cycle[: min(period, 6)]) + (", …" if period > 6 else "")
            still = "a constant" if period == 1 else f"a cycle of {period} samples"
            return f"Without input its output can stay at {still} of up to {self.amplitude} steps ({shown})."
        if self.is_proved:
            return f"Without input its output always dies away: {self.reason}."
        return f"Without input its output died away from {RANDOM_STARTS} random states; that is no proof."


class _Free:
    """The loops of a stage without input: the steps in them, and what they remember."""

    def __init__(self, stage: Stage, source: Format) -> None:
        self.program: Program = stages_program((stage,), source)
        # A rest that is fed back keeps a stage going as well as a value does: rounded down it may stay for good.
        uses = [[p.signal for p in step.terms] for step in self.program.steps]
        inside = {index + 1 for group in feedback_groups(uses) for index in group}
        self.steps = [
            (index + 1, step, [p for p in step.terms if p.signal in inside])
            for index, step in enumerate(self.program.steps)
            if index + 1 in inside
        ]
        deepest: dict[tuple[int, bool], int] = {}
        for _, _, products in self.steps:
            for p in products:
                if p.delay:
                    deepest[p.signal, p.is_rest] = max(deepest.get((p.signal, p.is_rest), 0), p.delay)
        self.kept = [(signal, is_rest, age) for (signal, is_rest), top in deepest.items() for age in range(1, top + 1)]
        self.place = {each: index for index, each in enumerate(self.kept)}

    def bounds(self) -> list[int]:
        """No zero-input limit cycle takes a remembered value beyond these: every rounding's largest error, times Σ|h| of
        its path there."""
        flow = LinearProgram.of(self.program)
        reach = np.zeros(len(self.program.steps))
        errors = {index + 1: max(-low, high) for index, (low, high) in enumerate(map(error_limits, self.program.steps))}
        own = {number for number, _, _ in self.steps}
        sources = [number for number, error in errors.items() if error and number in own]
        for number, path in zip(sources, flow.norms_of(sources) if sources else []):
            reach += path.l1 * errors[number]
        found = []
        for signal, is_rest, _ in self.kept:
            step = self.program.steps[signal - 1]
            if is_rest:
                found.append(1 << max(step.shift, 0))
            else:
                limit = int(np.floor(reach[signal - 1] / step.result.step * (1 + 1e-6))) + 1
                found.append(min(limit, max(step.result.most, -step.result.least)))
        return found

    def after(self, state: State) -> tuple[State, Values]:
        """The next state, and what the steps in the loops come to: the last step's value is the last."""
        values: Values = {}
        for number, step, products in self.steps:
            total = 0
            for p in products:
                own = values[p.signal, p.is_rest] if p.delay == 0 else state[self.place[p.signal, p.is_rest, p.delay]]
                total += p.coefficient * own
            result, rest, _ = rounded_step(step, total)
            values[number, True], values[number, False] = rest, result
        new = tuple(
            values[signal, is_rest] if age == 1 else state[self.place[signal, is_rest, age - 1]]
            for signal, is_rest, age in self.kept
        )
        return new, values

    @property
    def unit(self) -> float:
        """The value of one raw unit of what cycles are told in: of what the stage gives."""
        return self.program.steps[self.program.output - 1].result.step

    def given(self, cycle: Sequence[Values]) -> tuple[int, ...]:
        """What the stage gives while its loops go round: sums outside of them have a memory that ends."""
        inside = {number for number, _, _ in self.steps}
        program = self.program
        if program.output in inside:
            return tuple(values[program.output, False] for values in cycle)
        outer = [(k + 1, step) for k, step in enumerate(program.steps) if k + 1 not in inside]
        memory = sum(max((term.delay for term in step.terms), default=0) for _, step in outer)
        known: list[Values] = []
        for n in range(len(cycle) * (-(-memory // len(cycle)) + 2)):
            now = dict(cycle[n % len(cycle)])
            known.append(now)
            for number, step in outer:
                total = 0
                for p in step.terms:
                    if p.signal and (p.delay <= n or p.signal in inside):
                        then = known[n - p.delay] if p.delay <= n else cycle[(n - p.delay) % len(cycle)]
                        total += p.coefficient * then[p.signal, p.is_rest]
                now[number, False], now[number, True], _ = rounded_step(step, total)
        return tuple(now[program.output, False] for now in known[-len(cycle) :])

    def loudest(self, starts: Iterable[State], told: Told) -> tuple[int, ...]:
        """Follow each state until it repeats; states seen before lead nowhere new. Cycles are told as ``told`` has them."""
        seen: set[State] = set()
        best: tuple[int, ...] = ()
        for start in starts:
            path: dict[State, int] = {}
            heard: list[Values] = []
            state = start
            while state not in seen and state not in path and len(path) < LONGEST_FOLLOWED:
                path[state] = len(path)
                state, values = self.after(state)
                heard.append(values)
            if state in path:
                cycle = told(heard[path[state] :])
                if max(abs(value) for value in cycle) > max((abs(value) for value in best), default=0):
                    best = cycle
            seen.update(path)
        return best


def _inside(cycle: Sequence[Values]) -> tuple[int, ...]:
    """The last of the sums in the loops."""
    return tuple(list(values.values())[-1] for values in cycle)


def cycle_bound(stage: Stage, source: Format) -> int:
    """No zero-input limit cycle of a stage takes any remembered value further than this many raw steps."""
    return max(_Free(stage, source).bounds(), default=0)


@lru_cache(maxsize=256)
def zero_input_cycles(stage: Stage, source: Format) -> LimitCycles:
    """The loudest zero-input cycle of a stage, or the proof that there is none; of one that changes the rate as it is computed at the
    lower one, in the loudest of its phases."""
    if isinstance(stage, Network) and stage.phase is not None:
        return LimitCycles(True, (), "it has no feedback")
    if isinstance(stage, Network) and max(stage.up, stage.down) > 1:
        lower, names = at_lower_rate(stage)
        found = [zero_input_cycles(replace(lower, output=name), source) for name in names]
        return max(found, key=lambda each: (each.amplitude, not each.is_proved))
    free = _Free(stage, source)
    if not free.steps or not free.kept:
        return LimitCycles(True, (), "it has no feedback")
    if _is_contracting(stage):
        return LimitCycles(True, (), "its rotation shrinks every state, and so does rounding toward zero", free.unit)
    try:
        tops = free.bounds()
    except FormatError:
        return LimitCycles(False, (), "", free.unit)
    count = 1
    for top in tops:
        count *= 2 * top + 1
    if count <= MOST_STATES:
        every = product(*(range(-top, top + 1) for top in tops))
        return LimitCycles(True, free.loudest(every, free.given), "every state was followed", free.unit)
    draw = np.random.default_rng(1)
    starts = [tuple(int(draw.integers(-top, top + 1)) for top in tops) for _ in range(RANDOM_STARTS)]
    return LimitCycles(False, free.loudest(starts, free.given), "", free.unit)


def _is_contracting(stage: Stage) -> bool:
    """A coupled pair rounded toward zero: the rotation shrinks u² + v², and rounding and either overflow shrink both."""
    if not isinstance(stage, Network) or stage.form != "coupled" or len(stage.nodes) != 3:
        return False
    if any(node.rounding != "toward-zero" for node in stage.nodes[:2]):
        return False
    matrix = [[0.0, 0.0], [0.0, 0.0]]
    for row, node in enumerate(stage.nodes[:2]):
        for term in node.terms:
            if term.is_rest:
                return False
            if term.signal in ("u", "v"):
                if term.delay != 1:
                    return False
                matrix[row]["uv".index(term.signal)] += term.coefficient * term.format.step
    return float(np.linalg.norm(np.array(matrix), 2)) < 1 - 1e-12


@lru_cache(maxsize=256)
def overflow_oscillations(stage: Stage, source: Format) -> LimitCycles:
    """Searched for from random states over the whole range: a cycle louder than any limit cycle can be.

    Only a stage whose values can overflow has them; ask ``bounds`` first.
    """
    if isinstance(stage, Network) and stage.phase is not None:
        return LimitCycles(True, (), "it has no feedback")
    stage = at_lower_rate(stage)[0] if isinstance(stage, Network) else stage
    free = _Free(stage, source)
    if not free.steps or not free.kept:
        return LimitCycles(True, (), "it has no feedback")
    if _is_contracting(stage):
        return LimitCycles(True, (), "its rotation shrinks every state", free.unit)
    try:
        quiet = max(free.bounds())
    except FormatError:
        quiet = 0
    draw = np.random.default_rng(2)
    ends = []
    for signal, is_rest, _ in free.kept:
        entry = free.program.steps[signal - 1].result
        ends.append((0, 0) if is_rest else (entry.least, entry.most))
    starts: list[State] = [tuple(most if k % 2 else least for k, (least, most) in enumerate(ends))]
    starts += [
        tuple(int(draw.integers(least, most, endpoint=True)) for least, most in ends) for _ in range(RANDOM_STARTS)
    ]
    found = free.loudest(starts, _inside)
    is_loud = max((abs(value) for value in found), default=0) > quiet
    return LimitCycles(False, found if is_loud else (), "", free.unit)
