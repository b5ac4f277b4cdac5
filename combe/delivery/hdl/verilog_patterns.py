"""Patterns over banks of words as Verilog-2001: a bank is one vector, its word 0 in the lowest bits."""

from __future__ import annotations

import textwrap
from collections.abc import Callable

from combe.delivery.hdl.circuit import (
    Assign,
    Circuit,
    Each,
    Entry,
    Expression,
    Item,
    Memory,
    Moved,
    Number,
    Partial,
    Register,
    Signal,
    Table,
)

Text = Callable[[Expression], str]
WIDEST = 110
SIGNS = {"add": "+", "sub": "-"}


def tables_declared(circuit: Circuit, number: Callable[[Number], str]) -> list[str]:
    """Constants for patterns, and what counts through them."""
    rows: list[str] = []
    for table in circuit.tables:
        words = [number(Number(value, table.width, table.kind)) for value in reversed(table.values)]
        rows.append(f"    // The last first: {table.name} of k lies {table.width}*k bits up.")
        rows.append(f"    localparam [{table.width * len(words) - 1}:0] {table.name} = {{")
        rows += in_lines(words, "        ")
        rows.append("    };")
    return [*rows, "    genvar k;"] if circuit.banks else rows


def in_lines(words: list[str], pad: str, between: str = ", ") -> list[str]:
    """As many to a line as fit, the same number in each."""
    widest = max(len(word) for word in words)
    each = max(1, (WIDEST - len(pad)) // (widest + len(between)))
    lines = [between.join(words[k : k + each]) for k in range(0, len(words), each)]
    return [f"{pad}{line}{between.rstrip()}" for line in lines[:-1]] + [f"{pad}{lines[-1]}"]


def banks_declared(circuit: Circuit) -> list[str]:
    """Words side by side."""
    return [
        f"    {'reg ' if is_register else 'wire'} [{bank.width * bank.count - 1}:0] {bank.name}; // {bank.count} of {bank.width} bits"
        for bank, is_register in circuit.banks
    ]


def item_text(item: Item, is_inside: bool = False) -> str:
    """A word where it lies."""
    bank, width = item.bank, item.width
    if item.places is None and (item.step == 0 or not is_inside):
        return f"{bank.name}[{width * item.first + width - 1}:{width * item.first}]"
    return f"{bank.name}[{width}*{_place(item)} +: {width}]"


def _place(item: Item) -> str:
    if item.places is not None:
        return entry_text(item.places)
    scale = abs(item.step)
    counted = "k" if scale == 1 else f"{scale}*k"
    if item.step < 0:
        return f"({item.first} - {counted})"
    return f"({counted} + {item.first})" if item.first else counted if scale == 1 else f"({counted})"


def entry_text(table: Table) -> str:
    """A constant of a table at k."""
    return f"{table.name}[k]" if table.width == 1 else f"{table.name}[{table.width}*k +: {table.width}]"


def moved_rows(moved: Moved, text: Text) -> list[str]:
    """A bank that moves on by a word."""
    bank = moved.bank
    kept = f"{bank.name}[{bank.width * (bank.count - 1) - 1}:0], " if bank.count > 1 else ""
    value = f"{{{kept}{text(moved.value)}}}" if kept else text(moved.value)
    return [
        "    always @(posedge clk) begin",
        f"        if (rst) {bank.name} <= {bank.width * bank.count}'d0;",
        f"        else if ({text(moved.enable)}) {bank.name} <= {value};",
        "    end",
    ]


def bank_rows(patterns: list[Each], text: Text) -> list[str]:
    """Banks that follow from one another: loops, and words alone."""
    rows: list[str] = ["    generate"]
    for each in patterns:
        if each.count == 1 and each.op == "copy":
            assert isinstance(each.left, Item)
            place, width = item_text(Item(each.target, each.first)), each.target.width
            top = each.left.width * (each.left.first + 1) - 1
            value = _repeated(item_text(each.left), f"{each.left.bank.name}[{top}]", each.left.width, width)
            rows.append(f"        {_drive(each)}{place} {_arrow(each)} {value};")
        else:
            rows += _loop(each, text)
    return [*rows, "    endgenerate"]


def _drive(each: Each) -> str:
    return "always @(posedge clk) " if each.is_register else "assign "


def _arrow(each: Each) -> str:
    return "<=" if each.is_register else "="


def _loop(each: Each, text: Text) -> list[str]:
    target, width = each.target, each.target.width
    words = [word for word in (each.left, each.right) if word is not None]
    names = {"mul": ("factor_k", "word_k"), "copy": ("word_k",)}.get(each.op, ("left_k", "right_k"))
    place = f"{width}*{_place(Item(target, each.first, 1))} +: {width}"
    rows = [f"        for (k = 0; k < {each.count}; k = k + 1) begin : each_{target.name}"]
    for name, word in zip(names, words):
        rows.append(f"            wire signed [{word.width - 1}:0] {name} = {_inside(word, text)};")
    wide = [name if each.op == "mul" else extended(name, word.width, width) for name, word in zip(names, words)]
    if each.bits is not None:
        # Bits above those a word needs only repeat its sign.
        above = f"({width} - {entry_text(each.bits)})"
        rows.append(
            f"            wire signed [{width - 1}:0] exact = {' * '.join(wide) if each.op == 'mul' else f' {SIGNS[each.op]} '.join(wide)};"
        )
        rows.append(f"            wire signed [{width - 1}:0] needed = exact << {above};")
        return [
            *rows,
            f"            {_drive(each)}{target.name}[{place}] {_arrow(each)} needed >>> {above};",
            "        end",
        ]
    value = " * ".join(wide) if each.op == "mul" else f" {SIGNS[each.op]} ".join(wide) if len(wide) > 1 else wide[0]
    return [*rows, f"            {_drive(each)}{target.name}[{place}] {_arrow(each)} {value};", "        end"]


def _inside(word: Expression, text: Text) -> str:
    if isinstance(word, Item):
        return item_text(word, True)
    return entry_text(word.table) if isinstance(word, Entry) else text(word)


def extended(name: str, width: int, wanted: int) -> str:
    """A name in as many bits, the sign repeated."""
    return _repeated(name, f"{name}[{width - 1}]", width, wanted)


def _repeated(name: str, sign: str, width: int, wanted: int) -> str:
    return name if width == wanted else f"{{{{{wanted - width}{{{sign}}}}}, {name}}}"


def partial_rows(partial: Partial, text: Text) -> list[str]:
    """A chain of partial sums."""
    bank, width, source = partial.bank, partial.bank.width, partial.source
    before = f"{bank.name}_after"
    own = f"{source.name}[{source.width}*{entry_text(partial.which)} +: {source.width}]"
    wide = extended("own", source.width, width) if source.width <= width else f"own[{width - 1}:0]"
    up = f" << {entry_text(partial.places)}" if any(partial.places.values) else ""
    kept = f", {bank.name}[{width * bank.count - 1}:{width}]" if bank.count > 1 else ""
    value, trimmed = f"{entry_text(partial.minus)} ? after - moved : after + moved", []
    if partial.bits is not None:
        above = f"({width} - {entry_text(partial.bits)})"
        trimmed = [
            f"            wire signed [{width - 1}:0] exact = {value};",
            f"            wire signed [{width - 1}:0] needed = exact << {above};",
        ]
        value = f"needed >>> {above}"
    place = f"{bank.name}[{width}*k +: {width}]"
    return [
        f"    wire [{width * bank.count - 1}:0] {before} = {{{width}'d0{kept}}};",
        "    generate",
        f"        for (k = 0; k < {bank.count}; k = k + 1) begin : each_{bank.name}",
        f"            wire signed [{source.width - 1}:0] own = {own};",
        f"            wire [{width - 1}:0] moved = {f'({wide})' if up else wide}{up};",
        f"            wire [{width - 1}:0] after = {before}[{width}*k +: {width}];",
        *trimmed,
        "            always @(posedge clk) begin",
        f"                if (rst) {place} <= {width}'d0;",
        f"                else if ({text(partial.enable)}) {place} <= {value};",
        "            end",
        "        end",
        "    endgenerate",
    ]


def joined(statements: list[str], pad: str) -> list[str]:
    """Short statements, as many to a line as fit."""
    text = " ".join(each.replace(" ", "\0") for each in statements)
    lines = textwrap.wrap(text, WIDEST - len(pad), break_long_words=False, break_on_hyphens=False)
    return [pad + line.replace("\0", " ") for line in lines]


def declared(circuit: Circuit, ports: set[str], say: Callable[[Signal, bool], str], end: str = ";") -> list[str]:
    """Signals of their own in the order they are driven, those that are declared alike and follow each other together."""
    kinds: list[tuple[str, list[str]]] = []
    for statement in circuit.statements:
        if isinstance(statement, Register | Assign) and statement.target.name not in ports:
            signal, is_register = statement.target, isinstance(statement, Register)
        elif isinstance(statement, Memory):
            signal, is_register = statement.output, True
        else:
            continue
        kind = say(signal, is_register)
        if not kinds or kinds[-1][0] != kind:
            kinds.append((kind, []))
        kinds[-1][1].append(signal.name)
    rows: list[str] = []
    for kind, names in kinds:
        before, _, after = kind.partition("@")
        for line in textwrap.wrap(", ".join(names), WIDEST, break_long_words=False, break_on_hyphens=False):
            rows.append(f"{before}{line.rstrip(',')}{after}{end}")
    return rows
