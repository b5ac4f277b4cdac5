"""What synthesis keeps of a circuit: bits of registers that are constant, or that always hold the same as others, go."""

from __future__ import annotations

from collections.abc import Hashable, Sequence

from combe.delivery.hdl.circuit import (
    SIGNED,
    Assign,
    Circuit,
    Count,
    Each,
    Expression,
    Item,
    Memory,
    Moved,
    Number,
    Op,
    Partial,
    Register,
    Signal,
    operations_of,
    values_of,
)

TABLE_BITS, SMALL_CELLS = 2048, 20
"""As Yosys decides for ECP5, tried on tables of 80 to 400 words and memories of 64 to 512."""
BLOCK_BITS = 18
LOW, HIGH = 0, 1
"""Bits that never change. All others are numbers from 2 on: two bits of one number always agree."""
Bits = tuple[int, ...]


def count_of(circuit: Circuit) -> Count:
    """Register bits, multiplications, additions and bits of memory."""
    multipliers = adders = memory_bits = registers = blocks = 0
    patterns = Count()
    for statement in circuit.statements:
        if isinstance(statement, Each | Partial):
            patterns += statement.cost
            if isinstance(statement, Each) and statement.right is not None:
                blocks += statement.cost.multipliers * blocks_of(statement.left.width, statement.right.width)
            continue
        if isinstance(statement, Moved):
            registers += statement.bank.width * statement.bank.count
        if isinstance(statement, Memory):
            memory_bits += statement.width * len(statement.contents)
        for value in values_of(statement):
            for op in operations_of(value):
                if op.op == "mul":
                    multipliers += 1
                    blocks += blocks_of(*(each.width for each in op.args))
                adders += op.op in ("add", "sub") and op.kind == SIGNED
    registers += len(_Kept(circuit).kept)
    return patterns + Count(registers, multipliers, adders, memory_bits, blocks)


def blocks_of(left: int, right: int) -> int:
    """Multiplier blocks of 18 by 18 bits for signed words of so many: all but the highest part of a wide one have no sign."""
    parts = [1 if width <= BLOCK_BITS else -(-(width - 1) // (BLOCK_BITS - 1)) for width in (left, right)]
    return parts[0] * parts[1]


def is_block(memory: Memory) -> bool:
    """Whether a memory is worth a block of its own on devices that make small ones of their logic: tables of constants, filled
    up to a power of two, beyond so many bits, others beyond so many cells of sixteen words by four bits. The register
    it is read into is then the block's."""
    words, bits = len(memory.contents), memory.width
    if memory.write is None:
        return (1 << (words - 1).bit_length()) * bits > TABLE_BITS
    return -(-words // 16) * -(-bits // 4) > SMALL_CELLS


class _Kept:
    """The bits of registers that differ, by a walk through the statements: each bit of a signal is a number that says what it
    is made of. What feeds itself is first met by its name and keeps that."""

    def __init__(self, circuit: Circuit) -> None:
        self.kept: set[int] = set()
        self._numbers: dict[Hashable, int] = {}
        self._known: dict[str, Bits] = {}
        for statement in circuit.statements:
            if isinstance(statement, Assign):
                self._set(statement.target, self._sized(self._of(statement.value), statement.target.width, SIGNED))
            elif isinstance(statement, Register):
                self._set(statement.target, self._clocked(statement))
            elif isinstance(statement, Memory):
                self._set(statement.output, self._read(statement))

    def _set(self, target: Signal, bits: Bits) -> None:
        self._known.setdefault(target.name, bits)

    def _number(self, *what: Hashable) -> int:
        return self._numbers.setdefault(what, len(self._numbers) + 2)

    def _made(self, width: int, *what: Hashable) -> Bits:
        whole = self._number(*what)
        return tuple([self._number(whole, place) for place in range(width)])

    def _clocked(self, register: Register) -> Bits:
        width, reset = register.target.width, register.reset
        enable = None if register.enable is None else self._of(register.enable)
        found = []
        for place, bit in enumerate(self._sized(self._of(register.value), width, register.value.kind)):
            start = None if reset is None else (reset >> place) & 1
            if bit in (LOW, HIGH) and start in (None, bit):
                found.append(bit)
                continue
            found.append(self._number("register", bit, enable, start))
            self.kept.add(found[-1])
        return tuple(found)

    def _read(self, memory: Memory) -> Bits:
        width = memory.output.width
        if memory.write is not None or is_block(memory):
            bits = self._made(width, memory.name)
        else:
            every = (1 << len(memory.contents)) - 1
            address, bits = self._of(memory.address), ()
            for place in range(width):
                column = sum(((word >> place) & 1) << at for at, word in enumerate(memory.contents))
                bits += (LOW if column == 0 else HIGH if column == every else self._number(address, column),)
        if not is_block(memory):
            self.kept.update(bit for bit in bits if bit not in (LOW, HIGH))
        return bits

    def _of(self, value: Expression) -> Bits:
        if isinstance(value, Signal):
            if value.name not in self._known:
                self._known[value.name] = self._made(value.width, value.name)
            return self._known[value.name]
        if isinstance(value, Number):
            return tuple([(value.value >> place) & 1 for place in range(value.width)])
        if isinstance(value, Op):
            return self._worked(value)
        return self._made(value.width, value.bank.name if isinstance(value, Item) else value.table.name, repr(value))

    def _worked(self, op: Op) -> Bits:
        parts = [self._of(each) for each in op.args]
        if op.op in ("extend", "reinterpret"):
            return self._sized(parts[0], op.width, op.args[0].kind)
        if op.op == "zero_top":
            return (*parts[0], *(LOW,) * op.width)[: op.width]
        if op.op == "slice":
            return parts[0][op.m : op.n + 1]
        if op.op == "bit":
            return (parts[0][op.n],)
        if op.op == "left":
            return (*(LOW,) * op.n, *parts[0])
        if op.op == "join":
            return (*parts[1], *parts[0])
        if op.op in ("add", "sub"):
            return self._sum(op, parts)
        return self._made(op.width, op.op, op.n, op.m, tuple(parts))

    def _sum(self, op: Op, parts: Sequence[Bits]) -> Bits:
        """Below the lowest bit of one operand the other goes through unchanged."""
        left, right = (self._sized(bits, op.width, each.kind) for bits, each in zip(parts, op.args))
        through = 0
        while through < op.width and (right[through] == LOW or (op.op == "add" and left[through] == LOW)):
            through += 1
        low = [left[place] if right[place] == LOW else right[place] for place in range(through)]
        above = op.width - through
        return (*low, *self._made(above, op.op, left[through:], right[through:]))

    @staticmethod
    def _sized(bits: Bits, width: int, kind: str) -> Bits:
        if len(bits) >= width:
            return bits[:width]
        return (*bits, *(bits[-1] if kind == SIGNED else LOW,) * (width - len(bits)))
