"""A circuit as Verilog-2001."""

from __future__ import annotations

import textwrap
from itertools import groupby

from combe.delivery.hdl.circuit import (
    BIT,
    SIGNED,
    UNSIGNED,
    Assign,
    Circuit,
    Each,
    Expression,
    Item,
    Memory,
    Moved,
    Number,
    Op,
    Partial,
    Register,
    Remark,
    Signal,
    Statement,
    unused_bits,
)
from combe.delivery.hdl.verilog_patterns import (
    WIDEST,
    bank_rows,
    banks_declared,
    declared,
    in_lines,
    item_text,
    joined,
    listed,
    moved_rows,
    partial_rows,
    set_rows,
    tables_declared,
)

INFIX = {"add": "+", "sub": "-", "mul": "*", "and": "&", "or": "|", "equal": "==", "below": "<"}


def verilog_text(circuit: Circuit, head: list[str]) -> str:
    """The module."""
    rows = ["//" + (f" {line}" if line else "") for line in head]
    rows += ["", f"module {circuit.name} ("]
    registered = {s.target.name for s in circuit.statements if isinstance(s, Register)}
    ports = []
    for port in circuit.ports:
        span = "" if port.signal.kind == BIT else f" [{port.signal.width - 1}:0]"
        kind = " signed" if port.signal.kind == SIGNED else ""
        ports.append(f"    {'input ' if port.is_input else 'output'} wire{kind}{span} {port.signal.name}")
    rows += [",\n".join(ports), ");"]
    names = {port.signal.name for port in circuit.ports}
    for signal, value, comment in circuit.constants:
        note = f" // {comment}" if comment else ""
        rows.append(
            f"    localparam signed [{signal.width - 1}:0] {signal.name} = {_number(Number(value, signal.width))};{note}"
        )
    rows += tables_declared(circuit, _number)
    rows += _memories_declared([s for s in circuit.statements if isinstance(s, Memory)])
    rows += banks_declared(circuit)
    rows += declared(
        circuit, names, lambda signal, is_register: f"    {'reg' if is_register else 'wire'} {_span(signal)}"
    )
    assert not registered & names
    for _, group in groupby(circuit.statements, _kind):
        rows += _statements(list(group))
    idle = unused_bits(circuit)
    if idle:
        rows += ["", "    // Bits nothing needs: what roundings drop, and ends that are known."]
        words = [
            s.name if s.kind == BIT or (h, low) == (s.width - 1, 0) else f"{s.name}[{h}:{low}]" for s, h, low in idle
        ]
        rows += _wrapped(f"    wire unused_bits = &{{1'b0, {', '.join(words)}}};")
    return "\n".join([*rows, "endmodule", ""])


def _wrapped(text: str) -> list[str]:
    return textwrap.wrap(text, 118, initial_indent="    ", subsequent_indent="        ", break_long_words=False)


def _span(signal: Signal) -> str:
    if signal.kind == BIT:
        return ""
    return f"{'signed ' if signal.kind == SIGNED else ''}[{signal.width - 1}:0] "


def _kind(statement: Statement) -> object:
    """Registers with one enable stand together."""
    if isinstance(statement, Register):
        return "register", statement.enable, statement.reset is not None
    if isinstance(statement, Each):
        return "each", statement.is_register
    return type(statement).__name__


def _statements(group: list[Statement]) -> list[str]:
    rows: list[str] = []
    first = group[0]
    if isinstance(first, Register):
        registers = [s for s in group if isinstance(s, Register)]
        return _always(registers)
    if isinstance(first, Each):
        return bank_rows([s for s in group if isinstance(s, Each)], _text)
    for statement in group:
        if isinstance(statement, Remark):
            rows += ["", *(f"    // {line}" for line in statement.text.split("\n"))]
        elif isinstance(statement, Assign):
            rows.append(f"    assign {statement.target.name} = {_text(statement.value, True)};")
        elif isinstance(statement, Memory):
            rows += _memory(statement)
        elif isinstance(statement, Moved):
            rows += moved_rows(statement, _text)
        elif isinstance(statement, Partial):
            rows += partial_rows(statement, _text)
    return rows


def _always(registers: list[Register]) -> list[str]:
    enable, is_reset = registers[0].enable, registers[0].reset is not None
    body = [f"{s.target.name} <= {_text(s.value, True)};" for s in registers]
    if len(body) == 1 and not is_reset:
        gate = f"if ({_text(enable, True)}) " if enable is not None else ""
        return [f"    always @(posedge clk) {gate}{body[0]}"]
    if len(body) == 1:
        (only,) = registers
        first = f"{only.target.name} <= {_number(Number(only.reset or 0, only.target.width, only.target.kind))};"
        then = f"else {f'if ({_text(enable, True)}) ' if enable is not None else ''}{body[0]}"
        # A line where it is short enough to be read at a glance.
        whole = f"    always @(posedge clk) if (rst) {first} {then}"
        return (
            [whole]
            if len(whole) <= WIDEST
            else ["    always @(posedge clk)", f"        if (rst) {first}", f"        {then}"]
        )
    rows = ["    always @(posedge clk) begin"]
    if is_reset:
        rows.append("        if (rst) begin")
        zeros = [
            f"{s.target.name} <= {_number(Number(s.reset or 0, s.target.width, s.target.kind))};" for s in registers
        ]
        rows += joined(zeros, "            ")
        rows.append(f"        end else {f'if ({_text(enable, True)}) ' if enable is not None else ''}begin")
        rows += set_rows(body, "            ")
        rows.append("        end")
    elif enable is not None:
        rows.append(f"        if ({_text(enable, True)}) begin")
        rows += set_rows(body, "            ")
        rows.append("        end")
    else:
        rows += set_rows(body, "        ")
    return [*rows, "    end"]


