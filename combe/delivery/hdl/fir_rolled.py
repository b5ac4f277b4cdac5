"""Taps at one sample a clock as patterns over banks of words: what ``fir_stream`` builds word by word, for the eye in loops.

Word by word the widths are the least; a bank has one width for all its words. Synthesis drops what only repeats a sign, so that both
come to the same, and that is what is counted.
"""

from __future__ import annotations

from msgspec import Struct

from combe.delivery.hdl.circuit import (
    BIT,
    UNSIGNED,
    Bank,
    Count,
    Each,
    Entry,
    Item,
    Moved,
    Partial,
    Signal,
    Table,
    bits_for,
)
from combe.delivery.hdl.parts import Builder, Stream, Value
from combe.realization.formats import narrowest_signed
from combe.realization.stages import TapSum
from combe.rounding.search.signed_digits import odd_part

FEWEST = 8
"""Words from which on a pattern is easier to read than they are one by one."""


class Word(Struct, frozen=True):
    """What one word of a bank may hold: its limits, and how many of its low bits are always zero."""

    low: int
    high: int
    zeros: int = 0

    @property
    def width(self) -> int:
        """Bits that hold it."""
        return narrowest_signed(min(self.low, 0), max(self.high, 0))

    @property
    def bits(self) -> int:
        """Those that are not known."""
        return max(self.width - self.zeros, 0)


def is_rolled(stage: TapSum) -> bool:
    """Whether there are enough taps for patterns."""
    return sum(1 for tap in stage.coefficients if tap) >= FEWEST


def rolled_direct(build: Builder, stream: Stream, stage: TapSum) -> Stream:
    """A history, a product for every tap, a tree of adders."""
    places = [k for k, tap in enumerate(stage.coefficients) if tap]
    history, newest = _history(build, stream, places[-1] + 1)
    build.circuit.remark("A product for every tap that isn't zero.")
    source = _item(build, history, "place", places)
    products, words = _products(build, source, [newest] * len(places), [stage.coefficients[k] for k in places])
    return _summed(build, stream.valid, products, words, stage, 1 + (build.pipeline > 0))


