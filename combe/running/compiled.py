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


def run_section(stage: Section, source: Format, signal: Integers) -> Integers:
    """A whole signal through a section whose sums 62 bits hold."""
    u, v = stage.shifts(source)
    b = np.array([value << u for value in stage.b], dtype=np.int64)
    a = np.array([value << v for value in stage.a], dtype=np.int64)
    shift = stage.accumulator.fraction - stage.result.fraction
    found: Integers = _loop(
        signal, b, a, shift, MODES[stage.rounding], stage.overflow == "saturate", stage.result.least, stage.result.most
    )
    return found


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
    signal: Any, b: Any, a: Any, shift: int, mode: int, saturates: bool, least: int, most: int
) -> Any:  # pragma: no cover - compiled
    found = np.empty_like(signal)
    x1 = x2 = y1 = y2 = np.int64(0)
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
    return found


def run_steps(
    program: Program, signal: Integers, watch: bool = True
) -> tuple[Integers, tuple[int, ...], tuple[int, ...], tuple[int, ...]]:
    """A whole signal through any program whose sums 62 bits hold: output, overflows, least and largest results (these only
    where ``watch`` asks for them)."""
    steps = program.steps
    products = [product for step in steps for product in step.terms]
    start = np.cumsum([0] + [len(step.terms) for step in steps]).astype(np.int64)
    terms = np.array(
        [(p.signal + (len(steps) if p.is_rest else 0), p.delay, p.coefficient) for p in products], dtype=np.int64
    ).reshape(-1, 3)
    rules = np.array(
        [(s.shift, MODES[s.rounding], s.overflow == "saturate", s.result.least, s.result.most) for s in steps],
        dtype=np.int64,
    )
    found = np.empty(len(signal), dtype=np.int64)
    counts = np.zeros((len(steps), 3), dtype=np.int64)
    if program.longest_delay <= SHALLOW:
        depth = program.longest_delay + 1
        places = terms[:, 0] * depth + terms[:, 1]
        deepest: dict[int, int] = {}
        for number, delay, _ in terms.tolist():
            deepest[number] = max(deepest.get(number, 0), delay)
        aged = [s * depth + age for s, top in sorted(deepest.items()) for age in range(top, 0, -1)]
        moved = np.array(aged, dtype=np.int64)
        columns_of = [np.ascontiguousarray(column) for column in rules.T]
        _shallow_loop(
            signal, start, places, np.ascontiguousarray(terms[:, 2]), *columns_of, program.output, depth, moved, found, counts, watch
        )  # fmt: skip
    else:
        size = 1 << program.longest_delay.bit_length()
        _steps_loop(signal, start, terms, rules, program.output, size, found, counts)
    columns = [tuple(int(value) for value in counts[:, k]) for k in range(3)]
    return found, columns[0], columns[1], columns[2]


@compiled()
def _shallow_loop(
    signal: Any, start: Any, places: Any, factors: Any, shifts: Any, modes: Any, saturates: Any, lows: Any, highs: Any,
    output: int, depth: int, moved: Any, found: Any, counts: Any, watch: bool,
) -> None:  # fmt: skip  # pragma: no cover - compiled
    """Programs that remember a few samples: every signal's past lies in one piece and is moved on by hand."""
    count = len(shifts)
    values = np.zeros((2 * count + 1) * depth, dtype=np.int64)
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
    signal: Any, start: Any, terms: Any, rules: Any, output: int, size: int, found: Any, counts: Any
) -> None:  # pragma: no cover - compiled
    count = len(rules)
    history = np.zeros((2 * count + 1, size), dtype=np.int64)
    mask = size - 1
    for n in range(len(signal)):
        now = n & mask
        history[0, now] = signal[n]
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
        found[n] = history[output, now]
