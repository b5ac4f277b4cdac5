"""The program of the small processor: which product stands on which line, and where each signal lies in its memory."""

from __future__ import annotations

from msgspec import Struct

from combe.delivery.hdl.circuit import bits_for
from combe.realization.formats import Format
from combe.realization.program import Program, RawTerm, Step

BLOCK_BITS = 16
"""What a multiplier block of the smallest devices takes; wider words are multiplied part by part."""
MOST_AT_ONCE = 4
"""So few of them are summed within one clock; of more, two at a time."""
CHAIN_BITS = 46
"""What carries run through within a clock of the smallest devices; wider sums are kept in two halves."""
MOST_LATE = 3
"""So many different shifts behind the multiplier, which one clock chooses from."""
MANY_KINDS = 5
"""So many different roundings are chosen from before a register, not after it."""

Kind = tuple[Format, Format, str, str]
"""A rounding: from, to, how, and what overflow does."""


class Line(Struct, frozen=True):
    """One line of the program."""

    place: int = 0
    age: int = 0
    factor: int = 0
    ends: bool = False
    works: bool = False
    kind: int = 0
    target: int = 0
    is_output: bool = False
    rest_target: int | None = None
    turned: int | None = None
    """Where the factor is the phase: how far to the left."""
    late: int = 0
    """Which of the plan's shifts its product takes, counted from 1; 0 for none."""


class Depth(Struct, frozen=True):
    """Clocks of the processor's stages: ``product`` through the multiplier, ``late`` through the shift behind it, ``sum`` through
    the accumulator, ``rounding`` through what follows it."""

    product: int = 1
    sum: int = 1
    rounding: int = 0
    late: int = 0

    @property
    def summed(self) -> int:
        """From a line's words to the accumulator that holds its product."""
        return 1 + self.product + self.late + self.sum

    @property
    def limited(self) -> int:
        """From a line's words to the clock in which its sum is brought within its limits."""
        return self.summed + (self.rounding > 0)

    @property
    def written(self) -> int:
        """From a line to the clock in which what it ended is written."""
        return 1 + self.summed + self.rounding


class Plan(Struct, frozen=True):
    """How the sums of a program share one accumulator and one rounding: each times a power of two, so that their points come to
    lie at the same place; ``rounding`` names each one's of the different ``kinds``."""

    scales: tuple[int, ...]
    rounding: tuple[int, ...]
    kinds: tuple[Kind, ...]
    factor_bits: int
    sum_bits: int
    late: tuple[int, ...] = ()
    """How far products may be shifted behind the multiplier, so that a factor that ends in zeros takes a part less."""

    def factor(self, coefficient: int) -> tuple[int, int]:
        """What a coefficient, scaled already, is multiplied as, and which shift its product takes."""
        if self.late and _signed_width(coefficient) > BLOCK_BITS:
            for number, shift in enumerate(self.late, 1):
                # The first that is enough: no factor has fewer zeros than it.
                if _signed_width(coefficient >> shift) <= BLOCK_BITS:
                    return coefficient >> shift, number
        return coefficient, 0


def plan_of(program: Program) -> Plan:
    """Sums are brought to one point where that costs the multiplier nothing; what a rounding cuts off is kept as it is, so that
    its sum stays too."""
    steps = program.steps
    plain = max((_factor_bits(step, 0) for step in steps), default=1)
    keeps_rest = {term.signal - 1 for step in steps for term in step.terms if term.is_rest}
    highest = max(step.shift for step in steps)
    scales = []
    for index, step in enumerate(steps):
        scale = highest - step.shift
        is_free = index not in keeps_rest and pieces(max(_factor_bits(step, scale), 1)) <= pieces(plain)
        scales.append(scale if is_free else 0)
    # An accumulator holds every sum its step can make, so that a wider one has the same number in it.
    bits = max(step.accumulator.bits + (not step.accumulator.signed) + scale for step, scale in zip(steps, scales))
    found = []
    for step, scale in zip(steps, scales):
        source = Format(True, bits, step.shift + scale)
        target = Format(step.result.signed, step.result.bits, 0)
        found.append((source, target, step.rounding, step.overflow))
    kinds = tuple(dict.fromkeys(found))
    factor = max((_factor_bits(step, d) for step, d in zip(steps, scales)), default=1)
    late = _late([(term, d) for step, d in zip(steps, scales) for term in step.terms]) if pieces(factor) > 1 else ()
    if late:
        factor = BLOCK_BITS
    return Plan(tuple(scales), tuple(kinds.index(each) for each in found), kinds, max(factor, 1), bits, late)


def _late(terms: list[tuple[RawTerm, int]]) -> tuple[int, ...]:
    """The fewest shifts with which every factor, less zeros at its end, fits one part of a multiplier; none where there are too many,
    or one can't. What a factor needs at least and has at most are the ends of a stretch: the fewest points that meet all of them."""
    stretches = []
    for term, scale in terms:
        width = _width_of(term, scale)
        if width > BLOCK_BITS:
            value = term.coefficient << scale
            zeros = 0 if term.is_turned else (value & -value).bit_length() - 1
            stretches.append((zeros, width - BLOCK_BITS))
    points: list[int] = []
    for most, least in sorted(stretches):
        if most < least:
            return ()
        if not any(least <= point <= most for point in points):
            points.append(most)
    return tuple(points) if len(points) <= MOST_LATE else ()


