"""Adder graphs: all multiples of one number by constants, from shifts and as few adders as a search finds.

Only the odd parts matter: shifts and signs are wires. While some constant is one adder away from what is there, it is
added; otherwise a number is built that brings the most constants to one adder's distance, as in the cumulative-benefit
heuristics of Voronenko & Püschel (2007, "Multiplierless multiple constant multiplication").
"""

from __future__ import annotations

from collections.abc import Iterable
from functools import lru_cache

from msgspec import Struct

from combe.rounding.search.signed_digits import digit_count, odd_part, signed_digits


class Adder(Struct, frozen=True):
    """value = (left_sign·left·2^left_shift + right_sign·right·2^right_shift) / 2^down, all nodes odd and positive."""

    value: int
    left: int
    left_shift: int
    left_sign: int
    right: int
    right_shift: int
    right_sign: int
    down: int = 0


class AdderGraph(Struct, frozen=True):
    """Adders in the order they can be computed; every operand is 1 or the value of an earlier adder."""

    adders: tuple[Adder, ...]

    @property
    def depth(self) -> int:
        """The most adders in a row from the input to a constant."""
        level = {1: 0}
        for adder in self.adders:
            level[adder.value] = 1 + max(level[adder.left], level[adder.right])
        return max(level.values())

    def multiple(self, constant: int, number: int) -> int:
        """constant·number, computed by the graph's own adders, shifts and a sign alone.

        Raises
        ------
        KeyError
            If the graph doesn't have the constant.
        """
        if constant == 0:
            return 0
        held = {1: number}
        for adder in self.adders:
            total = adder.left_sign * (held[adder.left] << adder.left_shift)
            total += adder.right_sign * (held[adder.right] << adder.right_shift)
            held[adder.value] = total >> adder.down
        odd = odd_part(constant)
        shift = (abs(constant) // odd).bit_length() - 1
        return (held[odd] << shift) * (1 if constant > 0 else -1)


def adder_graph(constants: Iterable[int]) -> AdderGraph:
    """A graph that has every constant."""
    wanted = {odd_part(value) for value in constants} - {0, 1}
    top = max((value.bit_length() for value in wanted), default=1) + 1
    ready = [1]
    found: list[Adder] = []
    near: dict[int, Adder] = dict(_between(1, 1, top))
    while wanted:
        reached = sorted(wanted & near.keys())
        value = reached[0] if reached else _useful(wanted, ready, near, top)
        if value is None:
            for adder in _by_digits(min(wanted, key=digit_count), ready, near):
                _take(adder, ready, near, found, top)
        else:
            _take(near[value], ready, near, found, top)
        wanted -= set(ready)
    return AdderGraph(tuple(found))


def _take(adder: Adder, ready: list[int], near: dict[int, Adder], found: list[Adder], top: int) -> None:
    if adder.value in ready:
        return
    ready.append(adder.value)
    found.append(adder)
    for other in ready:
        for value, step in _between(adder.value, other, top).items():
            near.setdefault(value, step)


@lru_cache(maxsize=1024)
def _between(left: int, right: int, top: int) -> dict[int, Adder]:
    """Every odd number one adder makes of two, up to ``top`` bits. Remembered: a search builds graph after graph of much
    the same numbers."""
    found: dict[int, Adder] = {}
    limit = 1 << top
    for shift in range(top + 1):
        for a, b, p, q in ((left, right, shift, 0), (left, right, 0, shift)):
            for sign in (1, -1):
                total = (a << p) + sign * (b << q)
                if total == 0:
                    continue
                turn = 1 if total > 0 else -1
                down = (total & -total).bit_length() - 1
                value = abs(total) >> down
                if value != 1 and value <= limit and value not in found:
                    found[value] = Adder(value, a, p, turn, b, q, sign * turn, down)
    return found


def _useful(wanted: set[int], ready: list[int], near: dict[int, Adder], top: int) -> int | None:
    """The number one adder away that brings most constants to one adder's distance; None where none brings any."""
    count: dict[int, int] = {}
    for target in wanted:
        before: set[int] = set()
        for held in ready:
            before |= _partners(target, held, top)
        for value in before & near.keys():
            count[value] = count.get(value, 0) + 1
    return max(count, key=lambda value: (count[value], -digit_count(value), -value)) if count else None


@lru_cache(maxsize=4096)
def _partners(target: int, held: int, top: int) -> frozenset[int]:
    """Numbers that with ``held`` make the target in one adder: target·2^a ± held·2^b, odd parts."""
    found = set()
    for shift in range(top + 1):
        for total in (
            target - (held << shift),
            target + (held << shift),
            (target << shift) - held,
            (target << shift) + held,
        ):
            value = odd_part(total)
            if value and value.bit_length() <= top:
                found.add(value)
    for factor in range(1, top + 1):  # the partner taken twice: value·(2^a ± 1) = target
        for multiple in ((1 << factor) - 1, (1 << factor) + 1):
            if multiple > 1 and target % multiple == 0:
                found.add(target // multiple)
    return frozenset(found)


def _by_digits(target: int, ready: list[int], near: dict[int, Adder]) -> list[Adder]:
    """A constant built digit by digit, where nothing there helps."""
    digits = signed_digits(target)[::-1]
    found: list[Adder] = []
    have, shift = 1, digits[0][1]
    for sign, power in digits[1:]:
        gap = shift - power
        total = (have << gap) + sign
        found.append(Adder(total, have, gap, 1, 1, 0, sign))
        have, shift = total, power
    return found


def structural_adders(coefficients: tuple[int, ...]) -> int:
    """Adders that sum the taps, whatever the multiplications cost: one less than the nonzero taps."""
    return max(sum(1 for value in coefficients if value) - 1, 0)


def adder_count(coefficients: tuple[int, ...]) -> int:
    """All adders of a multiplierless transposed form: the graph's and those between the taps."""
    return len(adder_graph(coefficients).adders) + structural_adders(coefficients)