def _memories_declared(memories: list[Memory]) -> list[str]:
    """Those that are written, alike ones together, and what they hold at the start."""
    kinds: dict[str, list[str]] = {}
    starts: list[str] = []
    for memory in memories:
        if memory.write is not None:
            signed = "signed " if memory.output.kind == SIGNED else ""
            told = "(* no_rw_check *) " if memory.is_apart else ""
            kinds.setdefault(f"    {told}reg {signed}[{memory.width - 1}:0] ", []).append(
                f"{memory.name} [0:{len(memory.contents) - 1}]"
            )
            starts += _start(memory)
    return [line for kind, names in kinds.items() for line in listed(kind, names)] + starts


def _start(memory: Memory) -> list[str]:
    rows: list[str] = []
    if memory.has_start or any(memory.contents):
        rows.append("    initial begin")
        words = [
            f"{memory.name}[{k}] = {_number(Number(v, memory.width, memory.output.kind))};"
            for k, v in enumerate(memory.contents)
        ]
        rows += in_lines(words, "        ", " ")
        rows.append("    end")
    return rows


def _memory(memory: Memory) -> list[str]:
    rows = ["", f"    // {memory.comment}"] if memory.comment else []
    out, pad = memory.output.name, "        "
    rows.append("    always @(posedge clk) begin")
    if memory.write is not None:
        assert memory.write_address is not None and memory.write_data is not None
        target = f"{memory.name}[{_text(memory.write_address, True)}]"
        rows.append(f"        if ({_text(memory.write, True)}) {target} <= {_text(memory.write_data, True)};")
        pad += "else " if memory.alternates else ""
        rows.append(f"{pad}{out} <= {memory.name}[{_text(memory.address, True)}];")
    else:
        rows.append(f"{pad}case ({_text(memory.address, True)})")
        kind, width = memory.output.kind, memory.address.width
        cases = [
            f"{width}'d{k}: {out} <= {_number(Number(v, memory.width, kind))};" for k, v in enumerate(memory.contents)
        ]
        rows += in_lines(cases, f"{pad}    ", " ")
        rows.append(f"{pad}    default: {out} <= {_number(Number(0, memory.width, kind))};")
        rows.append(f"{pad}endcase")
    return [*rows, "    end"]


def _number(number: Number) -> str:
    if number.kind == BIT:
        return f"1'b{number.value}"
    if number.kind != SIGNED:
        return f"{number.width}'d{number.value}"
    if number.value == -(1 << (number.width - 1)):
        return f"{number.width}'sh{1 << (number.width - 1):x}"
    return f"{'-' if number.value < 0 else ''}{number.width}'sd{abs(number.value)}"


def _text(value: Expression, is_outer: bool = False) -> str:
    if isinstance(value, Signal):
        return value.name
    if isinstance(value, Number):
        return _number(value)
    if isinstance(value, Item):
        return item_text(value)
    assert isinstance(value, Op)
    names = [_text(each) for each in value.args]
    text = _operation(value, names)
    is_plain = value.op in ("extend", "slice", "left", "bit", "zero_top", "join", "even", "not", "reinterpret")
    return text if is_outer or is_plain else f"({text})"


def _operation(value: Op, names: list[str]) -> str:
    op, first = value.op, names[0]
    source = value.args[0]
    if op in INFIX:
        return f" {INFIX[op]} ".join(names)
    if op == "extend" and value.kind == UNSIGNED:
        return f"{{{value.width - source.width}'d0, {first}}}"
    if op == "extend":
        return f"{{{{{value.width - source.width}{{{first}[{source.width - 1}]}}}}, {first}}}"
    if op == "reinterpret":
        return first
    if op == "zero_top":
        return f"{{1'b0, {first}}}"
    if op == "join":
        return f"{{{first}, {names[1]}}}"
    if op == "even":
        low = f"{first}[0] & ~{names[1]}"
        return f"{{{first}[{source.width - 1}:1], {low}}}" if source.width > 1 else low
    if op == "left":
        return f"{{{first}, {value.n}'d0}}"
    if op == "slice":
        return first if value.width == source.width else f"{first}[{value.n}:{value.m}]"
    if op == "bit":
        return f"{first}[{value.n}]" if source.kind != BIT else first
    if op == "not":
        return f"~{first}"
    if op == "mux":
        return f"{first} ? {names[1]} : {names[2]}"
    if op == "zeros":
        return f"~|{first}[{value.n}:{value.m}]"
    if op == "ones":
        return f"&{first}[{value.n}:{value.m}]"
    raise ValueError(op)
