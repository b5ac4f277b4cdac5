"""The exact transfer function of a stage: integer coefficients make dyadic fractions, and nothing is lost."""

from __future__ import annotations

from fractions import Fraction

from msgspec import Struct

from combe.realization.feedback import feedback_groups
from combe.realization.formats import Format
from combe.realization.program import Program, gain_of, stages_program
from combe.realization.stages import Stage

Polynomial = tuple[Fraction, ...]


class Transfer(Struct, frozen=True):
    """numerator(z⁻¹) / Π denominators(z⁻¹), constant term first; every denominator starts with 1."""

    numerator: Polynomial
    denominators: tuple[Polynomial, ...] = ()

    def times(self, other: Transfer) -> Transfer:
        """Both in a row."""
        return Transfer(product(self.numerator, other.numerator), self.denominators + other.denominators)

    @property
    def denominator(self) -> Polynomial:
        """All denominators multiplied out."""
        whole: Polynomial = (Fraction(1),)
        for part in self.denominators:
            whole = product(whole, part)
        return whole


def stage_transfer(stage: Stage, source: Format) -> Transfer:
    """What a stage does to a signal's value, its roundings left out."""
    return program_transfer(stages_program((stage,), source))


def program_transfer(program: Program) -> Transfer:
    """Characteristic polynomials of the loops, and as many exact samples of the impulse response as the numerator needs.

    Steps that feed one another make a loop of their own; the denominator is the product over all loops.
    """
    gains = [
        [(p.signal, p.delay, gain_of(program, step, p)) for p in step.terms if not p.is_rest]
        for step in program.steps
    ]  # fmt: skip
    loops = feedback_groups([[signal for signal, _, _ in links] for links in gains])
    denominators = tuple(_characteristic(gains, set(loop)) for loop in loops)
    denominators = tuple(part for part in denominators if len(part) > 1)
    if not loops:
        return Transfer(_trimmed(_without_loops(gains, program.output)))
    # The numerator's degree is at most the number of remembered values.
    deepest: dict[int, int] = {}
    for links in gains:
        for signal, delay, _ in links:
            deepest[signal] = max(deepest.get(signal, 0), delay)
    answer = _impulse(gains, program.output, sum(deepest.values()) + 1)
    whole = Transfer((), denominators).denominator
    numerator = product(whole, tuple(answer))[: len(answer)]
    return Transfer(_trimmed(numerator), denominators)


def product(left: Polynomial, right: Polynomial) -> Polynomial:
    """Two polynomials multiplied."""
    if not left or not right:
        return ()
    found = [Fraction(0)] * (len(left) + len(right) - 1)
    for i, a in enumerate(left):
        if a:
            for j, b in enumerate(right):
                found[i + j] += a * b
    return tuple(found)


def integers_of(polynomial: Polynomial) -> list[int]:
    """A dyadic polynomial times the power of two that makes it whole."""
    common = max((value.denominator for value in polynomial), default=1)
    return [value.numerator * (common // value.denominator) for value in polynomial]


def _impulse(gains: list[list[tuple[int, int, Fraction]]], output: int, count: int) -> list[Fraction]:
    signals: list[list[Fraction]] = [[] for _ in range(len(gains) + 1)]
    for n in range(count):
        signals[0].append(Fraction(1 if n == 0 else 0))
        for index, links in enumerate(gains):
            total = Fraction(0)
            for signal, delay, gain in links:
                if n >= delay:
                    value = signals[signal][n - delay]
                    if value:
                        total += gain * value
            signals[index + 1].append(total)
    return signals[output]


def _without_loops(gains: list[list[tuple[int, int, Fraction]]], output: int) -> Polynomial:
    """Every step as a polynomial in z⁻¹, each made from those it uses."""
    known: dict[int, dict[int, Fraction]] = {0: {0: Fraction(1)}}
    waiting = [output]
    while waiting:
        signal = waiting[-1]
        if signal in known:
            waiting.pop()
            continue
        missing = [used for used, _, _ in gains[signal - 1] if used not in known]
        if missing:
            waiting += missing
            continue
        total: dict[int, Fraction] = {}
        for used, delay, gain in gains[signal - 1]:
            for age, value in known[used].items():
                total[age + delay] = total.get(age + delay, Fraction(0)) + gain * value
        known[signal] = total
    found = known[output]
    return tuple(found.get(age, Fraction(0)) for age in range(max(found, default=0) + 1))


def _characteristic(gains: list[list[tuple[int, int, Fraction]]], loop: set[int]) -> Polynomial:
    """det(1 − z⁻¹·A) of a loop's own state, by the traces of powers (Faddeev & LeVerrier) in exact fractions."""
    inside = {
        index: [(signal, delay, gain) for signal, delay, gain in gains[index] if signal - 1 in loop]
        for index in sorted(loop)
    }
    deepest: dict[int, int] = {}
    for links in inside.values():
        for signal, delay, _ in links:
            deepest[signal] = max(deepest.get(signal, 0), delay)
    kept = [(signal, age) for signal in sorted(deepest) for age in range(1, deepest[signal] + 1)]
    place = {each: index for index, each in enumerate(kept)}
    size = len(kept)
    rows: dict[int, list[Fraction]] = {}
    for index, links in inside.items():
        row = [Fraction(0)] * size
        for signal, delay, gain in links:
            if delay:
                row[place[signal, delay]] += gain
            else:
                row = [a + gain * b for a, b in zip(row, rows[signal])]
        rows[index + 1] = row
    matrix = [
        rows[signal] if age == 1 else [Fraction(int(k == place[signal, age - 1])) for k in range(size)]
        for signal, age in kept
    ]
    return _trimmed(tuple(_determinant_polynomial(matrix)))


def _determinant_polynomial(A: list[list[Fraction]]) -> list[Fraction]:
    size = len(A)
    found = [Fraction(1)]
    M = [[Fraction(0)] * size for _ in range(size)]
    for k in range(1, size + 1):
        M = [[sum((A[i][m] * M[m][j] for m in range(size) if A[i][m]), Fraction(0)) for j in range(size)]
             for i in range(size)]  # fmt: skip
        for i in range(size):
            M[i][i] += found[-1]
        trace = sum((A[i][m] * M[m][i] for i in range(size) for m in range(size) if A[i][m]), Fraction(0))
        found.append(-trace / k)
    return found


def _trimmed(polynomial: Polynomial) -> Polynomial:
    last = max((index for index, value in enumerate(polynomial) if value), default=0)
    return polynomial[: last + 1]
