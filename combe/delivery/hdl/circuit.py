"""A synchronous circuit as values: wires, registers and memories of one clock, for printers and for counting.

Data is signed, counters and addresses are unsigned, flags are single bits. Widths are explicit everywhere; an operation
on data of other widths extends its operands first, so that both languages compute the same.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from msgspec import Struct

from combe.values import replace

SIGNED, UNSIGNED, BIT = "signed", "unsigned", "bit"


class Signal(Struct, frozen=True):
    """A named wire, register, port or constant."""

    name: str
    width: int
    kind: str = SIGNED


class Number(Struct, frozen=True):
    """A literal."""

    value: int
    width: int
    kind: str = SIGNED


class Op(Struct, frozen=True):
    """An operation; ``n`` and ``m`` are a shift, or the ends of a slice."""

    op: str
    args: tuple[Expression, ...]
    width: int
    kind: str = SIGNED
    n: int = 0
    m: int = 0


class Bank(Struct, frozen=True):
    """Words of one width side by side."""

    name: str
    width: int
    count: int
    kind: str = SIGNED


class Table(Struct, frozen=True):
    """Constants that a pattern takes one after another."""

    name: str
    width: int
    values: tuple[int, ...]
    kind: str = SIGNED


class Item(Struct, frozen=True):
    """A word of a bank: number ``first + step·k`` within a pattern over k, or the number that a table has at k."""

    bank: Bank
    first: int = 0
    step: int = 0
    places: Table | None = None

    @property
    def width(self) -> int:
        """Of the word."""
        return self.bank.width

    @property
    def kind(self) -> str:
        """Of the word."""
        return self.bank.kind


class Entry(Struct, frozen=True):
    """The constant a table has at k."""

    table: Table

    @property
    def width(self) -> int:
        """Of the constant."""
        return self.table.width

    @property
    def kind(self) -> str:
        """Of the constant."""
        return self.table.kind


Expression = Signal | Number | Op | Item | Entry


class Assign(Struct, frozen=True):
    """A wire that always is what the expression says."""

    target: Signal
    value: Expression


class Register(Struct, frozen=True):
    """Takes the value at a clock edge where ``enable`` holds; ``reset`` is its value after ``rst``, None for any."""

    target: Signal
    value: Expression
    enable: Expression | None = None
    reset: int | None = None


class Memory(Struct, frozen=True):
    """Words read and written at clock edges; without a write port a table. Reading gives what was there before the edge."""

    name: str
    width: int
    contents: tuple[int, ...]
    address: Expression
    output: Signal
    write: Expression | None = None
    write_address: Expression | None = None
    write_data: Expression | None = None
    comment: str = ""
    has_start: bool = False
    """Whether what it holds at the start is ever read, even if all of it is zero."""
    alternates: bool = False
    """Whether a clock that writes doesn't read. What a word gives while it is written has then not to be looked after: registers and
    comparators of synthesis for that go."""
    is_apart: bool = False
    """Whether a clock that writes never reads the same word, unless nothing is done with what is read. Synthesis that is told so leaves
    out the same registers."""


class Remark(Struct, frozen=True):
    """A comment between statements."""

    text: str


class Count(Struct, frozen=True):
    """What a circuit is made of, counted from its statements."""

    registers: int = 0
    multipliers: int = 0
    adders: int = 0
    memory_bits: int = 0
    blocks: int = 0
    """Blocks of 18 by 18 bits that the multiplications take."""

    def __add__(self, other: Count) -> Count:
        return Count(
            self.registers + other.registers, self.multipliers + other.multipliers, self.adders + other.adders,
            self.memory_bits + other.memory_bits, self.blocks + other.blocks,
        )  # fmt: skip


class Each(Struct, frozen=True):
    """A pattern: for k from 0 to ``count`` − 1, word ``first`` + k of a bank takes ``left op right``, wide enough for it.

    ``op`` is ``add``, ``sub``, ``mul`` or ``copy``; ``bits`` says how many a word needs where that is less than its operands
    tell. ``cost`` is what the words come to, each in the width it needs: what is more of them repeats a sign, and synthesis
    drops it.
    """

    target: Bank
    count: int
    op: str
    left: Expression
    right: Expression | None = None
    first: int = 0
    is_register: bool = True
    cost: Count = Count()
    bits: Table | None = None


class Moved(Struct, frozen=True):
    """A bank of registers that moves on by one word where ``enable`` holds, and takes a value as its word 0; 0 after ``rst``."""

    bank: Bank
    value: Expression
    enable: Expression


class Partial(Struct, frozen=True):
    """A chain of registers from the last word of a bank to its word 0, where ``enable`` holds; 0 after ``rst``: each takes the word
    after it and adds, or where ``minus`` says so subtracts, word ``which`` of another bank, ``places`` bits up."""

    bank: Bank
    source: Bank
    which: Table
    places: Table
    minus: Table
    enable: Expression
    cost: Count = Count()
    bits: Table | None = None


Statement = Assign | Register | Memory | Remark | Each | Moved | Partial


class Port(Struct, frozen=True):
    """A port; data ports are plain vectors outside."""

    signal: Signal
    is_input: bool


@dataclass
class Circuit:
    """What is built up: ports, constants and statements, in the order they are to be read."""

    name: str
    ports: list[Port] = field(default_factory=list)
    constants: list[tuple[Signal, int, str]] = field(default_factory=list)
    statements: list[Statement] = field(default_factory=list)
    signals: dict[str, Signal] = field(default_factory=dict)
    banks: list[tuple[Bank, bool]] = field(default_factory=list)
    """With whether they are registers."""
    tables: list[Table] = field(default_factory=list)
    names: set[str] = field(default_factory=lambda: {"k"})
    """Of memories, banks and tables, which are no signals, and of what counts through patterns."""

    def port(self, name: str, width: int, is_input: bool, kind: str = SIGNED) -> Signal:
        """A port."""
        made = Signal(name, width, kind)
        self.ports.append(Port(made, is_input))
        self.signals[name] = made
        return made

    def new(self, name: str, width: int, kind: str = SIGNED) -> Signal:
        """A signal of its own; a name that is taken gets a number."""
        made = Signal(self._free(name), width, kind)
        self.signals[made.name] = made
        return made

    def _free(self, name: str) -> str:
        word, count = name, 1
        while word in self.signals or word in self.names:
            count += 1
            word = f"{name}_v{count}"
        return word

    def remark(self, text: str) -> None:
        """A comment."""
        self.statements.append(Remark(text))

    def constant(self, name: str, value: int, width: int, comment: str = "") -> Signal:
        """A named constant."""
        made = self.new(name, width)
        self.constants.append((made, value, comment))
        return made

    def wire(self, name: str, value: Expression) -> Signal:
        """A wire of the expression's width."""
        made = self.new(name, value.width, value.kind)
        self.statements.append(Assign(made, value))
        return made

    def drive(self, target: Signal, value: Expression) -> None:
        """An output port, or a wire declared before."""
        self.statements.append(Assign(target, value))

    def register(
        self, name: str, value: Expression, enable: Expression | None = None, reset: int | None = None
    ) -> Signal:  # fmt: skip
        """A register of the expression's width."""
        made = self.new(name, value.width, value.kind)
        self.statements.append(Register(made, value, enable, reset))
        return made

    def clocked(
        self, target: Signal, value: Expression, enable: Expression | None = None, reset: int | None = None
    ) -> None:  # fmt: skip
        """A register declared before, so that it may feed itself."""
        self.statements.append(Register(target, value, enable, reset))

    def memory(self, memory: Memory) -> Signal:
        """A table or a memory; its output."""
        name = self._free(memory.name)
        self.names.add(name)
        self.statements.append(replace(memory, name=name))
        return memory.output

    # -- patterns --------------------------------------------------------------------------------------------

    def bank(self, name: str, width: int, count: int, is_register: bool = True) -> Bank:
        """Words side by side, to be driven by patterns."""
        made = Bank(self._free(name), width, count)
        self.names.add(made.name)
        self.banks.append((made, is_register))
        return made

    def table(self, name: str, width: int, values: Sequence[int], kind: str = SIGNED) -> Table:
        """Constants for patterns."""
        made = Table(self._free(name), width, tuple(values), kind)
        self.names.add(made.name)
        self.tables.append(made)
        return made

    def pattern(self, statement: Each | Moved | Partial) -> None:
        """What drives a bank."""
        self.statements.append(statement)

    # -- expressions -----------------------------------------------------------------------------------------

    def named(self, value: Expression, name: str = "part") -> Signal:
        """The expression itself where it has a name, else a wire."""
        return value if isinstance(value, Signal) else self.wire(name, value)

    def fit(self, value: Expression, width: int, name: str = "part") -> Expression:
        """Sign extended, or its low bits."""
        if value.width == width:
            return value
        if isinstance(value, Number):
            return Number(value.value, width, value.kind)
        source = self.named(value, name)
        if width > value.width:
            return Op("extend", (source,), width, value.kind)
        return Op("slice", (source,), width, value.kind, width - 1, 0)

    def add(self, left: Expression, right: Expression, width: int, sign: int = 1) -> Expression:
        """left ± right in ``width`` bits, which the caller knows to be enough."""
        return Op("add" if sign > 0 else "sub", (self.fit(left, width), self.fit(right, width)), width)

    def left(self, value: Expression, n: int) -> Expression:
        """value·2^n."""
        return value if n == 0 else Op("left", (self.named(value),), value.width + n, value.kind, n)

    def down(self, value: Expression, n: int) -> Expression:
        """⌊value/2^n⌋: the bits above."""
        if n == 0:
            return value
        source = self.named(value)
        if n >= value.width:
            return Op("slice", (source,), 1, value.kind, value.width - 1, value.width - 1)
        return Op("slice", (source,), value.width - n, value.kind, value.width - 1, n)

    def mux(self, name: str, flag: Expression, yes: Expression, no: Expression) -> Signal:
        """yes where the flag is set."""
        return self.wire(name, Op("mux", (flag, yes, no), yes.width, yes.kind))


