"""What an engineer has to know of a circuit: the lines at its head, and a page beside it."""

from __future__ import annotations

from combe.delivery.hdl.build import Built
from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.hdl.circuit import Count
from combe.realization.stages import Realization


def several(count: int, word: str) -> str:
    """One adder, two adders."""
    return f"{count} {word}{'' if count == 1 else 's'}"


def multipliers_text(count: Count) -> str:
    """How many multiplications there are, and how many blocks they take where that is more."""
    more = f" in {count.blocks} blocks of 18 × 18 bits" if count.blocks > count.multipliers else ""
    return several(count.multipliers, "multiplier") + more


def facts_of(realization: Realization, built: Built, choices: HardwareChoices) -> list[str]:
    """Architecture, latency, rates and parts."""
    count = built.count
    least = built.clocks * realization.sample_rate_hz
    each = "1 clock" if built.clocks == 1 else f"{built.clocks} clocks"
    rows = [
        f"Architecture: {built.architecture}"
        + (f", {built.multipliers_asked} multipliers" if built.architecture == "semi-parallel" else ""),
        f"Latency: {built.latency} clocks from an accepted input to its output",
        f"Clocks per sample: {built.clocks}" + (f", so a clock of {least:.6g} Hz at least" if realization.sample_rate_hz > 2 else ""),
        f"Parts counted: {multipliers_text(count)}, {several(count.adders, 'adder')}, {count.registers} register bits, "
        f"{count.memory_bits} bits of tables and memories",
    ]  # fmt: skip
    if choices.clock_hz:
        rate = choices.clock_hz / built.clocks
        rows.append(
            f"At {choices.clock_hz:.6g} Hz: up to {rate:.6g} samples a second, {built.latency / choices.clock_hz:.4g} s latency"
        )
    rows += [
        f"A sample moves in where in_valid and in_ready are both high ({each} each); out_valid marks an output for one clock.",
        "rst is synchronous and forgets all samples; outputs still on their way are lost.",
    ]
    if choices.converter_in:
        rows.append(
            f"in_data are converter codes {choices.converter_in}, out_data {choices.converter_out} (bits@offset), unsigned."
        )
    if choices.reloadable and "step_write" in built.circuit.signals:
        rows += [
            "step_write takes another ratio at the clock edge, for all outputs behind the one that is next: step_whole samples (as its stage sees them)",
            "from one to the next and step_part parts of 2^31. The clocks above are those of the ratio it was made with, to which a reset goes back.",
        ]
    elif choices.reloadable:
        rows.append(
            "coefficient_write stores coefficient_data as tap coefficient_address (newest sample first) at the clock edge;"
        )
        if choices.double_buffer:
            rows += [
                "it goes to a second bank. coefficient_swap, set for one clock, lets that bank take over: from the sample taken at this clock edge",
                "on, or the next one; what comes free holds older taps: write all of them, none while the output under way at a swap is made.",
                "Write only values whose sum can't overflow the accumulator.",
            ]
        else:
            rows.append("write only values whose sum can't overflow the accumulator, and only between samples.")
    return rows


def page_text(realization: Realization, built: Built, choices: HardwareChoices, told: list[str]) -> str:
    """A page in plain Markdown."""
    rows = [f"# {built.circuit.name}", "", *(f"    {row}".rstrip() for row in told), "", "## The circuit", ""]
    rows += [f"- {row}" for row in facts_of(realization, built, choices)]
    rows += ["", "## Ports", "", "| port | direction | bits | meaning |", "| --- | --- | --- | --- |"]
    meanings = {
        "clk": "every register takes its value at the rising edge", "rst": "synchronous, active high",
        "in_valid": "a sample is there", "in_ready": "a sample would be taken",
        "in_data": f"codes {choices.converter_in}" if choices.converter_in else f"{realization.input}: the integer k stands for k * 2^{-realization.input.fraction}",
        "out_valid": "an output is there, for one clock",
        "out_data": f"codes {choices.converter_out}" if choices.converter_out else f"{realization.output}: the integer k stands for k * 2^{-realization.output.fraction}",
        "coefficient_write": "store a coefficient", "coefficient_address": "which tap", "coefficient_data": "its new value",
        "coefficient_swap": "let the written bank take over",
        "step_write": "take another ratio", "step_whole": "whole samples from one output to the next", "step_part": "and parts of 2^31",
    }  # fmt: skip
    for port in built.circuit.ports:
        way = "in" if port.is_input else "out"
        rows.append(f"| {port.signal.name} | {way} | {port.signal.width} | {meanings[port.signal.name]} |")
    rows += [
        "", "## Checking it", "",
        "`make check` plays the samples in `*_samples.txt` (a reset's flag, then the sample, in binary) and compares every output with",
        "`*_expected.txt`, first without a pause, then with random gaps; both contain resets in mid-stream. `make lint` reads it strictly.",
    ]  # fmt: skip
    if choices.axi_stream:
        rows += [
            "",
            f"`{built.circuit.name}_axi` wraps it in AXI4-Stream ports, words padded to bytes; it waits where the other side does."
            + (" Its coefficient ports are those of the circuit itself." if choices.reloadable else ""),
        ]
    return "\n".join([*rows, ""])
