"""Which C type holds what."""

from __future__ import annotations

from combe.errors import FormatError
from combe.realization.formats import Format


def c_type(entry: Format) -> str:
    """The narrowest standard integer type that holds a format."""
    for bits in (8, 16, 32, 64):
        if entry.bits <= bits:
            return f"{'' if entry.signed else 'u'}int{bits}_t"
    raise FormatError(f"{entry} is wider than C's 64 bits", "accumulator", "take fewer input or coefficient bits")


def signed_type(least: int, most: int, narrowest: int = 8) -> str:
    """The narrowest signed type, of at least ``narrowest`` bits, that holds both integers."""
    for bits in (8, 16, 32, 64):
        if bits >= narrowest and -(1 << (bits - 1)) <= least and most < 1 << (bits - 1):
            return f"int{bits}_t"
    raise FormatError(f"values from {least} to {most} are wider than C's 64 bits", "accumulator", "take fewer bits")


def literal(value: int, c_name: str) -> str:
    """An integer constant that every compiler takes without a warning, the most negative ones included."""
    if c_name in ("int64_t", "uint64_t"):
        macro = "INT64_C" if c_name == "int64_t" else "UINT64_C"
        if value == -(1 << 63):
            return f"(-{macro}({(1 << 63) - 1}) - 1)"
        return f"-{macro}({-value})" if value < 0 else f"{macro}({value})"
    if c_name == "int32_t" and value == -(1 << 31):
        return "(-2147483647 - 1)"
    return f"{value}u" if c_name == "uint32_t" else str(value)


def is_kept(value: int, sum_type: str) -> bool:
    """Whether a constant factor is read from a table."""
    return sum_type == "int64_t" and -(1 << 31) < value < 1 << 31 and abs(value) > 1


def is_power(value: int) -> bool:
    """Whether cores without a long multiply rather shift."""
    return abs(value) & (abs(value) - 1) == 0


def factor_text(value: int, sum_type: str, kept: list[int]) -> str:
    """A constant factor in the type of the sum. In a 64-bit sum one of 32 bits is kept in a table and read before the loop:
    compilers take multiplications by 64-bit constants apart into far more instructions than one multiply-accumulate."""
    if is_kept(value, sum_type):
        if value not in kept:
            kept.append(value)
        return f"(int64_t)k{kept.index(value)}"
    text = literal(value, sum_type)
    return f"({text})" if text.startswith("-") else text