def flag_and(*flags: Expression) -> Expression:
    """All of them; a flag that is always set says nothing."""
    said = tuple(flag for flag in flags if not (isinstance(flag, Number) and flag.value == 1)) or flags[:1]
    return said[0] if len(said) == 1 else Op("and", said, 1, BIT)


def flag_or(*flags: Expression) -> Expression:
    """Any of them."""
    return flags[0] if len(flags) == 1 else Op("or", flags, 1, BIT)


def flag_not(flag: Expression) -> Expression:
    """The other way round."""
    return Op("not", (flag,), 1, BIT)


def equals(value: Signal, number: int) -> Expression:
    """Whether a counter is at a number."""
    return Op("equal", (value, Number(number, value.width, value.kind)), 1, BIT)


def below(value: Expression, limit: Expression) -> Expression:
    """value < limit, both unsigned and of one width."""
    return Op("below", (value, limit), 1, BIT)


def bit_of(value: Signal, place: int) -> Expression:
    """One bit."""
    return Op("bit", (value,), 1, BIT, place)


def all_zero(value: Signal, high: int, low: int) -> Expression:
    """Whether bits high to low are all zero."""
    return Op("zeros", (value,), 1, BIT, high, low)


def all_ones(value: Signal, high: int, low: int) -> Expression:
    """Whether bits high to low are all one."""
    return Op("ones", (value,), 1, BIT, high, low)


