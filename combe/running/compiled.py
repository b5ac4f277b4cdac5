"""Bit-true loops compiled by numba, twins of the plain-integer ones in ``simulate``."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from combe.jit import compiled
from combe.realization.formats import Format
from combe.realization.program import Program
from combe.realization.section import Section

Integers = NDArray[Any]
SHALLOW = 4
"""Programs that look no further back keep their past in one piece."""
MODES = {"nearest-even": 0, "nearest-up": 1, "floor": 2, "toward-zero": 3}


State = tuple[int, int, int, int]


def run_section(stage: Section, source: Format, signal: Integers, state: State) -> tuple[Integers, State]:
    """A signal through a section whose sums 62 bits hold: outputs, and the last two inputs and outputs (in and out)."""
    u, v = stage.shifts(source)
    b = np.array([value << u for value in stage.b], dtype=np.int64)
    a = np.array([value << v for value in stage.a], dtype=np.int64)
    shift = stage.accumulator.fraction - stage.result.fraction
    past = np.array(state, dtype=np.int64)
    found: Integers = _loop(
        signal, b, a, shift, MODES[stage.rounding], stage.overflow == "saturate", stage.result.least, stage.result.most, past
    )  # fmt: skip
    x1, x2, y1, y2 = past.tolist()
    return found, (x1, x2, y1, y2)


def make_ready() -> None:
    """Go once through every loop, so that none is loaded while somebody waits."""
    zeros = np.zeros(4, dtype=np.int64)
    _loop(zeros, zeros[:3], zeros[:2], 1, 0, True, -1, 1, zeros.copy())
    run_exact_sections(np.zeros(2), np.zeros((1, 5)), np.zeros((1, 2)))


@compiled()
def _rounded(total: Any, shift: Any, mode: Any) -> Any:  # pragma: no cover - compiled
    """A sum without its last ``shift`` bits, at least one of them: 0 nearest even, 1 nearest up, 2 floor, 3 toward zero."""
    y = total >> shift
    rest = total - (y << shift)
    half = np.int64(1) << (shift - 1)
    if mode == 0:
        if rest > half or (rest == half and (y & 1) == 1):
            y += 1
    elif mode == 1:
        if rest >= half:
            y += 1
    elif mode == 3 and rest != 0 and y < 0:
        y += 1
    return y


@compiled()
def _loop(
    signal: Any, b: Any, a: Any, shift: int, mode: int, saturates: bool, least: int, most: int, past: Any
) -> Any:  # pragma: no cover - compiled
    found = np.empty_like(signal)
    x1, x2, y1, y2 = past[0], past[1], past[2], past[3]
    span = np.int64(most) - np.int64(least) + np.int64(1)
    for n in range(len(signal)):
        x = signal[n]
        total = b[0] * x + b[1] * x1 + b[2] * x2 - a[0] * y1 - a[1] * y2
        y = _rounded(total, shift, mode) if shift > 0 else total
        if saturates:
            y = min(max(y, least), most)
        elif y < least or y > most:
            y = (y - least) % span + least
        x2, x1, y2, y1 = x1, x, y1, y
        found[n] = y
    past[0], past[1], past[2], past[3] = x1, x2, y1, y2
    return found


@compiled()
def run_exact_sections(signal: Any, sections: Any, state: Any) -> Any:  # pragma: no cover - compiled
    """A signal in floating point through sections in a row, direct form II transposed; ``state`` is carried on."""
    found = np.empty_like(signal)
    for n in range(len(signal)):
        y = signal[n]
        for k in range(len(sections)):
            x = y
            y = sections[k, 0] * x + state[k, 0]
            state[k, 0] = sections[k, 1] * x - sections[k, 3] * y + state[k, 1]
            state[k, 1] = sections[k, 2] * x - sections[k, 4] * y
        found[n] = y
    return found


class CompiledSteps:
    """Any program whose sums 62 bits hold, with its past: signals may come piece by piece."""

    def __init__(self, program: Program) -> None:
        self.program = program
        steps = program.steps
        products = [product for step in steps for product in step.terms]
        self.start = np.cumsum([0] + [len(step.terms) for step in steps]).astype(np.int64)
        self.terms = np.array(
            [(p.signal + (len(steps) if p.is_rest else 0), p.delay, p.coefficient) for p in products], dtype=np.int64
        ).reshape(-1, 3)
        self.rules = np.array(
            [(s.shift, MODES[s.rounding], s.overflow == "saturate", s.result.least, s.result.most) for s in steps],
            dtype=np.int64,
        )
        self.depth = program.longest_delay + 1
        self.is_shallow = program.longest_delay <= SHALLOW
        size = self.depth if self.is_shallow else 1 << program.longest_delay.bit_length()
        self.past = np.zeros((2 * len(steps) + 1, size), dtype=np.int64)
        self.taken = 0

    def take(self, signal: Integers, watch: bool = True) -> tuple[Integers, NDArray[np.int64]]:
        """Outputs, and for every step overflows, least and largest result (these only where ``watch`` asks for them)."""
        found = np.empty(len(signal), dtype=np.int64)
        counts = np.zeros((len(self.rules), 3), dtype=np.int64)
        output = self.program.output
        if self.is_shallow:
            columns = [np.ascontiguousarray(column) for column in self.rules.T]
            places = self.terms[:, 0] * self.depth + self.terms[:, 1]
            factors = np.ascontiguousarray(self.terms[:, 2])
            _shallow_loop(
                signal, self.start, places, factors, *columns, output, self.depth, self._aged(), found, counts, watch,
                self.past.reshape(-1),
            )  # fmt: skip
        else:
            _steps_loop(signal, self.start, self.terms, self.rules, output, self.taken, self.past, found, counts)
        self.taken += len(signal)
        return found, counts

    def _aged(self) -> NDArray[np.int64]:
        """Places of values that move on by one at every sample, the oldest first."""
        deepest: dict[int, int] = {}
        for number, delay, _ in self.terms.tolist():
            deepest[number] = max(deepest.get(number, 0), delay)
        aged = [s * self.depth + age for s, top in sorted(deepest.items()) for age in range(top, 0, -1)]
        return np.array(aged, dtype=np.int64)


@compiled()
def _shallow_loop(
    signal: Any, start: Any, places: Any, factors: Any, shifts: Any, modes: Any, saturates: Any, lows: Any, highs: Any,
    output: int, depth: int, moved: Any, found: Any, counts: Any, watch: bool, values: Any,
) -> None:  # fmt: skip  # pragma: no cover - compiled
    """Programs that remember a few samples: every signal's past lies in one piece and is moved on by hand."""
    count = len(shifts)
    for n in range(len(signal)):
        values[0] = signal[n]
        for k in range(count):
            total = np.int64(0)
            for t in range(start[k], start[k + 1]):
                total += factors[t] * values[places[t]]
            shift = shifts[k]
            if shift > 0:
                y = total >> shift
                mode = modes[k]
                if mode != 2:
                    half = np.int64(1) << (shift - 1)
                    if mode == 0:
                        y = (total + half - 1 + (y & 1)) >> shift
                    elif mode == 1:
                        y = (total + half) >> shift
                    elif total < 0:
                        y = -((-total) >> shift)
                values[(k + count + 1) * depth] = total - (y << shift)
            else:
                y = total << -shift
            if y < lows[k] or y > highs[k]:
                counts[k, 0] += 1
                if saturates[k]:
                    y = min(max(y, lows[k]), highs[k])
                else:
                    y = (y - lows[k]) % (highs[k] - lows[k] + 1) + lows[k]
            values[(k + 1) * depth] = y
            if watch:
                counts[k, 1] = min(counts[k, 1], y)
                counts[k, 2] = max(counts[k, 2], y)
        found[n] = values[output * depth]
        for m in range(len(moved)):
            values[moved[m]] = values[moved[m] - 1]


@compiled()
def _steps_loop(
    signal: Any, start: Any, terms: Any, rules: Any, output: int, first: int, history: Any, found: Any, counts: Any
) -> None:  # pragma: no cover - compiled
    count = len(rules)
    mask = history.shape[1] - 1
    for place in range(len(signal)):
        n = first + place
        now = n & mask
        history[0, now] = signal[place]
        for k in range(count):
            total = np.int64(0)
            for t in range(start[k], start[k + 1]):
                total += terms[t, 2] * history[terms[t, 0], (n - terms[t, 1]) & mask]
            shift, mode = rules[k, 0], rules[k, 1]
            least, most = rules[k, 3], rules[k, 4]
            if shift > 0:
                y = _rounded(total, shift, mode)
                history[k + count + 1, now] = total - (y << shift)
            else:
                y = total << -shift
            if y < least or y > most:
                counts[k, 0] += 1
                if rules[k, 2]:
                    y = min(max(y, least), most)
                else:
                    y = (y - least) % (most - least + 1) + least
            if y < counts[k, 1]:
                counts[k, 1] = y
            if y > counts[k, 2]:
                counts[k, 2] = y
            history[k + 1, now] = y
        found[place] = history[output, now]
