"""Patterns over banks of words as Verilog-2001: arrays, and loops that generate what drives them."""

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
MANY, SHORT = 4, 36
"""Statements from which on short ones stand in lines together."""
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
    """Arrays."""
    return [
        f"    {'reg ' if is_register else 'wire'} signed [{bank.width - 1}:0] {bank.name} [0:{bank.count - 1}];"
        for bank, is_register in circuit.banks
    ]


def item_text(item: Item, is_inside: bool = False) -> str:
    """A word."""
    if item.places is None and (item.step == 0 or not is_inside):
        return f"{item.bank.name}[{item.first}]"
    return f"{item.bank.name}[{_place(item)}]"


def _place(item: Item) -> str:
    if item.places is not None:
        return entry_text(item.places)
    scale = abs(item.step)
    counted = "k" if scale == 1 else f"{scale}*k"
    if item.step < 0:
        return f"{item.first} - {counted}"
    return f"{counted} + {item.first}" if item.first else counted


def entry_text(table: Table) -> str:
    """A constant of a table at k."""
    return f"{table.name}[k]" if table.width == 1 else f"{table.name}[{table.width}*k +: {table.width}]"


def moved_rows(moved: Moved, text: Text) -> list[str]:
    """A bank that moves on by a word."""
    bank, zero = moved.bank, f"{moved.bank.width}'sd0"

    def word(place: str, value: str, pad: str) -> list[str]:
        return [
            f"{pad}always @(posedge clk) begin",
            f"{pad}    if (rst) {bank.name}[{place}] <= {zero};",
            f"{pad}    else if ({text(moved.enable)}) {bank.name}[{place}] <= {value};",
            f"{pad}end",
        ]

    rows = word("0", text(moved.value), "    ")
    if bank.count > 1:
        rows += ["    generate", f"        for (k = 1; k < {bank.count}; k = k + 1) begin : each_{bank.name}"]
        rows += [*word("k", f"{bank.name}[k - 1]", " " * 12), "        end", "    endgenerate"]
    return rows


def bank_rows(patterns: list[Each], text: Text) -> list[str]:
    """Banks that follow from one another: loops, and words alone."""
    rows: list[str] = ["    generate"]
    for each in patterns:
        if each.count == 1 and each.op == "copy":
            assert isinstance(each.left, Item)
            place, width = item_text(Item(each.target, each.first)), each.target.width
            value = extended(item_text(each.left), each.left.width, width)
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
    place = _place(Item(target, each.first, 1))
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
    return name if width == wanted else f"{{{{{wanted - width}{{{name}[{width - 1}]}}}}, {name}}}"


def partial_rows(partial: Partial, text: Text) -> list[str]:
    """A chain of partial sums."""
    bank, width, source = partial.bank, partial.bank.width, partial.source
    after, last = f"{bank.name}_after", bank.count - 1
    wide = extended("own", source.width, width) if source.width <= width else f"own[{width - 1}:0]"
    up = f" << {entry_text(partial.places)}" if any(partial.places.values) else ""
    value, trimmed = f"{entry_text(partial.minus)} ? {after}[k] - moved : {after}[k] + moved", []
    if partial.bits is not None:
        above = f"({width} - {entry_text(partial.bits)})"
        trimmed = [
            f"            wire signed [{width - 1}:0] exact = {value};",
            f"            wire signed [{width - 1}:0] needed = exact << {above};",
        ]
        value = f"needed >>> {above}"
    before = [
        f"        for (k = 0; k < {last}; k = k + 1) begin : each_{after}",
        f"            assign {after}[k] = {bank.name}[k + 1];",
        "        end",
    ]
    return [
        f"    wire signed [{width - 1}:0] {after} [0:{last}];",
        "    generate",
        *(before if last else []),
        f"        assign {after}[{last}] = {width}'sd0;",
        f"        for (k = 0; k < {bank.count}; k = k + 1) begin : each_{bank.name}",
        f"            wire signed [{source.width - 1}:0] own = {source.name}[{entry_text(partial.which)}];",
        f"            wire signed [{width - 1}:0] moved = {f'({wide})' if up else wide}{up};",
        *trimmed,
        "            always @(posedge clk) begin",
        f"                if (rst) {bank.name}[k] <= {width}'sd0;",
        f"                else if ({text(partial.enable)}) {bank.name}[k] <= {value};",
        "            end",
        "        end",
        "    endgenerate",
    ]


def joined(statements: list[str], pad: str) -> list[str]:
    """Short statements, as many to a line as fit."""
    text = " ".join(each.replace(" ", "\0") for each in statements)
    lines = textwrap.wrap(text, WIDEST - len(pad), break_long_words=False, break_on_hyphens=False)
    return [pad + line.replace("\0", " ") for line in lines]


def set_rows(statements: list[str], pad: str) -> list[str]:
    """What a process sets: a line each, or several in a line where there are many short ones, such as delays of flags."""
    if len(statements) >= MANY and all(len(each) <= SHORT for each in statements):
        return joined(statements, pad)
    return [f"{pad}{each}" for each in statements]


def declared(circuit: Circuit, ports: set[str], say: Callable[[Signal, bool], str], end: str = ";") -> list[str]:
    """Signals of their own in the order they are driven, those that are declared alike together."""
    kinds: dict[str, list[str]] = {}
    for statement in circuit.statements:
        if isinstance(statement, Register | Assign) and statement.target.name not in ports:
            signal, is_register = statement.target, isinstance(statement, Register)
        elif isinstance(statement, Memory):
            signal, is_register = statement.output, True
        else:
            continue
        kinds.setdefault(say(signal, is_register), []).append(signal.name)
    return [line for kind, names in kinds.items() for line in listed(kind, names, end)]


def listed(kind: str, names: list[str], end: str = ";") -> list[str]:
    """Names declared alike, as many to a line as fit; ``@`` in the kind says where they stand, else at its end."""
    before, _, after = kind.partition("@")
    text = ", ".join(name.replace(" ", "\0") for name in names)
    lines = textwrap.wrap(text, WIDEST, break_long_words=False, break_on_hyphens=False)
    return [f"{before}{line.rstrip(',')}{after}{end}".replace("\0", " ") for line in lines]