def bits_for(count: int) -> int:
    """Bits of an unsigned counter that runs from 0 to count − 1."""
    return max((count - 1).bit_length(), 1)


def unused_bits(circuit: Circuit) -> list[tuple[Signal, int, int]]:
    """Stretches of signals nothing reads, as (signal, high, low): what a rounding drops, mostly."""
    used: dict[str, set[int]] = {}
    for statement in circuit.statements:
        for value in values_of(statement):
            _mark(value, used)
    outputs = {port.signal.name for port in circuit.ports if not port.is_input}
    found = []
    for signal in circuit.signals.values():
        if (
            signal.name in outputs
            or signal.name in ("clk", "rst")
            or signal.name in {c.name for c, _, _ in circuit.constants}
        ):
            continue
        idle = [bit for bit in range(signal.width) if bit not in used.get(signal.name, ())]
        while idle:
            low = high = idle.pop(0)
            while idle and idle[0] == high + 1:
                high = idle.pop(0)
            found.append((signal, high, low))
    return found


def _mark(value: Expression, used: dict[str, set[int]]) -> None:
    if isinstance(value, Signal):
        used.setdefault(value.name, set()).update(range(value.width))
    elif isinstance(value, Op):
        if value.op in ("slice", "zeros", "ones", "bit") and isinstance(value.args[0], Signal):
            low = value.n if value.op == "bit" else value.m
            used.setdefault(value.args[0].name, set()).update(range(low, value.n + 1))
        else:
            for each in value.args:
                _mark(each, used)


def values_of(statement: Statement) -> list[Expression]:
    """What a statement reads."""
    if isinstance(statement, Memory):
        parts = (statement.address, statement.write, statement.write_address, statement.write_data)
        return [part for part in parts if part is not None]
    if isinstance(statement, Register):
        return [statement.value, *([statement.enable] if statement.enable is not None else [])]
    if isinstance(statement, Each):
        return [statement.left, *([statement.right] if statement.right is not None else [])]
    if isinstance(statement, Moved):
        return [statement.value, statement.enable]
    if isinstance(statement, Partial):
        return [statement.enable]
    return [statement.value] if isinstance(statement, Assign) else []


def operations_of(value: Expression) -> Sequence[Op]:
    """An expression's own operation and those inside it."""
    if not isinstance(value, Op):
        return ()
    return [value, *(op for each in value.args for op in operations_of(each))]
