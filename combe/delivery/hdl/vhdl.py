"""A circuit as VHDL-93."""

from __future__ import annotations

from functools import partial
from itertools import groupby

from combe.delivery.hdl.circuit import (
    BIT,
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
)
from combe.delivery.hdl.verilog_patterns import WIDEST, declared, in_lines, joined, set_rows
from combe.delivery.hdl.vhdl_patterns import (
    bank_rows,
    banks_declared,
    item_text,
    moved_rows,
    partial_rows,
    tables_declared,
)

INFIX = {"add": "+", "sub": "-", "mul": "*", "and": "and", "or": "or"}


def vhdl_text(circuit: Circuit, head: list[str]) -> str:
    """The entity and its architecture."""
    rows = ["--" + (f" {line}" if line else "") for line in head]
    rows += [
        "",
        "library ieee;",
        "use ieee.std_logic_1164.all;",
        "use ieee.numeric_std.all;",
        "",
        f"entity {circuit.name} is",
    ]
    ports = []
    for port in circuit.ports:
        kind = "std_logic" if port.signal.kind == BIT else f"std_logic_vector({port.signal.width - 1} downto 0)"
        ports.append(f"        {port.signal.name} : {'in ' if port.is_input else 'out'} {kind}")
    rows += [
        "    port (",
        ";\n".join(ports),
        "    );",
        f"end entity {circuit.name};",
        "",
        f"architecture rtl of {circuit.name} is",
    ]
    rows += _declarations(circuit)
    rows.append("begin")
    for port in circuit.ports:
        if port.is_input and port.signal.kind != BIT:
            rows.append(f"    {_inner(port.signal)} <= {port.signal.kind}({port.signal.name});")
    outputs = {port.signal.name for port in circuit.ports if not port.is_input}
    for _, group in groupby(circuit.statements, _kind):
        rows += _statements(list(group), outputs, circuit)
    return "\n".join([*rows, "end architecture rtl;", ""])


def _declarations(circuit: Circuit) -> list[str]:
    rows = []
    names = {port.signal.name for port in circuit.ports}
    if any(_uses(statement, ("equal", "below", "zeros", "ones")) for statement in circuit.statements):
        rows += [
            "    function flag(condition : boolean) return std_logic is -- a condition as a signal",
            "    begin",
            "        if condition then return '1'; end if;",
            "        return '0';",
            "    end function flag;",
        ]
    for signal, value, comment in circuit.constants:
        note = f" -- {comment}" if comment else ""
        rows.append(f"    constant {signal.name} : {_type(signal)} := {_number(Number(value, signal.width))};{note}")
    rows += tables_declared(circuit, _number) + banks_declared(circuit)
    for statement in circuit.statements:
        if isinstance(statement, Memory):
            rows += _memory_declared(statement)
    rows += declared(circuit, names, lambda signal, _: f"    signal @ : {_type(signal)}")
    for port in circuit.ports:
        if port.is_input and port.signal.kind != BIT:
            rows.append(f"    signal {_inner(port.signal)} : {_type(port.signal)};")
    return rows


def _uses(statement: Statement, ops: tuple[str, ...]) -> bool:
    def inside(value: Expression | None) -> bool:
        return isinstance(value, Op) and (value.op in ops or any(inside(each) for each in value.args))

    if isinstance(statement, Memory):
        return inside(statement.write)
    if isinstance(statement, Register):
        return inside(statement.value) or inside(statement.enable)
    return isinstance(statement, Assign) and inside(statement.value)


def _inner(signal: Signal) -> str:
    return f"{signal.name}_number"


def _type(signal: Signal) -> str:
    return "std_logic" if signal.kind == BIT else f"{signal.kind}({signal.width - 1} downto 0)"


def _kind(statement: Statement) -> object:
    if isinstance(statement, Register):
        return "register", statement.enable, statement.reset is not None
    if isinstance(statement, Each):
        return "each", statement.is_register
    return type(statement).__name__


