"""Integers as sums of signed powers of two, with as few of them as can be."""

from __future__ import annotations


def signed_digits(value: int) -> list[tuple[int, int]]:
    """The canonic signed digits of an integer: (sign, power) pairs, lowest power first, no two powers adjacent.

    No other sum of signed powers of two has fewer terms (Reitwiesner 1960, "Binary arithmetic").
    """
    found = []
    power = 0
    while value:
        if value & 1:
            sign = 2 - (value & 3)
            found.append((sign, power))
            value -= sign
        value >>= 1
        power += 1
    return found


def digit_count(value: int) -> int:
    """How many signed digits an integer takes: the nonzero bits of value XOR 3·value, counted."""
    value = abs(value)
    return (value ^ (3 * value)).bit_count()


def digits_text(value: int) -> str:
    """The digits as people write them, highest first: 2^7 − 2^2 + 1."""
    parts: list[str] = []
    for sign, power in reversed(signed_digits(value)):
        size = "1" if power == 0 else f"2^{power}"
        parts.append(("−" if sign < 0 else "") + size if not parts else ("− " if sign < 0 else "+ ") + size)
    return " ".join(parts) or "0"


def odd_part(value: int) -> int:
    """The positive odd number that, shifted and signed, is the value; 0 for 0."""
    value = abs(value)
    return value // (value & -value) if value else 0
