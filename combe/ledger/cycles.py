"""Clock cycles of generated C, guessed from the filter alone: what a brief is judged by before any code exists."""

from __future__ import annotations

from combe.filters import Cascade, Filter, Fir, rational_of, sections_of

CYCLES_PER_INSTRUCTION = {
    "cortex-m0plus": 1.4, "cortex-m3": 1.5, "cortex-m4": 1.3, "cortex-m7": 0.75, "rv32imac": 1.4, "rv64imac": 1.4,
}  # fmt: skip
"""Typical for code that runs from fast memory (of RISC-V, for cores that issue one instruction at a time). Instructions are counted
exactly on the emulator; this turns them into an estimate, to be replaced by what a timer measured."""

PER_TAP, PER_FIR, PER_SECTION, PER_CASCADE = 1.1, 10.0, 26.0, 8.0
"""Instructions of integer C on a Cortex-M4 in blocks of 256 with intrinsics, fitted to `make bench`."""


def estimated_instructions(source: Filter) -> float:
    """Instructions a sample: taps in rows of eight, or sections."""
    if isinstance(source, Fir):
        return PER_FIR + PER_TAP * (-(-len(source.taps) // 8) * 8)
    cascade = source if isinstance(source, Cascade) else sections_of(rational_of(source))
    return PER_CASCADE + PER_SECTION * len(cascade.sections)


def estimated_cycles(source: Filter, core: str = "cortex-m4") -> float:
    """Clock cycles a sample on a core, estimated."""
    return estimated_instructions(source) * CYCLES_PER_INSTRUCTION[core]