def _statements(group: list[Statement], outputs: set[str], circuit: Circuit) -> list[str]:
    rows: list[str] = []
    if isinstance(group[0], Register):
        return _process([s for s in group if isinstance(s, Register)], circuit)
    if isinstance(group[0], Each):
        return bank_rows([s for s in group if isinstance(s, Each)], partial(_text, circuit=circuit))
    for statement in group:
        if isinstance(statement, Remark):
            rows += ["", *(f"    -- {line}" for line in statement.text.split("\n"))]
        elif isinstance(statement, Assign):
            rows.append(_assigned(statement, outputs, circuit))
        elif isinstance(statement, Memory):
            rows += _memory(statement, circuit)
        elif isinstance(statement, Moved):
            rows += moved_rows(statement, partial(_text, circuit=circuit))
        elif isinstance(statement, Partial):
            rows += partial_rows(statement, partial(_text, circuit=circuit))
    return rows


def _assigned(statement: Assign, outputs: set[str], circuit: Circuit) -> str:
    target, value = statement.target, statement.value
    if isinstance(value, Op) and value.op == "mux":
        flag, yes, no = (_text(each, circuit) for each in value.args)
        text = f"{yes} when {flag} = '1' else {no}"
    else:
        text = _text(value, circuit, True)
        if target.name in outputs and target.kind != BIT:
            text = f"std_logic_vector({text})"
    return f"    {target.name} <= {text};"


def _process(registers: list[Register], circuit: Circuit) -> list[str]:
    enable, is_reset = registers[0].enable, registers[0].reset is not None
    body = [f"{s.target.name} <= {_text(s.value, circuit, True)};" for s in registers]
    rows = ["    process (clk) begin", "        if rising_edge(clk) then"]
    if is_reset and len(body) == 1:
        (only,) = registers
        first = f"{only.target.name} <= {_number(Number(only.reset or 0, only.target.width, only.target.kind))};"
        then = "else" if enable is None else f"elsif {_text(enable, circuit)} = '1' then"
        whole = f"            if rst = '1' then {first} {then} {body[0]} end if;"
        if len(whole) <= WIDEST:
            return [*rows, whole, "        end if;", "    end process;"]
    if is_reset:
        rows.append("            if rst = '1' then")
        zeros = [
            f"{s.target.name} <= {_number(Number(s.reset or 0, s.target.width, s.target.kind))};" for s in registers
        ]
        rows += joined(zeros, "                ")
        rows.append("            else" if enable is None else f"            elsif {_text(enable, circuit)} = '1' then")
        rows += set_rows(body, "                ")
        rows.append("            end if;")
    elif enable is not None and len(body) == 1:
        rows += _if(f"{_text(enable, circuit)} = '1'", body[0])
    elif enable is not None:
        rows.append(f"            if {_text(enable, circuit)} = '1' then")
        rows += set_rows(body, "                ")
        rows.append("            end if;")
    else:
        rows += set_rows(body, "            ")
    return [*rows, "        end if;", "    end process;"]


def _memory_declared(memory: Memory) -> list[str]:
    kind, top = memory.output.kind, (1 << memory.address.width) - 1
    rows = [f"    type {memory.name}_t is array (0 to {top}) of {kind}({memory.width - 1} downto 0);"]
    words = [_number(Number(value, memory.width, kind)) for value in memory.contents]
    is_whole = len(words) > top
    listed = in_lines(_listed(words) if is_whole else words, "        ")
    if not is_whole:
        listed = [*listed[:-1], f"{listed[-1]},", "        others => (others => '0')"]
    if memory.write is None:
        rows += [f"    constant {memory.name} : {memory.name}_t := (", *listed, "    );"]
    elif any(memory.contents):
        rows += [f"    signal {memory.name} : {memory.name}_t := (", *listed, "    );"]
    else:
        rows.append(f"    signal {memory.name} : {memory.name}_t := (others => (others => '0'));")
    return rows


