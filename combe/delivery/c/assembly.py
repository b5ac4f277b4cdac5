"""Rows of dual multiply-accumulates word by word, for GCC on cores that have them.

Of sums of 64 bits that share their samples GCC keeps fewer in registers than there are registers for: it moves loads ahead of each
other, and what is in their way to the stack, half as many instructions again. In these few lines nothing moves. ``h`` points at taps,
``x`` at samples; a, b and t hold what is passing.
"""

from __future__ import annotations

from typing import Any

from msgspec import Struct

from combe.realization.formats import Format

MOST_PAIRS = 64
"""Pairs of taps that are written out: four sums take 28 bytes for each, three 20."""
LEAST_STEPS = 4
REACH = 4092
"""The farthest a word may lie from a pointer."""


class Written(Struct, frozen=True):
    """The lines, how many sums they add up, whether they begin them or add to them, and whether they move the pointers and count turns."""

    lines: tuple[str, ...]
    sums: int
    begins: bool = False
    turns: int = 0


def written_rows(values: dict[str, Any], source: Format, symbol: str) -> Written | None:
    """Of what a template is to print of sums of 64 bits; none where they don't pay."""
    if not (values["is_long"] and values["is_dual"]):
        return None
    padded, stride = values["padded"], values["sample_stride"]
    if values["together"] == "down" and stride > 1:
        lines = together_down(padded // stride, stride, symbol) if padded % stride == 0 else []
        return Written(tuple(lines), 3, turns=stride // 2 if padded // 2 > MOST_PAIRS else 0) if lines else None
    if values["up"] == 1 or values["together"] not in ("up", "samples"):
        return None
    half = int("".join(filter(str.isdigit, values["bias"].removeprefix("INT64_C"))))
    start = half if all(_has_room(row, source, half) for row in values["numbers"]) else None
    lines = together_up(padded // 2, start, symbol)
    return Written(tuple(lines), 4, start is not None) if lines else None


def together_up(pairs: int, start: int | None, symbol: str) -> list[str]:
    """Four sums of one phase, of samples that follow each other: a pair of samples serves two of them.

    Where the first pair of taps leaves room in 32 bits the sums begin with it and with ``start``; with what they hold already where
    that is None. No lines where the row is too long.
    """
    if not 1 < pairs <= MOST_PAIRS:
        return []
    lines = ["ldr %[t], [%[h]]", "ldr %[a], [%[x]]", "ldr %[b], [%[x], #2]"]
    if start is None:
        first = [_long(k, "ab"[k % 2]) for k in range(4)]
    else:
        # Until the last of them begins, its other half holds the start.
        lines.append(f"mov %R[s3], #{start}")
        first = [line for k in range(4) for line in _begun(k, "ab"[k % 2])]
    half = len(first) // 2
    lines += [*first[:half], "ldr %[a], [%[x], #4]", "ldr %[b], [%[x], #6]", *first[half:]]
    each = [
        f"ldr %[t], [%[h], #{symbol}]", _long(0, "a"), _long(1, "b"),
        f"ldr %[a], [%[x], #{symbol} + 4]", f"ldr %[b], [%[x], #{symbol} + 6]", _long(2, "a"), _long(3, "b"),
    ]  # fmt: skip
    return [*lines, *_repeated(pairs - 1, 4, each, "4", symbol)]


def together_down(steps: int, stride: int, symbol: str) -> list[str]:
    """Three sums in a row, of taps that lie ``stride`` apart and of samples as far: each pair of samples serves all three of them.

    So for the first pair of every stride of taps, for the second, and so on; in turns counted by ``n`` where all would be too long. No
    lines where a row is too short to be worth it, where too long for a turn, or where pairs would begin between the taps of others.
    """
    far, turns = 2 * stride, stride // 2
    if stride % 2 or steps < LEAST_STEPS or far * (steps + 3) > REACH or steps > MOST_PAIRS:
        return []

    def step(old: str, newer: str, at: str) -> list[str]:
        return [
            f"ldr %[t], [%[h], #{at}]", _long(0, old), f"ldr %[{old}], [%[x], #{at} + {2 * far}]",
            _long(1, newer), _long(2, old),
        ]  # fmt: skip

    is_counted = steps * turns > MOST_PAIRS
    begin = "0" if is_counted else f"{symbol}_turn"
    twice = [*step("a", "b", symbol), *step("b", "a", f"{symbol} + {far}")]
    lines = [f"ldr %[a], [%[x], #{begin}]", f"ldr %[b], [%[x], #{begin} + {far}]"]
    lines += _repeated(steps // 2, 2 * far, twice, begin, symbol)
    lines += step("a", "b", symbol) if steps % 2 else []
    if is_counted:
        return ["1:", *lines, "add %[h], #4", "add %[x], #4", "subs %[n], #1", "bne 1b"]
    return _repeated(turns, 4, lines, "0", begin)


def _repeated(times: int, far: int, lines: list[str], start: str, symbol: str) -> list[str]:
    """The same lines again and again, the symbol moving on."""
    return [f".set {symbol}, {start}", f".rept {times}", *lines, f".set {symbol}, {symbol} + {far}", ".endr"]


def _long(number: int, samples: str) -> str:
    return f"smlald %Q[s{number}], %R[s{number}], %[t], %[{samples}]"


def _begun(number: int, samples: str) -> list[str]:
    return [f"smlad %Q[s{number}], %[t], %[{samples}], %R[s3]", f"asr %R[s{number}], %Q[s{number}], #31"]


def _has_room(row: list[int], source: Format, start: int) -> bool:
    """Whether the products of a row's first two taps, and what the sum starts with, stay in 32 bits."""
    ends = [(tap * source.least, tap * source.most) for tap in row[:2]]
    low, high = sum(min(pair) for pair in ends), sum(max(pair) for pair in ends)
    return low >= -(1 << 31) and high + start < 1 << 31
