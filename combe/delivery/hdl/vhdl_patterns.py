"""Patterns over banks of words as VHDL-93: arrays and loops."""

from __future__ import annotations

from collections.abc import Callable

from combe.delivery.hdl.circuit import (
    BIT,
    UNSIGNED,
    Bank,
    Circuit,
    Each,
    Entry,
    Expression,
    Item,
    Moved,
    Number,
    Partial,
)
from combe.delivery.hdl.verilog_patterns import in_lines

Text = Callable[[Expression], str]
SIGNS = {"add": "+", "sub": "-"}


def tables_declared(circuit: Circuit, number: Callable[[Number], str]) -> list[str]:
    """Constants for patterns."""
    rows: list[str] = []
    for table in circuit.tables:
        kind = {BIT: "std_logic", UNSIGNED: "integer"}.get(table.kind, f"signed({table.width - 1} downto 0)")
        words = [str(value) for value in table.values]
        if kind != "integer":
            words = [number(Number(value, table.width, table.kind)) for value in table.values]
        if len(words) == 1:
            words = [f"0 => {words[0]}"]
        rows.append(f"    type {table.name}_t is array (0 to {len(table.values) - 1}) of {kind};")
        rows.append(f"    constant {table.name} : {table.name}_t := (")
        rows += in_lines(words, "        ")
        rows.append("    );")
    return rows


def banks_declared(circuit: Circuit) -> list[str]:
    """Arrays."""
    rows: list[str] = []
    for bank, _ in circuit.banks:
        rows.append(f"    type {bank.name}_t is array (0 to {bank.count - 1}) of signed({bank.width - 1} downto 0);")
        rows.append(f"    signal {bank.name} : {bank.name}_t;")
    return rows


def item_text(item: Item) -> str:
    """A word."""
    return f"{item.bank.name}({_place(item)})"


def _place(item: Item) -> str:
    if item.places is not None:
        return f"{item.places.name}(k)"
    if item.step == 0:
        return str(item.first)
    scale = abs(item.step)
    counted = "k" if scale == 1 else f"{scale} * k"
    if item.step < 0:
        return f"{item.first} - {counted}"
    return f"{counted} + {item.first}" if item.first else counted


def _word(word: Expression, text: Text) -> str:
    if isinstance(word, Item):
        return item_text(word)
    if isinstance(word, Entry):
        return f"{word.table.name}(k)"
    return text(word)


def _fitted(value: str, width: int, wanted: int) -> str:
    return value if width == wanted else f"resize({value}, {wanted})"


def moved_rows(moved: Moved, text: Text) -> list[str]:
    """A bank that moves on by a word."""
    bank: Bank = moved.bank
    take = f"{bank.name} <= {text(moved.value)} & {bank.name}(0 to {bank.count - 2});"
    if bank.count == 1:
        take = f"{bank.name}(0) <= {text(moved.value)};"
    return [
        "    process (clk) begin",
        "        if rising_edge(clk) then",
        "            if rst = '1' then",
        f"                {bank.name} <= (others => (others => '0'));",
        f"            elsif {text(moved.enable)} = '1' then",
        f"                {take}",
        "            end if;",
        "        end if;",
        "    end process;",
    ]


def bank_rows(patterns: list[Each], text: Text) -> list[str]:
    """Banks that follow from one another."""
    rows: list[str] = []
    if not patterns[0].is_register:
        for each in patterns:
            if each.count == 1:
                rows.append(f"    {_assigned(each, text)}")
                continue
            rows.append(f"    each_{each.target.name} : for k in 0 to {each.count - 1} generate")
            rows.append(f"        {_assigned(each, text)}")
            rows.append("    end generate;")
        return rows
    for each in patterns:
        if each.count == 1:
            rows.append(f"            {_assigned(each, text)}")
            continue
        rows.append(f"            for k in 0 to {each.count - 1} loop")
        rows.append(f"                {_assigned(each, text)}")
        rows.append("            end loop;")
    return [
        "    process (clk) begin",
        "        if rising_edge(clk) then",
        *rows,
        "        end if;",
        "    end process;",
    ]


def _assigned(each: Each, text: Text) -> str:
    """What a word takes; one alone is named by its number."""
    width, is_alone = each.target.width, each.count == 1

    def word_of(word: Expression) -> str:
        if is_alone and isinstance(word, Item) and word.places is None:
            return item_text(Item(word.bank, word.first))
        return _word(word, text)

    target = item_text(Item(each.target, each.first, int(not is_alone)))
    words = [(word_of(word), word.width) for word in (each.left, each.right) if word is not None]
    if each.op == "mul":
        value, own = " * ".join(word for word, _ in words), sum(own for _, own in words)
    else:
        value, own = f" {SIGNS.get(each.op)} ".join(_fitted(word, own, width) for word, own in words), width
    if each.bits is not None:
        return f"{target} <= resize(resize({value}, {each.bits.name}({'0' if is_alone else 'k'})), {width});"
    return f"{target} <= {_fitted(value, own, width)};"


def partial_rows(partial: Partial, text: Text) -> list[str]:
    """A chain of partial sums."""
    bank, source = partial.bank, partial.source
    own = _fitted(f"{source.name}({partial.which.name}(k))", source.width, bank.width)
    if any(partial.places.values):
        own = f"shift_left({own}, {partial.places.name}(k))"
    span = f"signed({bank.width - 1} downto 0)"

    def trimmed(value: str) -> str:
        return value if partial.bits is None else f"resize(resize({value}, {partial.bits.name}(k)), {bank.width})"

    return [
        "    process (clk)",
        f"        variable own, after_it : {span};",
        "    begin",
        "        if rising_edge(clk) then",
        "            if rst = '1' then",
        f"                {bank.name} <= (others => (others => '0'));",
        f"            elsif {text(partial.enable)} = '1' then",
        "                after_it := (others => '0');",
        f"                for k in {bank.count - 1} downto 0 loop",
        f"                    own := {own};",
        f"                    if {partial.minus.name}(k) = '1' then",
        f"                        {bank.name}(k) <= {trimmed('after_it - own')};",
        "                    else",
        f"                        {bank.name}(k) <= {trimmed('after_it + own')};",
        "                    end if;",
        f"                    after_it := {bank.name}(k);",
        "                end loop;",
        "            end if;",
        "        end if;",
        "    end process;",
    ]