def _listed(words: list[str]) -> list[str]:
    """By position, which one alone doesn't allow."""
    return words if len(words) > 1 else [f"0 => {words[0]}"]


def _memory(memory: Memory, circuit: Circuit) -> list[str]:
    rows = ["", f"    -- {memory.comment}"] if memory.comment else []
    rows += ["    process (clk) begin", "        if rising_edge(clk) then"]
    if memory.write is not None:
        assert memory.write_address is not None and memory.write_data is not None
        place = f"to_integer({_text(memory.write_address, circuit, True)})"
        stored = f"{memory.name}({place}) <= {_text(memory.write_data, circuit, True)};"
        rows += _if(f"{_text(memory.write, circuit)} = '1'", stored)
    place = f"to_integer({_text(memory.address, circuit, True)})"
    read = f"{memory.output.name} <= {memory.name}({place});"
    if memory.alternates:
        # Said anew rather than by "else": there GHDL 2.0 synthesizes a reading that happens when it writes.
        assert memory.write is not None
        rows += _if(f"{_text(memory.write, circuit)} = '0'", read)
    else:
        rows.append(f"            {read}")
    return [*rows, "        end if;", "    end process;"]


def _if(condition: str, statement: str) -> list[str]:
    """On one line where that is short enough to be read at a glance."""
    pad = "            "
    whole = f"{pad}if {condition} then {statement} end if;"
    return [whole] if len(whole) <= WIDEST else [f"{pad}if {condition} then", f"{pad}    {statement}", f"{pad}end if;"]


def _number(number: Number) -> str:
    if number.kind == BIT:
        return f"'{number.value}'"
    if -(1 << 30) < number.value < 1 << 30:
        return f"to_{number.kind}({number.value}, {number.width})"
    return f"""{number.kind}'("{number.value & ((1 << number.width) - 1):0{number.width}b}")"""


def _text(value: Expression, circuit: Circuit, is_outer: bool = False) -> str:
    if isinstance(value, Signal):
        port = next((p for p in circuit.ports if p.signal.name == value.name), None)
        return _inner(value) if port is not None and port.is_input and value.kind != BIT else value.name
    if isinstance(value, Number):
        return _number(value)
    if isinstance(value, Item):
        return item_text(value)
    assert isinstance(value, Op)
    names = [_text(each, circuit) for each in value.args]
    text = _operation(value, names)
    is_plain = value.op in ("extend", "slice", "left", "bit", "equal", "below", "zeros", "ones", "zero_top")
    return text if is_outer or is_plain else f"({text})"


def _operation(value: Op, names: list[str]) -> str:
    op, first = value.op, names[0]
    source = value.args[0]
    if op == "mul" and value.width != sum(each.width for each in value.args):
        return f"resize({names[0]} * {names[1]}, {value.width})"
    if op in INFIX:
        return f" {INFIX[op]} ".join(names)
    if op == "reinterpret":
        return f"{value.kind}({first})"
    if op == "zero_top":
        return f"signed('0' & {first})"
    if op == "join":
        return f"{first} & {names[1]}"
    if op == "even":
        return f"{first}({source.width - 1} downto 1) & ({first}(0) and not {names[1]})"
    if op == "extend":
        return f"resize({first}, {value.width})"
    if op == "left":
        return f"shift_left(resize({first}, {value.width}), {value.n})"
    if op == "slice":
        return first if value.width == source.width else f"{first}({value.n} downto {value.m})"
    if op == "bit":
        return f"{first}({value.n})" if source.kind != BIT else first
    if op == "not":
        return f"not {first}"
    if op == "equal":
        return f"flag({first} = {value.args[1].value if isinstance(value.args[1], Number) else names[1]})"
    if op == "below":
        return f"flag({first} < {names[1]})"
    width = value.n - value.m + 1
    digit = "0" if op == "zeros" else "1"
    pattern = f'"{digit * width}"'
    if op in ("zeros", "ones"):
        return f"flag({first}({value.n} downto {value.m}) = {source.kind}'({pattern}))"
    raise ValueError(op)