def _factor_bits(step: Step, scale: int) -> int:
    return max((_width_of(term, scale) for term in step.terms), default=1)


def _width_of(term: RawTerm, scale: int) -> int:
    """Of a factor; a phase has the bits of its format, shifted as its sum asks."""
    if term.is_turned:
        return term.format.bits + term.coefficient.bit_length() - 1 + scale
    return _signed_width(term.coefficient << scale)


def depth_of(plan: Plan, word: int, pipeline: int) -> Depth:
    """With a pipeline there are registers between the parts of a product, the halves of a wide sum, a sum and its limits."""
    if not pipeline:
        return Depth()
    parts = pieces(word) * pieces(plan.factor_bits)
    levels = (parts - 1).bit_length() if parts > MOST_AT_ONCE else min(parts - 1, 1)
    # What is chosen of shifts has a register of its own: before the adder it would cost a fifth of the clock.
    return Depth(
        1 + levels, 1 + (plan.sum_bits > CHAIN_BITS), 1 + (len(plan.kinds) >= MANY_KINDS), int(bool(plan.late))
    )


def pieces(width: int) -> int:
    """Parts of a word that a multiplier block takes, the lower ones without a sign."""
    return 1 if width <= BLOCK_BITS else -(-(width - 1) // (BLOCK_BITS - 1))


def _signed_width(value: int) -> int:
    """Bits of one number."""
    return (value if value >= 0 else ~value).bit_length() + 1


def places_of(program: Program) -> tuple[dict[tuple[int, bool], int], int]:
    """Where the newest value of each signal stands, and the bits of an address."""
    depth: dict[tuple[int, bool], int] = {(0, False): 0}
    for index in range(len(program.steps)):
        depth[index + 1, False] = 0
    for step in program.steps:
        for product in step.terms:
            key = product.signal, product.is_rest
            depth[key] = max(depth.get(key, 0), product.delay)
    places, used = {}, 0
    for key, deepest in depth.items():
        places[key] = used + deepest
        used += deepest + 1
    return places, bits_for(used)


def lines_of(
    program: Program, plan: Plan, places: dict[tuple[int, bool], int], depth: Depth, outputs: frozenset[int] = frozenset()
) -> list[Line]:  # fmt: skip
    """All lines; ``outputs`` are the signals given where it isn't the program's own alone. A signal below zero is a sample that came so
    many before the newest: at the first turn there is none. In each sum, products of values that are there already come first, so that hardly any clock passes idle while
    the sum before is rounded and written; the order doesn't matter to a sum."""
    lines: list[Line] = []
    ready: dict[tuple[int, bool], int] = {(0, False): 0}
    last_write = -1
    given = outputs or frozenset({program.output})
    for index, step in enumerate(program.steps):
        has_rest = (index + 1, True) in places

        def fresh(term: RawTerm) -> int:
            return 0 if term.delay or term.signal < 0 else ready[term.signal, term.is_rest]

        terms: list[RawTerm | None] = [*sorted(step.terms, key=fresh)] or [None]
        for k, term in enumerate(terms):
            is_end = k == len(terms) - 1
            first = 0 if term is None else fresh(term)
            if is_end:
                # One word is written at a time: what the rounding before cut off comes after its result.
                first = max(first, last_write - depth.written + 1)
            lines += [Line()] * (first - len(lines))
            key = (term.signal, term.is_rest) if term else (0, False)
            delay = term.delay if term else 0
            factor, late = (
                plan.factor(term.coefficient << plan.scales[index]) if term and not term.is_turned else (0, 0)
            )
            lines.append(
                Line(places[key] - delay, delay + (key[0] < 0), factor, is_end, True,
                     plan.rounding[index], places[index + 1, False], is_end and index + 1 in given,
                     places[index + 1, True] if has_rest and is_end else None,
                     term.coefficient.bit_length() - 1 + plan.scales[index] if term and term.is_turned else None, late)
            )  # fmt: skip
        # A value is written in one clock and read by the address of the next; a line is counted a clock before that.
        end = len(lines) - 1
        ready[index + 1, False], ready[index + 1, True] = end + depth.written, end + depth.written + 1
        last_write = end + depth.written + has_rest
        lines.append(Line())  # in which the accumulator is cleared
    # The next sample is written only when nothing else is.
    return [*lines, *[Line()] * (last_write + 1 - len(lines))]


def word_of(program: Program, input_width: int) -> int:
    """Bits of a word of the memory: of samples, sums and what roundings cut off."""
    return max([input_width, *(_word(step, program) for step in program.steps)])


def _word(step: Step, program: Program) -> int:
    index = program.steps.index(step) + 1
    has_rest = any(term.is_rest and term.signal == index for each in program.steps for term in each.terms)
    result = step.result.bits + (not step.result.signed)
    return max(result, step.shift + 2 if has_rest else 1)


def clocks_of(program: Program, input_width: int, pipeline: int) -> int:
    """Clocks a sample occupies: one in which it is stored, and the lines."""
    plan = plan_of(program)
    depth = depth_of(plan, word_of(program, input_width), pipeline)
    return 1 + len(lines_of(program, plan, places_of(program)[0], depth))