def rolled_folded(build: Builder, stream: Stream, stage: TapSum) -> Stream:
    """Two samples that share a coefficient are added before they are multiplied; the taps are symmetric either way."""
    circuit, count, is_kept = build.circuit, len(stage.coefficients), build.pipeline > 0
    places = [k for k in range((count + 1) // 2) if stage.coefficients[k] and (stage.symmetry > 0 or 2 * k + 1 < count)]
    history, newest = _history(build, stream, count - places[0])
    circuit.remark("Samples that share a coefficient.")
    has_middle = 2 * places[-1] + 1 == count
    paired = places[: len(places) - has_middle]
    ends = (newest.low, newest.high) if stage.symmetry > 0 else (-newest.high, -newest.low)
    pair = Word(newest.low + ends[0], newest.high + ends[1])
    pairs = circuit.bank("pair", pair.width if paired else newest.width, len(places), is_kept)
    op = "add" if stage.symmetry > 0 else "sub"
    if paired:
        first = _item(build, history, "place", paired)
        last = _item(build, history, "mirrored", [count - 1 - k for k in paired])
        circuit.pattern(Each(pairs, len(paired), op, first, last, 0, is_kept, _cost(is_kept, [pair] * len(paired), 1)))
    words = [pair] * len(paired)
    if has_middle:
        cost = _cost(is_kept, [newest])
        circuit.pattern(Each(pairs, 1, "copy", Item(history, places[-1]), None, len(paired), is_kept, cost))
        words.append(newest)
    circuit.remark("Their products.")
    source = Item(pairs, 0, 1)
    products, words = _products(build, source, words, [stage.coefficients[k] for k in places])
    return _summed(build, stream.valid, products, words, stage, 1 + 2 * is_kept)


def rolled_transposed(build: Builder, stream: Stream, stage: TapSum) -> Stream:
    """Every sample times every odd part of a tap at once; partial sums wait for the samples still to come."""
    circuit, taps, is_kept = build.circuit, stage.coefficients, build.pipeline > 0
    taps = taps[: max(k for k, tap in enumerate(taps) if tap) + 1]
    circuit.remark("The newest sample.")
    signal = circuit.register("sample", stream.value.signal, stream.valid, 0)
    newest = Word(min(stream.value.low, 0), max(stream.value.high, 0))
    circuit.remark("Its products with the odd part of every coefficient.")
    odds = sorted({odd_part(tap) for tap in taps})
    products, words = _products(build, signal, [newest] * len(odds), odds)
    enable = build.later(stream.valid, 1 + is_kept)
    circuit.remark("Partial sums: each waits for the sample that comes next.")
    width = stage.accumulator.bits
    chain = circuit.bank("partial", width, len(taps))
    which = [odds.index(odd_part(tap)) for tap in taps]
    places = [(abs(tap) // odd_part(tap)).bit_length() - 1 if tap else 0 for tap in taps]
    cost, needed = _chain(taps, [words[index] for index in which], width)
    circuit.pattern(
        Partial(
            chain,
            products,
            circuit.table("which", bits_for(len(odds)), which, UNSIGNED),
            circuit.table("up", bits_for(max(places) + 1), places, UNSIGNED),
            circuit.table("minus", 1, [int(tap < 0) for tap in taps], BIT),
            enable,
            cost,
            _bits(build, "bits_after", width, needed, True),
        )
    )
    clocks = 2 + is_kept
    build.latency += clocks
    total = circuit.wire("total", Item(chain, 0))
    return Stream(build.later(stream.valid, clocks), Value(total, -(1 << (width - 1)), (1 << (width - 1)) - 1))


def _chain(taps: tuple[int, ...], words: list[Word], most: int) -> tuple[Count, list[int]]:
    """What a chain of partial sums comes to, and the bits of each of them."""
    adders = low = high = 0
    needed: list[int] = []
    for tap, word in zip(reversed(taps), reversed(words)):
        scale = tap // odd_part(tap) if tap else 0
        ends = scale * word.low, scale * word.high
        adders += bool(tap) and (bool(needed) or tap < 0)
        low, high = low + min(*ends, 0), high + max(*ends, 0)
        needed.append(min(narrowest_signed(low, high), most))
    return Count(sum(needed), 0, adders), [max(bits, 2) for bits in reversed(needed)]


def _history(build: Builder, stream: Stream, count: int) -> tuple[Bank, Word]:
    """The newest samples, the newest first; they move on with every sample."""
    circuit = build.circuit
    circuit.remark(f"The {count} newest samples, the newest first.")
    bank = circuit.bank("history", stream.value.signal.width, count)
    circuit.pattern(Moved(bank, stream.value.signal, stream.valid))
    return bank, Word(min(stream.value.low, 0), max(stream.value.high, 0))


def _item(build: Builder, bank: Bank, name: str, places: list[int]) -> Item:
    """A word for every place: counted where they lie side by side, else from a table."""
    step = places[1] - places[0] if len(places) > 1 else 1
    if all(b - a == step for a, b in zip(places, places[1:])):
        return Item(bank, places[0], step)
    return Item(bank, places=build.circuit.table(name, bits_for(bank.count), places, UNSIGNED))


def _products(
    build: Builder, source: Item | Signal, words: list[Word], factors: list[int]
) -> tuple[Bank, list[Word]]:  # fmt: skip
    """Each word times its factor."""
    circuit, is_kept = build.circuit, build.pipeline > 0
    table = circuit.table("factor", max(narrowest_signed(min(factors), max(factors)), 2), factors)
    made, cost = [], Count()
    for word, factor in zip(words, factors):
        odd = odd_part(factor)
        zeros = (abs(factor) // odd).bit_length() - 1 if factor else 0
        ends = factor * word.low, factor * word.high
        made.append(Word(min(ends), max(ends), zeros))
        known = Word(odd * word.low, odd * word.high).width if factor else 0
        cost += Count(is_kept * known, int(odd > 1))
    width = max(table.width, source.width, *(word.width for word in made))
    bank = circuit.bank("product", width, len(factors), is_kept)
    needed = [max(word.width, 2) for word in made]
    bits = _bits(build, "bits", width, needed, is_kept)
    circuit.pattern(Each(bank, len(factors), "mul", Entry(table), source, 0, is_kept, cost, bits))
    return bank, made


def _summed(build: Builder, valid: Signal, bank: Bank, words: list[Word], stage: TapSum, clocks: int) -> Stream:
    """A tree of adders, a bank for each of its levels; ``clocks`` until its first words are there."""
    circuit = build.circuit
    if len(words) > 1:
        circuit.remark("Their sum in a tree.")
    level = 0
    while len(words) > 1:
        level += 1
        is_kept = build.pipeline > 0 and (level % build.pipeline == 0 or len(words) == 2)
        half = len(words) // 2
        sums = [
            Word(a.low + b.low, a.high + b.high, min(a.zeros, b.zeros))
            for a, b in zip(words[: 2 * half : 2], words[1::2])
        ]  # fmt: skip
        left = words[2 * half :]
        width = min(max(word.width for word in (*sums, *left)), bank.width + 1)
        made = circuit.bank(f"sum_{level}", width, half + len(left), is_kept)
        needed = _bits(build, f"bits_{level}", width, [max(word.width, 2) for word in sums], is_kept)
        cost = _cost(is_kept, sums, 1)
        circuit.pattern(Each(made, half, "add", Item(bank, 0, 2), Item(bank, 1, 2), 0, is_kept, cost, needed))
        if left:
            cost = _cost(is_kept, left)
            circuit.pattern(Each(made, 1, "copy", Item(bank, 2 * half), None, half, is_kept, cost))
        bank, words = made, [*sums, *left]
        clocks += is_kept
    build.latency += clocks
    width = stage.accumulator.bits
    whole = circuit.wire("sum", Item(bank, 0))
    total = circuit.named(circuit.fit(whole, width), "total")
    return Stream(build.later(valid, clocks), Value(total, -(1 << (width - 1)), (1 << (width - 1)) - 1))


def _cost(is_kept: bool, words: list[Word], adders: int = 0) -> Count:
    return Count(is_kept * sum(word.bits for word in words), 0, adders * len(words))


def _bits(build: Builder, name: str, width: int, needed: list[int], is_kept: bool) -> Table | None:
    """What words need: their limits are often a bit less than those of their operands tell, which synthesis can't know."""
    return build.circuit.table(name, width.bit_length(), needed, UNSIGNED) if is_kept and min(needed) < width else None
